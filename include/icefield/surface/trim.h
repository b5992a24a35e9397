// Which faces of a mesh go, by criteria that can be seen before they are applied.
#pragma once
#include <optional>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/block/selection.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct TrimBySupport {
  double min_support = 0.6;  // of each vertex of a face
  double small_patch = 0;    // area, block units squared: what goes in smaller patches stays, smaller pieces go
  int smooth_rounds = 6;     // over neighbours, before the surface is parted there: rims without teeth
};
// Parted where support, smoothed over the surface, falls below: faces across the rim stay in part. `pieces`: pieces
// that go since they are small.
Mesh trim_by_support(const Mesh& mesh, const TrimBySupport& wanted, std::size_t* pieces = nullptr);
// By face: 1 for those all of whose edges are no longer than this.
std::vector<std::uint8_t> faces_with_edges_up_to(const Mesh& mesh, double length);
// 1 for those of pieces of so many faces or more; `largest`: of the largest piece alone.
std::vector<std::uint8_t> faces_of_pieces(const Mesh& mesh, std::size_t least_faces, bool largest = false);
// 1 for those whose middle lies inside; block frame, origin included.
std::vector<std::uint8_t> faces_within(const Mesh& mesh, const Bounds& bounds);
// 1 for those whose middle the selection keeps.
std::vector<std::uint8_t> faces_selected(const Mesh& mesh, const Selection& selection);
// 1 for those whose middle lies on the side that the normal points to.
std::vector<std::uint8_t> faces_over(const Mesh& mesh, const Plane& plane);

// 1 for faces of the one whose middles are not on the other, which was made of it by leaving faces out.
std::vector<std::uint8_t> faces_gone(const Mesh& whole, const Mesh& left, const Executor& executor = Executor());

// The plane that the subject stands on: of all planes that lie below most of the surface the one that most area lies
// in, within `within` of it. Nothing where no plane holds a tenth of the area.
struct SupportPlane {
  Plane plane;
  double area_percent = 0;  // of the mesh that lies in it
};
std::optional<SupportPlane> find_support_plane(const Mesh& mesh, double within);

}  // namespace icefield
