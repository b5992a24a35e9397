// Polygons in plan, as text.
#pragma once
#include <Eigen/Core>
#include <filesystem>
#include <vector>

namespace icefield {

// A corner X Y in each line; blank ones and those that begin with # are passed over. Throws Error(input) naming the
// line that is none, or for fewer than three corners.
std::vector<Eigen::Vector2d> read_outline_file(const std::filesystem::path& file);
// The same of a line, which has two places or more.
std::vector<Eigen::Vector2d> read_line_file(const std::filesystem::path& file);

}  // namespace icefield
