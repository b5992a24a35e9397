// What a depth map says of the surface where others agree.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cmath>
#include <functional>
#include <memory>
#include <span>
#include <vector>

#include "icefield/dense/dense.h"
#include "src/dense/surface_elements.h"

namespace icefield {

// A map with what is needed to go from its pixels into the world and back, pixel middles at integers.
struct Lifted {
  std::shared_ptr<const DepthMap> map;
  Eigen::Matrix3d to_world, to_camera;
  Eigen::Vector3d centre;
  double focal, cx, cy;

  explicit Lifted(std::shared_ptr<const DepthMap> m);
  Eigen::Vector3d line(double x, double y) const {
    return to_world * Eigen::Vector3d((x - cx) / focal, (y - cy) / focal, 1);
  }
  Eigen::Vector3f sight(int x, int y) const {
    return Eigen::Vector3d((x - cx) / focal, (y - cy) / focal, 1).cast<float>();
  }  // in the camera frame
  // The pixel that a point falls on, and its depth; false behind the photo or outside.
  bool pixel(const Eigen::Vector3d& p, int& u, int& v, Eigen::Vector3d& q) const {
    q = to_camera * (p - centre);
    if (!(q.z() > 0)) return false;
    const double x = q.x() / q.z() * focal + cx, y = q.y() / q.z() * focal + cy;
    if (!(x > -0.5 && y > -0.5 && x < map->depth.width() - 0.5 && y < map->depth.height() - 0.5)) return false;
    u = static_cast<int>(std::lround(x)), v = static_cast<int>(std::lround(y));
    return true;
  }
};

inline bool believed(const DepthMap& map, int x, int y, const DenseOptions& options) {
  return map.depth.at(x, y) > 0 && map.cost_at(x, y) <= options.max_cost;
}

// One map and those that are asked whether they agree.
struct Witnesses {
  std::shared_ptr<const DepthMap> map;
  const ImageU8* colour = nullptr;  // of the map's photo; may be empty
  std::array<float, 3> exposure;    // factors of the colour
  std::vector<std::shared_ptr<const DepthMap>> others;
};

// The samples of the rows [first_row, last_row) that enough others agree on. `wanted`: of places in space. `footprint`:
// a middle distance of the pixels on the surface, for the weights of colours. The same for any number of threads.
std::vector<SurfaceSample> surface_samples(const Witnesses& witnesses, std::size_t first_row, std::size_t last_row,
                                           const std::function<bool(const Eigen::Vector3d&)>& wanted, double footprint,
                                           const DenseOptions& options, const Executor& executor);

}  // namespace icefield
