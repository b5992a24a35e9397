#include "simulate/pairs.h"

#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>

#include "icefield/base/random.h"
#include "icefield/photo/filter.h"

namespace icefield::simulate {
namespace {

using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::Vector2d;

Vector2d mapped(const Matrix3d& m, const Vector2d& p) {
  return (m * p.homogeneous()).hnormalized();
}

// By central differences.
Matrix2d slope(const Matrix3d& m, const Vector2d& p) {
  Matrix2d j;
  j.col(0) = mapped(m, p + Vector2d(0.5, 0)) - mapped(m, p - Vector2d(0.5, 0));
  j.col(1) = mapped(m, p + Vector2d(0, 0.5)) - mapped(m, p - Vector2d(0, 0.5));
  return j;
}

bool inside(const Vector2d& p, int width, int height) {
  return p.x() >= 0 && p.y() >= 0 && p.x() < width && p.y() < height;
}

std::uint8_t byte_of(double v) {
  return static_cast<std::uint8_t>(std::lround(std::clamp(v, 0.0, 255.0)));
}

float depth_at(const ImageF& depth, const Vector2d& p) {
  return depth.at(std::clamp(static_cast<int>(p.x()), 0, depth.width() - 1),
                  std::clamp(static_cast<int>(p.y()), 0, depth.height() - 1));
}

}  // namespace

ImageU8 warp(const ImageU8& picture, const Matrix3d& homography, int width, int height, const Executor& executor) {
  const Matrix3d back = homography.inverse();
  const int channels = picture.channels();
  ImageU8 out(width, height, channels);
  Monitor silent;
  executor.run("", static_cast<std::size_t>(height), silent, [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < width; ++x) {
      const Matrix2d j = slope(back, {x + 0.5, y + 0.5});
      const int nx = std::clamp(static_cast<int>(std::ceil(2 * j.col(0).norm())), 1, 32),
                ny = std::clamp(static_cast<int>(std::ceil(2 * j.col(1).norm())), 1, 32);
      std::array<double, 4> sum{};
      for (int sy = 0; sy < ny; ++sy)
        for (int sx = 0; sx < nx; ++sx) {
          const Vector2d p = mapped(back, {x + (sx + 0.5) / nx, y + (sy + 0.5) / ny}) - Vector2d(0.5, 0.5);
          const double px = std::clamp(p.x(), 0.0, picture.width() - 1.0),
                       py = std::clamp(p.y(), 0.0, picture.height() - 1.0);
          const int x0 = static_cast<int>(px), y0 = static_cast<int>(py), x1 = std::min(x0 + 1, picture.width() - 1),
                    y1 = std::min(y0 + 1, picture.height() - 1);
          const double fx = px - x0, fy = py - y0;
          for (int c = 0; c < channels; ++c)
            sum[static_cast<std::size_t>(c)] +=
                (1 - fy) * ((1 - fx) * picture.at(x0, y0, c) + fx * picture.at(x1, y0, c)) +
                fy * ((1 - fx) * picture.at(x0, y1, c) + fx * picture.at(x1, y1, c));
        }
      for (int c = 0; c < channels; ++c) out.at(x, y, c) = byte_of(sum[static_cast<std::size_t>(c)] / (nx * ny));
    }
  });
  return out;
}

TrueMapping planar_mapping(const Matrix3d& first_to_second, int width, int height) {
  return [=](const Vector2d& p) -> std::optional<TruePlace> {
    const Vector2d q = mapped(first_to_second, p);
    if (!inside(q, width, height)) return std::nullopt;
    return TruePlace{q, std::sqrt(std::abs(slope(first_to_second, p).determinant()))};
  };
}

TrueMapping scene_mapping(const Shot& first, const ImageF& first_depth, const Shot& second,
                          const ImageF& second_depth) {
  return [=](const Vector2d& p) -> std::optional<TruePlace> {
    if (!inside(p, first_depth.width(), first_depth.height())) return std::nullopt;
    const float depth = depth_at(first_depth, p);
    const auto ray = unproject(first.camera, p);
    if (!(depth > 0) || !ray) return std::nullopt;
    const Eigen::Vector3d seen = second.pose.to_camera(first.pose.to_world(depth * ray->homogeneous()));
    const auto q = project(second.camera, seen);
    if (!q || !inside(*q, second.camera.width, second.camera.height)) return std::nullopt;
    if (std::abs(depth_at(second_depth, *q) - seen.z()) > 0.01 * seen.z())
      return std::nullopt;  // something else is in front
    return TruePlace{*q, second.camera.focal() / seen.z() * depth / first.camera.focal()};
  };
}

ImageU8 exposed(const ImageU8& photo, double stops) {
  std::array<std::uint8_t, 256> table{};
  const double gain = std::exp2(stops);
  for (std::size_t i = 0; i < 256; ++i) {
    const double v = static_cast<double>(i) / 255,
                 linear = v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4),
                 more = std::min(1.0, gain * linear);
    table[i] = byte_of(255 * (more <= 0.0031308 ? 12.92 * more : 1.055 * std::pow(more, 1 / 2.4) - 0.055));
  }
  ImageU8 out = photo;
  for (std::uint8_t& v : out.values()) v = table[v];
  return out;
}

ImageU8 blurred(const ImageU8& photo, double sigma_px) {
  ImageU8 out = photo;
  ImageF plane(photo.width(), photo.height());
  for (int c = 0; c < photo.channels(); ++c) {
    for (int y = 0; y < photo.height(); ++y)
      for (int x = 0; x < photo.width(); ++x) plane.at(x, y) = photo.at(x, y, c);
    const ImageF soft = gaussian_blur(plane, static_cast<float>(sigma_px));
    for (int y = 0; y < photo.height(); ++y)
      for (int x = 0; x < photo.width(); ++x) out.at(x, y, c) = byte_of(soft.at(x, y));
  }
  return out;
}

ImageU8 with_noise(const ImageU8& photo, double sigma, std::uint64_t seed) {
  CounterRandom random(seed);
  ImageU8 out = photo;
  for (std::uint8_t& v : out.values()) v = byte_of(v + sigma * random.normal());
  return out;
}

}  // namespace icefield::simulate
