// Aligned tables for people.
#pragma once
#include <string>
#include <vector>

namespace icefield {

class Table {
 public:
  // A column is left-aligned when its heading ends with a blank (which is not shown), right-aligned otherwise.
  explicit Table(std::vector<std::string> headings);
  void add(std::vector<std::string> cells);
  const std::vector<std::string>& headings() const { return headings_; }
  const std::vector<std::vector<std::string>>& rows() const { return rows_; }
  std::string text() const;

 private:
  std::vector<std::string> headings_;
  std::vector<std::vector<std::string>> rows_;
};

// 75.3 s, 4 min 12 s, 2 h 05 min
std::string duration_text(double seconds);

// 0.4 MB, 75 MB
std::string size_text(double bytes);

}  // namespace icefield
