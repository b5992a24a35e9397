#include "src/match/guided.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>

#include "icefield/base/statistics.h"
#include "icefield/geometry/two_view.h"

namespace icefield {
namespace {

constexpr std::int32_t kOfAnotherKind = std::numeric_limits<std::int32_t>::max();

std::int32_t distance2(const std::uint8_t* a, const std::uint8_t* b) {
  std::int32_t sum = 0;
  for (int k = 0; k < kDescriptorSize; ++k) {
    const std::int32_t d = static_cast<std::int32_t>(a[k]) - b[k];
    sum += d * d;
  }
  return sum;
}

std::int32_t distance2(const std::uint64_t* a, const std::uint64_t* b) {
  std::int32_t sum = 0;
  for (int w = 0; w < kBitWords; ++w) sum += std::popcount(a[w] ^ b[w]);
  return sum * sum;
}

const std::uint8_t* descriptor(const Features& f, std::uint32_t i) {
  return f.descriptors.data() + static_cast<std::size_t>(i) * kDescriptorSize;
}

// Squared distance of two features of one kind.
std::int32_t distance2(const Features& first, std::uint32_t i, const Features& second, std::uint32_t j) {
  const std::size_t g1 = first.gradient_size(), g2 = second.gradient_size();
  if (i < g1 && j < g2) return distance2(descriptor(first, i), descriptor(second, j));
  if (i < g1 || j < g2) return kOfAnotherKind;
  return distance2(first.bits.data() + (i - g1) * kBitWords, second.bits.data() + (j - g2) * kBitWords);
}

// Points of the second photo by square cells.
class Grid {
 public:
  Grid(std::span<const Eigen::Vector2d> points, const std::vector<bool>& used, double least_cell) {
    low_.setConstant(std::numeric_limits<double>::max());
    Eigen::Vector2d high = -low_;
    for (std::size_t i = 0; i < points.size(); ++i)
      if (!used[i]) low_ = low_.cwiseMin(points[i]), high = high.cwiseMax(points[i]);
    if (!(high.x() >= low_.x())) return;
    const Eigen::Vector2d size = high - low_;
    constexpr double kCells = 96;
    cell_ = std::max({least_cell, size.maxCoeff() / kCells, 1e-300});
    columns_ = static_cast<int>(size.x() / cell_) + 1;
    rows_ = static_cast<int>(size.y() / cell_) + 1;
    starts_.assign(static_cast<std::size_t>(columns_) * rows_ + 1, 0);
    const auto place = [&](const Eigen::Vector2d& p) {
      return static_cast<std::size_t>((p.y() - low_.y()) / cell_) * columns_ +
             static_cast<std::size_t>((p.x() - low_.x()) / cell_);
    };
    for (std::size_t i = 0; i < points.size(); ++i)
      if (!used[i]) ++starts_[place(points[i]) + 1];
    for (std::size_t c = 1; c < starts_.size(); ++c) starts_[c] += starts_[c - 1];
    members_.resize(starts_.back());
    std::vector<std::uint32_t> next(starts_.begin(), starts_.end() - 1);
    for (std::size_t i = 0; i < points.size(); ++i)
      if (!used[i]) members_[next[place(points[i])]++] = static_cast<std::uint32_t>(i);
  }
  // Those that the grid holds, cell by cell.
  const std::vector<std::uint32_t>& members() const { return members_; }

  // Calls visit with the places in members() of what is in the cells that come within `reach` of the line a x + b y + c
  // = 0 (a, b of length 1).
  template <class Visit>
  void along(const Eigen::Vector3d& line, double reach, Visit&& visit) const {
    const bool steep = std::abs(line.x()) > std::abs(line.y());  // nearer to the y axis: step over rows
    const int steps = steep ? rows_ : columns_;
    const double a = steep ? line.y() : line.x(), b = steep ? line.x() : line.y();
    const double from = steep ? low_.y() : low_.x(), across = steep ? low_.x() : low_.y();
    // In cells: where the line crosses the lower side of the first row, and how far it moves with each row.
    const double slope = -a / b, margin = reach / (std::abs(b) * cell_) + std::max(0.0, -slope),
                 breadth = 2 * reach / (std::abs(b) * cell_) + std::abs(slope);
    double low = (-(line.z() + a * from) / b - across) / cell_ - margin;
    for (int s = 0; s < steps; ++s, low += slope) box(s, low, low + breadth, steep, visit);
  }
  template <class Visit>
  void around(const Eigen::Vector2d& p, double reach, Visit&& visit) const {
    if (columns_ == 0) return;
    const double y0 = (p.y() - reach - low_.y()) / cell_, y1 = (p.y() + reach - low_.y()) / cell_;
    const double x0 = (p.x() - reach - low_.x()) / cell_, x1 = (p.x() + reach - low_.x()) / cell_;
    if (!(y1 >= 0 && y0 < rows_)) return;
    const int first = static_cast<int>(std::max(0.0, y0)),
              last = static_cast<int>(std::min(y1, static_cast<double>(rows_ - 1)));
    for (int row = first; row <= last; ++row) box(row, x0, x1, true, visit);
  }

 private:
  // Cells of row (by_row) or column `s`, from low to high along it, in cells from the corner.
  template <class Visit>
  void box(int s, double low, double high, bool by_row, Visit&& visit) const {
    const int count = by_row ? columns_ : rows_;
    if (!(high >= 0 && low < count)) return;
    const int first = static_cast<int>(std::max(0.0, low)),
              last = static_cast<int>(std::min(high, static_cast<double>(count - 1)));
    for (int k = first; k <= last; ++k) {
      const std::size_t c =
          by_row ? static_cast<std::size_t>(s) * columns_ + k : static_cast<std::size_t>(k) * columns_ + s;
      for (std::uint32_t m = starts_[c]; m < starts_[c + 1]; ++m) visit(m);
    }
  }

  Eigen::Vector2d low_;
  double cell_ = 1;
  int columns_ = 0, rows_ = 0;
  std::vector<std::uint32_t> starts_, members_;
};

}  // namespace

std::vector<Match> match_guided(const Features& first, const Features& second, std::span<const Match> known,
                                const Guide& guide) {
  if (known.empty()) return {};
  std::vector<bool> used1(first.size(), false), used2(second.size(), false);
  std::vector<std::int32_t> known_distances[2];  // by kind
  for (const Match& m : known) {
    used1[m.first.value] = used2[m.second.value] = true;
    known_distances[m.first.value >= first.gradient_size()].push_back(
        distance2(first, m.first.value, second, m.second.value));
  }
  // As far apart as nine in ten of the known ones.
  std::int32_t farthest[2] = {-1, -1};
  for (int kind = 0; kind < 2; ++kind) {
    auto& of_kind = known_distances[kind];
    if (of_kind.empty()) continue;
    farthest[kind] = quantile(of_kind, 9, 10);
  }
  // Features of one spot are of one size in the scene: their scales differ as those of the known matches do, by a
  // factor of 1.5 at most from the middle one.
  std::vector<float> ratios;
  for (const Match& m : known)
    ratios.push_back(second.keypoints[m.second.value].scale / first.keypoints[m.first.value].scale);
  const float scale_ratio = median(ratios);

  const Grid grid(guide.second, used2, 2 * guide.max_error);
  // What is looked at in the inner loop, side by side and in the grid's order. The Sampson distance of a feature from a
  // line l = E x is (l x')^2 / (|l|^2 + |l'|^2), lengths of the first two components, where l' = E^T x' does not depend
  // on x.
  struct Member {
    double x, y, line2;
    float scale;
    std::uint32_t index;
  };
  std::vector<Member> members;
  members.reserve(grid.members().size());
  for (const std::uint32_t j : grid.members())
    members.push_back({guide.second[j].x(), guide.second[j].y(),
                       (guide.matrix.transpose() * guide.second[j].homogeneous()).head<2>().squaredNorm(),
                       second.keypoints[j].scale, j});
  const double max_error2 = guide.max_error * guide.max_error, same_place2 = guide.same_place * guide.same_place;
  const Eigen::Matrix3d inverse = guide.lines ? Eigen::Matrix3d::Zero() : Eigen::Matrix3d(guide.matrix.inverse());
  struct Found {
    std::int32_t distance = std::numeric_limits<std::int32_t>::max();
    std::uint32_t first = 0;
    float ratio = 0;
  };
  std::vector<Found> best_of(second.size());
  struct Near {
    std::int32_t distance;
    std::uint32_t index;
  };
  std::vector<Near> near;
  for (std::uint32_t i = 0; i < first.size(); ++i) {
    if (used1[i]) continue;
    near.clear();
    const float wanted = scale_ratio * first.keypoints[i].scale, least = wanted / 1.5f, most = 1.5f * wanted;
    const Eigen::Vector3d mapped = guide.matrix * guide.first[i].homogeneous();
    const auto take = [&](std::uint32_t j) {
      if (const std::int32_t d = distance2(first, i, second, j); d != kOfAnotherKind) near.push_back({d, j});
    };
    if (guide.lines) {
      const double length2 = mapped.head<2>().squaredNorm();
      if (!(length2 > 0)) continue;
      // Twice the distance: the Sampson distance shares the error between the two photos.
      grid.along(mapped / std::sqrt(length2), 2 * guide.max_error, [&](std::uint32_t m) {
        const Member& member = members[m];
        const double off = mapped.x() * member.x + mapped.y() * member.y + mapped.z();
        if (off * off < max_error2 * (length2 + member.line2) && member.scale >= least && member.scale <= most)
          take(member.index);
      });
    } else if (mapped.z() != 0) {
      grid.around(mapped.head<2>() / mapped.z(), 2 * guide.max_error, [&](std::uint32_t m) {
        const Member& member = members[m];
        if (member.scale >= least && member.scale <= most &&
            transfer_error2(guide.matrix, inverse, {guide.first[i], guide.second[member.index]}) < max_error2)
          take(member.index);
      });
    }
    if (near.empty()) continue;
    const Near best = *std::min_element(near.begin(), near.end(), [](const Near& a, const Near& b) {
      return a.distance != b.distance ? a.distance < b.distance : a.index < b.index;
    });
    if (best.distance > farthest[i >= first.gradient_size()]) continue;
    std::int32_t other = std::numeric_limits<std::int32_t>::max();
    for (const Near& n : near)
      if (n.distance < other && (guide.second[n.index] - guide.second[best.index]).squaredNorm() > same_place2)
        other = n.distance;
    const float ratio = other == std::numeric_limits<std::int32_t>::max()
                            ? guide.max_ratio
                            : std::sqrt(static_cast<float>(best.distance) / static_cast<float>(std::max(other, 1)));
    if (ratio > guide.max_ratio) continue;
    Found& found = best_of[best.index];
    if (best.distance < found.distance) found = {best.distance, i, ratio};
  }
  std::vector<Match> matches;
  for (std::uint32_t j = 0; j < second.size(); ++j)
    if (best_of[j].distance != std::numeric_limits<std::int32_t>::max())
      matches.push_back({FeatureIndex(best_of[j].first), FeatureIndex(j), best_of[j].ratio});
  std::sort(matches.begin(), matches.end(),
            [](const Match& a, const Match& b) { return a.first.value < b.first.value; });
  return matches;
}

}  // namespace icefield
