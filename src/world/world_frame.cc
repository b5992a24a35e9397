#include "icefield/world/world_frame.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <array>
#include <cmath>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/world/crs.h"
#include "src/world/proj_objects.h"

namespace icefield {

using Eigen::Matrix3d;
using Eigen::Vector3d;

// The earth's ellipsoid, its grid in plan, and the plane that touches it at the origin.
struct WorldFrame::Projection {
  ProjContext context = make_proj_context();
  ProjObject to_grid;  // from longitude and latitude in degrees
  double semi_major = 0, eccentricity2 = 0, metres_per_height_unit = 1;
  Vector3d touching = Vector3d::Zero();  // earth-centred
  Matrix3d axes = Matrix3d::Identity();  // rows: of the frame, earth-centred

  Vector3d earth_centred(double longitude, double latitude, double height) const {
    const double s = std::sin(latitude), c = std::cos(latitude);
    const double n = semi_major / std::sqrt(1 - eccentricity2 * s * s);
    return {(n + height) * c * std::cos(longitude), (n + height) * c * std::sin(longitude),
            (n * (1 - eccentricity2) + height) * s};
  }
  // Longitude, latitude (radians), height. Bowring, "Transformation from spatial to geographical coordinates", 1976,
  // repeated until it stands.
  Vector3d geographic(const Vector3d& x) const {
    const double p = std::hypot(x.x(), x.y()), flat = std::sqrt(1 - eccentricity2), minor = semi_major * flat;
    const double second = eccentricity2 / (1 - eccentricity2);
    double latitude = 0, reduced = std::atan2(x.z(), p * flat);
    for (int i = 0; i < 4; ++i) {
      const double s = std::sin(reduced), c = std::cos(reduced);
      latitude = std::atan2(x.z() + second * minor * s * s * s, p - eccentricity2 * semi_major * c * c * c);
      reduced = std::atan2(flat * std::sin(latitude), std::cos(latitude));
    }
    const double s = std::sin(latitude), c = std::cos(latitude);
    const double n = semi_major / std::sqrt(1 - eccentricity2 * s * s);
    const double height = p * c + x.z() * s - n * (1 - eccentricity2 * s * s);
    return {std::atan2(x.y(), x.x()), latitude, height};
  }
  // Coordinates of the CRS from the earth-centred.
  Vector3d grid(const Vector3d& x) const {
    const Vector3d g = geographic(x);
    constexpr double kDegrees = 180 / std::numbers::pi;
    const PJ_COORD c = proj_trans(to_grid.get(), PJ_FWD, proj_coord(g.x() * kDegrees, g.y() * kDegrees, 0, 0));
    return {c.xyz.x, c.xyz.y, g.z() / metres_per_height_unit};
  }
  Vector3d from_grid(const Vector3d& place) const {
    constexpr double kRadians = std::numbers::pi / 180;
    const PJ_COORD c = inverse_of(to_grid.get(), proj_coord(place.x(), place.y(), 0, 0));
    return earth_centred(c.xyz.x * kRadians, c.xyz.y * kRadians, place.z() * metres_per_height_unit);
  }
};

WorldFrame::WorldFrame(const Datum& datum, const Vector3d& origin) : origin_(origin) {
  if (datum.crs.empty()) return;
  const Crs crs = crs_of(datum.crs);
  if (crs.kind != CrsKind::projected)
    throw Error(ErrorKind::usage, datum.crs, fmt::format("({}) is no projected CRS", crs.name),
                "give one with easting and northing");
  projection_ = std::make_unique<Projection>();
  Projection& p = *projection_;
  const ProjObject whole = make_proj_crs(p.context.get(), datum.crs),
                   plan = horizontal_part(p.context.get(), whole.get());
  // The same datum: a way without any correction.
  const ProjObject geodetic(proj_crs_get_geodetic_crs(p.context.get(), plan.get()));
  if (geodetic) p.to_grid = make_proj_way(p.context.get(), geodetic.get(), plan.get());
  if (!p.to_grid) throw Error(ErrorKind::usage, datum.crs, "cannot be computed with", "give another CRS");
  p.semi_major = crs.semi_major_m;
  const double flattening = crs.inverse_flattening > 0 ? 1 / crs.inverse_flattening : 0;
  p.eccentricity2 = flattening * (2 - flattening);
  p.metres_per_height_unit = crs.metres_per_height_unit;
  p.touching = p.from_grid(origin);
  if (!p.touching.allFinite() || (p.grid(p.touching) - origin).norm() > 1e-3 / crs.metres_per_unit)
    throw Error(ErrorKind::usage, datum.crs,
                fmt::format("({}) has no place {:.1f} {:.1f}", crs.name, origin.x(), origin.y()),
                "check the coordinates, their order and their units");
  // Up by the ellipsoid's normal, east along the grid.
  const Vector3d g = p.geographic(p.touching);
  const double sl = std::sin(g.x()), cl = std::cos(g.x()), sp = std::sin(g.y()), cp = std::cos(g.y());
  Matrix3d true_axes;
  true_axes.row(0) << -sl, cl, 0;
  true_axes.row(1) << -sp * cl, -sp * sl, cp;
  true_axes.row(2) << cp * cl, cp * sl, sp;
  constexpr double kStep = 20;
  const auto in_grid = [&](const Vector3d& direction) {
    return Vector3d(p.grid(p.touching + true_axes.transpose() * (kStep * direction)) -
                    p.grid(p.touching - true_axes.transpose() * (kStep * direction)));
  };
  const Vector3d east = in_grid(Vector3d::UnitX()), north = in_grid(Vector3d::UnitY());
  // Of a conformal projection the turns of both directions are one; of others their mean.
  const double turn = std::atan2(east.y() - north.x(), east.x() + north.y());
  p.axes = Eigen::AngleAxisd(turn, Vector3d::UnitZ()).toRotationMatrix() * true_axes;
}

WorldFrame::~WorldFrame() = default;
WorldFrame::WorldFrame(WorldFrame&&) noexcept = default;
WorldFrame& WorldFrame::operator=(WorldFrame&&) noexcept = default;

bool WorldFrame::curved() const {
  return projection_ != nullptr;
}
const Vector3d& WorldFrame::origin() const {
  return origin_;
}

Vector3d WorldFrame::to_world(const Vector3d& local) const {
  if (!projection_) return origin_ + local;
  return projection_->grid(projection_->touching + projection_->axes.transpose() * local);
}

Vector3d WorldFrame::to_local(const Vector3d& world) const {
  if (!projection_) return world - origin_;
  return projection_->axes * (projection_->from_grid(world) - projection_->touching);
}

void WorldFrame::to_world(std::span<Vector3d> points) const {
  if (points.empty()) return;
  if (!projection_) {
    for (Vector3d& p : points) p += origin_;
    return;
  }
  Vector3d low = points[0], high = points[0];
  for (const Vector3d& p : points) low = low.cwiseMin(p), high = high.cwiseMax(p);
  // What the grid adds to a place is smooth: third differences over this reach are under a micrometre.
  constexpr double kReach = 600;
  constexpr std::size_t kWorthIt = 100;
  if (points.size() < kWorthIt || (high - low).maxCoeff() > kReach) {
    for (Vector3d& p : points) p = to_world(p);
    return;
  }
  const Vector3d middle = 0.5 * (low + high), half = (0.5 * (high - low)).cwiseMax(1.0);
  std::array<Vector3d, 27> added;
  for (int z = 0; z < 3; ++z)
    for (int y = 0; y < 3; ++y)
      for (int x = 0; x < 3; ++x) {
        const Vector3d node = middle + half.cwiseProduct(Vector3d(x - 1, y - 1, z - 1));
        added[static_cast<std::size_t>(9 * z + 3 * y + x)] = to_world(node) - origin_ - node;
      }
  for (Vector3d& p : points) {
    const Vector3d t = (p - middle).cwiseQuotient(half);
    double weight[3][3];
    for (int c = 0; c < 3; ++c) {
      weight[c][0] = 0.5 * t[c] * (t[c] - 1);
      weight[c][1] = 1 - t[c] * t[c];
      weight[c][2] = 0.5 * t[c] * (t[c] + 1);
    }
    Vector3d sum = Vector3d::Zero();
    for (int z = 0; z < 3; ++z)
      for (int y = 0; y < 3; ++y)
        for (int x = 0; x < 3; ++x)
          sum += weight[0][x] * weight[1][y] * weight[2][z] * added[static_cast<std::size_t>(9 * z + 3 * y + x)];
    p = origin_ + (p + sum);
  }
}

namespace {

// Change of the world's coordinates along the frame's axes, by central differences.
Matrix3d slopes_at(const WorldFrame& frame, const Vector3d& local) {
  constexpr double kStep = 10;
  Matrix3d slopes;
  for (int c = 0; c < 3; ++c) {
    const Vector3d step = kStep * Vector3d::Unit(c);
    slopes.col(c) = (frame.to_world(local + step) - frame.to_world(local - step)) / (2 * kStep);
  }
  return slopes;
}

}  // namespace

Matrix3d WorldFrame::axes_at(const Vector3d& local) const {
  if (!projection_) return Matrix3d::Identity();
  // The nearest rotation: a matrix and the inverse of its transpose differ in what is no rotation alone.
  Matrix3d m = slopes_at(*this, local);
  for (int c = 0; c < 3; ++c) m.col(c).normalize();
  for (int i = 0; i < 6; ++i) m = 0.5 * (m + m.inverse().transpose()).eval();
  return m;
}

double WorldFrame::grid_scale_at(const Vector3d& local) const {
  if (!projection_) return 1;
  const Matrix3d slopes = slopes_at(*this, local);
  return std::sqrt(std::abs(slopes.topLeftCorner<2, 2>().determinant()));
}

double WorldFrame::convergence_at(const Vector3d& local) const {
  if (!projection_) return 0;
  const Projection& p = *projection_;
  const Vector3d x = p.touching + p.axes.transpose() * local;
  const Vector3d g = p.geographic(x);
  constexpr double kStep = 3e-6;  // radians: 20 m
  const Vector3d d =
      p.grid(p.earth_centred(g.x(), g.y() + kStep, g.z())) - p.grid(p.earth_centred(g.x(), g.y() - kStep, g.z()));
  return std::atan2(d.x(), d.y());
}

Vector3d round_origin(const Vector3d& place) {
  return (place / 10).array().round() * 10;
}

}  // namespace icefield
