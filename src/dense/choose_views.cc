#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>

#include "icefield/base/statistics.h"
#include "icefield/dense/dense.h"
#include "src/dense/patch_kernel.h"
#include "src/dense/photo_parts.h"

namespace icefield {

namespace {

constexpr std::size_t kMostCandidates = 48;  // those that share most tie points
// What the best, the second best, ... view of a part adds. Three are averaged, the others help where things hide.
constexpr double kWorth[] = {1, 0.9, 0.7, 0.5, 0.2, 0.1};
constexpr double kSameSide = 0.3;  // a view from the side of one that is there already counts so much less

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
  views.asked.assign(parts.size(), 0), views.looks.assign(parts.size(), 0);
  for (std::size_t k = 0; k < parts.size(); ++k) {
    if (!beholder.is_wanted(k)) continue;
    views.looks[k] = 1;
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
      const std::vector<std::size_t> in_part = ties_by_part(block, parts[i], i, common[i].at(other));
      std::vector<float> angles;
      for (const std::uint32_t p : common[i].at(other)) {
        const Eigen::Vector3d& point = block.points[p];
        angles.push_back(static_cast<float>(
            degrees_between(block.photos[i].pose.centre - point, block.photos[other].pose.centre - point)));
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
