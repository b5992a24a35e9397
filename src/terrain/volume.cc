#include "icefield/terrain/volume.h"

#include <fmt/format.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/terrain/relief.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

double turn(const Vector2d& a, const Vector2d& b, const Vector2d& c) {
  return (b.x() - a.x()) * (c.y() - a.y()) - (b.y() - a.y()) * (c.x() - a.x());
}

// A polygon cut to one side of a line along an axis (Sutherland and Hodgman, "Reentrant polygon clipping", 1974).
std::vector<Vector2d> cut(const std::vector<Vector2d>& corners, int axis, double at, bool above) {
  std::vector<Vector2d> out;
  for (std::size_t i = 0; i < corners.size(); ++i) {
    const Vector2d &a = corners[i], &b = corners[(i + 1) % corners.size()];
    const double u = above ? a[axis] - at : at - a[axis], v = above ? b[axis] - at : at - b[axis];
    if (u >= 0) out.push_back(a);
    if ((u > 0 && v < 0) || (u < 0 && v > 0)) out.push_back(a + u / (u - v) * (b - a));
  }
  return out;
}

double signed_area(const std::vector<Vector2d>& corners) {
  double sum = 0;
  for (std::size_t i = 0; i < corners.size(); ++i) {
    const Vector2d a = corners[i] - corners[0], b = corners[(i + 1) % corners.size()] - corners[0];
    sum += a.x() * b.y() - b.x() * a.y();
  }
  return 0.5 * sum;
}

// The share of each cell that lies within a polygon, for a window of cells.
struct Shares {
  int column = 0, row = 0;
  ImageF share;
};
Shares shares_in(const GridFrame& frame, std::span<const Vector2d> outline) {
  std::vector<Vector2d> corners;
  Vector2d low = Vector2d::Constant(std::numeric_limits<double>::infinity()), high = -low;
  for (const Vector2d& p : outline) {
    corners.push_back(frame.at(p));
    low = low.cwiseMin(corners.back()), high = high.cwiseMax(corners.back());
  }
  Shares shares;
  shares.column = std::clamp(static_cast<int>(std::floor(low.x())), 0, frame.columns);
  shares.row = std::clamp(static_cast<int>(std::floor(low.y())), 0, frame.rows);
  const int end_column = std::clamp(static_cast<int>(std::ceil(high.x())), shares.column, frame.columns),
            end_row = std::clamp(static_cast<int>(std::ceil(high.y())), shares.row, frame.rows);
  shares.share = ImageF(end_column - shares.column, end_row - shares.row);
  for (int y = 0; y < shares.share.height(); ++y) {
    const double top = shares.row + y;
    const std::vector<Vector2d> strip = cut(cut(corners, 1, top, true), 1, top + 1, false);
    if (strip.size() < 3) continue;
    // What lies to the left of each line, differences of which are the cells.
    double left = 0;
    for (int x = 0; x < shares.share.width(); ++x) {
      const double upto = std::abs(signed_area(cut(strip, 0, shares.column + x + 1, false)));
      shares.share.at(x, y) = static_cast<float>(std::clamp(upto - left, 0.0, 1.0));
      left = upto;
    }
  }
  return shares;
}

// z = a x + b y + c through places, about their middle.
struct Plane {
  Vector2d middle = Vector2d::Zero();
  Vector3d abc = Vector3d::Zero();
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();  // for heights of standard deviation 1 that do not correlate
  double rms = 0;
  double at(const Vector2d& p) const { return abc.dot(Vector3d(p.x() - middle.x(), p.y() - middle.y(), 1)); }
  static Plane through(const std::vector<Vector3d>& places) {
    Plane plane;
    for (const Vector3d& p : places) plane.middle += p.head<2>() / static_cast<double>(places.size());
    Eigen::Matrix3d n = Eigen::Matrix3d::Zero();
    Vector3d r = Vector3d::Zero();
    for (const Vector3d& p : places) {
      const Vector3d row(p.x() - plane.middle.x(), p.y() - plane.middle.y(), 1);
      n += row * row.transpose(), r += row * p.z();
    }
    plane.covariance = n.inverse();
    plane.abc = plane.covariance * r;
    for (const Vector3d& p : places) {
      const double d = p.z() - plane.at(p.head<2>());
      plane.rms += d * d / static_cast<double>(places.size());
    }
    plane.rms = std::sqrt(plane.rms);
    return plane;
  }
};

}  // namespace

bool crosses_itself(std::span<const Vector2d> outline) {
  const std::size_t n = outline.size();
  for (std::size_t i = 0; i < n; ++i)
    for (std::size_t j = i + 2; j < n; ++j) {
      if (i == 0 && j + 1 == n) continue;
      const Vector2d &a = outline[i], &b = outline[i + 1], &c = outline[j], &d = outline[(j + 1) % n];
      if (turn(a, b, c) * turn(a, b, d) <= 0 && turn(c, d, a) * turn(c, d, b) <= 0) return true;
    }
  return false;
}

Volume volume_in(const HeightRaster& raster, std::span<const Vector2d> outline, const VolumeOptions& options) {
  if (outline.size() < 3)
    throw Error(ErrorKind::usage, "outline", fmt::format("has {} corners", outline.size()), "give three or more");
  for (const Vector2d& corner : outline)
    if (!corner.allFinite())
      throw Error(ErrorKind::usage, "outline", "has a corner that is no number", "give coordinates");
  if (crosses_itself(outline))
    throw Error(ErrorKind::usage, "outline", "crosses itself", "give its corners in the order in which they follow");
  if (!(options.error_reach > 0))
    throw Error(ErrorKind::usage, "volume", "is asked for with a reach of errors that is not above 0", "give cells");
  Volume volume;
  const GridFrame& frame = raster.frame;
  const double cell = frame.cell, cell_area = cell * cell;
  const auto sigma_at = [&](int x, int y) -> double {
    if (raster.sigma.empty()) return 0;
    const float s = raster.sigma.at(x, y);
    return std::isfinite(s) ? s : 0;
  };
  // The heights along the outline.
  std::vector<Vector3d> rim;
  double rim_variance = 0;
  for (std::size_t i = 0; i < outline.size(); ++i) {
    const Vector2d &a = outline[i], &b = outline[(i + 1) % outline.size()];
    volume.perimeter += (b - a).norm();
    const auto parts = static_cast<int>(std::max(1.0, std::ceil((b - a).norm() / cell)));
    for (int k = 0; k < parts; ++k) {
      const Vector2d p = a + static_cast<double>(k) / parts * (b - a);
      const double z = height_at(raster.heights, frame, p);
      if (!std::isfinite(z)) continue;
      rim.emplace_back(p.x(), p.y(), z);
      const Vector2d at = frame.at(p);
      const double s = sigma_at(std::clamp(static_cast<int>(at.x()), 0, frame.columns - 1),
                                std::clamp(static_cast<int>(at.y()), 0, frame.rows - 1));
      rim_variance += s * s;
    }
  }
  if (rim.size() < 3)
    throw Error(ErrorKind::usage, "outline", "lies where the raster has no heights",
                "give one within it, in its coordinates");
  rim_variance /= static_cast<double>(rim.size());
  const Plane plane = Plane::through(rim);
  double lowest = std::numeric_limits<double>::infinity();
  for (const Vector3d& p : rim) lowest = std::min(lowest, p.z());
  // What the rim has above the plane, carried inwards by distance.
  std::vector<std::pair<Vector2d, double>> offsets;
  if (options.base == VolumeBase::rim) {
    const std::size_t step = std::max<std::size_t>(1, rim.size() / 400);
    for (std::size_t i = 0; i < rim.size(); i += step)
      offsets.emplace_back(rim[i].head<2>(), rim[i].z() - plane.at(rim[i].head<2>()));
  }
  const auto base_at = [&](const Vector2d& p) {
    switch (options.base) {
      case VolumeBase::lowest:
        return lowest;
      case VolumeBase::height:
        return options.height;
      case VolumeBase::plane:
        return plane.at(p);
      case VolumeBase::rim:
        break;
    }
    double sum = 0, weights = 0;
    for (const auto& [place, offset] : offsets) {
      const double d2 = (place - p).squaredNorm() + 0.25 * cell_area, w = 1 / (d2 * std::sqrt(d2));
      sum += w * offset, weights += w;
    }
    return plane.at(p) + (weights > 0 ? sum / weights : 0);
  };
  const Shares shares = shares_in(frame, outline);
  double variance = 0, missing = 0;
  volume.lowest = volume.base_lowest = std::numeric_limits<double>::infinity();
  volume.highest = volume.base_highest = -std::numeric_limits<double>::infinity();
  // Slopes of these cells, by those around them too.
  const int left = std::max(0, shares.column - 1), top = std::max(0, shares.row - 1);
  ImageF around(std::min(frame.columns, shares.column + shares.share.width() + 1) - left,
                std::min(frame.rows, shares.row + shares.share.height() + 1) - top);
  for (int y = 0; y < around.height(); ++y)
    std::copy_n(raster.heights.row(top + y) + left, around.width(), around.row(y));
  const ImageF slopes = slope_deg(around, cell, Executor(1));
  Vector3d lever = Vector3d::Zero();
  for (int y = 0; y < shares.share.height(); ++y)
    for (int x = 0; x < shares.share.width(); ++x) {
      const double share = shares.share.at(x, y);
      if (share <= 0) continue;
      const int u = shares.column + x, v = shares.row + y;
      const double area = share * cell_area;
      volume.area += area;
      const double z = raster.heights.at(u, v);
      if (!std::isfinite(z)) {
        missing += area;
        continue;
      }
      const Vector2d p = frame.middle(u, v);
      const double base = base_at(p), d = z - base;
      (d > 0 ? volume.above : volume.below) += std::abs(d) * area;
      volume.surface_area += area / std::max(0.05, std::cos(slopes.at(u - left, v - top) * std::numbers::pi / 180));
      volume.lowest = std::min(volume.lowest, z), volume.highest = std::max(volume.highest, z);
      volume.base_lowest = std::min(volume.base_lowest, base),
      volume.base_highest = std::max(volume.base_highest, base);
      const double s = sigma_at(u, v);
      variance += area * area * s * s;
      lever += area * Vector3d(p.x() - plane.middle.x(), p.y() - plane.middle.y(), 1);
    }
  volume.missing_percent = volume.area > 0 ? 100 * missing / volume.area : 100;
  if (!(volume.highest >= volume.lowest))
    throw Error(ErrorKind::usage, "outline", "holds no cell that has a height",
                "give one within the raster, in its coordinates");
  // Errors within a patch of so many cells go together, and along the rim within so many places.
  const double together = std::numbers::pi * options.error_reach * options.error_reach;
  const double cells = volume.area / cell_area;
  variance *= std::min(together, std::max(1.0, cells));
  if (options.base == VolumeBase::rim || options.base == VolumeBase::plane) {
    // Scatter of the rim about the plane is what the base may be off by, as well as its heights' own errors.
    const double scatter = options.base == VolumeBase::plane ? plane.rms * plane.rms : 0;
    const double along = std::min<double>(2 * options.error_reach, static_cast<double>(rim.size()));
    variance += (rim_variance + scatter) * along * lever.dot(plane.covariance * lever);
  } else if (options.base == VolumeBase::lowest) {
    variance += rim_variance * volume.area * volume.area;
  }
  volume.sigma = std::sqrt(variance);
  volume.outcome = "measured";
  return volume;
}

HeightChange change_between(const HeightRaster& first, const HeightRaster& second, double level, double error_reach) {
  HeightChange change;
  const GridFrame& frame = first.frame;
  change.frame = frame;
  change.difference = ImageF(frame.columns, frame.rows, 1, std::numeric_limits<float>::quiet_NaN());
  change.significance = change.difference;
  const double area = frame.cell * frame.cell;
  double variance = 0;
  std::size_t cells = 0;
  for (int y = 0; y < frame.rows; ++y)
    for (int x = 0; x < frame.columns; ++x) {
      const Vector2d p = frame.middle(x, y);
      const double d = height_at(second.heights, second.frame, p) - first.heights.at(x, y);
      if (!std::isfinite(d)) continue;
      ++cells;
      change.difference.at(x, y) = static_cast<float>(d);
      (d > 0 ? change.gained : change.lost) += std::abs(d) * area;
      change.area += area;
      double s2 = 0;
      bool known = !first.sigma.empty() && !second.sigma.empty();
      if (known) {
        const double a = first.sigma.at(x, y), b = height_at(second.sigma, second.frame, p);
        s2 = a * a + b * b;
        known = std::isfinite(s2) && s2 > 0;
      }
      const double t = known ? std::abs(d) / std::sqrt(s2) : 0;
      change.significance.at(x, y) = static_cast<float>(t);
      if (known) variance += area * area * s2;
      if (known && t >= level) {
        (d > 0 ? change.gained_surely : change.lost_surely) += std::abs(d) * area;
        change.sure_area += area;
      }
    }
  if (cells == 0)
    throw Error(ErrorKind::usage, "second raster", "has no height where the first one has some",
                "give two of one place, in one coordinate system");
  const double together = std::numbers::pi * error_reach * error_reach;
  change.sigma = std::sqrt(variance * std::min(together, static_cast<double>(cells)));
  return change;
}

}  // namespace icefield
