#include "icefield/world/local_lattice.h"

#include <algorithm>
#include <cmath>

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

constexpr double kSide = 256;     // metres or whatever the CRS counts in
constexpr double kHeights = 500;  // below and above the origin; what is beyond goes on alike

}  // namespace

LocalLattice::LocalLattice(const WorldFrame& frame, const Vector2d& low, const Vector2d& high)
    : origin_(frame.origin()) {
  if (!frame.curved()) return;
  low_ = (low / kSide).array().floor() * kSide;
  columns_ = std::max(1, static_cast<int>(std::ceil((high.x() - low_.x()) / kSide)));
  rows_ = std::max(1, static_cast<int>(std::ceil((high.y() - low_.y()) / kSide)));
  added_.resize(static_cast<std::size_t>(columns_) * static_cast<std::size_t>(rows_));
  for (int row = 0; row < rows_; ++row)
    for (int column = 0; column < columns_; ++column) {
      auto& nodes =
          added_[static_cast<std::size_t>(row) * static_cast<std::size_t>(columns_) + static_cast<std::size_t>(column)];
      for (int z = 0; z < 3; ++z)
        for (int y = 0; y < 3; ++y)
          for (int x = 0; x < 3; ++x) {
            const Vector3d node(low_.x() + kSide * (column + 0.5 * x), low_.y() + kSide * (row + 0.5 * y),
                                origin_.z() + kHeights * (z - 1));
            nodes[static_cast<std::size_t>(9 * z + 3 * y + x)] = frame.to_local(node) - (node - origin_);
          }
    }
}

void LocalLattice::to_local(std::span<Vector3d> places) const {
  for (Vector3d& p : places) {
    const Vector3d flat = p - origin_;
    if (columns_ == 0) {
      p = flat;
      continue;
    }
    const int column = std::clamp(static_cast<int>((p.x() - low_.x()) / kSide), 0, columns_ - 1),
              row = std::clamp(static_cast<int>((p.y() - low_.y()) / kSide), 0, rows_ - 1);
    const Vector3d t(2 * ((p.x() - low_.x()) / kSide - column) - 1, 2 * ((p.y() - low_.y()) / kSide - row) - 1,
                     flat.z() / kHeights);
    double weight[3][3];
    for (int c = 0; c < 3; ++c) {
      weight[c][0] = 0.5 * t[c] * (t[c] - 1);
      weight[c][1] = 1 - t[c] * t[c];
      weight[c][2] = 0.5 * t[c] * (t[c] + 1);
    }
    const auto& nodes =
        added_[static_cast<std::size_t>(row) * static_cast<std::size_t>(columns_) + static_cast<std::size_t>(column)];
    Vector3d sum = Vector3d::Zero();
    for (std::size_t z = 0; z < 3; ++z)
      for (std::size_t y = 0; y < 3; ++y)
        for (std::size_t x = 0; x < 3; ++x)
          sum += weight[0][x] * weight[1][y] * weight[2][z] * nodes[9 * z + 3 * y + x];
    p = flat + sum;
  }
}

}  // namespace icefield
