// What a fine mesh shows, as pictures on a light one.
#pragma once
#include <array>
#include <string>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/surface/texture.h"

namespace icefield {

struct BakeOptions {
  int page_size = 2048;  // texels each way, at the most: 64 to 16384; smaller where everything has room
  int max_pages = 1;
  double texel = 0;   // on the surface, its units; 0: as fine as the pages hold
  int gutter = 4;     // texels around each chart that carry it on
  double bend = 0.9;  // radians that a face of a chart may lean: a face is at most 1 / cos(bend) larger than its texels
  bool colour = true;  // of the fine mesh's texture, or of its vertices
  bool normals = true;
  bool occlusion = true;
  double reach = 0;         // how far the fine surface is looked for, units of the mesh; 0: by how far both are apart
  int occlusion_rays = 64;  // from each vertex of the fine mesh
  double occlusion_reach = 0;  // what is farther away hides nothing, units of the mesh; 0: a fifth of its size
};

struct BakeSummary {
  std::string outcome = "nothing done yet";
  std::size_t charts = 0, pages = 0;
  int page_size = 0;
  double texel = 0;           // on the surface
  double used_percent = 0;    // of the pages' texels that lie on faces
  double reach = 0;           // as used
  double missed_percent = 0;  // of these, with no fine surface straight above or below: taken from the nearest place
  double stretch_mean = 0, stretch_largest = 0;  // of faces against their texels; 1: none
  std::string colour_from;                       // "texture", "vertices" or "nothing"
};

// Pages go together: each texel of one is the same place as that of the others.
struct Baked {
  Texture texture;  // of the light mesh; colours 200 of 255 where the fine mesh has none
  // Normals in the frame of the surface: 128 + 127 of (along the page's x axis, up the page, out of the surface).
  std::vector<ImageU8> normals;
  std::vector<ImageU8> occlusion;  // grey: share of the sky that is seen
  // By face, at its corners: the way of the page's x axis on the surface, unit.
  std::vector<std::array<Eigen::Vector3f, 3>> tangents;
  BakeSummary summary;
};

// The light mesh is cut into charts seen along one direction each. Each texel takes what the fine mesh has straight
// above or below it, where that faces the same way, else at the nearest place. Both in one frame. The light mesh is to
// have normals (set_normals). The same for any number of threads. Throws Error(usage) for meshes without faces or
// normals and for options out of range, Error(interrupted).
Baked bake(const Mesh& light, const Mesh& fine, const Texture* fine_texture, const BakeOptions& options = {},
           const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

}  // namespace icefield
