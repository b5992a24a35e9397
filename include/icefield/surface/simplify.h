// Meshes of fewer faces.
#pragma once
#include <span>
#include <string>
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct SimplifyOptions {
  std::size_t faces = 0;  // as many are left as that, or a few fewer; 0: as few as the error allows
  // No edge goes whose vertex would then lie farther than this from the planes of the faces that it stands for (root of
  // the area-weighted mean), block units; 0: any.
  double error = 0;
  // Of borders against faces: 1 lets a border move as freely as the surface, more keeps its course.
  double border_weight = 10;
  // Faces that a function gives a share of: by vertex, times as dear as elsewhere. Empty: all alike.
  std::vector<float> dearness;
  // Budgets by region, in place of `faces`: by vertex the number of its region, and by region the faces that are left
  // of it (0: as few as the error allows). A face belongs to the lowest region of its corners. Empty: one for all.
  std::vector<std::uint8_t> regions;
  std::vector<std::size_t> region_faces;
  // A mesh of more faces than this, less than a quarter of which are wanted, is lightened in blocks of an eighth of it
  // first, on all threads; not where an error, dearness or regions are given.
  std::size_t many = 6'000'000;
};

struct SimplifySummary {
  std::string outcome = "nothing done yet";
  std::size_t faces_before = 0, faces_after = 0;
  double error = 0;  // the largest one accepted, as SimplifyOptions::error counts
};

// Edges that change the surface least go first, each replaced by the vertex that is nearest to the planes around it
// (Garland and Heckbert, "Surface simplification using quadric error metrics", 1997), held a little to where its
// vertices were, so that flat parts keep even faces. A manifold mesh stays one; no face turns over. Colours, support
// and errors of vertices follow; normals are made anew where there were some. The same for any number of threads.
// Throws Error(interrupted).
SimplifySummary simplify(Mesh& mesh, const SimplifyOptions& options, Monitor& monitor = silent_monitor(),
                         const Executor& executor = Executor());

// From samples of one surface, so many of them evenly by area, to the nearest place of the other; block units.
struct SurfaceDistance {
  double mean = 0, rms = 0, q95 = 0, largest = 0;
};

SurfaceDistance distance_to(const Mesh& from, const Mesh& to, std::size_t samples = 100'000,
                            const Executor& executor = Executor());
// Its two halves: places on a surface, evenly by area, with the origin, and how far each is from another.
std::vector<Eigen::Vector3d> sample_places(const Mesh& mesh, std::size_t samples);
SurfaceDistance distance_to(std::span<const Eigen::Vector3d> places, const Mesh& to,
                            const Executor& executor = Executor());

}  // namespace icefield
