#include "icefield/control/locate.h"

#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/geometry/triangulate.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

// What poses and lens of an adjusted block add to a mark's own deviation, px.
constexpr double kBlockSigma = 0.5;
constexpr double kAgreeSigmas = 5;
constexpr double kLeastAngle = 0.3 * std::numbers::pi / 180;

class Locating {
 public:
  Locating(const Block& block, std::span<const SpotMark> marks) : block_(block), marks_(marks) {
    for (const SpotMark& mark : marks) {
      const PosedPhoto& photo = block.photos[mark.photo];
      rays_.push_back({photo.pose, Vector2d::Zero()});
      const auto direction = unproject(block.camera_of(photo), mark.pixel);
      usable_.push_back(direction.has_value());
      if (direction) rays_.back().direction = *direction;
    }
  }

  std::vector<std::uint32_t> usable() const {
    std::vector<std::uint32_t> list;
    for (std::uint32_t i = 0; i < marks_.size(); ++i)
      if (usable_[i]) list.push_back(i);
    return list;
  }

  std::optional<Vector3d> from(std::span<const std::uint32_t> of) const {
    std::vector<Ray> rays;
    for (const std::uint32_t i : of) rays.push_back(rays_[i]);
    return triangulate(rays);
  }
  double angle(std::span<const std::uint32_t> of, const Vector3d& x) const {
    std::vector<Ray> rays;
    for (const std::uint32_t i : of) rays.push_back(rays_[i]);
    return triangulation_angle(rays, x);
  }

  // In standard deviations; far for a place behind the photo.
  double deviation(std::uint32_t i, const Vector3d& x) const {
    const Observation o{marks_[i].photo, {}, marks_[i].pixel};
    const auto r = residual_px(block_, x, o);
    return r ? r->norm() / std::hypot(marks_[i].sigma_px, kBlockSigma) : 1e9;
  }

  std::vector<std::uint32_t> agreeing(const Vector3d& x, double& squares) const {
    std::vector<std::uint32_t> list;
    squares = 0;
    for (const std::uint32_t i : usable()) {
      const double d = deviation(i, x);
      squares += std::min(d * d, kAgreeSigmas * kAgreeSigmas);
      if (d <= kAgreeSigmas) list.push_back(i);
    }
    return list;
  }

  // By pairs of marks, then all that agree.
  std::vector<std::uint32_t> best() const {
    const std::vector<std::uint32_t> all = usable();
    std::vector<std::uint32_t> found;
    double least = 1e300;
    constexpr std::size_t kMostTried = 24;  // marks; their pairs are a few hundred
    const std::size_t tried = std::min(all.size(), kMostTried);
    for (std::size_t a = 0; a < tried; ++a)
      for (std::size_t b = a + 1; b < tried; ++b) {
        const std::uint32_t two[] = {all[a], all[b]};
        const auto x = from(two);
        if (!x) continue;
        double squares = 0;
        std::vector<std::uint32_t> in = agreeing(*x, squares);
        if (in.size() >= 2 && squares < least) least = squares, found = std::move(in);
      }
    for (int round = 0; round < 5 && found.size() > 2; ++round) {
      const auto x = from(found);
      if (!x) break;
      double squares = 0;
      std::vector<std::uint32_t> in = agreeing(*x, squares);
      if (in == found || in.size() < 2) break;
      found = std::move(in);
    }
    return found;
  }

  Eigen::Matrix3d covariance(std::span<const std::uint32_t> of, const Vector3d& x) const {
    Eigen::Matrix3d information = Eigen::Matrix3d::Zero();
    for (const std::uint32_t i : of) {
      const PosedPhoto& photo = block_.photos[marks_[i].photo];
      Matrix2x3 slope;
      Matrix2xParameters unused;
      if (!project(block_.camera_of(photo), photo.pose.to_camera(x), slope, unused)) continue;
      const Matrix2x3 by_world = slope * photo.pose.rotation();
      information += by_world.transpose() * by_world / (marks_[i].sigma_px * marks_[i].sigma_px);
    }
    return information.inverse();
  }

 private:
  const Block& block_;
  std::span<const SpotMark> marks_;
  std::vector<Ray> rays_;
  std::vector<bool> usable_;
};

}  // namespace

LocatedSpot locate_spot(const Block& block, std::span<const SpotMark> marks) {
  LocatedSpot spot;
  spot.agrees.assign(marks.size(), false);
  const Locating locating(block, marks);
  if (locating.usable().size() < 2) {
    spot.outcome = fmt::format("{} of its marks is in a photo that has a pose, two are needed",
                               locating.usable().empty() ? "none" : "one");
    return spot;
  }
  const std::vector<std::uint32_t> in = locating.best();
  const auto x = in.size() >= 2 ? locating.from(in) : std::nullopt;
  if (!x) {
    spot.outcome = marks.size() == 2 ? "its two marks do not meet" : "no two of its marks meet";
    return spot;
  }
  for (const std::uint32_t i : in) spot.agrees[i] = true;
  spot.angle = locating.angle(in, *x);
  if (spot.angle < kLeastAngle) {
    spot.outcome = fmt::format("its rays meet at {:.1f} degrees only", spot.angle * 180 / std::numbers::pi);
    return spot;
  }
  spot.position = *x;
  spot.covariance = locating.covariance(in, *x);
  spot.known = spot.covariance.allFinite();
  spot.outcome = in.size() == marks.size() ? fmt::format("from {} marks", in.size())
                                           : fmt::format("from {} of {} marks", in.size(), marks.size());
  return spot;
}

}  // namespace icefield
