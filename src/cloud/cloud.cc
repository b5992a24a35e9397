#include "icefield/cloud/cloud.h"

#include <algorithm>
#include <cmath>
#include <tuple>

namespace icefield {

void PointCloud::append(const PointCloud& other, std::size_t i) {
  positions.push_back(other.positions[i]);
  if (!other.normals.empty()) normals.push_back(other.normals[i]);
  if (!other.colours.empty()) colours.push_back(other.colours[i]);
  if (!other.views.empty()) views.push_back(other.views[i]);
  if (!other.errors.empty()) errors.push_back(other.errors[i]);
  if (!other.gsd.empty()) gsd.push_back(other.gsd[i]);
  if (!other.counted.empty()) counted.push_back(other.counted[i]);
}

PointCloud thin(const PointCloud& cloud, double spacing) {
  struct Entry {
    std::uint64_t cell;
    float distance;
    std::uint32_t index;
  };
  std::vector<Entry> entries(cloud.size());
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const Eigen::Vector3d scaled = cloud.positions[i].cast<double>() / spacing;
    const Eigen::Vector3d cell = scaled.array().floor();
    std::uint64_t key = 0;
    for (int c = 0; c < 3; ++c) key = (key << 21) | (static_cast<std::uint64_t>(static_cast<std::int64_t>(cell[c])) & 0x1fffff);
    entries[i] = {key, static_cast<float>((scaled - cell - Eigen::Vector3d::Constant(0.5)).squaredNorm()),
                  static_cast<std::uint32_t>(i)};
  }
  std::sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) {
    return std::tie(a.cell, a.distance, a.index) < std::tie(b.cell, b.distance, b.index);
  });
  std::vector<std::uint32_t> kept;
  for (std::size_t i = 0; i < entries.size(); ++i)
    if (i == 0 || entries[i].cell != entries[i - 1].cell) kept.push_back(entries[i].index);
  std::sort(kept.begin(), kept.end());
  PointCloud result;
  result.origin = cloud.origin;
  for (std::uint32_t i : kept) result.append(cloud, i);
  return result;
}

}  // namespace icefield
