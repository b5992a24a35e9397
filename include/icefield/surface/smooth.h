// Meshes without their roughness.
#pragma once
#include <span>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct SmoothOptions {
  // How far a face's normal takes those around it for its own, radians: roughness below it goes, edges above it stay.
  double edge_angle = 0.35;
  int normal_rounds = 8;   // of the normals
  int vertex_rounds = 12;  // of the vertices, which follow them
};

// Faces take the mean of the normals around them, weighted by area, nearness and likeness, so that edges stay sharp
// (bilateral normal filtering: Zheng, Fu, Au and Tai, "Bilateral normal filtering for mesh denoising", 2011); vertices
// then move to fit them (Sun, Rosin, Martin and Langbein, "Fast and effective feature-preserving mesh denoising",
// 2007). `region`: by vertex, 0 where nothing moves; empty: everywhere. Borders stay. The same for any number of
// threads. Throws Error(interrupted).
void smooth(Mesh& mesh, const SmoothOptions& options = {}, std::span<const std::uint8_t> region = {},
            const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

}  // namespace icefield
