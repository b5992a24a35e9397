// Whole files at once.
#pragma once
#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

namespace icefield {

// Throws Error(input) for a file that cannot be read or is larger than max_bytes.
std::string read_file(const std::filesystem::path& file, std::size_t max_bytes = std::size_t{1} << 30);

// Writes beside the file, flushes to disk and renames: the file is there whole or not at all. Devices are written to
// directly. Throws Error(resource) when that fails, leaving what was there before.
void write_file(const std::filesystem::path& file, std::string_view content);

// Without blanks at both ends.
std::string trimmed(std::string_view text);

// Lines of cells parted by '|'; '#' starts a comment, empty lines are left out. Throws as read_file does.
struct TextRow {
  int line = 0;  // from 1
  std::vector<std::string> cells;
};
std::vector<TextRow> read_rows(const std::filesystem::path& file);

}  // namespace icefield
