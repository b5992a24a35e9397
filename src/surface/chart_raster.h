// The texels of a chart: which face each lies on.
#pragma once
#include <algorithm>
#include <cmath>

#include "icefield/photo/image.h"
#include "icefield/surface/texture.h"
#include "src/surface/charts.h"

namespace icefield {

// The texels of one chart, before they come to their page.
class ChartRaster {
 public:
  static constexpr std::uint32_t kNoFace = 0xffffffffu;
  explicit ChartRaster(const Chart& chart) : chart_(chart), owner_(chart.width, chart.height, 1, kNoFace) {
    std::vector<std::uint32_t> small;
    for (std::uint32_t i = 0; i < chart.faces.size(); ++i)
      if (!put(i)) small.push_back(i);
    // Faces between the middles of texels get the one that they lie in, where it is free.
    for (const std::uint32_t i : small) {
      const auto c = corners(i);
      const Eigen::Vector2d middle = (c[0] + c[1] + c[2]) / 3;
      const int x = std::clamp(static_cast<int>(middle.x()), 0, chart.width - 1),
                y = std::clamp(static_cast<int>(middle.y()), 0, chart.height - 1);
      if (owner_.at(x, y) == kNoFace && turn_of(c) != 0) owner_.at(x, y) = i;
    }
  }
  // Texels around take part too, as far as the gutter reaches, as if the nearest face went on.
  void widen(int gutter) {
    for (int r = 0; r < gutter; ++r) {
      const Image<std::uint32_t> before = owner_;
      constexpr int kNear[][2] = {{0, -1}, {-1, 0}, {1, 0}, {0, 1}, {-1, -1}, {1, -1}, {-1, 1}, {1, 1}};
      for (int y = 0; y < owner_.height(); ++y)
        for (int x = 0; x < owner_.width(); ++x) {
          if (before.at(x, y) != kNoFace) continue;
          for (const auto& [dx, dy] : kNear) {
            const int u = x + dx, v = y + dy;
            if (u < 0 || v < 0 || u >= owner_.width() || v >= owner_.height() || before.at(u, v) == kNoFace) continue;
            owner_.at(x, y) = before.at(u, v);
            break;
          }
        }
    }
  }
  // Calls texel(x, y, place in the chart's list of faces, shares of the corners) for each that lies on a face, or next
  // to one.
  template <class Texel>
  void each(const Texel& texel) const {
    for (int y = 0; y < owner_.height(); ++y)
      for (int x = 0; x < owner_.width(); ++x) {
        const std::uint32_t i = owner_.at(x, y);
        if (i == kNoFace) continue;
        std::array<double, 3> w = weights(i, Eigen::Vector2d(x + 0.5, y + 0.5));
        // Narrow faces do not go on for long.
        constexpr double kFar = 4;
        if (std::max({std::abs(w[0]), std::abs(w[1]), std::abs(w[2])}) > kFar) {
          for (double& share : w) share = std::max(0.0, share);
          const double sum = w[0] + w[1] + w[2];
          for (double& share : w) share /= sum;
        }
        texel(x, y, i, w);
      }
  }
  const Image<std::uint32_t>& owner() const { return owner_; }

 private:
  std::array<Eigen::Vector2d, 3> corners(std::uint32_t i) const {
    return {chart_.on_chart(chart_.corners[i][0]), chart_.on_chart(chart_.corners[i][1]),
            chart_.on_chart(chart_.corners[i][2])};
  }
  std::array<double, 3> weights(std::uint32_t i, const Eigen::Vector2d& p) const {
    const auto c = corners(i);
    const Eigen::Vector2d ab = c[1] - c[0], ac = c[2] - c[0], ap = p - c[0];
    const double turn = turn_of(c), v = (ap.x() * ac.y() - ap.y() * ac.x()) / turn,
                 w = (ab.x() * ap.y() - ab.y() * ap.x()) / turn;
    return {1 - v - w, v, w};
  }
  static double turn_of(const std::array<Eigen::Vector2d, 3>& c) {
    const Eigen::Vector2d ab = c[1] - c[0], ac = c[2] - c[0];
    return ab.x() * ac.y() - ab.y() * ac.x();
  }
  // Whether it has the middle of a texel.
  bool put(std::uint32_t i) {
    const auto c = corners(i);
    if (turn_of(c) == 0) return false;
    bool any = false;
    const Eigen::Vector2d low = c[0].cwiseMin(c[1]).cwiseMin(c[2]), high = c[0].cwiseMax(c[1]).cwiseMax(c[2]);
    const int x0 = std::max(0, static_cast<int>(std::floor(low.x() - 0.5))),
              x1 = std::min(owner_.width() - 1, static_cast<int>(std::ceil(high.x()))),
              y0 = std::max(0, static_cast<int>(std::floor(low.y() - 0.5))),
              y1 = std::min(owner_.height() - 1, static_cast<int>(std::ceil(high.y())));
    for (int y = y0; y <= y1; ++y)
      for (int x = x0; x <= x1; ++x) {
        const auto w = weights(i, Eigen::Vector2d(x + 0.5, y + 0.5));
        constexpr double kRim = -1e-9;  // sides are those of both faces; the first has the texel
        if (w[0] < kRim || w[1] < kRim || w[2] < kRim) continue;
        any = true;
        if (owner_.at(x, y) == kNoFace) owner_.at(x, y) = i;
      }
    return any;
  }

  const Chart& chart_;
  Image<std::uint32_t> owner_;
};

// Charts do not touch, so that several may be put at a time. `faces`: who has the texels without the gutter. Colours
// from 0 to 255.
void put_on_page(const Chart& chart, const ChartRaster& raster, const Image<std::uint32_t>& faces,
                 const ImageF& colours, TexelOrigin origin, Texture& texture);

}  // namespace icefield
