#include "src/dense/local_planes.h"

#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>

namespace icefield {
namespace {

constexpr int kFirstWindow = 2, kLastWindow = 48;  // cells to either side
constexpr double kLeastPixels = 24, kLeastInQuarter = 3;
constexpr double kFlat =
    2;  // times the size of a pixel on the surface: what lies farther off a plane, root mean square, is none
constexpr double kLeastTolerance = 0.4;  // px on the surface

}  // namespace

LocalPlanes::Sums& LocalPlanes::Sums::add(const Sums& o, double sign) {
  n += sign * o.n, x += sign * o.x, y += sign * o.y, xx += sign * o.xx, xy += sign * o.xy, yy += sign * o.yy;
  d += sign * o.d, dx += sign * o.dx, dy += sign * o.dy, dd += sign * o.dd;
  return *this;
}

LocalPlanes::LocalPlanes(int width, int height, float focal, float cx, float cy)
    : columns_((width + kCell - 1) / kCell),
      rows_((height + kCell - 1) / kCell),
      focal_(focal),
      cx_(cx),
      cy_(cy),
      sums_(static_cast<std::size_t>(columns_ + 1) * static_cast<std::size_t>(rows_ + 1)) {}

void LocalPlanes::add(int x, int y, float depth) {
  if (scale_ == 0) scale_ = depth;
  const double u = (x - cx_) / focal_, v = (y - cy_) / focal_, d = scale_ / depth;
  sums_[static_cast<std::size_t>(y / kCell + 1) * static_cast<std::size_t>(columns_ + 1) +
        static_cast<std::size_t>(x / kCell + 1)]
      .add({1, u, v, u * u, u * v, v * v, d, d * u, d * v, d * d}, 1);
}

LocalPlanes::Sums LocalPlanes::in_window(int left, int top, int right, int bottom) const {
  const auto at = [&](int column, int row) -> const Sums& {
    return sums_[static_cast<std::size_t>(std::clamp(row, 0, rows_)) * static_cast<std::size_t>(columns_ + 1) +
                 static_cast<std::size_t>(std::clamp(column, 0, columns_))];
  };
  Sums sums = at(right, bottom);
  return sums.add(at(left, bottom), -1).add(at(right, top), -1).add(at(left, top), 1);
}

void LocalPlanes::fit() {
  const auto stride = static_cast<std::size_t>(columns_ + 1);
  for (std::size_t row = 1; row <= static_cast<std::size_t>(rows_); ++row)
    for (std::size_t column = 1; column < stride; ++column)
      sums_[row * stride + column]
          .add(sums_[row * stride + column - 1], 1)
          .add(sums_[(row - 1) * stride + column], 1)
          .add(sums_[(row - 1) * stride + column - 1], -1);
  planes_.assign(static_cast<std::size_t>(columns_) * static_cast<std::size_t>(rows_), Plane{});
  for (int row = 0; row < rows_; ++row)
    for (int column = 0; column < columns_; ++column) {
      for (int r = kFirstWindow; r <= kLastWindow; r += (r + 1) / 2) {
        const Sums w = in_window(column - r, row - r, column + r + 1, row + r + 1);
        if (w.n < kLeastPixels) continue;
        const double quarters[] = {in_window(column - r, row - r, column, row).n,
                                   in_window(column + 1, row - r, column + r + 1, row).n,
                                   in_window(column - r, row + 1, column, row + r + 1).n,
                                   in_window(column + 1, row + 1, column + r + 1, row + r + 1).n};
        if (*std::min_element(std::begin(quarters), std::end(quarters)) < kLeastInQuarter) continue;
        // About the middle, since what differs is small against the whole.
        const double x = w.x / w.n, y = w.y / w.n, d = w.d / w.n;
        const double xx = w.xx / w.n - x * x, xy = w.xy / w.n - x * y, yy = w.yy / w.n - y * y, dx = w.dx / w.n - d * x,
                     dy = w.dy / w.n - d * y, dd = w.dd / w.n - d * d;
        const double det = xx * yy - xy * xy;
        if (!(det > 1e-6 * xx * yy)) break;
        const double a = (dx * yy - dy * xy) / det, b = (dy * xx - dx * xy) / det;
        const double off = std::sqrt(std::max(0.0, dd - a * dx - b * dy)) / d;
        // A larger window holds all of this one.
        if (off > kFlat / focal_) break;
        Plane& plane = planes_[static_cast<std::size_t>(row) * static_cast<std::size_t>(columns_) +
                               static_cast<std::size_t>(column)];
        plane.inverse_depth = (Eigen::Vector3d(a, b, d - a * x - b * y) / scale_).cast<float>();
        plane.tolerance = static_cast<float>(std::max(off, kLeastTolerance / focal_));
        break;
      }
    }
  sums_ = {};
}

}  // namespace icefield
