// Light islands in the dark, read and fitted as coded targets.
#include <Eigen/Eigenvalues>
#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <numbers>
#include <optional>
#include <tuple>
#include <utility>
#include <vector>

#include "icefield/control/targets.h"
#include "src/control/fit_target.h"
#include "src/control/target_design.h"

namespace icefield {
namespace {

using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kTile = 8;               // px: black and white are told apart by what is in 5 x 5 of these
constexpr double kLeastDisc = 4.6;     // px, the longer axis of a disc at the level on which it is found ...
constexpr double kMostDisc = 17;       // ... and the most; levels are halves, so that there is one for each size
constexpr double kLeastNarrow = 0.33;  // of the axes: beyond it a target is too slanted to be read
constexpr double kFineRadius = 30;  // px: a target that is smaller on its level is fitted on the next finer one as well

// All that is read from one level of the photo.
class Level {
 public:
  Level(ImageU8 grey, double least_contrast) : grey_(std::move(grey)) { find_limits(least_contrast); }
  const ImageU8& grey() const { return grey_; }
  bool is_light(int x, int y) const { return grey_.at(x, y) > limits_.at(x / kTile, y / kTile); }

  double value(const Vector2d& place) const {
    const double x = std::clamp(place.x() - 0.5, 0.0, grey_.width() - 1.001),
                 y = std::clamp(place.y() - 0.5, 0.0, grey_.height() - 1.001);
    const int ix = static_cast<int>(x), iy = static_cast<int>(y);
    const double u = x - ix, v = y - iy;
    return (1 - v) * ((1 - u) * grey_.at(ix, iy) + u * grey_.at(ix + 1, iy)) +
           v * ((1 - u) * grey_.at(ix, iy + 1) + u * grey_.at(ix + 1, iy + 1));
  }

  struct Island {
    int x0, y0, x1, y1;  // its box, ends included
    int x, y;            // a pixel of it
    int pixels;
  };
  // Light pixels that hang together by their sides, as large as a disc, away from the border.
  std::vector<Island> islands() const;

 private:
  // Half-way between the darkest and the lightest around; nothing is light where these are alike.
  void find_limits(double least_contrast);
  ImageU8 grey_, limits_;
};

void Level::find_limits(double least_contrast) {
  const int w = grey_.width(), h = grey_.height(), columns = (w + kTile - 1) / kTile, rows = (h + kTile - 1) / kTile;
  ImageU8 low(columns, rows, 1, 255), high(columns, rows, 1, 0);
  std::vector<std::uint8_t> least(static_cast<std::size_t>(w)), most(static_cast<std::size_t>(w));
  for (int r = 0; r < rows; ++r) {
    std::fill(least.begin(), least.end(), std::uint8_t{255});
    std::fill(most.begin(), most.end(), std::uint8_t{0});
    for (int y = r * kTile; y < std::min(h, (r + 1) * kTile); ++y) {
      const std::uint8_t* row = grey_.row(y);
      for (int x = 0; x < w; ++x) least[x] = std::min(least[x], row[x]);
      for (int x = 0; x < w; ++x) most[x] = std::max(most[x], row[x]);
    }
    for (int c = 0; c < columns; ++c) {
      std::uint8_t darkest = 255, lightest = 0;
      for (int x = c * kTile; x < std::min(w, (c + 1) * kTile); ++x)
        darkest = std::min(darkest, least[x]), lightest = std::max(lightest, most[x]);
      low.at(c, r) = darkest, high.at(c, r) = lightest;
    }
  }
  limits_ = ImageU8(columns, rows, 1, 255);
  for (int r = 0; r < rows; ++r)
    for (int c = 0; c < columns; ++c) {
      int darkest = 255, lightest = 0;
      for (int j = std::max(0, r - 2); j <= std::min(rows - 1, r + 2); ++j)
        for (int i = std::max(0, c - 2); i <= std::min(columns - 1, c + 2); ++i) {
          darkest = std::min<int>(darkest, low.at(i, j));
          lightest = std::max<int>(lightest, high.at(i, j));
        }
      if (lightest - darkest >= least_contrast) limits_.at(c, r) = static_cast<std::uint8_t>((darkest + lightest) / 2);
    }
}

// Runs of light pixels, row by row, joined where they touch.
std::vector<Level::Island> Level::islands() const {
  struct Run {
    int from, to;  // the end excluded
    std::uint32_t island;
  };
  const int w = grey_.width(), h = grey_.height();
  std::vector<Island> found;
  std::vector<std::uint32_t> parent;
  const auto root = [&](std::uint32_t i) {
    while (parent[i] != i) i = parent[i] = parent[parent[i]];
    return i;
  };
  std::vector<Run> above, now;
  std::vector<std::uint8_t> light(static_cast<std::size_t>(w) + 8, 0), limit(static_cast<std::size_t>(w));
  for (int y = 0; y < h; ++y) {
    if (y % kTile == 0)
      for (int c = 0; c < limits_.width(); ++c)
        std::fill_n(&limit[static_cast<std::size_t>(c) * kTile], std::min(kTile, w - c * kTile),
                    limits_.at(c, y / kTile));
    const std::uint8_t* row = grey_.row(y);
    for (int x = 0; x < w; ++x) light[x] = row[x] > limit[x] ? 255 : 0;
    now.clear();
    // Eight pixels at a time: each change among them begins or ends a run.
    std::uint64_t before = 0;
    for (int x = 0; x < w + 1; x += 8) {
      std::uint64_t eight = 0;
      std::memcpy(&eight, &light[static_cast<std::size_t>(x)], 8);
      std::uint64_t changes = (eight ^ ((eight << 8) | before)) & 0x0101010101010101ull;
      before = eight >> 56;
      for (; changes != 0; changes &= changes - 1) {
        const int at = x + std::countr_zero(changes) / 8;
        if (light[static_cast<std::size_t>(at)])
          now.push_back({at, w, 0});
        else
          now.back().to = at;
      }
    }
    std::size_t first = 0;
    for (Run& run : now) {
      while (first < above.size() && above[first].to <= run.from) ++first;
      std::uint32_t mine = ~0u;
      for (std::size_t k = first; k < above.size() && above[k].from < run.to; ++k) {
        const std::uint32_t other = root(above[k].island);
        if (mine == ~0u) {
          mine = other;
        } else if (mine != other) {
          const std::uint32_t keep = std::min(mine, other), drop = std::max(mine, other);
          parent[drop] = keep;
          Island &a = found[keep], &b = found[drop];
          a.x0 = std::min(a.x0, b.x0), a.x1 = std::max(a.x1, b.x1), a.y1 = std::max(a.y1, b.y1);
          a.pixels += b.pixels;
          mine = keep;
        }
      }
      if (mine == ~0u) {
        mine = static_cast<std::uint32_t>(found.size());
        parent.push_back(mine);
        found.push_back({run.from, y, run.to - 1, y, run.from, y, 0});
      }
      Island& island = found[mine];
      island.x0 = std::min(island.x0, run.from), island.x1 = std::max(island.x1, run.to - 1), island.y1 = y;
      island.pixels += run.to - run.from;
      run.island = mine;
    }
    std::swap(above, now);
  }
  std::vector<Island> fitting;
  for (std::uint32_t i = 0; i < found.size(); ++i) {
    const Island& island = found[i];
    const int wide = island.x1 - island.x0 + 1, high = island.y1 - island.y0 + 1;
    if (parent[i] != i || std::max(wide, high) > kMostDisc + 2 || std::max(wide, high) < kLeastDisc - 1.6 ||
        std::min(wide, high) < 2)
      continue;
    if (island.x0 == 0 || island.y0 == 0 || island.x1 == w - 1 || island.y1 == h - 1) continue;
    if (2 * island.pixels < wide * high) continue;  // of any ellipse this narrow there is more within its box
    fitting.push_back(island);
  }
  return fitting;
}

// An ellipse: its middle, and the square root of its form.
struct DiscForm {
  Vector2d middle;
  Matrix2d axes;  // symmetric: the unit circle becomes the ellipse
};

// Of an area with this covariance, as that of a filled ellipse.
std::optional<DiscForm> ellipse_of(const Vector2d& middle, const Matrix2d& covariance) {
  const Eigen::SelfAdjointEigenSolver<Matrix2d> solver(covariance);
  if (!(solver.eigenvalues()[0] > 0) || solver.eigenvalues()[0] < kLeastNarrow * kLeastNarrow * solver.eigenvalues()[1])
    return std::nullopt;
  return DiscForm{middle, 2 * solver.operatorSqrt()};
}

// Of its pixels, where they fill one as an ellipse does.
std::optional<DiscForm> ellipse_of(const Level& level, const Level::Island& island) {
  std::array<std::uint8_t, 32 * 32> seen{};
  std::vector<std::pair<int, int>> open = {{island.x, island.y}};
  const auto mark = [&](int x, int y) -> std::uint8_t& { return seen[(y - island.y0) * 32 + x - island.x0]; };
  mark(island.x, island.y) = 1;
  double n = 0;
  Vector2d sum = Vector2d::Zero();
  Matrix2d squares = Matrix2d::Zero();
  while (!open.empty()) {
    const auto [x, y] = open.back();
    open.pop_back();
    const Vector2d p(x + 0.5 - island.x0, y + 0.5 - island.y0);
    n += 1, sum += p, squares += p * p.transpose();
    for (const auto& [dx, dy] : {std::pair{1, 0}, {-1, 0}, {0, 1}, {0, -1}}) {
      const int i = x + dx, j = y + dy;
      if (i < island.x0 || j < island.y0 || i > island.x1 || j > island.y1 || mark(i, j) || !level.is_light(i, j))
        continue;
      mark(i, j) = 1;
      open.emplace_back(i, j);
    }
  }
  const Vector2d mean = sum / n;
  // A pixel is a square of its own: a twelfth.
  const Matrix2d covariance = squares / n - mean * mean.transpose() + Matrix2d::Identity() / 12;
  const double filled = n / (4 * std::numbers::pi * std::sqrt(std::max(1e-12, covariance.determinant())));
  if (filled < 0.82 || filled > 1.18) return std::nullopt;
  return ellipse_of(mean + Vector2d(island.x0, island.y0), covariance);
}

Matrix2d turn_of(double angle) {
  Matrix2d turn;
  turn << std::cos(angle), -std::sin(angle), std::sin(angle), std::cos(angle);
  return turn;
}

// The target that an island may be the disc of: from its plane to the photo as far as an ellipse can tell, turned
// somehow.
class Reading {
 public:
  Reading(const Level& level, const DiscForm& first, const FindTargetsOptions& options)
      : level_(level), options_(options), disc_(first) {}

  // Dark all around, and an edge at half the height in each direction.
  bool has_edge() {
    light_ = level_.value(disc_.middle);
    constexpr int kRing = 16;
    double darkest = 255, lightest = 0, sum = 0;
    for (int k = 0; k < kRing; ++k) {
      const double v = level_.value(on_ellipse(k, kRing, kRingReach));
      darkest = std::min(darkest, v), lightest = std::max(lightest, v), sum += v;
    }
    dark_ = sum / kRing;
    if (light_ - dark_ < options_.least_contrast || lightest - darkest > 0.55 * (light_ - dark_) ||
        lightest > 0.5 * (light_ + dark_))
      return false;
    // Twice: the second time from where the first found it.
    for (int round = 0; round < 2; ++round)
      if (!find_edge()) return false;
    return true;
  }

  // The likeliest guesses at the target as a whole, with their codes.
  struct Guess {
    int number = 0;
    Matrix3d to_photo = Matrix3d::Identity();
    double score = 0;
  };
  std::vector<Guess> read() const {
    std::vector<Guess> guesses;
    if (!read_as(1, 0, guesses)) return guesses;
    const auto is_clear = [&] {
      constexpr double kClear = 0.97;
      return std::any_of(guesses.begin(), guesses.end(), [](const Guess& g) { return g.score > kClear; });
    };
    // Blur makes a small disc seem larger or smaller than it is; a target that is large against its distance is seen in
    // perspective, along the narrow axis of its disc.
    for (const double larger : {0.91, 1.1})
      if (!is_clear()) read_as(larger, 0, guesses);
    for (const double perspective : {0.08, -0.08, 0.16, -0.16})
      if (!is_clear()) read_as(1, perspective, guesses);
    std::stable_sort(guesses.begin(), guesses.end(), [](const Guess& a, const Guess& b) { return a.score > b.score; });
    constexpr std::size_t kMost = 4;
    if (guesses.size() > kMost) guesses.resize(kMost);
    return guesses;
  }

 private:
  static constexpr double kRingReach = 0.48 / kTargetDisc, kToothReach = 0.85, kPaperReach = 1.2;

  // Adds what can be read there. Teeth are as far from each other as a third of a side: what is turned by one of them
  // looks clear as well, so all turns that give a code count. False where there is no paper around at any turn.
  bool read_as(double larger, double perspective, std::vector<Guess>& guesses) const {
    constexpr int kTurns = 12;  // within the sixth of a turn after which a hexagon is the same again
    constexpr double kLeastScore = 0.75, kLeastPaper = 0.35 * kTargetTeeth;
    static const std::array<Vector2d, kTargetTeeth> teeth = middles_at(kToothReach), paper = middles_at(kPaperReach);
    const double middle = 0.5 * (light_ + dark_), half = 0.5 * (light_ - dark_);
    const Vector2d narrow = Eigen::SelfAdjointEigenSolver<Matrix2d>(disc_.axes).eigenvectors().col(0);
    bool any_paper = false;
    for (int k = 0; k < kTurns; ++k) {
      const Matrix2d turn = turn_of(std::numbers::pi / 3 * k / kTurns);
      Matrix3d to_photo = Matrix3d::Identity();
      to_photo.row(2).head<2>() = perspective * narrow.transpose() * turn;
      to_photo.topLeftCorner<2, 2>() =
          larger / kTargetDisc * disc_.axes * turn + disc_.middle * to_photo.row(2).head<2>();
      to_photo.topRightCorner<2, 1>() = disc_.middle;
      const auto value = [&](const Vector2d& place) {
        const Vector2d at = (to_photo * place.homogeneous()).hnormalized();
        return std::clamp((level_.value(at) - middle) / half, -1.0, 1.0);
      };
      double around = 0;
      int left = kTargetTeeth;
      for (const Vector2d& place : paper)
        if (around += value(place); around + --left < kLeastPaper) break;
      if (around < kLeastPaper) continue;
      any_paper = true;
      std::array<double, kTargetTeeth> light;
      std::transform(teeth.begin(), teeth.end(), light.begin(), value);
      for (const ReadCode& code : read_code(light, kLeastScore)) {
        Guess guess{code.number, to_photo, code.score};
        guess.to_photo.leftCols<2>() = to_photo.leftCols<2>() * turn_of(std::numbers::pi / 3 * code.turn);
        const auto same =
            std::find_if(guesses.begin(), guesses.end(), [&](const Guess& g) { return g.number == code.number; });
        if (same == guesses.end())
          guesses.push_back(guess);
        else if (guess.score > same->score)
          *same = guess;
      }
    }
    return any_paper;
  }
  static std::array<Vector2d, kTargetTeeth> middles_at(double reach) {
    std::array<Vector2d, kTargetTeeth> middles;
    for (int tooth = 0; tooth < kTargetTeeth; ++tooth)
      middles[static_cast<std::size_t>(tooth)] = tooth_middle(tooth, reach);
    return middles;
  }

  Vector2d on_ellipse(int k, int of, double reach) const {
    const double angle = 2 * std::numbers::pi * k / of;
    return disc_.middle + reach * (disc_.axes * Vector2d(std::cos(angle), std::sin(angle)));
  }

  bool find_edge() {
    constexpr int kRays = 32;
    const double half = 0.5 * (light_ + dark_);
    std::array<Vector2d, kRays> edge;
    for (int k = 0; k < kRays; ++k) {
      double reach = 0.5, last = level_.value(on_ellipse(k, kRays, reach));
      if (last < half) return false;
      for (;;) {
        const double next_reach = reach + 0.08, next = level_.value(on_ellipse(k, kRays, next_reach));
        if (next < half) {
          reach += 0.08 * (last - half) / std::max(1e-6, last - next);
          break;
        }
        reach = next_reach, last = next;
        if (reach > 1.6) return false;
      }
      edge[static_cast<std::size_t>(k)] = on_ellipse(k, kRays, reach) - disc_.middle;
    }
    // Area, middle and covariance of the polygon.
    double area = 0;
    Vector2d sum = Vector2d::Zero();
    Matrix2d squares = Matrix2d::Zero();
    for (int k = 0; k < kRays; ++k) {
      const Vector2d &a = edge[static_cast<std::size_t>(k)], &b = edge[static_cast<std::size_t>((k + 1) % kRays)];
      const double cross = a.x() * b.y() - a.y() * b.x();
      area += cross / 2;
      sum += cross / 6 * (a + b);
      squares += cross / 24 * (2 * a * a.transpose() + 2 * b * b.transpose() + a * b.transpose() + b * a.transpose());
    }
    if (!(area > 4)) return false;
    const Vector2d mean = sum / area;
    const Matrix2d covariance = squares / area - mean * mean.transpose();
    const double filled = area / (4 * std::numbers::pi * std::sqrt(std::max(1e-12, covariance.determinant())));
    if (filled < 0.93 || filled > 1.05) return false;
    const auto found = ellipse_of(disc_.middle + mean, covariance);
    if (found) disc_ = *found;
    return found.has_value();
  }

  const Level& level_;
  const FindTargetsOptions& options_;
  DiscForm disc_;
  double light_ = 0, dark_ = 0;
};

std::uint8_t luma(const std::uint8_t* rgb) {
  return static_cast<std::uint8_t>((54 * rgb[0] + 183 * rgb[1] + 19 * rgb[2] + 128) >> 8);
}

ImageU8 brightness(const ImageU8& photo) {
  ImageU8 grey(photo.width(), photo.height());
  const int channels = photo.channels();
  for (int y = 0; y < photo.height(); ++y) {
    const std::uint8_t* from = photo.row(y);
    std::uint8_t* to = grey.row(y);
    if (channels < 3)
      for (int x = 0; x < photo.width(); ++x) to[x] = from[x * channels];
    else if (channels == 3)  // with a step that the compiler knows
      for (int x = 0; x < photo.width(); ++x) to[x] = luma(from + 3 * x);
    else
      for (int x = 0; x < photo.width(); ++x) to[x] = luma(from + channels * x);
  }
  return grey;
}

// Mean over blocks of two by two pixels; a rest at the right and lower border is left out.
ImageU8 halved(const ImageU8& grey) {
  ImageU8 half(grey.width() / 2, grey.height() / 2);
  for (int y = 0; y < half.height(); ++y) {
    const std::uint8_t *upper = grey.row(2 * y), *lower = grey.row(2 * y + 1);
    std::uint8_t* to = half.row(y);
    for (int x = 0; x < half.width(); ++x)
      to[x] = static_cast<std::uint8_t>((upper[2 * x] + upper[2 * x + 1] + lower[2 * x] + lower[2 * x + 1] + 2) >> 2);
  }
  return half;
}

// Twice the mean distance of the corners from the middle.
double diameter_of(const Matrix3d& to_photo) {
  const Vector2d middle = to_photo.col(2).hnormalized();
  double sum = 0;
  for (int corner = 0; corner < 6; ++corner) {
    const double angle = std::numbers::pi / 3 * corner;
    sum += ((to_photo * Vector3d(std::cos(angle), std::sin(angle), 1)).hnormalized() - middle).norm();
  }
  return sum / 3;
}

class Search {
 public:
  Search(const ImageU8& photo, const FindTargetsOptions& options) : options_(options) {
    ImageU8 grey = brightness(photo);
    for (;;) {
      const bool more = std::min(grey.width(), grey.height()) >= 2 * 24;
      ImageU8 next = more ? halved(grey) : ImageU8();
      levels_.emplace_back(std::move(grey), options.least_contrast);
      if (!more) break;
      grey = std::move(next);
    }
  }
  std::vector<FoundTarget> run() {
    for (std::size_t level = 0; level < levels_.size(); ++level)
      for (const Level::Island& island : levels_[level].islands()) look(level, island);
    std::stable_sort(found_.begin(), found_.end(), [](const FoundTarget& a, const FoundTarget& b) {
      return std::tuple(a.number, a.pixel.y(), a.pixel.x()) < std::tuple(b.number, b.pixel.y(), b.pixel.x());
    });
    return std::move(found_);
  }

 private:
  void look(std::size_t level, const Level::Island& island) {
    const auto first = ellipse_of(levels_[level], island);
    if (!first) return;
    // What is within a target that was found on a finer level is that target.
    const Vector2d place = static_cast<double>(1u << level) * first->middle;
    if (std::any_of(found_.begin(), found_.end(),
                    [&](const FoundTarget& t) { return (t.pixel - place).norm() < 0.25 * t.diameter_px; }))
      return;
    Reading reading(levels_[level], *first, options_);
    if (!reading.has_edge()) return;
    std::optional<FoundTarget> best;
    for (const Reading::Guess& guess : reading.read()) {
      const auto target = fitted(level, guess);
      if (target && (!best || target->agreement > best->agreement)) best = target;
    }
    if (best) add(*best);
  }

  // On the level where it was found, and then on finer ones.
  std::optional<FoundTarget> fitted(std::size_t level, const Reading::Guess& guess) {
    TargetPicture picture(target_teeth(guess.number));
    TargetFit fit = fit_target(levels_[level].grey(), picture, guess.to_photo, {0.9, 0.5, 1.5, 2.4});
    // Fitted to the whole, teeth are read where they are; the code must then be the same.
    const std::optional<ReadCode> code = read_again(level, fit);
    if (!code || code->number != guess.number || code->turn != 0 || !agrees(fit)) return std::nullopt;
    while (level > 0 && 0.5 * diameter_of(fit.to_photo) < kFineRadius) {
      Matrix3d finer = fit.to_photo;
      finer.topRows<2>() *= 2;
      const TargetFit next = fit_target(levels_[level - 1].grey(), picture, finer,
                                        {std::max(0.5, fit.blur_px), 2 * fit.blur_px, 3 * fit.blur_px});
      // Noise is stronger there; the form must still be the same.
      if (!next.good || next.agreement < 0.6) break;
      fit = next;
      --level;
    }
    const double scale = static_cast<double>(1u << level);
    FoundTarget target;
    target.number = guess.number;
    target.mended_teeth = code->mended;
    target.agreement = fit.agreement;
    target.to_photo = fit.to_photo;
    target.to_photo.topRows<2>() *= scale;
    target.pixel = target.to_photo.col(2).hnormalized();
    target.diameter_px = diameter_of(target.to_photo);
    target.sigma_px = std::max(0.02, scale * fit.sigma_px);
    if (target.diameter_px < options_.least_diameter_px) return std::nullopt;
    return target;
  }

  // As a whole, and each of its parts: one tooth that is not there is little of the whole.
  bool agrees(const TargetFit& fit) const {
    constexpr double kUsualPart = 0.13, kWorstPart = 0.2, kVeryGood = 0.985;
    constexpr double kMostBlur = 0.135;  // of the radius: half a tooth; beyond it teeth run into each other
    return fit.good && fit.agreement >= options_.least_agreement &&
           fit.worst_part < (fit.agreement > kVeryGood ? kWorstPart : kUsualPart) &&
           fit.blur_px < kMostBlur * 0.5 * diameter_of(fit.to_photo);
  }

  std::optional<ReadCode> read_again(std::size_t level, const TargetFit& fit) const {
    if (!fit.good) return std::nullopt;
    const auto value = [&](const Vector2d& at) {
      return levels_[level].value((fit.to_photo * at.homogeneous()).hnormalized());
    };
    const double light = value(Vector2d::Zero());
    double dark = 0;
    for (int tooth = 0; tooth < kTargetTeeth; ++tooth) dark += value(tooth_middle(tooth, 0.55)) / kTargetTeeth;
    std::array<double, kTargetTeeth> seen;
    for (int tooth = 0; tooth < kTargetTeeth; ++tooth)
      seen[static_cast<std::size_t>(tooth)] =
          std::clamp((2 * value(tooth_middle(tooth, 0.85)) - light - dark) / std::max(1.0, light - dark), -1.0, 1.0);
    const std::vector<ReadCode> codes = read_code(seen, 0.75);
    return codes.empty() ? std::nullopt : std::optional(codes.front());
  }

  // A target is found on more than one level: the one that agrees best stays.
  void add(const FoundTarget& target) {
    for (FoundTarget& other : found_) {
      if ((other.pixel - target.pixel).norm() > 0.25 * std::max(other.diameter_px, target.diameter_px)) continue;
      if (target.sigma_px < other.sigma_px || (target.number != other.number && target.agreement > other.agreement))
        other = target;
      return;
    }
    found_.push_back(target);
  }

  const FindTargetsOptions& options_;
  std::vector<Level> levels_;
  std::vector<FoundTarget> found_;
};

}  // namespace

std::vector<FoundTarget> find_targets(const ImageU8& photo, const FindTargetsOptions& options) {
  if (photo.width() < 24 || photo.height() < 24) return {};
  return Search(photo, options).run();
}

}  // namespace icefield
