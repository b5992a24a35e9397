#include "src/io/csv_table.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kMostBytes = std::size_t{64} << 20;
constexpr std::array<char, 4> kSeparators = {'\t', ';', ',', ' '};

const char* name_of_separator(char separator) {
  return separator == '\t' ? "tab" : separator == ';' ? "semicolon" : separator == ',' ? "comma" : "blanks";
}

// Cells of a line; quotes are taken off.
std::vector<std::string> cells_of(std::string_view line, char separator) {
  std::vector<std::string> cells;
  std::string cell;
  bool quoted = false, was_quoted = false;
  const auto put = [&] {
    if (separator != ' ' || !trimmed(cell).empty() || was_quoted) cells.push_back(was_quoted ? cell : trimmed(cell));
    cell.clear();
    was_quoted = false;
  };
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (quoted && c == '"' && i + 1 < line.size() && line[i + 1] == '"') {
      cell += c, ++i;
    } else if (c == '"' && (quoted || trimmed(cell).empty())) {
      if (!quoted) cell.clear();
      quoted = !quoted;
      was_quoted = true;
    } else if (!quoted && (c == separator || (separator == ' ' && c == '\t'))) {
      put();
    } else if (!(was_quoted && !quoted)) {
      cell += c;
    }
  }
  put();
  return cells;
}

bool parse(std::string text, bool decimal_comma, double& value) {
  if (decimal_comma) {
    if (std::count(text.begin(), text.end(), ',') > 1) return false;
    std::replace(text.begin(), text.end(), ',', '.');
  }
  const char* begin = text.data();
  if (text.size() > 1 && *begin == '+') ++begin;
  const auto [end, error] = std::from_chars(begin, text.data() + text.size(), value);
  return error == std::errc() && end == text.data() + text.size() && std::isfinite(value);
}

bool is_number(const std::string& text) {
  double unused;
  return parse(text, false, unused) || parse(text, true, unused);
}

struct Line {
  int number;
  std::string_view text;
};

std::vector<Line> lines_of(std::string_view text) {
  std::vector<Line> lines;
  int number = 0;
  for (std::size_t begin = 0; begin < text.size();) {
    std::size_t end = text.find('\n', begin);
    // Old files end their lines with a carriage return alone.
    if (end == std::string_view::npos && lines.empty()) end = text.find('\r', begin);
    end = std::min(end, text.size());
    const std::string_view line = text.substr(begin, end - begin);
    ++number;
    begin = end + 1;
    const std::string bare = trimmed(line);
    if (!bare.empty() && bare[0] != '#') lines.push_back({number, line});
  }
  return lines;
}

// The separator that gives most lines the same number of cells, more than one.
char separator_of(const std::vector<Line>& lines) {
  char best = ' ';
  std::size_t most = 0;
  for (const char separator : kSeparators) {
    std::map<std::size_t, std::size_t> counts;
    for (std::size_t i = 0; i < std::min<std::size_t>(lines.size(), 200); ++i)
      ++counts[cells_of(lines[i].text, separator).size()];
    for (const auto& [cells, count] : counts)
      if (cells > 2 && count > most) most = count, best = separator;
  }
  return best;
}

}  // namespace

std::string CsvTable::place(const CsvRow& row) const {
  return fmt::format("{}, line {}", file.string(), row.line);
}

CsvTable read_csv(const fs::path& file) {
  std::string text = read_file(file, kMostBytes);
  if (text.starts_with("\xEF\xBB\xBF")) text.erase(0, 3);
  if (text.starts_with("\xFF\xFE") || text.starts_with("\xFE\xFF") || text.find('\0') != std::string::npos)
    throw Error(ErrorKind::input, file.string(), "is no plain text (perhaps UTF-16, or a spreadsheet)",
                "save it as CSV in UTF-8");
  const std::vector<Line> lines = lines_of(text);
  if (lines.empty()) throw Error(ErrorKind::input, file.string(), "is empty", "check that it is the right file");
  CsvTable table;
  table.file = file;
  const char separator = separator_of(lines);
  table.separator = name_of_separator(separator);
  for (const Line& line : lines) table.rows.push_back({line.number, cells_of(line.text, separator)});
  const auto numbers = [](const CsvRow& row) { return std::count_if(row.cells.begin(), row.cells.end(), is_number); };
  // Spots have no numbers below the header: then its words tell.
  const auto words = [](const CsvRow& row) {
    std::string units;
    return std::count_if(row.cells.begin(), row.cells.end(),
                         [&](const std::string& cell) { return !meaning_of_heading(cell, false, units).empty(); });
  };
  if (numbers(table.rows[0]) == 0 &&
      (words(table.rows[0]) >= 3 ||
       std::any_of(table.rows.begin() + 1, table.rows.end(), [&](const CsvRow& row) { return numbers(row) > 0; }))) {
    table.header = table.rows[0].cells;
    table.rows.erase(table.rows.begin());
  }
  if (separator != ',')
    for (const CsvRow& row : table.rows)
      for (const std::string& cell : row.cells) {
        double unused;
        table.decimal_comma = table.decimal_comma || (cell.find(',') != std::string::npos &&
                                                      !parse(cell, false, unused) && parse(cell, true, unused));
      }
  const std::size_t cells = table.header.empty() ? table.rows[0].cells.size() : table.header.size();
  for (CsvRow& row : table.rows) {
    // Cells at the end may be left out, with or without their separators.
    while (row.cells.size() > cells && row.cells.back().empty()) row.cells.pop_back();
    if (row.cells.size() > cells)
      throw Error(ErrorKind::input, table.place(row),
                  fmt::format("has {} cells where the {} has {} ({} parts them)", row.cells.size(),
                              table.header.empty() ? "first line" : "header", cells, table.separator),
                  separator == ' ' ? "put names with blanks in double quotes, or part the cells by commas"
                  : separator == ','
                      ? "write numbers with a decimal point, or part the cells by semicolons where they have a comma"
                      : "correct the line");
  }
  return table;
}

std::string meaning_of_heading(const std::string& heading, bool of_photo, std::string& units) {
  std::string word;
  units.clear();
  bool in_brackets = false;
  for (const char raw : heading) {
    const char c = static_cast<char>(std::tolower(static_cast<unsigned char>(raw)));
    if (c == '[' || c == '(')
      in_brackets = true;
    else if (c == ']' || c == ')')
      in_brackets = false;
    else if (in_brackets)
      units += c;
    else if (c != ' ' && c != '_' && c != '-' && c != '.' && c != '/')
      word += c;
  }
  units = trimmed(units);
  static const std::map<std::string, std::vector<std::string>> words = {
      {"name", {"name",  "id",      "pointid",     "pointname", "pt",  "nr",     "no",    "number", "label", "target",
                "punkt", "punktnr", "punktnummer", "nummer",    "nom", "numero", "point", "nome",   "punto", "code"}},
      {"east",
       {"e", "x", "east", "easting", "rechts", "rechtswert", "ost", "ostwert", "est", "este", "longitude", "lon",
        "long", "lng", "laenge", "länge"}},
      {"north",
       {"n", "y", "north", "northing", "hoch", "hochwert", "nord", "nordwert", "norte", "latitude", "lat", "breite"}},
      {"height",
       {"h", "z", "height", "elevation", "elev", "alt", "altitude", "hoehe", "höhe", "kote", "cote", "quota", "altura",
        "level"}},
      {"sigma", {"sigma", "s", "sd", "std", "accuracy", "precision", "genauigkeit", "sigmapx", "sigmam"}},
      {"sigma_plan",
       {"sigmaplan", "sigmaxy", "sxy", "accuracyxy", "sigmaen", "accuracyplan", "lage", "sigmahz", "horizontalaccuracy",
        "mp"}},
      {"sigma_height",
       {"sigmaheight", "sigmaz", "sz", "accuracyz", "accuracyheight", "sigmah", "sh", "verticalaccuracy", "mh"}},
      {"sigma_east", {"sigmaeast", "sigmax", "sx", "accuracyx", "sigmae", "se", "mx"}},
      {"sigma_north", {"sigmanorth", "sigmay", "sy", "accuracyy", "sigman", "sn", "my"}},
      {"use", {"use", "role", "type", "kind", "usage", "art", "typ", "verwendung"}},
      {"photo",
       {"photo", "image", "file", "picture", "bild", "foto", "filename", "img", "imagename", "photoname", "immagine"}},
      {"from", {"from", "first", "a", "von", "de", "da", "start"}},
      {"to", {"to", "second", "b", "nach", "bis", "end"}},
      {"length", {"length", "distance", "laenge", "länge", "strecke", "longueur", "lunghezza", "dist", "d"}},
  };
  if (of_photo) {
    if (word == "x" || word == "u" || word == "xpx" || word == "col" || word == "column" || word == "spalte" ||
        word == "pixelx")
      return "x";
    if (word == "y" || word == "v" || word == "ypx" || word == "row" || word == "line" || word == "zeile" ||
        word == "pixely")
      return "y";
    if (word == "point" || word == "name" || word == "punkt" || word == "target" || word == "label" || word == "id")
      return "point";
  }
  for (const auto& [meaning, known] : words)
    if (std::find(known.begin(), known.end(), word) != known.end()) return meaning;
  return "";
}

double number_in(const CsvTable& table, const CsvRow& row, std::size_t column, const std::string& what) {
  const std::string cell = column < row.cells.size() ? row.cells[column] : "";
  double value = 0;
  if (parse(cell, table.decimal_comma, value)) return value;
  if (cell.empty())
    throw Error(ErrorKind::input, table.place(row), fmt::format("has no {}", what), "fill it in, or take the line out");
  throw Error(ErrorKind::input, table.place(row), fmt::format("has '{}' for {}, which is no number", cell, what),
              table.separator == "comma" ? "write numbers as 1234.56; with decimal commas part the cells by semicolons"
                                         : "write numbers as 1234.56 or 1234,56, without signs between thousands");
}

}  // namespace icefield
