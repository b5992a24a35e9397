#include "src/terrain/sight.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;

Sight::Sight(ImageF heights, const GridFrame& frame, const Executor& executor) : frame_(frame) {
  for (float& z : heights.values())
    if (!std::isfinite(z)) z = -std::numeric_limits<float>::infinity();
  levels_.push_back(std::move(heights));
  while (levels_.back().width() > 1 || levels_.back().height() > 1) {
    const ImageF& fine = levels_.back();
    ImageF coarse((fine.width() + 1) / 2, (fine.height() + 1) / 2);
    executor.blocks(static_cast<std::size_t>(coarse.height()), 16,
                    [&](std::size_t, std::size_t begin, std::size_t end) {
                      for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
                        for (int x = 0; x < coarse.width(); ++x) {
                          const int u = 2 * x, v = 2 * y, u1 = std::min(u + 1, fine.width() - 1),
                                    v1 = std::min(v + 1, fine.height() - 1);
                          coarse.at(x, y) = std::max({fine.at(u, v), fine.at(u1, v), fine.at(u, v1), fine.at(u1, v1)});
                        }
                    });
    levels_.push_back(std::move(coarse));
  }
}

bool Sight::open_way(const Vector3d& place, const Vector3d& eye) const {
  constexpr double kStart = 1.5, kNudge = 1e-6;  // cells
  const Vector2d from = frame_.at(place.head<2>());
  Vector2d way = frame_.at(eye.head<2>()) - from;
  const double length = way.norm();
  if (!(length > kStart)) return true;
  way /= length;
  const double rise = (eye.z() - place.z()) / length, lowest = place.z() + frame_.cell;
  const auto top = static_cast<int>(levels_.size()) - 1;
  const double highest = levels_[static_cast<std::size_t>(top)].at(0, 0);
  int level = 0;
  for (double t = kStart; t < length;) {
    if (rise >= 0 && lowest + rise * t > highest) return true;
    const double px = from.x() + t * way.x(), py = from.y() + t * way.y();
    if (!(px >= 0 && py >= 0 && px < frame_.columns && py < frame_.rows)) return true;
    const int x = static_cast<int>(px) >> level, y = static_cast<int>(py) >> level;
    const double size = std::ldexp(1.0, level);
    double leave = length;
    if (way.x() > 0) leave = std::min(leave, ((x + 1) * size - from.x()) / way.x());
    if (way.x() < 0) leave = std::min(leave, (x * size - from.x()) / way.x());
    if (way.y() > 0) leave = std::min(leave, ((y + 1) * size - from.y()) / way.y());
    if (way.y() < 0) leave = std::min(leave, (y * size - from.y()) / way.y());
    leave = std::max(leave, t);
    const double height = levels_[static_cast<std::size_t>(level)].at(x, y);
    if (lowest + rise * (rise > 0 ? t : leave) > height) {
      t = leave + kNudge;
      level = std::min(level + 1, top);
    } else if (level > 0) {
      --level;
    } else {
      if (lowest + rise * 0.5 * (t + leave) < height) return false;
      t = leave + kNudge;
    }
  }
  return true;
}

}  // namespace icefield
