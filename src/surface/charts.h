// Pieces of a mesh that lie flat on a page.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <vector>

#include "src/surface/choose_views.h"

namespace icefield {

struct Chart {
  std::uint32_t photo = kUnseen;
  std::vector<std::uint32_t> faces;
  // By face of the chart: its corners in pixels of the photo; of a chart that no photo sees, in units of the mesh.
  std::vector<std::array<Eigen::Vector2d, 3>> corners;
  Eigen::Vector2d low = Eigen::Vector2d::Zero(), high = Eigen::Vector2d::Zero();  // of these
  double texel = 0;  // on the surface, of one unit of these
  // Of a chart that no photo sees: texels against those asked for (what is made up is smooth: half as fine is enough),
  // and the ways of both axes on the surface's plane.
  double fineness = 0.5;
  std::array<Eigen::Vector3d, 2> axes{};
  // On the page: `scale` texels for each unit, and `width` by `height` of them with the gutter, before it is turned.
  double scale = 1;
  int width = 0, height = 0;
  Eigen::Vector2d shift = Eigen::Vector2d::Zero();  // added to scaled corners: texels from the chart's corner
  int page = 0, x = 0, y = 0, turns = 0;            // quarters, x to y

  Eigen::Vector2d on_chart(const Eigen::Vector2d& corner) const { return scale * corner + shift; }
  // From texels of the chart to those of the page.
  Eigen::Vector2d on_page(const Eigen::Vector2d& p) const;
};

// Connected faces of one choice. What no photo sees is parted where it bends by more than it can lie flat.
std::vector<Chart> make_charts(const Mesh& mesh, const MeshEdges& edges, const Block& block,
                               const std::vector<std::uint32_t>& choice);

// Pieces of all of the mesh, each seen along one direction: no face leans by more than `bend` (radians), and none lies
// over another.
std::vector<Chart> make_flat_charts(const Mesh& mesh, const MeshEdges& edges, double bend);

// Sets scale, size and place of each chart so that all have room, as large as that allows. The size of the pages, and
// how many there are.
struct PageSize {
  int size = 0, pages = 0;
};
PageSize lay_out(std::vector<Chart>& charts, const TextureOptions& options, const Executor& executor, Monitor& monitor);

}  // namespace icefield
