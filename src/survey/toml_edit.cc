#include "src/survey/toml_edit.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstddef>
#include <optional>

#include "icefield/base/error.h"
#include "src/survey/toml_text.h"

namespace icefield {
namespace {

// A header or an entry, with the place that it takes in the text.
struct Statement {
  enum Kind { entry, header, array_header } kind = entry;
  TomlPath path;                               // from the root
  std::size_t begin = 0, end = 0;              // from the start of its line to behind the end of its last line
  std::size_t value_begin = 0, value_end = 0;  // of an entry
};

// Finds where statements begin and end; what they mean is the parser's business. Only texts that parse come in here.
class Scanner {
 public:
  explicit Scanner(const std::string& text) : text_(text) {}

  std::vector<Statement> statements() {
    std::vector<Statement> all;
    TomlPath table;
    if (text_.starts_with("\xef\xbb\xbf")) at_ = 3;  // byte order mark
    while (at_ < text_.size()) {
      const std::size_t line = at_;
      skip_blanks();
      if (at_ >= text_.size()) break;
      if (text_[at_] == '\n' || text_[at_] == '\r' || text_[at_] == '#') {
        skip_line();
        continue;
      }
      Statement s;
      s.begin = line;
      if (text_[at_] == '[') {
        const bool array = at_ + 1 < text_.size() && text_[at_ + 1] == '[';
        at_ += array ? 2 : 1;
        s.kind = array ? Statement::array_header : Statement::header;
        s.path = table = read_key();
      } else {
        s.path = table;
        const TomlPath key = read_key();
        s.path.insert(s.path.end(), key.begin(), key.end());
        ++at_;  // the equals sign
        skip_blanks();
        s.value_begin = at_;
        skip_value();
        s.value_end = at_;
      }
      skip_line();
      s.end = at_;
      all.push_back(std::move(s));
    }
    return all;
  }

 private:
  bool starts(const char* what) const { return text_.compare(at_, std::char_traits<char>::length(what), what) == 0; }
  void skip_blanks() {
    while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\t')) ++at_;
  }
  void skip_line() {
    while (at_ < text_.size() && text_[at_] != '\n') ++at_;
    if (at_ < text_.size()) ++at_;
  }
  // Of any of the four kinds; `plain`, where asked for, is what it reads as on one line.
  void skip_string(std::string* plain) {
    const char quote = text_[at_];
    const std::string triple(3, quote);
    if (starts(triple.c_str())) {
      at_ += 3;
      while (at_ < text_.size() && !starts(triple.c_str())) at_ += quote == '"' && text_[at_] == '\\' ? 2 : 1;
      at_ += 3;
      while (at_ < text_.size() && text_[at_] == quote) ++at_;  // up to two quotes may stand before the three
      return;
    }
    const std::size_t begin = at_++;
    while (at_ < text_.size() && text_[at_] != quote) at_ += quote == '"' && text_[at_] == '\\' ? 2 : 1;
    ++at_;
    if (!plain) return;
    const toml::table parsed = toml::parse("key = " + text_.substr(begin, at_ - begin));
    *plain = parsed["key"].value_or(std::string());
  }
  TomlPath read_key() {
    TomlPath path;
    while (at_ < text_.size()) {
      skip_blanks();
      std::string part;
      if (text_[at_] == '"' || text_[at_] == '\'') {
        skip_string(&part);
      } else {
        while (at_ < text_.size() && std::string_view(" \t.=]\r\n").find(text_[at_]) == std::string_view::npos)
          part += text_[at_++];
      }
      path.push_back(std::move(part));
      skip_blanks();
      if (at_ >= text_.size() || text_[at_] != '.') break;
      ++at_;
    }
    return path;
  }
  void skip_value() {
    int depth = 0;
    while (at_ < text_.size()) {
      const char c = text_[at_];
      if (c == '"' || c == '\'') {
        skip_string(nullptr);
        continue;
      }
      if (depth == 0 && (c == '#' || c == '\n' || c == '\r')) break;
      if (c == '#') {
        while (at_ < text_.size() && text_[at_] != '\n') ++at_;
        continue;
      }
      if (c == '[' || c == '{') ++depth;
      if (c == ']' || c == '}') --depth;
      ++at_;
    }
    while (at_ > 0 && (text_[at_ - 1] == ' ' || text_[at_ - 1] == '\t')) --at_;
  }

  const std::string& text_;
  std::size_t at_ = 0;
};

bool within(const TomlPath& path, const TomlPath& table) {
  return path.size() >= table.size() && std::equal(table.begin(), table.end(), path.begin());
}

std::string key_text(const TomlPath& path) {
  std::string text;
  for (const std::string& part : path) {
    const bool bare = !part.empty() && std::all_of(part.begin(), part.end(), [](unsigned char c) {
      return (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || c == '_' || c == '-';
    });
    text += (text.empty() ? "" : ".") + (bare ? part : quoted(part));
  }
  return text;
}

// Takes an entry or a table out, and the tables above that are empty without it, which mean nothing.
void erase(toml::table& root, const TomlPath& path) {
  std::vector<toml::table*> tables{&root};
  while (tables.size() < path.size()) {
    toml::table* next = (*tables.back())[path[tables.size() - 1]].as_table();
    if (!next) break;
    tables.push_back(next);
  }
  if (tables.size() == path.size()) tables.back()->erase(path.back());
  for (std::size_t i = tables.size() - 1; i > 0 && tables[i]->empty(); --i) tables[i - 1]->erase(path[i - 1]);
}

const toml::node* find(const toml::table& root, const TomlPath& path) {
  const toml::node* node = &root;
  for (const std::string& part : path) {
    const toml::table* table = node->as_table();
    node = table ? table->get(part) : nullptr;
    if (!node) return nullptr;
  }
  return node;
}

// Both texts mean the same but for `path`, which is `value` in the second, or nothing.
bool keeps_meaning(const toml::table& before, const std::string& after, const TomlPath& path,
                   const std::string* value) {
  toml::table now;
  toml::table wanted;
  try {
    now = parsed_toml(after, "");
    if (value) wanted = parsed_toml("value = " + *value, "");
  } catch (const Error&) {
    return false;
  }
  const toml::node* found = find(now, path);
  if (!value != !found) return false;
  if (value) {
    toml::table given;
    given.insert_or_assign("value", *found);
    if (given != wanted) return false;
  }
  toml::table rest_before = before, rest_now = now;
  erase(rest_before, path);
  erase(rest_now, path);
  return rest_before == rest_now;
}

[[noreturn]] void cannot(const std::string& file, const TomlPath& path, const std::string& remedy) {
  throw Error(ErrorKind::input, file,
              "is laid out so that '" + key_text(path) + "' cannot be changed safely; it stays as it is", remedy);
}

std::string line_end_of(const std::string& text) {
  const std::size_t end = text.find('\n');
  return end != std::string::npos && end > 0 && text[end - 1] == '\r' ? "\r\n" : "\n";
}

// Where a new entry of a table goes: behind its last entry, or behind its header.
std::optional<std::size_t> place_for(const std::vector<Statement>& statements, const TomlPath& table) {
  std::optional<std::size_t> place;
  bool open = table.empty();
  for (const Statement& s : statements) {
    if (s.kind != Statement::entry) {
      open = s.kind == Statement::header && s.path == table;
      if (open) place = s.end;
    } else if (open) {
      place = s.end;
    }
  }
  return place;
}

}  // namespace

std::string with_entry(const std::string& text, const TomlPath& path, const std::string& value,
                       const std::string& file) {
  const toml::table before = parsed_toml(text, file);
  const std::vector<Statement> statements = Scanner(text).statements();
  const std::string line_end = line_end_of(text);
  std::string out = text;
  const auto known = std::find_if(statements.begin(), statements.end(),
                                  [&](const Statement& s) { return s.kind == Statement::entry && s.path == path; });
  if (known != statements.end()) {
    out.replace(known->value_begin, known->value_end - known->value_begin, value);
  } else {
    const TomlPath table(path.begin(), path.end() - 1);
    std::string line = key_text({path.back()}) + " = " + value + line_end;
    std::size_t place = text.size();
    if (const auto behind = place_for(statements, table)) {
      place = *behind;
    } else if (table.empty()) {
      place = statements.empty() ? text.size() : statements.front().begin;
      if (!statements.empty()) line += line_end;
    } else {
      line = line_end + "[" + key_text(table) + "]" + line_end + line;
    }
    if (place > 0 && text[place - 1] != '\n') line = line_end + line;
    out.insert(place, line);
  }
  if (!keeps_meaning(before, out, path, &value)) cannot(file, path, "write by hand: " + key_text(path) + " = " + value);
  return out;
}

std::string without(const std::string& text, const TomlPath& path, const std::string& file) {
  const toml::table before = parsed_toml(text, file);
  if (!find(before, path)) return text;
  const std::vector<Statement> statements = Scanner(text).statements();
  std::string out = text;
  for (auto s = statements.rbegin(); s != statements.rend(); ++s)
    if (within(s->path, path)) out.erase(s->begin, s->end - s->begin);
  if (!keeps_meaning(before, out, path, nullptr)) cannot(file, path, "take '" + key_text(path) + "' out by hand");
  return out;
}

std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    const auto code = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\')
      out += std::string("\\") + c;
    else if (c == '\n')
      out += "\\n";
    else if (c == '\t')
      out += "\\t";
    else if (code < 0x20 || code == 0x7f)
      out += fmt::format("\\u{:04x}", code);
    else
      out += c;
  }
  return out + '"';
}

std::string toml_list(const std::vector<std::string>& items) {
  std::string out = "[";
  for (const std::string& item : items) out += (out.size() > 1 ? ", " : "") + quoted(item);
  return out + "]";
}

}  // namespace icefield
