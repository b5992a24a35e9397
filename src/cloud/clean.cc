#include "icefield/cloud/clean.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "icefield/base/nearest.h"
#include "icefield/base/statistics.h"

namespace icefield {
namespace {

constexpr std::size_t kGrain = 4096;
constexpr float kWidest = 4;  // distance to neighbours that counts, against that of nineteen points in twenty

// The points that are still in, with their nearest others and the middle distance to them.
struct Surroundings {
  std::vector<std::uint32_t> points;   // indices into the cloud
  std::vector<std::uint32_t> nearest;  // `count` for each, indices into `points`
  std::vector<float> distance2;        // in the same order
  std::vector<float> middle;           // distance, for each
  std::size_t count = 0;
};

Surroundings surroundings(const PointCloud& cloud, const std::vector<Fault>& faults, int neighbours,
                          const Executor& executor) {
  Surroundings s;
  std::vector<Eigen::Vector3f> positions;
  for (std::size_t i = 0; i < cloud.size(); ++i)
    if (faults[i] == Fault::none)
      s.points.push_back(static_cast<std::uint32_t>(i)), positions.push_back(cloud.positions[i]);
  s.count = std::min<std::size_t>(static_cast<std::size_t>(std::max(1, neighbours)),
                                  s.points.empty() ? 0 : s.points.size() - 1);
  if (s.count == 0) return s;
  const NearestPoints tree(positions);
  s.nearest.resize(s.count * s.points.size());
  s.distance2.resize(s.nearest.size());
  s.middle.resize(s.points.size());
  executor.blocks(s.points.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      std::size_t k = 0;
      for (const NearestPoints::Found& found : tree.nearest(positions[i], s.count + 1)) {
        if (found.index == i || k == s.count) continue;
        s.nearest[s.count * i + k] = static_cast<std::uint32_t>(found.index);
        s.distance2[s.count * i + k++] = found.distance2;
      }
      s.middle[i] = std::sqrt(s.distance2[s.count * i + s.count / 2]);
    }
  });
  return s;
}

}  // namespace

const char* describe(Fault fault) {
  switch (fault) {
    case Fault::none:
      return "kept";
    case Fault::see_through:
      return "photos see past it";
    case Fault::lonely:
      return "far from its neighbours";
    case Fault::island:
      break;
  }
  return "in a small island";
}

std::vector<Fault> find_faults(const PointCloud& cloud, const CleanOptions& options, const Executor& executor,
                               std::span<const std::uint8_t> open) {
  std::vector<Fault> faults(cloud.size(), Fault::none);
  if (options.max_conflicts_per_view > 0 && !cloud.conflicts.empty() && !cloud.views.empty())
    for (std::size_t i = 0; i < cloud.size(); ++i)
      if (cloud.conflicts[i] > options.max_conflicts_per_view * cloud.views[i]) faults[i] = Fault::see_through;
  if (!(options.max_loneliness > 0) && options.min_island_points <= 1) return faults;
  const Surroundings s = surroundings(cloud, faults, options.neighbours, executor);
  if (s.count == 0) return faults;
  std::vector<std::uint8_t> lonely(s.points.size(), 0);
  if (options.max_loneliness > 0)
    executor.blocks(s.points.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      std::vector<float> theirs(s.count);
      for (std::size_t i = begin; i < end; ++i) {
        for (std::size_t k = 0; k < s.count; ++k) theirs[k] = s.middle[s.nearest[s.count * i + k]];
        lonely[i] = s.middle[i] > options.max_loneliness * quantile_in_place(std::span<float>(theirs), 1, 2);
      }
    });
  // Strays in thin air are as far from each other as from all else, and would hang together: nothing does over more
  // than a few times what nineteen points in twenty have.
  const float widest = kWidest * quantile(s.middle, 19, 20);
  UnionFind groups(s.points.size());
  for (std::size_t i = 0; i < s.points.size(); ++i)
    for (std::size_t k = 0; k < s.count && !lonely[i]; ++k) {
      const std::uint32_t j = s.nearest[s.count * i + k];
      const double reach = options.reach * std::min({s.middle[i], s.middle[j], widest});
      if (!lonely[j] && s.distance2[s.count * i + k] <= reach * reach) groups.join(static_cast<std::uint32_t>(i), j);
    }
  std::vector<std::uint32_t> sizes(s.points.size(), 0);
  std::vector<std::uint8_t> goes_on(s.points.size(), 0);
  for (std::size_t i = 0; i < s.points.size(); ++i) {
    const std::uint32_t group = groups.find(static_cast<std::uint32_t>(i));
    ++sizes[group];
    if (!open.empty() && open[s.points[i]]) goes_on[group] = 1;
  }
  for (std::size_t i = 0; i < s.points.size(); ++i) {
    const std::uint32_t group = groups.find(static_cast<std::uint32_t>(i));
    if (lonely[i])
      faults[s.points[i]] = Fault::lonely;
    else if (options.min_island_points > 1 && sizes[group] < static_cast<std::uint32_t>(options.min_island_points) &&
             !goes_on[group])
      faults[s.points[i]] = Fault::island;
  }
  return faults;
}

Cleaned part(const PointCloud& cloud, std::span<const Fault> faults) {
  Cleaned result;
  result.kept.origin = result.aside.origin = cloud.origin;
  result.kept.datum = result.aside.datum = cloud.datum;
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    ++result.counts[static_cast<std::size_t>(faults[i])];
    if (faults[i] == Fault::none) {
      result.kept.append(cloud, i);
    } else {
      result.aside.append(cloud, i);
      if (cloud.faults.empty())
        result.aside.faults.push_back(static_cast<std::uint8_t>(faults[i]));
      else
        result.aside.faults.back() = static_cast<std::uint8_t>(faults[i]);
    }
  }
  result.kept.faults.clear();
  return result;
}

Cleaned clean(const PointCloud& cloud, const CleanOptions& options, const Executor& executor) {
  return part(cloud, find_faults(cloud, options, executor));
}

}  // namespace icefield
