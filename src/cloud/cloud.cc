#include "icefield/cloud/cloud.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <tuple>

#include "icefield/base/nearest.h"
#include "icefield/base/statistics.h"
#include "src/geometry/decompositions.h"

namespace icefield {
namespace {

std::vector<std::array<float, 3>> as_numbers(const std::vector<Eigen::Vector3f>& vectors) {
  std::vector<std::array<float, 3>> numbers;
  numbers.reserve(vectors.size());
  for (const Eigen::Vector3f& v : vectors) numbers.push_back({v.x(), v.y(), v.z()});
  return numbers;
}

std::vector<Eigen::Vector3f> as_vectors(const std::vector<std::array<float, 3>>& numbers) {
  std::vector<Eigen::Vector3f> vectors;
  vectors.reserve(numbers.size());
  for (const auto& v : numbers) vectors.emplace_back(v[0], v[1], v[2]);
  return vectors;
}

}  // namespace

const char* describe(PointClass of) {
  switch (of) {
    case PointClass::never:
      return "never classified";
    case PointClass::other:
      return "other";
    case PointClass::ground:
      return "ground";
    case PointClass::low_vegetation:
      return "low vegetation";
    case PointClass::medium_vegetation:
      return "medium vegetation";
    case PointClass::high_vegetation:
      return "high vegetation";
    case PointClass::building:
      return "building";
    case PointClass::noise:
      return "noise";
    case PointClass::water:
      return "water";
  }
  return "of another class";
}

void PointCloud::append(const PointCloud& other, std::size_t i) {
  positions.push_back(other.positions[i]);
  if (!other.normals.empty()) normals.push_back(other.normals[i]);
  if (!other.colours.empty()) colours.push_back(other.colours[i]);
  if (!other.views.empty()) views.push_back(other.views[i]);
  if (!other.errors.empty()) errors.push_back(other.errors[i]);
  if (!other.conflicts.empty()) conflicts.push_back(other.conflicts[i]);
  if (!other.faults.empty()) faults.push_back(other.faults[i]);
  if (!other.classes.empty()) classes.push_back(other.classes[i]);
  if (!other.class_confidence.empty()) class_confidence.push_back(other.class_confidence[i]);
  if (!other.gsd.empty()) gsd.push_back(other.gsd[i]);
  if (!other.counted.empty()) counted.push_back(other.counted[i]);
}

void PointCloud::append(const PointCloud& other) {
  if (size() == 0) origin = other.origin, datum = other.datum;
  for (std::size_t i = 0; i < other.size(); ++i) append(other, i);
}

Bytes PointCloud::to_bytes() const {
  ByteWriter out;
  out.put(origin.x()).put(origin.y()).put(origin.z());
  out.put(datum.crs).put(datum.vertical_crs).put(datum.units).put(datum.axes);
  out.put(as_numbers(positions)).put(as_numbers(normals));
  out.put(colours)
      .put(views)
      .put(errors)
      .put(conflicts)
      .put(faults)
      .put(classes)
      .put(class_confidence)
      .put(gsd)
      .put(counted);
  return out.take();
}

PointCloud PointCloud::from_bytes(std::span<const std::byte> bytes) {
  ByteReader in(bytes);
  PointCloud cloud;
  for (int c = 0; c < 3; ++c) cloud.origin[c] = in.get<double>();
  cloud.datum.crs = in.get_string(), cloud.datum.vertical_crs = in.get_string(), cloud.datum.units = in.get_string();
  cloud.datum.axes = static_cast<Axes>(std::min<std::uint8_t>(2, in.get<std::uint8_t>()));
  cloud.positions = as_vectors(in.get_array<std::array<float, 3>>());
  cloud.normals = as_vectors(in.get_array<std::array<float, 3>>());
  cloud.colours = in.get_array<std::array<std::uint8_t, 3>>();
  cloud.views = in.get_array<std::uint16_t>(), cloud.errors = in.get_array<float>();
  cloud.conflicts = in.get_array<std::uint16_t>(), cloud.faults = in.get_array<std::uint8_t>();
  cloud.classes = in.get_array<std::uint8_t>(), cloud.class_confidence = in.get_array<std::uint8_t>();
  cloud.gsd = in.get_array<float>(), cloud.counted = in.get_array<std::uint8_t>();
  for (const std::size_t size : {cloud.normals.size(), cloud.colours.size(), cloud.views.size(), cloud.errors.size(),
                                 cloud.conflicts.size(), cloud.faults.size(), cloud.classes.size(),
                                 cloud.class_confidence.size(), cloud.gsd.size(), cloud.counted.size()})
    if (size != 0 && size != cloud.size()) throw Error(ErrorKind::input, "cloud", "is damaged", "it is computed again");
  return cloud;
}

namespace {

// Of these points, in this order, the one for each occupied cube of a grid that is nearest to the cube's middle.
std::vector<std::uint32_t> thinned(const PointCloud& cloud, std::span<const std::uint32_t> points, double spacing) {
  struct Entry {
    std::uint64_t cell;
    float distance;
    std::uint32_t index;
  };
  std::vector<Entry> entries;
  entries.reserve(points.size());
  for (const std::uint32_t i : points) {
    const Eigen::Vector3d scaled = cloud.positions[i].cast<double>() / spacing;
    const Eigen::Vector3d cell = scaled.array().floor();
    std::uint64_t key = 0;
    for (int c = 0; c < 3; ++c)
      key = (key << 21) | (static_cast<std::uint64_t>(static_cast<std::int64_t>(cell[c])) & 0x1fffff);
    entries.push_back({key, static_cast<float>((scaled - cell - Eigen::Vector3d::Constant(0.5)).squaredNorm()), i});
  }
  std::sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) {
    return std::tie(a.cell, a.distance, a.index) < std::tie(b.cell, b.distance, b.index);
  });
  std::vector<std::uint32_t> kept;
  for (std::size_t i = 0; i < entries.size(); ++i)
    if (i == 0 || entries[i].cell != entries[i - 1].cell) kept.push_back(entries[i].index);
  std::sort(kept.begin(), kept.end());
  return kept;
}

std::vector<std::uint32_t> all_of(const PointCloud& cloud) {
  std::vector<std::uint32_t> all(cloud.size());
  std::iota(all.begin(), all.end(), 0u);
  return all;
}

}  // namespace

PointCloud thin(const PointCloud& cloud, double spacing) {
  return pick(cloud, thinned(cloud, all_of(cloud), spacing));
}

CloudLevels in_levels(const PointCloud& cloud, double spacing) {
  std::vector<std::uint8_t> level(cloud.size(), kCloudLevels - 1);
  if (spacing > 0) {
    std::vector<std::uint32_t> points = all_of(cloud);
    for (int l = kCloudLevels - 2; l >= 0; --l) {
      points = thinned(cloud, points, level_spacing(spacing, l));
      for (const std::uint32_t i : points) level[i] = static_cast<std::uint8_t>(l);
    }
  }
  CloudLevels levels;
  levels.order = all_of(cloud);
  std::stable_sort(levels.order.begin(), levels.order.end(),
                   [&](std::uint32_t a, std::uint32_t b) { return level[a] < level[b]; });
  for (const std::uint8_t l : level) ++levels.end[l];
  for (std::size_t l = 1; l < kCloudLevels; ++l) levels.end[l] += levels.end[l - 1];
  return levels;
}

PointCloud pick(const PointCloud& cloud, std::span<const std::uint32_t> indices) {
  PointCloud result;
  result.origin = cloud.origin, result.datum = cloud.datum;
  for (const std::uint32_t i : indices) result.append(cloud, i);
  return result;
}

namespace {

template <class Inside>
PointCloud chosen(const PointCloud& cloud, bool outside, const Inside& inside) {
  std::vector<std::uint32_t> kept;
  for (std::size_t i = 0; i < cloud.size(); ++i)
    if (inside(cloud.position(i)) != outside) kept.push_back(static_cast<std::uint32_t>(i));
  return pick(cloud, kept);
}

}  // namespace

PointCloud crop(const PointCloud& cloud, const Bounds& box, bool outside) {
  return chosen(cloud, outside, [&](const Eigen::Vector3d& p) { return box.contains(p); });
}

PointCloud crop(const PointCloud& cloud, std::span<const Eigen::Vector2d> outline, bool outside) {
  return chosen(cloud, outside, [&](const Eigen::Vector3d& p) { return within_outline(p.head<2>(), outline); });
}

PointCloud crop(const PointCloud& cloud, const Selection& selection) {
  return chosen(cloud, false, [&](const Eigen::Vector3d& p) { return selection.contains(p); });
}

PointCloud merge(std::span<const PointCloud> clouds) {
  PointCloud all;
  if (clouds.empty()) return all;
  all.origin = clouds[0].origin, all.datum = clouds[0].datum;
  const auto common = [&](auto member) {
    return std::all_of(clouds.begin(), clouds.end(),
                       [&](const PointCloud& c) { return c.size() == 0 || !(c.*member).empty(); });
  };
  const auto take = [&](auto member) {
    if (!common(member)) return;
    for (const PointCloud& c : clouds)
      (all.*member).insert((all.*member).end(), (c.*member).begin(), (c.*member).end());
  };
  for (const PointCloud& c : clouds)
    for (std::size_t i = 0; i < c.size(); ++i)
      all.positions.push_back(c.origin == all.origin ? c.positions[i]
                                                     : Eigen::Vector3f((c.position(i) - all.origin).cast<float>()));
  take(&PointCloud::normals), take(&PointCloud::colours), take(&PointCloud::views), take(&PointCloud::errors);
  take(&PointCloud::conflicts), take(&PointCloud::faults), take(&PointCloud::classes);
  take(&PointCloud::class_confidence), take(&PointCloud::gsd), take(&PointCloud::counted);
  return all;
}

std::vector<CloudTile> split(const PointCloud& cloud, double size) {
  std::map<std::pair<std::int64_t, std::int64_t>, std::vector<std::uint32_t>> members;  // by row, column
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const Eigen::Vector3d p = cloud.position(i);
    members[{static_cast<std::int64_t>(std::floor(p.y() / size)), static_cast<std::int64_t>(std::floor(p.x() / size))}]
        .push_back(static_cast<std::uint32_t>(i));
  }
  std::vector<CloudTile> tiles;
  for (const auto& [place, indices] : members) tiles.push_back({place.second, place.first, pick(cloud, indices)});
  return tiles;
}

void estimate_normals(PointCloud& cloud, int neighbours, const Eigen::Vector3f& up, const Executor& executor) {
  const std::vector<Eigen::Vector3f> before = cloud.normals;
  cloud.normals.assign(cloud.size(), up);
  if (cloud.size() < 3) return;
  const NearestPoints tree(cloud.positions);
  executor.blocks(cloud.size(), 4096, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      const auto found = tree.nearest(cloud.positions[i], static_cast<std::size_t>(std::max(3, neighbours)));
      Eigen::Vector3d mean = Eigen::Vector3d::Zero();
      for (const auto& f : found) mean += (cloud.positions[f.index] - cloud.positions[i]).cast<double>();
      mean /= static_cast<double>(found.size());
      Eigen::Matrix3d spread = Eigen::Matrix3d::Zero();
      for (const auto& f : found) {
        const Eigen::Vector3d d = (cloud.positions[f.index] - cloud.positions[i]).cast<double>() - mean;
        spread += d * d.transpose();
      }
      Eigen::Vector3f normal = spectrum(spread).vectors.col(0).cast<float>();
      const Eigen::Vector3f& side = before.empty() ? up : before[i];
      if (normal.dot(side) < 0) normal = -normal;
      cloud.normals[i] = normal;
    }
  });
}

std::vector<double> distances(const PointCloud& cloud, const PointCloud& other, const Executor& executor) {
  const NearestPoints tree(other.positions);
  std::vector<double> result(cloud.size());
  executor.blocks(cloud.size(), 4096, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i)
      result[i] =
          std::sqrt(static_cast<double>(tree.nearest((cloud.position(i) - other.origin).cast<float>()).distance2));
  });
  return result;
}

double typical_spacing(const PointCloud& cloud) {
  if (cloud.size() < 2) return 0;
  const NearestPoints tree(cloud.positions);
  std::vector<float> distances;
  for (std::size_t i = 0; i < cloud.size(); i += std::max<std::size_t>(1, cloud.size() / 4000))
    distances.push_back(tree.nearest(cloud.positions[i], 2).back().distance2);
  return std::sqrt(median(distances));
}

}  // namespace icefield
