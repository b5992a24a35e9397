#include "icefield/judge/agree.h"

#include <cmath>

#include "icefield/base/error.h"
#include "icefield/base/nearest.h"
#include "icefield/base/statistics.h"

namespace icefield {
namespace {

struct Met {
  float distance = -1;  // below 0: nothing of the other within reach
  float along = 0;      // from the other's point, along its normal
};

// From each point of `from` to the nearest one of `to` that looks the same way.
std::vector<Met> meet(const PointCloud& from, const PointCloud& to, double reach, const Executor& executor) {
  constexpr std::size_t kGrain = 2048, kTried = 4;
  constexpr float kSameWay = 0.5f;  // cosine
  std::vector<Met> met(from.size());
  if (to.size() == 0) return met;
  const NearestPoints tree(to.positions);
  const Eigen::Vector3d shift = from.origin - to.origin;
  executor.blocks(from.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      const Eigen::Vector3f p = (from.positions[i].cast<double>() + shift).cast<float>();
      for (const auto& found : tree.nearest(p, kTried)) {
        const float distance = std::sqrt(found.distance2);
        if (distance > static_cast<float>(reach)) break;
        const Eigen::Vector3f& n = to.normals[found.index];
        if (n.dot(from.normals[i]) < kSameWay) continue;
        met[i] = {distance, n.dot(p - to.positions[found.index])};
        break;
      }
    }
  });
  return met;
}

}  // namespace

SurfaceAgreement compare_surfaces(const PointCloud& first, const PointCloud& second, double gsd, double reach_gsd,
                                  const Executor& executor) {
  if (first.normals.size() != first.size() || second.normals.size() != second.size())
    throw Error(ErrorKind::usage, "surfaces", "are without normals", "give clouds that have them");
  if (!(gsd > 0)) throw Error(ErrorKind::usage, "surfaces", "are without a GSD", "give it");
  SurfaceAgreement a;
  a.first_points = first.size(), a.second_points = second.size();
  std::vector<float> distances;
  double along = 0;
  std::size_t near = 0;
  const auto take = [&](const std::vector<Met>& all, double sign) {
    for (const Met& m : all) {
      if (m.distance < 0) continue;
      const double d = m.distance / gsd;
      distances.push_back(static_cast<float>(d));
      along += sign * m.along / gsd;
      near += d <= 2;
    }
  };
  take(meet(first, second, reach_gsd * gsd, executor), 1);
  take(meet(second, first, reach_gsd * gsd, executor), -1);
  a.common = distances.size();
  if (a.common == 0) return a;
  const auto n = static_cast<double>(a.common);
  a.common_percent = 100 * n / static_cast<double>(first.size() + second.size());
  a.offset_gsd = along / n;
  a.within_2_gsd_percent = 100 * static_cast<double>(near) / n;
  a.at_95_gsd = quantile(distances, 95, 100);
  a.median_gsd = median(std::move(distances));
  return a;
}

TiesAcross ties_across(const Block& block, std::span<const int> part_of) {
  TiesAcross ties;
  double sum = 0;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    int seen = kNoPart;
    bool across = false;
    for (const Observation& o : block.of_point(i)) {
      const int part = part_of[o.photo.value];
      if (part == kNoPart) continue;
      across = across || (seen != kNoPart && part != seen);
      seen = part;
    }
    if (!across) continue;
    ++ties.points;
    for (const Observation& o : block.of_point(i))
      if (const auto r = residual_px(block, block.points[i], o)) {
        sum += r->squaredNorm();
        ++ties.observations;
      }
  }
  if (ties.observations > 0) ties.rms_px = std::sqrt(sum / static_cast<double>(ties.observations));
  if (!block.points.empty())
    ties.percent = 100.0 * static_cast<double>(ties.points) / static_cast<double>(block.points.size());
  return ties;
}

}  // namespace icefield
