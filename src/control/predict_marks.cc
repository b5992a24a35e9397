#include "icefield/control/predict_marks.h"

#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>
#include <cmath>

#include "icefield/base/statistics.h"

namespace icefield {

using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

std::vector<PredictedMark> predict_marks(const Block& block, const LocatedSpot& spot, std::span<const SpotMark> marked,
                                         double mark_sigma_px) {
  constexpr double kBlockSigma = 0.4;  // px: of poses and lens
  std::vector<PredictedMark> predicted;
  if (!spot.known) return predicted;
  const double before = spot.covariance.trace();
  for (std::uint32_t i = 0; i < block.photos.size(); ++i) {
    if (std::any_of(marked.begin(), marked.end(), [&](const SpotMark& m) { return m.photo == i; })) continue;
    const PosedPhoto& photo = block.photos[i];
    const Camera& camera = block.camera_of(photo);
    Matrix2x3 slope;
    Matrix2xParameters unused;
    const auto pixel = project(camera, photo.pose.to_camera(spot.position), slope, unused);
    if (!pixel || pixel->x() < 0 || pixel->y() < 0 || pixel->x() > camera.width || pixel->y() > camera.height) continue;
    const Matrix2x3 by_world = slope * photo.pose.rotation();
    PredictedMark mark;
    mark.photo = PosedIndex(i);
    mark.pixel = *pixel;
    const Matrix2d of_spot = by_world * spot.covariance * by_world.transpose();
    mark.covariance = of_spot + kBlockSigma * kBlockSigma * Matrix2d::Identity();
    // Of the spot once it is marked there.
    const Matrix2d noise = (mark_sigma_px * mark_sigma_px + kBlockSigma * kBlockSigma) * Matrix2d::Identity();
    const Eigen::Matrix<double, 3, 2> cross = spot.covariance * by_world.transpose();
    const Matrix3d after = spot.covariance - cross * (of_spot + noise).inverse() * cross.transpose();
    mark.gain = before > 0 ? std::clamp(1 - after.trace() / before, 0.0, 1.0) : 0;
    predicted.push_back(mark);
  }
  std::stable_sort(predicted.begin(), predicted.end(),
                   [](const PredictedMark& a, const PredictedMark& b) { return a.gain > b.gain; });
  return predicted;
}

LocatedSpot locate_by_tie_points(const Block& block, const SpotMark& mark) {
  LocatedSpot spot;
  spot.agrees = {true};
  const PosedPhoto& photo = block.photos[mark.photo];
  const Camera& camera = block.camera_of(photo);
  const auto direction = unproject(camera, mark.pixel);
  const double reach = 0.05 * camera.width;
  std::vector<std::pair<double, double>> near;  // distance in the photo, depth
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (const Observation& o : block.of_point(p))
      if (o.photo == mark.photo)
        if (const double d = (o.pixel - mark.pixel).norm(); d < reach)
          near.emplace_back(d, photo.pose.to_camera(block.points[p]).z());
  constexpr std::size_t kLeast = 3, kMost = 9;
  if (!direction || near.size() < kLeast) {
    spot.outcome = "there are no tie points near it: mark it in a second photo by hand";
    return spot;
  }
  std::sort(near.begin(), near.end());
  if (near.size() > kMost) near.resize(kMost);
  std::vector<double> depths, apart;
  for (const auto& [distance, depth] : near) depths.push_back(depth);
  const double depth = median(depths);
  for (const double d : depths) apart.push_back(std::abs(d - depth));
  const double gsd = depth / camera.focal(), along = std::max(1.4826 * median(apart), 3 * gsd);
  spot.position = photo.pose.to_world(depth * direction->homogeneous());
  const Vector3d ray = (spot.position - photo.pose.centre).normalized();
  const double across = gsd * mark.sigma_px;
  spot.covariance = across * across * Matrix3d::Identity() + (along * along - across * across) * ray * ray.transpose();
  spot.known = true;
  spot.outcome = fmt::format("from one mark, as far away as {} tie points around it", near.size());
  return spot;
}

Ellipse ellipse_of(const Matrix2d& covariance) {
  const double mean = 0.5 * covariance.trace(), half = 0.5 * (covariance(0, 0) - covariance(1, 1)),
               off = 0.5 * (covariance(0, 1) + covariance(1, 0)), spread = std::hypot(half, off);
  constexpr double kTwoOfThree = 1.5096;  // root of the chi-square quantile with two freedoms at 0.68
  return {kTwoOfThree * std::sqrt(std::max(0.0, mean + spread)), kTwoOfThree * std::sqrt(std::max(0.0, mean - spread)),
          0.5 * std::atan2(off, half)};
}

}  // namespace icefield
