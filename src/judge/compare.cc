#include "icefield/judge/compare.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

#include "icefield/base/nearest.h"
#include "icefield/base/statistics.h"

namespace icefield {
namespace {}  // namespace

std::optional<CameraComparison> compare_cameras(std::span<const NamedPose> result, std::span<const NamedPose> truth) {
  std::map<std::string, const NamedPose*> by_name;
  for (const NamedPose& pose : result) by_name[pose.name] = &pose;
  CameraComparison comparison;
  comparison.truth_photos = truth.size();
  std::vector<const NamedPose*> mine, right;
  for (const NamedPose& pose : truth) {
    if (const auto found = by_name.find(pose.name); found != by_name.end()) {
      mine.push_back(found->second);
      right.push_back(&pose);
    } else {
      comparison.missing.push_back(pose.name);
    }
  }
  comparison.posed = mine.size();

  std::vector<bool> used(mine.size(), true);
  std::vector<double> errors(mine.size());
  for (int round = 0; round < 6; ++round) {
    std::vector<Eigen::Vector3d> source, target;
    for (std::size_t i = 0; i < mine.size(); ++i)
      if (used[i]) source.push_back(mine[i]->pose.centre), target.push_back(right[i]->pose.centre);
    const auto fit = fit_similarity(source, target);
    if (!fit) return std::nullopt;
    comparison.to_truth = *fit;
    for (std::size_t i = 0; i < mine.size(); ++i)
      errors[i] = (*fit * mine[i]->pose.centre - right[i]->pose.centre).norm();
    const double limit = 3 * median(errors) + 1e-12;
    for (std::size_t i = 0; i < mine.size(); ++i) used[i] = errors[i] <= limit;
  }

  std::vector<double> positions, positions_gsd, orientations, focals;
  double sum2 = 0;
  for (std::size_t i = 0; i < mine.size(); ++i) {
    const Pose moved = comparison.to_truth * mine[i]->pose;
    PhotoError error;
    error.name = mine[i]->name;
    error.position = (moved.centre - right[i]->pose.centre).norm();
    const double gsd = mine[i]->gsd * comparison.to_truth.scale;
    error.position_gsd = gsd > 0 ? error.position / gsd : 0;
    error.orientation_deg = rotation_angle(moved.orientation, right[i]->pose.orientation) * 180 / std::numbers::pi;
    error.wrong = error.position_gsd > 10 || error.orientation_deg > 1;
    comparison.wrong += error.wrong;
    sum2 += error.position * error.position;
    positions.push_back(error.position);
    positions_gsd.push_back(error.position_gsd);
    orientations.push_back(error.orientation_deg);
    focals.push_back(100 * (mine[i]->camera.focal() / right[i]->camera.focal() - 1));
    comparison.photos.push_back(std::move(error));
  }
  comparison.rms_position = std::sqrt(sum2 / static_cast<double>(mine.size()));
  comparison.max_position = *std::max_element(positions.begin(), positions.end());
  comparison.max_position_gsd = *std::max_element(positions_gsd.begin(), positions_gsd.end());
  comparison.max_orientation_deg = *std::max_element(orientations.begin(), orientations.end());
  comparison.median_position = median(positions);
  comparison.median_position_gsd = median(positions_gsd);
  comparison.median_orientation_deg = median(orientations);
  comparison.median_focal_error_percent = median(focals);
  return comparison;
}

CloudComparison compare_clouds(const PointCloud& result, const PointCloud& truth, const std::optional<Bounds>& bounds,
                               const Executor& executor, Monitor& monitor) {
  if (truth.size() == 0 || truth.gsd.size() != truth.size())
    throw Error(ErrorKind::usage, "true surface", truth.size() == 0 ? "has no points" : "does not carry its local GSD",
                "make it with `icefield-simulate surface`");
  CloudComparison comparison;
  comparison.truth_points = truth.size();
  const Eigen::Vector3f shift = (result.origin - truth.origin).cast<float>();
  std::vector<Eigen::Vector3f> points;
  for (std::size_t i = 0; i < result.size(); ++i)
    if (!bounds || bounds->contains(result.position(i))) points.push_back(result.positions[i] + shift);
  comparison.result_points = points.size();

  constexpr double kLevels[] = {1, 1.5, 2, 5};
  constexpr std::uint8_t kCount = std::size(kLevels), kTwoGsd = 2;
  std::array<std::size_t, kCount> near_truth{}, near_result{};
  constexpr std::size_t kGrain = 8192;
  {
    const NearestPoints tree(truth.positions);
    comparison.distance_gsd.resize(points.size());
    executor.run("compare: accuracy", block_count(points.size(), kGrain), monitor, [&](std::size_t block) {
      for (std::size_t i = block * kGrain; i < std::min(points.size(), (block + 1) * kGrain); ++i) {
        const auto found = tree.nearest(points[i]);
        comparison.distance_gsd[i] = std::sqrt(found.distance2) / truth.gsd[found.index];
      }
    });
  }
  std::size_t far = 0;
  for (const float d : comparison.distance_gsd) {
    for (std::size_t k = 0; k < kCount; ++k) near_truth[k] += d <= kLevels[k];
    far += d > 10;
  }
  std::vector<std::uint8_t> level(truth.size(), kCount);
  const auto counted = [&](std::size_t i) { return truth.counted.empty() || truth.counted[i]; };
  if (!points.empty()) {
    const NearestPoints tree(points);
    executor.run("compare: completeness", block_count(truth.size(), kGrain), monitor, [&](std::size_t block) {
      for (std::size_t i = block * kGrain; i < std::min(truth.size(), (block + 1) * kGrain); ++i) {
        if (!counted(i)) continue;
        const float d = std::sqrt(tree.nearest(truth.positions[i]).distance2) / truth.gsd[i];
        for (std::uint8_t k = kCount; k-- > 0;)
          if (d <= kLevels[k]) level[i] = k;
      }
    });
  }
  if (!truth.views.empty())
    for (const int photos : {2, 3, 4, 5, 6, 7, 8, 12}) comparison.seen_by.push_back({photos, 0, 0});
  for (std::size_t i = 0; i < truth.size(); ++i) {
    if (!counted(i)) continue;
    ++comparison.counted_points;
    for (std::size_t k = comparison.seen_by.size(); k-- > 0;)
      if (CloudComparison::SeenBy& seen = comparison.seen_by[k]; truth.views[i] >= seen.photos) {
        ++seen.points, seen.found += level[i] <= kTwoGsd;
        break;
      }
    for (std::size_t k = level[i]; k < kCount; ++k) ++near_result[k];
  }
  const auto percent = [](std::size_t part, std::size_t whole) {
    return whole > 0 ? 100.0 * static_cast<double>(part) / static_cast<double>(whole) : 0.0;
  };
  for (std::size_t k = 0; k < kCount; ++k) {
    CloudScore score{kLevels[k], percent(near_truth[k], points.size()),
                     percent(near_result[k], comparison.counted_points), 0};
    const double sum = score.accuracy_percent + score.completeness_percent;
    score.f1 = sum > 0 ? 0.02 * score.accuracy_percent * score.completeness_percent / sum : 0;
    comparison.scores.push_back(score);
  }
  std::erase_if(comparison.seen_by, [](const CloudComparison::SeenBy& seen) { return seen.points == 0; });
  comparison.far_percent = percent(far, points.size());
  std::vector<double> distances(comparison.distance_gsd.begin(), comparison.distance_gsd.end());
  comparison.median_distance_gsd = median(std::move(distances));
  return comparison;
}

std::optional<PlaceComparison> compare_places(std::span<const NamedPose> result, const Eigen::Vector3d& result_origin,
                                              std::span<const NamedPose> truth, const Eigen::Vector3d& truth_origin) {
  std::map<std::string, Eigen::Vector3d> true_place;
  for (const NamedPose& pose : truth) true_place.emplace(pose.name, pose.pose.centre);
  PlaceComparison compared;
  const Eigen::Vector3d between = result_origin - truth_origin;
  for (const NamedPose& pose : result) {
    const auto found = true_place.find(pose.name);
    if (found == true_place.end()) continue;
    const Eigen::Vector3d off = pose.pose.centre - found->second + between;
    compared.mean += off;
    compared.rms += off.cwiseAbs2();
    compared.largest = std::max(compared.largest, off.norm());
    ++compared.photos;
  }
  if (compared.photos == 0) return std::nullopt;
  compared.mean /= static_cast<double>(compared.photos);
  compared.rms = (compared.rms / static_cast<double>(compared.photos)).cwiseSqrt();
  return compared;
}

}  // namespace icefield
