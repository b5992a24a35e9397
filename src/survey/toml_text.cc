#include "src/survey/toml_text.h"

#include <fmt/format.h>

#include <algorithm>
#include <string_view>

#include "icefield/base/error.h"

namespace icefield {
namespace {

// The place of the first byte beyond ASCII that stands neither in quotes nor in a comment; the text's size for none.
std::size_t letter_outside_of_quotes(std::string_view text) {
  std::size_t at = text.starts_with("\xef\xbb\xbf") ? 3 : 0;  // byte order mark
  while (at < text.size()) {
    const char c = text[at];
    if (c == '#') {
      at = std::min(text.find('\n', at), text.size());
    } else if (c == '"' || c == '\'') {
      const std::size_t length = text.compare(at, 3, std::string(3, c)) == 0 ? 3 : 1;
      const std::string close(length, c);
      at += length;
      // A string of one line ends with it: what is left open is the parser's business.
      while (at < text.size() && text.compare(at, length, close) != 0 && (length == 3 || text[at] != '\n'))
        at += c == '"' && text[at] == '\\' ? 2 : 1;
      at += length;
      if (length == 3)
        while (at < text.size() && text[at] == c) ++at;  // up to two quotes may stand before the three
    } else if (static_cast<unsigned char>(c) >= 0x80) {
      return at;
    } else {
      ++at;
    }
  }
  return text.size();
}

}  // namespace

toml::table parsed_toml(const std::string& text, const std::string& file) {
  const std::size_t letter = letter_outside_of_quotes(text);
  if (letter < text.size())
    throw Error(ErrorKind::input,
                fmt::format("{}, line {}", file,
                            1 + std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(letter), '\n')),
                "has a letter beyond ASCII outside of quotes (it may be a blank that only looks like one)",
                "put names and texts in quotes, or type the blank again");
  try {
    return toml::parse(text);
  } catch (const toml::parse_error& e) {
    throw Error(ErrorKind::input, fmt::format("{}, line {}", file, e.source().begin.line), std::string(e.description()),
                "correct it by hand");
  }
}

}  // namespace icefield
