// Sheets of coded targets to print.
#pragma once
#include <Eigen/Core>
#include <filesystem>
#include <string>
#include <vector>

#include "icefield/io/control_file.h"

namespace icefield {

struct TargetSheetOptions {
  int first = 1, count = 6;  // numbers
  double diameter_mm = 50;   // from corner to corner
  double width_mm = 210, height_mm = 297, margin_mm = 12;
};

// Millimetres by name ("a0" to "a5", "letter") or as WIDTHxHEIGHT; throws Error(usage) for anything else.
Eigen::Vector2d paper_size(const std::string& name);

struct TargetSheet {
  TargetSheetOptions options;
  struct Placed {
    int number = 0;
    std::size_t page = 0;
    Eigen::Vector2d middle_mm = Eigen::Vector2d::Zero();  // from the upper left corner of the page
  };
  std::vector<Placed> targets;
  std::size_t pages = 0;
  double across_mm = 0, down_mm = 0;  // between middles of neighbours
  double ruler_mm = 0;
};

// As many on a page as it holds. Throws Error(usage) where not one fits, naming the largest that does, and for numbers
// that there are not.
TargetSheet plan_target_sheet(const TargetSheetOptions& options);

// By the file's ending: .pdf (all pages) or .svg (several pages: NAME-1.svg, NAME-2.svg, ...). True to size; with a
// ruler by which the print is checked. Returns the files. Throws Error(usage) for another ending, Error(resource) where
// a file cannot be written.
std::vector<std::filesystem::path> write_target_sheet(const std::filesystem::path& file, const TargetSheet& sheet);

// What is known between targets that stay on one sheet: from each to its neighbours, and from corner to corner of a
// page. Names are those that marks get ("T17"); metres. A print that its ruler proves is good to half a millimetre.
std::vector<LengthRow> lengths_of_sheet(const TargetSheet& sheet);

// How a target's point is called in tables.
std::string target_name(int number);

}  // namespace icefield
