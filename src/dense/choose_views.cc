#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>

#include "icefield/base/statistics.h"
#include "icefield/dense/dense.h"
#include "src/dense/patch_kernel.h"

namespace icefield {

namespace {

constexpr std::size_t kMostCandidates = 48;  // those that share most tie points
constexpr int kParts = 16;                   // along the longer side of a photo
constexpr double kHidden = 0.85;  // of a depth: where the surface of the other photo is nearer, it hides the place
constexpr double kHiddenCounts = 0.25;
constexpr std::size_t kSurelySeen = 2;  // common tie points in a part that leave no doubt
// What the best, the second best, ... view of a part adds. Three are averaged, the others help where things hide.
constexpr double kWorth[] = {1, 0.9, 0.7, 0.5, 0.2, 0.1};
constexpr double kSameSide = 0.3;  // a view from the side of one that is there already counts so much less

// How well depth is told at this angle, and how alike the surface looks: a bell around 12 degrees, wider on the far
// side.
double angle_worth(double degrees) {
  const double off = (degrees - 12) / (degrees < 12 ? 6 : 14);
  return std::exp(-0.5 * off * off);
}

double degrees_between(const Eigen::Vector3d& a, const Eigen::Vector3d& b) {
  return std::atan2(a.cross(b).norm(), a.dot(b)) * 180 / std::numbers::pi;
}

// By photo, the tie points within the bounds that others see as well.
std::vector<std::map<std::uint32_t, std::vector<std::uint32_t>>> common_points(const Block& block,
                                                                               const Bounds& bounds) {
  std::vector<std::map<std::uint32_t, std::vector<std::uint32_t>>> common(block.photos.size());
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!bounds.contains(block.points[i])) continue;
    const auto seen = block.of_point(i);
    for (const Observation& a : seen)
      for (const Observation& b : seen)
        if (a.photo != b.photo) common[a.photo][b.photo].push_back(static_cast<std::uint32_t>(i));
  }
  return common;
}

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

// Parts without tie points of their own take the middle of those nearest to them.
void fill_from_around(Parts& parts) {
  const std::vector<float> known = parts.depth;
  for (int row = 0; row < parts.rows; ++row)
    for (int column = 0; column < parts.columns; ++column) {
      float& depth = parts.depth[static_cast<std::size_t>(row * parts.columns + column)];
      std::vector<float> around;
      for (int r = 1; depth == 0 && around.size() < 2 && r < std::max(parts.columns, parts.rows); ++r)
        for (int y = std::max(0, row - r); y <= std::min(parts.rows - 1, row + r); ++y)
          for (int x = std::max(0, column - r); x <= std::min(parts.columns - 1, column + r); ++x)
            if (std::max(std::abs(y - row), std::abs(x - column)) == r)
              if (const float there = known[static_cast<std::size_t>(y * parts.columns + x)]; there > 0)
                around.push_back(there);
      if (!around.empty()) depth = median(around);
    }
}

std::vector<Parts> parts_of_photos(const Block& block, const Bounds& bounds) {
  std::vector<Parts> all(block.photos.size());
  std::vector<std::vector<std::vector<float>>> depths(block.photos.size());
  for (std::size_t i = 0; i < all.size(); ++i) {
    const Camera& camera = block.camera_of(block.photos[i]);
    Parts& parts = all[i];
    parts.width = camera.width, parts.height = camera.height, parts.focal = camera.focal();
    const int longer = std::max(camera.width, camera.height);
    parts.columns = std::max(1, (kParts * camera.width + longer / 2) / longer);
    parts.rows = std::max(1, (kParts * camera.height + longer / 2) / longer);
    depths[i].resize(parts.size());
  }
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    if (!bounds.contains(block.points[p])) continue;
    for (const Observation& o : block.of_point(p)) {
      const Eigen::Vector3d q = block.photos[o.photo].pose.to_camera(block.points[p]);
      const Parts& parts = all[o.photo];
      if (q.z() > 0)
        depths[o.photo]
              [static_cast<std::size_t>(parts.part_at(q.x() / q.z() * parts.focal, q.y() / q.z() * parts.focal))]
                  .push_back(static_cast<float>(q.z()));
    }
  }
  for (std::size_t i = 0; i < all.size(); ++i) {
    Parts& parts = all[i];
    parts.depth.assign(parts.size(), 0), parts.points.assign(parts.size(), 0);
    for (std::size_t k = 0; k < parts.size(); ++k)
      if (!depths[i][k].empty()) parts.depth[k] = median(depths[i][k]), parts.points[k] = 1;
    fill_from_around(parts);
  }
  return all;
}

// How well one photo sees the parts of another.
class Beholder {
 public:
  Beholder(const Block& block, const Bounds& bounds, const DenseOptions& options, const std::vector<Parts>& parts,
           std::size_t photo)
      : block_(block), options_(options), parts_(parts), own_(parts[photo]), pose_(block.photos[photo].pose) {
    static constexpr double kPlaces[5][2] = {{0.5, 0.5}, {0.15, 0.15}, {0.85, 0.15}, {0.15, 0.85}, {0.85, 0.85}};
    const Eigen::Matrix3d to_world = pose_.rotation().transpose();
    places_.resize(own_.size());
    for (std::size_t k = 0; k < own_.size(); ++k) {
      bool meets = false;
      for (const auto& [u, v] : kPlaces) {
        const Eigen::Vector2d at = own_.place(k, u, v) / own_.focal;
        const Eigen::Vector3d line = to_world * at.homogeneous();
        meets = meets || bounds.meets(pose_.centre, line);
        places_[k].push_back(pose_.centre + static_cast<double>(own_.depth[k]) * line);
      }
      if (!meets || !(own_.depth[k] > 0)) places_[k].clear();
    }
  }
  std::size_t parts() const { return own_.size(); }
  bool is_wanted(std::size_t part) const { return !places_[part].empty(); }
  // From 0 to 1; `common`: tie points of the part that both photos see.
  double worth(std::size_t part, std::uint32_t other, std::size_t common) const {
    const PosedPhoto& photo = block_.photos[other];
    const Parts& there = parts_[other];
    const Eigen::Vector3d& middle = places_[part][0];
    const double angle = degrees_between(pose_.centre - middle, photo.pose.centre - middle);
    if (angle < options_.min_angle_deg || angle > options_.max_angle_deg) return 0;
    double seen = 0;
    for (const Eigen::Vector3d& place : places_[part]) seen += sight_of(place, photo.pose, there);
    seen /= static_cast<double>(places_[part].size());
    if (common >= kSurelySeen) seen = std::max(seen, 0.6);
    if (seen < 0.2) return 0;
    const double size = (pose_.centre - middle).norm() / own_.focal,
                 size_there = (photo.pose.centre - middle).norm() / there.focal;
    return seen * angle_worth(angle) * std::min(size / size_there, 1.0);  // one that sees coarser helps less
  }
  // Across the line of sight, from where the other looks at the part: unit.
  Eigen::Vector3d side(std::size_t part, std::uint32_t other) const {
    const Eigen::Vector3d& middle = places_[part][0];
    const Eigen::Vector3d sight = (pose_.centre - middle).normalized(),
                          to_other = (block_.photos[other].pose.centre - middle).normalized();
    return (to_other - to_other.dot(sight) * sight).normalized();
  }

 private:
  double sight_of(const Eigen::Vector3d& place, const Pose& pose, const Parts& there) const {
    const Eigen::Vector3d q = pose.to_camera(place);
    if (!(q.z() > 0)) return 0;
    const double x = q.x() / q.z() * there.focal, y = q.y() / q.z() * there.focal;
    if (std::abs(x) > 0.49 * there.width || std::abs(y) > 0.49 * there.height) return 0;
    const auto part = static_cast<std::size_t>(there.part_at(x, y));
    return there.points[part] && static_cast<double>(there.depth[part]) < kHidden * q.z() ? kHiddenCounts : 1;
  }

  const Block& block_;
  const DenseOptions& options_;
  const std::vector<Parts>& parts_;
  const Parts& own_;
  const Pose& pose_;
  std::vector<std::vector<Eigen::Vector3d>> places_;  // by part: its middle and near its corners; none: not wanted
};

// The best worths of a part so far, best first.
class BestWorths {
 public:
  // What one more adds to the sum, in which each counts by its rank.
  double gain(double worth) const {
    double gain = 0;
    std::size_t rank = 0;
    while (rank < count_ && best_[rank] >= worth) ++rank;
    if (rank < kRanks) gain = kWorth[rank] * worth;
    for (std::size_t k = rank; k < count_; ++k) gain += ((k + 1 < kRanks ? kWorth[k + 1] : 0) - kWorth[k]) * best_[k];
    return gain;
  }
  void add(double worth) {
    std::size_t rank = count_;
    while (rank > 0 && best_[rank - 1] < worth) {
      if (rank < kRanks) best_[rank] = best_[rank - 1];
      --rank;
    }
    if (rank < kRanks) best_[rank] = worth;
    count_ = std::min(count_ + 1, kRanks);
  }

 private:
  static constexpr std::size_t kRanks = std::size(kWorth);
  std::array<double, kRanks> best_{};
  std::size_t count_ = 0;
};

// Of the photos in the list, those that are asked in the part: the best, from different sides where they are about as
// good.
std::uint16_t best_of_part(const Beholder& beholder, std::size_t part, const std::vector<std::uint32_t>& photos,
                           const std::vector<double>& worths, int most) {
  std::uint16_t chosen = 0;
  std::vector<Eigen::Vector3d> sides;
  for (int count = 0; count < most; ++count) {
    double best = 0;
    std::size_t best_at = photos.size();
    for (std::size_t k = 0; k < photos.size(); ++k) {
      if (chosen >> k & 1 || !(worths[k] > 0)) continue;
      const Eigen::Vector3d side = beholder.side(part, photos[k]);
      double alike = 0;
      for (const Eigen::Vector3d& other : sides) alike = std::max(alike, side.dot(other));
      if (const double worth = worths[k] * (1 - kSameSide * alike); worth > best) best = worth, best_at = k;
    }
    if (best_at == photos.size()) break;
    chosen = static_cast<std::uint16_t>(chosen | 1u << best_at);
    sides.push_back(beholder.side(part, photos[best_at]));
  }
  return chosen;
}

// Photo after photo, each time the one that adds most over all parts.
MatchViews views_of(const Beholder& beholder, const Parts& parts, const std::vector<std::uint32_t>& candidates,
                    const std::vector<std::vector<double>>& worths, const DenseOptions& options) {
  MatchViews views;
  views.columns = parts.columns, views.rows = parts.rows;
  std::vector<BestWorths> have(parts.size());
  std::vector<std::size_t> taken;
  while (taken.size() < static_cast<std::size_t>(std::min(options.max_neighbours, kMaxViews))) {
    double most = 0;
    std::size_t best = candidates.size();
    for (std::size_t c = 0; c < candidates.size(); ++c) {
      if (std::find(taken.begin(), taken.end(), c) != taken.end()) continue;
      double gain = 0;
      for (std::size_t k = 0; k < parts.size(); ++k)
        if (worths[c][k] > 0) gain += have[k].gain(worths[c][k]);
      if (gain > most) most = gain, best = c;
    }
    if (best == candidates.size()) break;
    taken.push_back(best);
    views.photos.push_back(candidates[best]);
    for (std::size_t k = 0; k < parts.size(); ++k)
      if (worths[best][k] > 0) have[k].add(worths[best][k]);
  }
  views.asked.assign(parts.size(), 0);
  for (std::size_t k = 0; k < parts.size(); ++k) {
    if (!beholder.is_wanted(k)) continue;
    std::vector<double> of_part;
    for (const std::size_t c : taken) of_part.push_back(worths[c][k]);
    views.asked[k] = best_of_part(beholder, k, views.photos, of_part, options.part_neighbours);
  }
  return views;
}

}  // namespace

std::vector<MatchViews> choose_views(const Block& block, const Bounds& bounds, const DenseOptions& options,
                                     std::span<const double> sharpness, const Executor& executor) {
  const auto common = common_points(block, bounds);
  const std::vector<Parts> parts = parts_of_photos(block, bounds);
  // How much a blurred neighbour still helps: its edges against the photo's own.
  const auto help = [&](std::size_t photo, std::uint32_t other) {
    return sharpness.empty() || !(sharpness[photo] > 0) || !(sharpness[other] > 0)
               ? 1.0
               : std::clamp(sharpness[other] / sharpness[photo], 0.2, 1.0);
  };
  std::vector<MatchViews> views(block.photos.size());
  executor.run("", block.photos.size(), silent_monitor(), [&](std::size_t i) {
    std::vector<std::pair<std::size_t, std::uint32_t>> by_points;
    for (const auto& [other, points] : common[i])
      if (static_cast<int>(points.size()) >= options.min_shared_points) by_points.emplace_back(points.size(), other);
    std::sort(by_points.begin(), by_points.end(), [](const auto& a, const auto& b) {
      return a.first > b.first || (a.first == b.first && a.second < b.second);
    });
    if (by_points.size() > kMostCandidates) by_points.resize(kMostCandidates);
    const Beholder beholder(block, bounds, options, parts, i);
    std::vector<std::uint32_t> candidates;
    std::vector<std::vector<double>> worths;
    for (const auto& [count, other] : by_points) {
      std::vector<std::size_t> in_part(parts[i].size(), 0);
      std::vector<float> angles;
      for (const std::uint32_t p : common[i].at(other)) {
        const Eigen::Vector3d& point = block.points[p];
        angles.push_back(static_cast<float>(
            degrees_between(block.photos[i].pose.centre - point, block.photos[other].pose.centre - point)));
        const Eigen::Vector3d q = block.photos[i].pose.to_camera(point);
        ++in_part[static_cast<std::size_t>(
            parts[i].part_at(q.x() / q.z() * parts[i].focal, q.y() / q.z() * parts[i].focal))];
      }
      if (const double angle = median(angles); angle < options.min_angle_deg || angle > options.max_angle_deg) continue;
      std::vector<double> of_parts(parts[i].size(), 0);
      for (std::size_t k = 0; k < of_parts.size(); ++k)
        if (beholder.is_wanted(k)) of_parts[k] = help(i, other) * beholder.worth(k, other, in_part[k]);
      candidates.push_back(other);
      worths.push_back(std::move(of_parts));
    }
    views[i] = views_of(beholder, parts[i], candidates, worths, options);
  });
  return views;
}

namespace {

// What two photos have in common within the bounds.
struct Shared {
  std::vector<float> angles;  // at the common tie points, degrees
  std::vector<float> scales;  // size of a pixel there in the first photo, against the second's
};

// By photo, what it shares with others; `own`: its tie points within the bounds.
std::vector<std::map<std::uint32_t, Shared>> shared_views(const Block& block, const Bounds& bounds,
                                                          std::vector<std::size_t>& own) {
  std::vector<std::map<std::uint32_t, Shared>> shared(block.photos.size());
  own.assign(block.photos.size(), 0);
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!bounds.contains(block.points[i])) continue;
    const auto seen = block.of_point(i);
    for (const Observation& a : seen) {
      ++own[a.photo];
      for (const Observation& b : seen) {
        if (a.photo == b.photo) continue;
        const Eigen::Vector3d to_a = block.photos[a.photo].pose.centre - block.points[i],
                              to_b = block.photos[b.photo].pose.centre - block.points[i];
        const double size_a = to_a.norm() / block.camera_of(block.photos[a.photo]).focal(),
                     size_b = to_b.norm() / block.camera_of(block.photos[b.photo]).focal();
        Shared& s = shared[a.photo][b.photo];
        s.angles.push_back(static_cast<float>(degrees_between(to_a, to_b)));
        s.scales.push_back(static_cast<float>(size_a / size_b));
      }
    }
  }
  return shared;
}

}  // namespace

std::vector<std::uint8_t> repeated_photos(const Block& block, const Bounds& bounds, std::span<const double> sharpness) {
  constexpr double kSameAngleDeg = 1.5, kSameScale = 1.15, kSameShare = 0.6;
  std::vector<std::size_t> own;
  auto shared = shared_views(block, bounds, own);
  std::vector<std::uint32_t> order(block.photos.size());
  std::iota(order.begin(), order.end(), 0u);
  if (!sharpness.empty())
    std::stable_sort(order.begin(), order.end(),
                     [&](std::uint32_t a, std::uint32_t b) { return sharpness[a] > sharpness[b]; });
  std::vector<std::uint8_t> repeated(block.photos.size(), 0), kept(block.photos.size(), 0);
  for (const std::uint32_t i : order) {
    for (auto& [other, s] : shared[i]) {
      if (!kept[other] || static_cast<double>(s.angles.size()) < kSameShare * static_cast<double>(own[i]) ||
          median(s.angles) > kSameAngleDeg)
        continue;
      const double scale = median(s.scales);
      if (scale < 1 / kSameScale || scale > kSameScale) continue;
      repeated[i] = 1;
      break;
    }
    kept[i] = !repeated[i];
  }
  return repeated;
}

}  // namespace icefield
