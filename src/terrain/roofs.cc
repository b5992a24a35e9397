#include "src/terrain/roofs.h"

#include <Eigen/Dense>
#include <cmath>
#include <numbers>

#include "src/terrain/plate.h"

namespace icefield {
namespace {

constexpr int kReach = 2;  // cells around one that its plane is fitted to
constexpr int kLeast = 12;

// height = at + along (dx, dy), in cells.
struct Plane {
  float at = 0;
  Eigen::Vector2f slope = Eigen::Vector2f::Zero();
  bool flat = false;
};

}  // namespace

ImageU8 find_roofs(const FineCells& cells, const std::function<bool(int, int)>& is_raised, const RoofOptions& options,
                   const Executor& executor) {
  const int width = cells.frame().columns, height = cells.frame().rows;
  ImageU8 raised(width, height), found(width, height);
  const auto rows = [&](const auto& visit) {
    executor.blocks(static_cast<std::size_t>(height), 8, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < width; ++x) visit(x, y);
    });
  };
  rows([&](int x, int y) { raised.at(x, y) = is_raised(x, y); });
  const double cell = cells.frame().cell;
  const double steepest = cell * std::tan(options.largest * std::numbers::pi / 180);
  std::vector<Plane> planes(static_cast<std::size_t>(width) * static_cast<std::size_t>(height));
  const auto plane = [&](int x, int y) -> Plane& {
    return planes[static_cast<std::size_t>(y) * static_cast<std::size_t>(width) + static_cast<std::size_t>(x)];
  };
  rows([&](int x, int y) {
    if (!raised.at(x, y)) return;
    const float here = cells.at(x, y)->high;
    Eigen::Matrix3d sums = Eigen::Matrix3d::Zero();
    Eigen::Vector3d right = Eigen::Vector3d::Zero();
    double squares = 0;
    int count = 0;
    for (int dy = -kReach; dy <= kReach; ++dy)
      for (int dx = -kReach; dx <= kReach; ++dx) {
        if (x + dx < 0 || y + dy < 0 || x + dx >= width || y + dy >= height || !raised.at(x + dx, y + dy)) continue;
        const double z = cells.at(x + dx, y + dy)->high - here;
        const Eigen::Vector3d a(1, dx, dy);
        sums += a * a.transpose(), right += z * a, squares += z * z, ++count;
      }
    if (count < kLeast) return;
    const Eigen::Vector3d fit = sums.ldlt().solve(right);
    const double rest = std::max(0.0, squares - right.dot(fit)) / (count - 3);
    Plane& p = plane(x, y);
    p.at = here + static_cast<float>(fit[0]), p.slope = fit.tail<2>().cast<float>();
    p.flat = fit.allFinite() && rest < options.flat * options.flat && fit.tail<2>().norm() < steepest;
  });
  // Planes of neighbours that go on into each other are one, as long as they lean as all of it does in the mean: a dome
  // is none.
  const float lean = 0.15f * static_cast<float>(cell);
  const auto goes_on = [&](const Plane& p, const Plane& q, int dx, int dy, const Eigen::Vector2f& mean) {
    const Eigen::Vector2f step(static_cast<float>(dx), static_cast<float>(dy));
    return q.flat && std::abs(p.at + p.slope.dot(step) - q.at) < static_cast<float>(options.flat) &&
           (q.slope - mean).norm() < lean;
  };
  ImageU8 done(width, height);
  std::vector<std::pair<int, int>> open;
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) {
      if (done.at(x, y) || !plane(x, y).flat) continue;
      done.at(x, y) = 1;
      open.assign(1, {x, y});
      Eigen::Vector2f sum = plane(x, y).slope;
      for (std::size_t i = 0; i < open.size(); ++i) {
        const auto [u, v] = open[i];
        for (const auto& [dx, dy] : {std::pair(1, 0), {-1, 0}, {0, 1}, {0, -1}}) {
          const int a = u + dx, b = v + dy;
          if (a < 0 || b < 0 || a >= width || b >= height || done.at(a, b)) continue;
          if (!goes_on(plane(u, v), plane(a, b), dx, dy, sum / static_cast<float>(open.size()))) continue;
          done.at(a, b) = 1;
          sum += plane(a, b).slope;
          open.emplace_back(a, b);
        }
      }
      if (static_cast<double>(open.size()) * cell * cell < options.area) continue;
      for (const auto& [u, v] : open) found.at(u, v) = 100;
    }
  // Ridges, eaves and walls: what stands on the ground beside them.
  const ImageF away = distances_to(found, executor);
  rows([&](int x, int y) {
    if (!found.at(x, y) && raised.at(x, y) && away.at(x, y) <= static_cast<float>(options.rim)) found.at(x, y) = 70;
  });
  return found;
}

}  // namespace icefield
