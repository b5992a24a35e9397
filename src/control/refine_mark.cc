#include "icefield/control/refine_mark.h"

#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <vector>

#include "icefield/photo/filter.h"

namespace icefield {
namespace {

using Eigen::Matrix2d;
using Eigen::Vector2d;

constexpr double kBlur = 0.8;           // px, of the pixels before their gradients are taken
constexpr double kRound = 0.12;         // smallest share of gradients across the main direction: less is an edge alone
constexpr double kWorstSigma = 0.25;    // px; beyond it pixels do not agree on a point
constexpr double kLeastSymmetry = 0.6;  // all usual targets look the same when turned by half a turn
constexpr double kSamePlace = 0.4;      // px
constexpr double kShapeMargin = 1.2;    // of the weights of both shapes, for one to be told from the other
constexpr int kRounds = 30;

// Gradients of the pixels around a mark.
class Slopes {
 public:
  Slopes(const ImageF& grey, const Vector2d& near, double reach) {
    x0_ = std::max(0, static_cast<int>(std::floor(near.x() - reach)));
    y0_ = std::max(0, static_cast<int>(std::floor(near.y() - reach)));
    const int x1 = std::min(grey.width(), static_cast<int>(std::ceil(near.x() + reach))),
              y1 = std::min(grey.height(), static_cast<int>(std::ceil(near.y() + reach)));
    if (x1 - x0_ < 5 || y1 - y0_ < 5) return;
    ImageF part(x1 - x0_, y1 - y0_);
    for (int y = 0; y < part.height(); ++y)
      for (int x = 0; x < part.width(); ++x) part.at(x, y) = grey.at(x0_ + x, y0_ + y);
    smooth_ = gaussian_blur(part, static_cast<float>(kBlur));
    // Noise: what second differences along rows say, from their middle.
    std::vector<float> differences;
    for (int y = 0; y < part.height(); ++y)
      for (int x = 1; x + 1 < part.width(); ++x)
        differences.push_back(std::abs(part.at(x - 1, y) - 2 * part.at(x, y) + part.at(x + 1, y)));
    if (!differences.empty()) {
      std::nth_element(differences.begin(), differences.begin() + static_cast<std::ptrdiff_t>(differences.size() / 2),
                       differences.end());
      noise_ = 1.4826 * differences[differences.size() / 2] / std::sqrt(6.0);
    }
  }
  bool empty() const { return smooth_.empty(); }
  double noise() const { return noise_; }

  // How far the pixels about a place are those on its other side: correlation, -1 to 1.
  double symmetry(const Vector2d& middle, double radius) const {
    double n = 0, sum = 0, squares = 0, products = 0;
    for (double y = -radius; y <= radius; y += 1)
      for (double x = -radius; x <= radius; x += 1) {
        if (x * x + y * y > radius * radius) continue;
        const double a = grey(middle + Vector2d(x, y)), b = grey(middle - Vector2d(x, y));
        n += 1, sum += a, squares += a * a, products += a * b;
      }
    const double mean = sum / n, variance = squares / n - mean * mean;
    return variance > 1e-8 ? (products / n - mean * mean) / variance : 0;
  }

  // visit(place of the pixel's middle, gradient) for those within a radius.
  template <class Visit>
  void around(const Vector2d& middle, double radius, const Visit& visit) const {
    const int w = smooth_.width(), h = smooth_.height();
    const int low_x = std::max(1, static_cast<int>(middle.x() - radius) - x0_),
              high_x = std::min(w - 2, static_cast<int>(middle.x() + radius) - x0_ + 1),
              low_y = std::max(1, static_cast<int>(middle.y() - radius) - y0_),
              high_y = std::min(h - 2, static_cast<int>(middle.y() + radius) - y0_ + 1);
    for (int y = low_y; y <= high_y; ++y)
      for (int x = low_x; x <= high_x; ++x) {
        const Vector2d place(x0_ + x + 0.5, y0_ + y + 0.5);
        if ((place - middle).squaredNorm() > radius * radius) continue;
        // Central differences that treat all directions nearly alike (Scharr's weights).
        const auto at = [&](int i, int j) { return static_cast<double>(smooth_.at(x + i, y + j)); };
        const Vector2d slope((10 * (at(1, 0) - at(-1, 0)) + 3 * (at(1, 1) - at(-1, 1) + at(1, -1) - at(-1, -1))) / 32,
                             (10 * (at(0, 1) - at(0, -1)) + 3 * (at(1, 1) - at(1, -1) + at(-1, 1) - at(-1, -1))) / 32);
        visit(place, slope);
      }
  }

 private:
  double grey(const Vector2d& place) const {
    return sample_bilinear(smooth_, static_cast<float>(place.x() - x0_), static_cast<float>(place.y() - y0_));
  }
  int x0_ = 0, y0_ = 0;
  ImageF smooth_;
  double noise_ = 0;
};

struct Found {
  bool good = false;
  Vector2d place = Vector2d::Zero();
  double sigma = 1e9;
};

// The point that edges run to (along each edge), or from which they stand across (disc).
Found find_point(const Slopes& slopes, const Vector2d& near, double radius, bool disc,
                 const RefineMarkOptions& options) {
  Found found;
  Vector2d at = near;
  const double least = std::max(options.least_gradient, 4 * slopes.noise());
  for (int round = 0; round < kRounds; ++round) {
    Matrix2d normal = Matrix2d::Zero();
    Vector2d right = Vector2d::Zero();
    double squares = 0, count = 0;
    slopes.around(at, radius, [&](const Vector2d& place, const Vector2d& slope) {
      if (slope.squaredNorm() < least * least) return;
      const double distance = (place - at).norm() / radius, weight = 1 - distance * distance;
      const Vector2d across = disc ? Vector2d(-slope.y(), slope.x()) : slope;
      const Matrix2d m = weight * across * across.transpose();
      normal += m;
      right += m * place;
      squares += place.dot(m * place);
      count += weight;
    });
    const double trace = normal.trace(), determinant = normal.determinant();
    if (!(trace > 0) || count < 6 || 4 * determinant / (trace * trace) < kRound) return found;
    const Vector2d next = normal.inverse() * right;
    if (!next.allFinite() || (next - near).norm() > options.reach_px) return found;
    const double step = (next - at).norm();
    at = next;
    if (step > 0.002) continue;
    // What is left over, per equation, against the weight of the gradients.
    const double left = std::max(0.0, squares - right.dot(next)) / std::max(1.0, count - 2);
    const Matrix2d covariance = left * normal.inverse();
    found.good = true;
    found.place = next;
    // Edges are as wide as the optics make them, to both sides alike: of what is left over four tenths say how well the
    // point is known (measured on made-up targets).
    found.sigma = 0.4 * std::sqrt(0.5 * covariance.trace());
    return found;
  }
  return found;
}

// Places that neighbourhoods of several sizes agree on. A target gives one for many sizes, what lies within it or
// beside it for few; and what is nearer to the mark is likelier meant.
struct Group {
  Found found;  // the most exact one of them
  double radius = 0, weight = 0;
};

Group likeliest(const Slopes& slopes, const Vector2d& near, bool disc, const RefineMarkOptions& options) {
  const double usual_error = options.reach_px / 3;
  std::vector<Group> groups;
  for (double radius = options.least_radius_px; radius <= options.most_radius_px; radius *= 1.18) {
    const Found found = find_point(slopes, near, radius, disc, options);
    if (!found.good || found.sigma > kWorstSigma || slopes.symmetry(found.place, radius) < kLeastSymmetry) continue;
    const double off = (found.place - near).norm() / usual_error, weight = std::exp(-0.5 * off * off);
    const auto same = std::find_if(groups.begin(), groups.end(),
                                   [&](const Group& g) { return (g.found.place - found.place).norm() < kSamePlace; });
    if (same == groups.end()) {
      groups.push_back({found, radius, weight});
    } else {
      same->weight += weight;
      if (found.sigma < same->found.sigma) same->found = found, same->radius = radius;
    }
  }
  const auto best = std::max_element(groups.begin(), groups.end(),
                                     [](const Group& a, const Group& b) { return a.weight < b.weight; });
  return best == groups.end() ? Group() : *best;
}

}  // namespace

const char* describe(TargetShape shape) {
  return shape == TargetShape::corner ? "corner" : shape == TargetShape::disc ? "disc" : "automatic";
}

RefinedMark refine_mark(const ImageF& grey, const Vector2d& near, const RefineMarkOptions& options) {
  RefinedMark mark;
  mark.pixel = near;
  if (!(near.x() >= 0 && near.y() >= 0 && near.x() <= grey.width() && near.y() <= grey.height())) {
    mark.outcome = "lies outside of the photo";
    return mark;
  }
  const Slopes slopes(grey, near, options.reach_px + options.most_radius_px + 4);
  if (slopes.empty()) {
    mark.outcome = "lies at the very edge of the photo";
    return mark;
  }
  const Group corner = options.shape == TargetShape::disc ? Group() : likeliest(slopes, near, false, options),
              disc = options.shape == TargetShape::corner ? Group() : likeliest(slopes, near, true, options);
  const bool is_disc = disc.weight > corner.weight;
  const Group &best = is_disc ? disc : corner, &other = is_disc ? corner : disc;
  const Found& found = best.found;
  if (!found.good) {
    mark.outcome = "no edges run to one point near it, or around one";
    return mark;
  }
  if (found.sigma > kWorstSigma) {
    mark.outcome = fmt::format("the pixels do not agree on a point (to {:.2f} px)", found.sigma);
    return mark;
  }
  if (other.weight * kShapeMargin > best.weight && (other.found.place - found.place).norm() > kSamePlace) {
    mark.outcome =
        "the pixels agree as well on a corner as on the middle of a disc elsewhere: say which of the two it is";
    return mark;
  }
  mark.refined = true;
  mark.pixel = found.place;
  mark.sigma_px = std::max(0.02, found.sigma);
  mark.shape = is_disc ? TargetShape::disc : TargetShape::corner;
  mark.radius_px = best.radius;
  mark.outcome =
      fmt::format("moved by {:.2f} px to the middle of a {}", (found.place - near).norm(), describe(mark.shape));
  return mark;
}

}  // namespace icefield
