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

// No thread writes what these read: the thread sanitizer would only make them fifty times slower.
__attribute__((no_sanitize("thread"))) std::int32_t distance2(const std::uint8_t* a, const std::uint8_t* b) {
  std::int32_t sum = 0;
  for (int k = 0; k < kDescriptorSize; ++k) {
    const std::int32_t d = static_cast<std::int32_t>(a[k]) - b[k];
    sum += d * d;
  }
  return sum;
}

__attribute__((no_sanitize("thread"))) std::int32_t distance2(const std::uint64_t* a, const std::uint64_t* b) {
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

class Guided {
 public:
  Guided(const Features& first, const Features& second, std::span<const Match> known, const Guide& guide)
      : first_(first),
        second_(second),
        guide_(guide),
        used1_(used(first, known, [](const Match& m) { return m.first.value; })),
        grid_(guide.second, used(second, known, [](const Match& m) { return m.second.value; }), 2 * guide.max_error),
        max_error2_(guide.max_error * guide.max_error),
        inverse_(guide.lines ? Eigen::Matrix3d::Zero() : Eigen::Matrix3d(guide.matrix.inverse())),
        best_of_(second.size()) {
    learn(known);
    members_.reserve(grid_.members().size());
    for (const std::uint32_t j : grid_.members())
      members_.push_back({guide.second[j].x(), guide.second[j].y(),
                          (guide.matrix.transpose() * guide.second[j].homogeneous()).head<2>().squaredNorm(),
                          second.keypoints[j].scale, j});
  }

  std::vector<Match> run() {
    for (std::uint32_t i = 0; i < first_.size(); ++i)
      if (!used1_[i]) look_for(i);
    std::vector<Match> matches;
    for (std::uint32_t j = 0; j < second_.size(); ++j)
      if (best_of_[j].distance != kNone)
        matches.push_back({FeatureIndex(best_of_[j].first), FeatureIndex(j), best_of_[j].ratio});
    std::sort(matches.begin(), matches.end(),
              [](const Match& a, const Match& b) { return a.first.value < b.first.value; });
    return matches;
  }

 private:
  static constexpr std::int32_t kNone = std::numeric_limits<std::int32_t>::max();
  // What is looked at in the inner loop, side by side and in the grid's order. The Sampson distance of a feature from a
  // line l = E x is (l x')^2 / (|l|^2 + |l'|^2), lengths of the first two components, where l' = E^T x' does not depend
  // on x.
  struct Member {
    double x, y, line2;
    float scale;
    std::uint32_t index;
  };
  struct Found {
    std::int32_t distance = kNone;
    std::uint32_t first = 0;
    float ratio = 0;
  };
  struct Near {
    std::int32_t distance;
    std::uint32_t index;
  };

  template <class Side>
  static std::vector<bool> used(const Features& features, std::span<const Match> known, const Side& side) {
    std::vector<bool> list(features.size(), false);
    for (const Match& m : known) list[side(m)] = true;
    return list;
  }

  // From the known matches: as far apart as nine in ten of them, by kind. Features of one spot are of one size in the
  // scene: their scales differ as those of the known matches do, by a factor of 1.5 at most from the middle one.
  void learn(std::span<const Match> known) {
    std::vector<std::int32_t> distances[2];
    std::vector<float> ratios;
    for (const Match& m : known) {
      distances[m.first.value >= first_.gradient_size()].push_back(
          distance2(first_, m.first.value, second_, m.second.value));
      ratios.push_back(second_.keypoints[m.second.value].scale / first_.keypoints[m.first.value].scale);
    }
    for (int kind = 0; kind < 2; ++kind)
      if (!distances[kind].empty()) farthest_[kind] = quantile(distances[kind], 9, 10);
    scale_ratio_ = median(ratios);
  }

  // Features of the second photo within reach of where the geometry puts feature i of the first.
  void gather(std::uint32_t i) {
    near_.clear();
    const float wanted = scale_ratio_ * first_.keypoints[i].scale, least = wanted / 1.5f, most = 1.5f * wanted;
    const Eigen::Vector3d mapped = guide_.matrix * guide_.first[i].homogeneous();
    const auto take = [&](std::uint32_t j) {
      if (const std::int32_t d = distance2(first_, i, second_, j); d != kOfAnotherKind) near_.push_back({d, j});
    };
    if (guide_.lines) {
      const double length2 = mapped.head<2>().squaredNorm();
      if (!(length2 > 0)) return;
      // Twice the distance: the Sampson distance shares the error between the two photos.
      grid_.along(mapped / std::sqrt(length2), 2 * guide_.max_error, [&](std::uint32_t m) {
        const Member& member = members_[m];
        const double off = mapped.x() * member.x + mapped.y() * member.y + mapped.z();
        if (off * off < max_error2_ * (length2 + member.line2) && member.scale >= least && member.scale <= most)
          take(member.index);
      });
    } else if (mapped.z() != 0) {
      grid_.around(mapped.head<2>() / mapped.z(), 2 * guide_.max_error, [&](std::uint32_t m) {
        const Member& member = members_[m];
        if (member.scale >= least && member.scale <= most &&
            transfer_error2(guide_.matrix, inverse_, {guide_.first[i], guide_.second[member.index]}) < max_error2_)
          take(member.index);
      });
    }
  }

  void look_for(std::uint32_t i) {
    gather(i);
    if (near_.empty()) return;
    const Near best = *std::min_element(near_.begin(), near_.end(), [](const Near& a, const Near& b) {
      return a.distance != b.distance ? a.distance < b.distance : a.index < b.index;
    });
    if (best.distance > farthest_[i >= first_.gradient_size()]) return;
    const double same_place2 = guide_.same_place * guide_.same_place;
    std::int32_t other = kNone;
    for (const Near& n : near_)
      if (n.distance < other && (guide_.second[n.index] - guide_.second[best.index]).squaredNorm() > same_place2)
        other = n.distance;
    const float ratio = other == kNone
                            ? guide_.max_ratio
                            : std::sqrt(static_cast<float>(best.distance) / static_cast<float>(std::max(other, 1)));
    if (ratio > guide_.max_ratio) return;
    Found& found = best_of_[best.index];
    if (best.distance < found.distance) found = {best.distance, i, ratio};
  }

  const Features &first_, &second_;
  const Guide& guide_;
  std::vector<bool> used1_;
  Grid grid_;
  std::vector<Member> members_;
  double max_error2_;
  Eigen::Matrix3d inverse_;
  std::int32_t farthest_[2] = {-1, -1};
  float scale_ratio_ = 1;
  std::vector<Found> best_of_;
  std::vector<Near> near_;
};

}  // namespace

std::vector<Match> match_guided(const Features& first, const Features& second, std::span<const Match> known,
                                const Guide& guide) {
  if (known.empty()) return {};
  return Guided(first, second, known, guide).run();
}

}  // namespace icefield
