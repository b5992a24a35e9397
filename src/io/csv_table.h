// Tables of text as surveyors' programs write them.
#pragma once
#include <filesystem>
#include <map>
#include <string>
#include <vector>

namespace icefield {

struct CsvRow {
  int line = 0;  // from 1
  std::vector<std::string> cells;
};

// Read with whatever parts its cells; `header` is empty where the first line is data.
struct CsvTable {
  std::filesystem::path file;
  std::string separator;  // "comma", "semicolon", "tab", "blanks"
  bool decimal_comma = false;
  std::vector<std::string> header;
  std::vector<CsvRow> rows;

  std::string place(const CsvRow& row) const;  // "FILE, line N"
};

// A line is a header if no cell of it is a number, and the rest has numbers or three of its words are of columns.
// Throws Error(input) for an empty file, one that is no text, and rows of different lengths.
CsvTable read_csv(const std::filesystem::path& file);

// What a column's heading means ("Rechtswert [m]" is east), by the words of docs/formats.md; empty where it is not
// known. `of_photo`: x and y are pixels. `units`: what stands in brackets.
std::string meaning_of_heading(const std::string& heading, bool of_photo, std::string& units);

// The number in a cell. Throws Error(input).
double number_in(const CsvTable& table, const CsvRow& row, std::size_t column, const std::string& what);

}  // namespace icefield
