#include "src/control/fit_target.h"

#include <Eigen/Cholesky>
#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>

#include "icefield/control/targets.h"
#include "icefield/photo/filter.h"
#include "src/control/target_design.h"

namespace icefield {
namespace {

using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kCells = 40;               // of a picture, to the unit of the target's plane
constexpr double kHalfPicture = 1.6;        // half its side: the paper and what a blur needs around it
constexpr double kLookedAt = 1.22;          // reach of the hexagon whose pixels take part: within the paper
constexpr int kUnknowns = 12;               // eight of the homography, black, white, two of the light
constexpr double kUsualPerspective = 0.06;  // how much nearer one end is than the middle; weighed as an observation

using Normal = Eigen::Matrix<double, kUnknowns, kUnknowns>;
using Unknowns = Eigen::Matrix<double, kUnknowns, 1>;

struct Pixel {
  Vector2d place;  // from the middle of the guess, by the target's size
  double value;
};

std::vector<Pixel> pixels_of(const ImageU8& grey, const Matrix3d& guess, const Vector2d& middle, double scale) {
  const Matrix3d to_target = guess.inverse();
  Eigen::AlignedBox2d box;
  for (int corner = 0; corner < 6; ++corner) {
    const double angle = 1.0471975511965976 * corner;
    const Vector3d p = guess * Vector3d(kLookedAt * std::cos(angle), kLookedAt * std::sin(angle), 1);
    if (!(p.z() > 0)) return {};
    box.extend(p.hnormalized().eval());
  }
  const int x0 = std::max(0, static_cast<int>(std::floor(box.min().x()))),
            y0 = std::max(0, static_cast<int>(std::floor(box.min().y()))),
            x1 = std::min(grey.width(), static_cast<int>(std::ceil(box.max().x()))),
            y1 = std::min(grey.height(), static_cast<int>(std::ceil(box.max().y())));
  std::vector<Pixel> pixels;
  for (int y = y0; y < y1; ++y)
    for (int x = x0; x < x1; ++x) {
      const Vector2d at(x + 0.5, y + 0.5);
      const Vector3d q = to_target * at.homogeneous();
      if (!(q.z() > 0) || hexagon_reach(q.hnormalized()) > kLookedAt) continue;
      pixels.push_back({(at - middle) / scale, grey.at(x, y) / 255.0});
    }
  return pixels;
}

// The state of one fit: from the photo, about the middle of the guess and by the target's size, to the target.
struct Fitting {
  const std::vector<Pixel>& pixels;
  const TargetPicture& picture;
  Matrix3d to_target;
  Eigen::Vector4d light = Eigen::Vector4d::Zero();  // black, white less black, slopes
  Normal normal = Normal::Zero();
  double squares = 0;
  bool lost = false;

  // One step of Gauss and Newton; how far the middle moved, by the target's size.
  double step(bool first) {
    normal.setZero();
    Unknowns right = Unknowns::Zero();
    squares = 0;
    for (const Pixel& pixel : pixels) {
      const Vector3d p = pixel.place.homogeneous(), h = to_target * p;
      const Vector2d q = h.hnormalized();
      const TargetPicture::Sample seen = picture.at(q);
      Unknowns row;
      const Vector2d slope = (first ? 1.0 : light[1]) / h.z() * seen.slope;
      row.segment<3>(0) = slope.x() * p;
      row.segment<3>(3) = slope.y() * p;
      row.segment<2>(6) = -slope.dot(q) * p.head<2>();
      row.tail<4>() << 1, seen.value, pixel.place.x(), pixel.place.y();
      if (first) row.head<8>().setZero();
      const double left = pixel.value - row.tail<4>().dot(light);
      normal.selfadjointView<Eigen::Lower>().rankUpdate(row);
      right += left * row;
      squares += left * left;
    }
    if (first) {
      normal.diagonal().head<8>().setOnes();
    } else {
      // Perspective is known to be small; where the target is too, it is all that is known of it.
      const double variance =
          std::max(1e-6, squares / static_cast<double>(pixels.size())) / (kUsualPerspective * kUsualPerspective);
      for (const int k : {6, 7}) {
        normal(k, k) += variance;
        right[k] -= variance * to_target(2, k - 6);
      }
    }
    const Eigen::LDLT<Normal> factors(normal.selfadjointView<Eigen::Lower>());
    const Unknowns change = factors.solve(right);
    if (factors.info() != Eigen::Success || !change.allFinite()) return lost = true, 0;
    const Vector2d before = middle();
    to_target.row(0) += change.segment<3>(0).transpose();
    to_target.row(1) += change.segment<3>(3).transpose();
    to_target.row(2).head<2>() += change.segment<2>(6).transpose();
    light += change.tail<4>();
    lost = !(to_target.determinant() > 1e-9) || !((middle() - before).norm() < 0.5);
    return lost ? 0 : (middle() - before).norm();
  }
  Vector2d middle() const { return (to_target.inverse() * Vector3d(0, 0, 1)).hnormalized(); }
  void run(int most) {
    if (step(true), lost) return;
    for (int round = 0; round < most && !lost; ++round)
      if (step(false) < 2e-5) return;
  }
  double worst_part() const {
    std::array<double, kTargetParts> sums{}, counts{};
    for (const Pixel& pixel : pixels) {
      const Vector2d q = (to_target * pixel.place.homogeneous()).hnormalized();
      const auto part = static_cast<std::size_t>(part_at(q));
      sums[part] += pixel.value - light[0] - light[1] * picture.at(q).value - light.tail<2>().dot(pixel.place);
      ++counts[part];
    }
    double worst = 0;
    for (std::size_t part = 0; part < sums.size(); ++part)
      if (counts[part] > 1) worst = std::max(worst, std::abs(sums[part] / counts[part]));
    return worst / std::max(1e-6, std::abs(light[1]));
  }
  // Standard deviation of a coordinate of the middle, by the target's size.
  double sigma() const {
    const double variance = squares / std::max(1.0, static_cast<double>(pixels.size()) - kUnknowns);
    const Normal covariance =
        variance * Normal(normal.selfadjointView<Eigen::Lower>()).ldlt().solve(Normal::Identity());
    const Vector2d at = middle();
    const Vector3d p = at.homogeneous();
    const double w = (to_target * p).z();
    Eigen::Matrix<double, 2, kUnknowns> by = Eigen::Matrix<double, 2, kUnknowns>::Zero();
    by.block<1, 3>(0, 0) = p.transpose() / w;
    by.block<1, 3>(1, 3) = p.transpose() / w;
    const Matrix2d turn = (to_target.topLeftCorner<2, 2>() / w).inverse();
    const Matrix2d of_middle = turn * by * covariance * by.transpose() * turn.transpose();
    return std::sqrt(0.5 * of_middle.trace());
  }
};

}  // namespace

TargetPicture::TargetPicture(std::uint32_t teeth)
    : side_(static_cast<int>(2 * kHalfPicture * kCells)), sharp_(side_, side_), seen_(side_, side_) {
  constexpr int kSub = 3;
  for (int y = 0; y < side_; ++y)
    for (int x = 0; x < side_; ++x) {
      int light = 0;
      for (int j = 0; j < kSub; ++j)
        for (int i = 0; i < kSub; ++i)
          light += !is_dark(
              teeth, Vector2d(x + (i + 0.5) / kSub, y + (j + 0.5) / kSub) / kCells - Vector2d::Constant(kHalfPicture));
      sharp_.at(x, y) = static_cast<float>(light) / (kSub * kSub);
    }
  seen_ = sharp_;
}

void TargetPicture::blur(double sigma) {
  seen_ = gaussian_blur(sharp_, static_cast<float>(std::max(0.3, sigma * kCells)));
}

TargetPicture::Sample TargetPicture::at(const Vector2d& place) const {
  const double x = (place.x() + kHalfPicture) * kCells - 0.5, y = (place.y() + kHalfPicture) * kCells - 0.5;
  if (!(x > 1 && y > 1 && x < side_ - 3 && y < side_ - 3)) return {1, Vector2d::Zero()};
  const int ix = static_cast<int>(x), iy = static_cast<int>(y);
  const double u = x - ix, v = y - iy;
  const double a = seen_.at(ix, iy), b = seen_.at(ix + 1, iy), c = seen_.at(ix, iy + 1), d = seen_.at(ix + 1, iy + 1);
  return {(1 - v) * (a + u * (b - a)) + v * (c + u * (d - c)),
          kCells * Vector2d((1 - v) * (b - a) + v * (d - c), (1 - u) * (c - a) + u * (d - b))};
}

TargetFit fit_target(const ImageU8& grey, TargetPicture& picture, const Matrix3d& guess,
                     const std::vector<double>& blurs_px) {
  TargetFit best;
  if (!(guess(2, 2) > 0)) return best;
  const Vector2d middle = guess.col(2).hnormalized();
  const Matrix2d size = (guess.topLeftCorner<2, 2>() - middle * guess.row(2).head<2>()) / guess(2, 2);
  const double scale = std::sqrt(std::abs(size.determinant()));
  if (!(scale > 2) || !std::isfinite(scale)) return best;
  const std::vector<Pixel> pixels = pixels_of(grey, guess, middle, scale);
  if (pixels.size() < 100) return best;
  double mean = 0, squares = 0;
  for (const Pixel& pixel : pixels) mean += pixel.value;
  mean /= static_cast<double>(pixels.size());
  for (const Pixel& pixel : pixels) squares += (pixel.value - mean) * (pixel.value - mean);
  if (!(squares > 0)) return best;
  Matrix3d from_unit;
  from_unit << scale, 0, middle.x(), 0, scale, middle.y(), 0, 0, 1;
  Matrix3d start = guess.inverse() * from_unit;
  start /= start(2, 2);
  double least = squares;
  bool first = true;
  for (const double blur : blurs_px) {
    picture.blur(blur / scale);
    Fitting fitting{pixels, picture, start};
    fitting.run(first ? 20 : 6);
    if (fitting.lost || !(fitting.squares < least)) continue;
    // Others begin where this one ended.
    first = false;
    start = fitting.to_target;
    least = fitting.squares;
    best.good = fitting.light[1] > 0;
    best.to_photo = from_unit * fitting.to_target.inverse();
    best.to_photo /= best.to_photo(2, 2);
    best.agreement = std::sqrt(std::max(0.0, 1 - fitting.squares / squares));
    best.worst_part = fitting.worst_part();
    best.sigma_px = scale * fitting.sigma();
    best.blur_px = blur;
  }
  return best;
}

}  // namespace icefield
