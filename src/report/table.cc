#include "icefield/report/table.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace icefield {
namespace {

// Characters of a UTF-8 text.
std::size_t shown_width(const std::string& s) {
  return static_cast<std::size_t>(
      std::count_if(s.begin(), s.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

}  // namespace

Table::Table(std::vector<std::string> headings) : headings_(std::move(headings)) {}

void Table::add(std::vector<std::string> cells) {
  cells.resize(headings_.size());
  rows_.push_back(std::move(cells));
}

std::string Table::text() const {
  std::vector<std::size_t> widths(headings_.size());
  std::vector<bool> left(headings_.size());
  std::vector<std::string> headings = headings_;
  for (std::size_t c = 0; c < headings.size(); ++c) {
    if (!headings[c].empty() && headings[c].back() == ' ') {
      left[c] = true;
      headings[c].pop_back();
    }
    widths[c] = shown_width(headings[c]);
    for (const auto& row : rows_) widths[c] = std::max(widths[c], shown_width(row[c]));
  }
  std::string out;
  const auto line = [&](const std::vector<std::string>& cells) {
    std::string text;
    for (std::size_t c = 0; c < cells.size(); ++c) {
      const std::string pad(widths[c] - std::min(widths[c], shown_width(cells[c])), ' ');
      text += (c > 0 ? "  " : "") + (left[c] ? cells[c] + pad : pad + cells[c]);
    }
    while (!text.empty() && text.back() == ' ') text.pop_back();
    out += text + "\n";
  };
  line(headings);
  for (const auto& row : rows_) line(row);
  return out;
}

std::string duration_text(double seconds) {
  if (seconds < 60) return fmt::format("{:.1f} s", seconds);
  const auto whole = static_cast<long>(std::lround(seconds));
  if (seconds < 3600) return fmt::format("{} min {:02} s", whole / 60, whole % 60);
  return fmt::format("{} h {:02} min", whole / 3600, whole / 60 % 60);
}

std::string size_text(double bytes) {
  return bytes < 1e7    ? fmt::format("{:.1f} MB", 1e-6 * bytes)
         : bytes < 1e10 ? fmt::format("{:.0f} MB", 1e-6 * bytes)
                        : fmt::format("{:.1f} GB", 1e-9 * bytes);
}

}  // namespace icefield
