#include "icefield/surface/repaint.h"

#include <algorithm>

namespace icefield {

Baked repaint(Mesh& mesh, const Mesh& painted, const Texture& texture, const Executor& executor, Monitor& monitor) {
  check_texture(painted, texture);
  if (mesh.normals.empty()) set_normals(mesh);
  BakeOptions options;
  options.normals = options.occlusion = false;
  if (!texture.empty()) options.page_size = std::clamp(texture.pages.front().width(), 64, 16384);
  options.max_pages = static_cast<int>(std::clamp<std::size_t>(texture.pages.size(), 1, 999));
  const auto finite = [&](const Face& f) {
    return std::all_of(f.begin(), f.end(), [&](std::uint32_t v) { return painted.positions[v].allFinite(); });
  };
  if (std::all_of(painted.faces.begin(), painted.faces.end(), finite))
    return bake(mesh, painted, &texture, options, executor, monitor);
  Mesh whole = painted;
  Texture of_whole = texture;
  std::size_t place = 0;
  for (std::size_t f = 0; f < painted.faces.size(); ++f) {
    if (!finite(painted.faces[f])) continue;
    whole.faces[place] = painted.faces[f];
    of_whole.page[place] = texture.page[f], of_whole.corners[place] = texture.corners[f];
    if (!whole.kinds.empty()) whole.kinds[place] = painted.kinds[f];
    ++place;
  }
  whole.faces.resize(place), of_whole.page.resize(place), of_whole.corners.resize(place);
  if (!whole.kinds.empty()) whole.kinds.resize(place);
  drop_unused_vertices(whole);
  return bake(mesh, whole, &of_whole, options, executor, monitor);
}

}  // namespace icefield
