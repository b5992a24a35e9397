#include "icefield/io/text_file.h"

#include <algorithm>
#include <fstream>

#include "icefield/base/error.h"
#include "src/io/file_writer.h"

namespace icefield {
namespace fs = std::filesystem;

std::string read_file(const fs::path& file, std::size_t max_bytes) {
  std::error_code error;
  if (!fs::exists(file, error)) throw Error(ErrorKind::input, file.string(), "does not exist", "check the path");
  if (fs::is_directory(file, error)) throw Error(ErrorKind::input, file.string(), "is a folder", "name a file");
  if (const auto size = fs::file_size(file, error); !error && size > max_bytes)
    throw Error(ErrorKind::input, file.string(), "is larger than this kind of file may be",
                "check that it is the right file");
  std::ifstream in(file, std::ios::binary);
  std::string content{std::istreambuf_iterator<char>(in), {}};
  if (!in) throw Error(ErrorKind::input, file.string(), "cannot be read", "check permissions");
  return content;
}

void write_file(const fs::path& file, std::string_view content) {
  FileWriter writer(file);
  writer.append(content);
  writer.finish();
}

std::string trimmed(std::string_view text) {
  const auto first = text.find_first_not_of(" \t\r"), last = text.find_last_not_of(" \t\r");
  return first == std::string_view::npos ? "" : std::string(text.substr(first, last - first + 1));
}

std::vector<TextRow> read_rows(const std::filesystem::path& file) {
  const std::string text = read_file(file);
  std::vector<TextRow> rows;
  int number = 0;
  for (std::size_t begin = 0; begin < text.size();) {
    const std::size_t end = std::min(text.find('\n', begin), text.size());
    std::string_view line(text.data() + begin, end - begin);
    line = line.substr(0, line.find('#'));
    ++number;
    begin = end + 1;
    if (trimmed(line).empty()) continue;
    TextRow row{number, {}};
    for (std::size_t from = 0; from <= line.size();) {
      const std::size_t bar = std::min(line.find('|', from), line.size());
      row.cells.push_back(trimmed(line.substr(from, bar - from)));
      from = bar + 1;
    }
    rows.push_back(std::move(row));
  }
  return rows;
}

}  // namespace icefield
