// A function over an octree that is positive outside of a surface and negative inside, from oriented points.
#pragma once
#include <Eigen/Core>
#include <span>
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "src/surface/octree.h"

namespace icefield {

struct ImplicitSamples {
  std::span<const Eigen::Vector3f> positions, normals;  // outwards
  std::vector<float> areas;                             // of surface that each stands for
  std::vector<std::uint8_t> levels;                     // of the octree at which each is spread
};

struct ImplicitFunction {
  std::vector<std::vector<float>> values;  // by level, by vertex
  float surface = 0;                       // the value on the surface
};

// Screened Poisson surface (Kazhdan and Hoppe, "Screened Poisson surface reconstruction", 2013): of all functions that
// are trilinear in the cells the one whose gradient is nearest to the normals spread around the points, and that is 0
// at the points and 0.1, which is outside, at the cube's sides. Solved level after level, each from the coarser one's
// solution, by conjugate gradients (Hestenes and Stiefel 1952); where a level ends it keeps the coarser one's values,
// so that the whole is continuous. `hold`: weight of the values at the points. The same for any number of threads.
// Throws Error(interrupted).
ImplicitFunction fit_implicit(const Octree& octree, const ImplicitSamples& samples, double hold,
                              const Executor& executor, Monitor& monitor);

}  // namespace icefield
