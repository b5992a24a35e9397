#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/dense/dense.h"
#include "src/dense/view_cache.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

// A map with what is needed to go from its pixels into the world and back, pixel middles at integers.
struct Lifted {
  std::shared_ptr<const DepthMap> map;
  Eigen::Matrix3d to_world, to_camera;
  Vector3d centre;
  double focal, cx, cy;

  explicit Lifted(std::shared_ptr<const DepthMap> m) : map(std::move(m)) {
    to_camera = map->pose.rotation();
    to_world = to_camera.transpose();
    centre = map->pose.centre;
    focal = map->camera.focal();
    cx = map->camera.principal_point().x() - 0.5;
    cy = map->camera.principal_point().y() - 0.5;
  }
  Vector3d point(int x, int y, double depth) const { return to_world * (depth * Vector3d((x - cx) / focal, (y - cy) / focal, 1)) + centre; }
  Vector3d normal(int x, int y) const {
    return to_world * Vector3d(map->normal.at(x, y, 0), map->normal.at(x, y, 1), map->normal.at(x, y, 2)).normalized();
  }
};

}  // namespace

DenseResult fuse(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours, PhotoSource& photos, DepthMapStore& store, const Bounds& bounds,
                 const DenseOptions& options, const Executor& executor, Monitor& monitor) {
  DenseResult result;
  result.summary.bounds = bounds;
  PointCloud& cloud = result.cloud;
  const std::size_t capacity = 2 * static_cast<std::size_t>(options.max_neighbours) + 4;
  RecentlyUsed<DepthMap> maps(capacity, [&](std::uint32_t i) {
    auto map = store.get(block.photos[i].photo, options.consistency_rounds);
    if (!map) throw Error(ErrorKind::resource, "depth maps", "were removed while in use", "run the same command again");
    return std::make_shared<DepthMap>(std::move(*map));
  });
  // Pixels that an earlier photo's points have already taken in.
  std::vector<std::vector<std::uint8_t>> taken(block.photos.size());
  const double max_distance = options.max_reprojection_px, max_depth = 0.01 * options.max_depth_difference_percent;
  const double min_cosine = std::cos(options.max_normal_difference_deg * std::numbers::pi / 180);
  std::size_t pixels = 0, filled = 0;
  std::vector<std::size_t> view_counts(256, 0);

  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    monitor.check();
    monitor.progress("fuse", i, block.photos.size());
    if (neighbours[i].empty()) continue;
    ++result.summary.maps;
    const Lifted own(maps.get(static_cast<std::uint32_t>(i)));
    std::vector<Lifted> others;
    std::vector<std::uint32_t> other_index;
    for (const std::uint32_t n : neighbours[i])
      if (!neighbours[n].empty()) others.emplace_back(maps.get(n)), other_index.push_back(n);
    const DenseView view = undistort(photos.load(block.photos[i].photo), block.camera_of(block.photos[i]), block.photos[i].pose, options.shrink);
    const int width = own.map->depth.width(), height = own.map->depth.height();
    for (const std::uint32_t n : other_index) taken[n].resize(maps.get(n)->depth.pixels(), 0);
    taken[i].resize(own.map->depth.pixels(), 0);

    struct Part {
      PointCloud cloud;
      std::vector<std::pair<std::uint32_t, std::uint32_t>> takes;  // place in `others`, pixel
      std::size_t filled = 0, in_view = 0;
    };
    constexpr std::size_t kRows = 8;
    std::vector<Part> parts(block_count(static_cast<std::size_t>(height), kRows));
    executor.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t index, std::size_t begin, std::size_t end) {
      Part& part = parts[index];
      std::vector<std::pair<std::uint32_t, std::uint32_t>> agree;
      for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < width; ++x) {
          const double depth = own.map->depth.at(x, y);
          part.in_view += bounds.meets(own.centre, own.point(x, y, 1) - own.centre);
          if (!(depth > 0) || own.map->cost.at(x, y) > options.max_cost) continue;
          const Vector3d p = own.point(x, y, depth), n = own.normal(x, y);
          if (!bounds.contains(p)) continue;
          agree.clear();
          Vector3d position = p, normal = n;
          for (std::size_t k = 0; k < others.size(); ++k) {
            const Lifted& other = others[k];
            const Vector3d q = other.to_camera * (p - other.centre);
            if (!(q.z() > 0)) continue;
            const double at_x = q.x() / q.z() * other.focal + other.cx, at_y = q.y() / q.z() * other.focal + other.cy;
            if (!(at_x > -0.5 && at_y > -0.5 && at_x < other.map->depth.width() - 0.5 && at_y < other.map->depth.height() - 0.5)) continue;
            const int u = static_cast<int>(std::lround(at_x)), v = static_cast<int>(std::lround(at_y));
            const double there = other.map->depth.at(u, v);
            if (!(there > 0) || other.map->cost.at(u, v) > options.max_cost || std::abs(there - q.z()) > max_depth * q.z()) continue;
            const Vector3d back = other.point(u, v, there);
            const Vector3d r = own.to_camera * (back - own.centre);
            if (std::hypot(r.x() / r.z() * own.focal + own.cx - x, r.y() / r.z() * own.focal + own.cy - y) > max_distance + 0.5) continue;
            const Vector3d other_normal = other.normal(u, v);
            if (n.dot(other_normal) < min_cosine) continue;
            // What the other map says of this very spot: its plane met by this line of sight. Averaging the neighbouring
            // pixel's own point would shift the spot along the surface.
            const Vector3d line = p - own.centre;
            const double facing = other_normal.dot(line);
            if (std::abs(facing) > 0.1 * line.norm()) position += own.centre + line * (other_normal.dot(back - own.centre) / facing);
            else position += p;
            normal += other_normal;
            agree.emplace_back(static_cast<std::uint32_t>(k), static_cast<std::uint32_t>(v * other.map->depth.width() + u));
          }
          if (static_cast<int>(agree.size()) + 1 < options.min_views) continue;
          ++part.filled;
          if (taken[i][static_cast<std::size_t>(y) * width + x]) continue;
          position /= static_cast<double>(agree.size() + 1);
          part.takes.insert(part.takes.end(), agree.begin(), agree.end());
          if (!bounds.contains(position)) continue;
          part.cloud.positions.push_back(position.cast<float>());
          part.cloud.normals.push_back(normal.normalized().cast<float>());
          std::array<std::uint8_t, 3> colour;
          for (int c = 0; c < 3; ++c) colour[c] = view.colour.at(x, y, view.colour.channels() == 3 ? c : 0);
          part.cloud.colours.push_back(colour);
          part.cloud.views.push_back(static_cast<std::uint16_t>(agree.size() + 1));
        }
    });
    for (Part& part : parts) {
      for (std::size_t k = 0; k < part.cloud.size(); ++k) {
        ++view_counts[std::min<std::size_t>(part.cloud.views[k], 255)];
        cloud.append(part.cloud, k);
      }
      for (const auto& [k, pixel] : part.takes) taken[other_index[k]][pixel] = 1;
      filled += part.filled;
      pixels += part.in_view;
    }
    taken[i] = {};
  }
  monitor.progress("fuse", block.photos.size(), block.photos.size());
  result.summary.points = cloud.size();
  result.summary.filled_percent = pixels > 0 ? 100.0 * static_cast<double>(filled) / static_cast<double>(pixels) : 0;
  std::size_t sum = 0;
  for (std::size_t v = 0; v < view_counts.size() && 2 * sum < cloud.size(); ++v) sum += view_counts[v], result.summary.median_views = static_cast<double>(v);
  result.summary.outcome = fmt::format("{} points from {} depth maps", cloud.size(), result.summary.maps);
  return result;
}

}  // namespace icefield
