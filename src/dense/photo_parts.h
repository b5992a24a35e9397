// Photos in parts: the surface in each as the tie points have it, and which other photos see it, how well.
#pragma once
#include <algorithm>
#include <map>
#include <vector>

#include "icefield/dense/depth_map.h"

namespace icefield {

double degrees_between(const Eigen::Vector3d& a, const Eigen::Vector3d& b);

// By photo, the tie points within the bounds that others see as well.
using CommonPoints = std::vector<std::map<std::uint32_t, std::vector<std::uint32_t>>>;
CommonPoints common_points(const Block& block, const Bounds& bounds);

// A photo without its distortion, in parts, with the depth of the surface in each as the tie points have it.
struct Parts {
  int columns = 0, rows = 0;
  double width = 0, height = 0, focal = 0;
  std::vector<float> depth;                // 0: the photo has no tie points within the bounds
  std::vector<std::uint8_t> points;        // 1: has tie points of its own
  int part_at(double x, double y) const {  // image coordinates from its middle
    const int column = static_cast<int>((x / width + 0.5) * columns), row = static_cast<int>((y / height + 0.5) * rows);
    return std::clamp(row, 0, rows - 1) * columns + std::clamp(column, 0, columns - 1);
  }
  std::size_t size() const { return static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows); }
  // Image coordinates from the middle, of a place in the part; u and v from 0 to 1 within it.
  Eigen::Vector2d place(std::size_t part, double u, double v) const {
    const auto column = static_cast<double>(part % static_cast<std::size_t>(columns)),
               row = static_cast<double>(part / static_cast<std::size_t>(columns));
    return {((column + u) / columns - 0.5) * width, ((row + v) / rows - 0.5) * height};
  }
};

std::vector<Parts> parts_of_photos(const Block& block, const Bounds& bounds);

// How a photo sees a part of another.
struct Look {
  double degrees = 0;   // between the lines of sight
  double shown = 0;     // how much of the part lies in its frame, 0 to 1
  double seen = 0;      // and with nothing nearer before it
  double fineness = 1;  // size of the part's own pixels against those of the other there
};

class Beholder {
 public:
  Beholder(const Block& block, const Bounds& bounds, const DenseOptions& options, const std::vector<Parts>& parts,
           std::size_t photo);
  bool is_wanted(std::size_t part) const { return !places_[part].empty(); }  // it looks into the bounds
  // `common`: tie points of the part that both photos see.
  Look look(std::size_t part, std::uint32_t other, std::size_t common) const;
  // What it is worth for a depth map, from 0 to 1.
  double worth(std::size_t part, std::uint32_t other, std::size_t common) const;
  // Across the line of sight, from where the other looks at the part: unit.
  Eigen::Vector3d side(std::size_t part, std::uint32_t other) const;

 private:
  const Block& block_;
  const DenseOptions& options_;
  const std::vector<Parts>& parts_;
  const Parts& own_;
  const Pose& pose_;
  std::vector<std::vector<Eigen::Vector3d>> places_;  // by part: its middle and near its corners; none: not wanted
};

// By part of a photo, the tie points that it has in common with another.
std::vector<std::size_t> ties_by_part(const Block& block, const Parts& parts, std::size_t photo,
                                      const std::vector<std::uint32_t>& common);

inline constexpr double kLeastSeen = 0.2;  // of a part, that a photo helps with it

}  // namespace icefield
