#include "icefield/block/bounds.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

#include "icefield/base/statistics.h"

namespace icefield {

bool within_outline(const Eigen::Vector2d& place, std::span<const Eigen::Vector2d> outline) {
  bool inside = false;
  for (std::size_t i = 0, j = outline.size() - 1; i < outline.size(); j = i++) {
    const Eigen::Vector2d &a = outline[i], &b = outline[j];
    if ((a.y() > place.y()) != (b.y() > place.y()) &&
        place.x() < (b.x() - a.x()) * (place.y() - a.y()) / (b.y() - a.y()) + a.x())
      inside = !inside;
  }
  return inside;
}

namespace {

// Whether any of the straight line from a to b lies within.
bool crosses(const Eigen::Vector2d& a, const Eigen::Vector2d& b, std::span<const Eigen::Vector2d> outline) {
  if (within_outline(a, outline) || within_outline(b, outline)) return true;
  const auto side = [](const Eigen::Vector2d& p, const Eigen::Vector2d& q, const Eigen::Vector2d& r) {
    return (q.x() - p.x()) * (r.y() - p.y()) - (q.y() - p.y()) * (r.x() - p.x());
  };
  for (std::size_t i = 0, j = outline.size() - 1; i < outline.size(); j = i++) {
    const Eigen::Vector2d &c = outline[j], &d = outline[i];
    if ((side(a, b, c) > 0) != (side(a, b, d) > 0) && (side(c, d, a) > 0) != (side(c, d, b) > 0)) return true;
  }
  return false;
}

}  // namespace

bool Bounds::meets(const Eigen::Vector3d& start, const Eigen::Vector3d& direction) const {
  const Eigen::Vector3d from = orientation.conjugate() * (start - centre), along = orientation.conjugate() * direction;
  double enter = 0, leave = std::numeric_limits<double>::infinity();
  for (int c = 0; c < 3; ++c) {
    if (along[c] == 0) {
      if (std::abs(from[c]) > half_size[c]) return false;
      continue;
    }
    const double a = (-half_size[c] - from[c]) / along[c], b = (half_size[c] - from[c]) / along[c];
    enter = std::max(enter, std::min(a, b));
    leave = std::min(leave, std::max(a, b));
  }
  if (!(enter <= leave)) return false;
  return outline.empty() ||
         crosses((start + enter * direction).head<2>(), (start + leave * direction).head<2>(), outline);
}

Bounds upright_box(std::span<const double> numbers) {
  Bounds box;
  const bool counted = numbers.size() == 6 || numbers.size() == 7;
  if (counted) {
    box.centre = {numbers[0], numbers[1], numbers[2]};
    box.half_size = 0.5 * Eigen::Vector3d(numbers[3], numbers[4], numbers[5]);
    if (numbers.size() == 7)
      box.orientation = Eigen::AngleAxisd(numbers[6] * std::numbers::pi / 180, Eigen::Vector3d::UnitZ());
  }
  if (!counted || !(box.half_size.minCoeff() > 0) || !box.half_size.allFinite() || !box.centre.allFinite())
    throw Error(ErrorKind::usage, "box", "has no volume", "give centre x y z and a positive size x y z");
  return box;
}

double turn_deg(const Bounds& bounds) {
  const Eigen::Vector3d x = bounds.orientation * Eigen::Vector3d::UnitX();
  return std::atan2(x.y(), x.x()) * 180 / std::numbers::pi;
}

bool holds_points(const Bounds& bounds, const Block& block) {
  return std::any_of(block.points.begin(), block.points.end(),
                     [&](const Eigen::Vector3d& p) { return bounds.contains(p); });
}

Bounds bounds_within(std::span<const Eigen::Vector2d> outline, const Block& block) {
  Bounds bounds;
  bounds.outline.assign(outline.begin(), outline.end());
  std::vector<double> heights;
  for (const Eigen::Vector3d& p : block.points)
    if (within_outline(p.head<2>(), outline)) heights.push_back(p.z());
  if (heights.empty()) return bounds;
  std::sort(heights.begin(), heights.end());
  const double low = heights[heights.size() / 100], high = heights[heights.size() - 1 - heights.size() / 100];
  Eigen::Vector2d least = outline[0], most = outline[0];
  for (const Eigen::Vector2d& corner : outline) least = least.cwiseMin(corner), most = most.cwiseMax(corner);
  bounds.centre << 0.5 * (least + most), 0.5 * (low + high);
  bounds.half_size << 0.5 * (most - least), 0.5 * (high - low) * 1.25;
  bounds.half_size.z() += 0.04 * bounds.half_size.norm();
  return bounds;
}

namespace {

struct Weighted {
  Eigen::Vector3d place;
  double weight;
};

// Points weigh by the share of photos that see their surroundings: a subject is seen by many, a horizon by few. Length
// of tracks alone would favour texture; the number of photos whose field of view holds the point does not. Of a large
// block every so-manieth point is looked at, so that the time does not grow with the photos times the points.
std::vector<Weighted> weighted_points(const Block& block) {
  constexpr std::size_t kLooks = 50'000'000, kLeastPoints = 5000;
  const std::size_t points = block.points.size(),
                    wanted = std::max(kLeastPoints, kLooks / std::max<std::size_t>(1, block.photos.size())),
                    step = std::max<std::size_t>(1, points / wanted);
  std::vector<Weighted> weighted;
  for (std::size_t i = 0; i < points; i += step) {
    std::size_t in_view = 0;
    double nearest = 1e300;
    for (const PosedPhoto& photo : block.photos) {
      const Camera& camera = block.camera_of(photo);
      const auto pixel = project(camera, photo.pose.to_camera(block.points[i]));
      if (pixel && pixel->x() >= 0 && pixel->y() >= 0 && pixel->x() < camera.width && pixel->y() < camera.height)
        ++in_view;
    }
    for (const Observation& o : block.of_point(i))
      nearest = std::min(nearest, block.photos[o.photo].pose.to_camera(block.points[i]).z());
    weighted.push_back({block.points[i], static_cast<double>(in_view) / std::max(nearest, 1e-9)});
  }
  std::vector<double> weights;
  for (const Weighted& w : weighted) weights.push_back(w.weight);
  const double least = 0.35 * median(std::move(weights));
  std::erase_if(weighted, [&](const Weighted& w) { return !(w.weight >= least); });
  return weighted;
}

}  // namespace

Bounds automatic_bounds(const Block& block) {
  std::vector<Weighted> points = weighted_points(block);
  if (points.empty()) return {};
  double total = 0;
  for (const Weighted& p : points) total += p.weight;
  Eigen::Vector3d low, high;
  for (int c = 0; c < 3; ++c) {
    std::sort(points.begin(), points.end(),
              [&](const Weighted& a, const Weighted& b) { return a.place[c] < b.place[c]; });
    double sum = 0;
    low[c] = points.front().place[c];
    high[c] = points.back().place[c];
    for (const Weighted& p : points) {
      if (sum < 0.01 * total) low[c] = p.place[c];
      if (sum < 0.99 * total) high[c] = p.place[c];
      sum += p.weight;
    }
  }
  Bounds bounds;
  bounds.centre = 0.5 * (low + high);
  bounds.half_size = 0.5 * (high - low) * 1.25;
  // Upright things end in few points: more room upwards and downwards.
  bounds.half_size.z() += 0.04 * bounds.half_size.norm();
  return bounds;
}

}  // namespace icefield
