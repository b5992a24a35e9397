// Surveyed points, marks, known lengths and photo positions as tables of text.
#pragma once
#include <Eigen/Core>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "icefield/control/control.h"

namespace icefield {

// Cells are parted by commas, semicolons, tabs or blanks, whatever the file uses; with semicolons, tabs or blanks a
// number may have a decimal comma. Texts with a separator in them stand in double quotes. '#' begins a comment line. A
// first line with words for the columns is understood in several languages; without one the columns stand in the order
// given below, as far as there are any.
//
// What a column holds: name, east, north, height, sigma (of all coordinates), sigma_plan, sigma_height, sigma_east,
// sigma_north, use (control, check, spot), photo, point, x, y, from, to, length, or - for one that is passed over.
// `columns`: these words for the file's columns from the left; empty: by its header or in the usual order.
//
// Standard deviations that a file does not have are 0. All readers throw Error(input) naming file, line and fault, and
// Error(usage) for columns that there are not.
struct ControlPointRow {
  int line = 0;
  std::string name;
  Eigen::Vector3d place = Eigen::Vector3d::Zero();  // east, north, height as they stand there; NaN: empty
  Eigen::Vector3d sigma = Eigen::Vector3d::Zero();
  std::optional<ControlUse> use;
};
struct ControlPointTable {
  std::vector<ControlPointRow> points;
  std::string units;  // of coordinates, as the header has it: "m", "ft"; empty: it has none
};
// Usual order: name, east, north, height, sigma_plan, sigma_height, use (with one sigma: of all).
ControlPointTable read_control_points(const std::filesystem::path& file, const std::vector<std::string>& columns = {});

struct MarkRow {
  int line = 0;
  std::string photo, point;
  Eigen::Vector2d pixel = Eigen::Vector2d::Zero();
  double sigma_px = 0;
};
// Usual order: photo, point, x, y, sigma.
std::vector<MarkRow> read_marks(const std::filesystem::path& file, const std::vector<std::string>& columns = {});

struct LengthRow {
  int line = 0;
  std::string from, to;
  double length = 0, sigma = 0;
  std::optional<ControlUse> use;
};
// Usual order: from, to, length, sigma, use.
std::vector<LengthRow> read_lengths(const std::filesystem::path& file, const std::vector<std::string>& columns = {});

struct PositionRow {
  int line = 0;
  std::string photo;
  Eigen::Vector3d place = Eigen::Vector3d::Zero(), sigma = Eigen::Vector3d::Zero();
};
// Usual order: photo, east, north, height, sigma_plan, sigma_height.
std::vector<PositionRow> read_positions(const std::filesystem::path& file,
                                        const std::vector<std::string>& columns = {});

// With a header, commas and all digits, so that reading them gives the same numbers.
std::string text_of_control_points(const std::vector<ControlPointRow>& points);
std::string text_of_marks(const std::vector<MarkRow>& marks);
std::string text_of_lengths(const std::vector<LengthRow>& lengths);
std::string text_of_positions(const std::vector<PositionRow>& positions);

}  // namespace icefield
