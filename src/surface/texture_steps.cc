#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

#include "icefield/surface/texture.h"
#include "src/surface/photo_samples.h"

namespace icefield {

using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

// The texture at a place of a face, and whether a photo gave it.
struct Value {
  Vector3f colour;
  bool photo;
};
Value value_at(const Mesh& mesh, const Texture& texture, std::uint32_t face, const Vector3d& place) {
  const Face& f = mesh.faces[face];
  const Vector3d a = mesh.position(f[0]), ab = mesh.position(f[1]) - a, ac = mesh.position(f[2]) - a, ap = place - a,
                 n = ab.cross(ac);
  const double whole = n.squaredNorm();
  const double v = whole > 0 ? ap.cross(ac).dot(n) / whole : 0, w = whole > 0 ? ab.cross(ap).dot(n) / whole : 0;
  const auto& corners = texture.corners[face];
  const Vector2f at = static_cast<float>(1 - v - w) * corners[0] + static_cast<float>(v) * corners[1] +
                      static_cast<float>(w) * corners[2];
  const std::size_t page = texture.page[face];
  const ImageU8& origins = texture.origins[page];
  const int x = std::clamp(static_cast<int>(at.x()), 0, origins.width() - 1),
            y = std::clamp(static_cast<int>(at.y()), 0, origins.height() - 1);
  return {rgb_bilinear(texture.pages[page], at.x(), at.y()),
          origins.at(x, y) == static_cast<std::uint8_t>(TexelOrigin::photo)};
}

}  // namespace

TextureSteps measure_steps(const Mesh& mesh, const Texture& texture, double texel) {
  TextureSteps steps;
  double across = 0, inside = 0;
  const MeshEdges edges = edges_of(mesh);
  for (const MeshEdges::Edge& e : edges.edges) {
    if (e.count != 2) continue;
    const std::uint32_t f = edges.faces[e.first], g = edges.faces[e.first + 1];
    const Vector3d a = mesh.position(e.low), b = mesh.position(e.high), middle = 0.5 * (a + b);
    // Half a texel into each face, so that both are a texel apart.
    const auto into = [&](std::uint32_t face) -> Vector3d {
      Vector3d third = middle;
      for (const std::uint32_t v : mesh.faces[face])
        if (v != e.low && v != e.high) third = mesh.position(v);
      const Vector3d along = (b - a).normalized(), off = third - middle - (third - middle).dot(along) * along;
      const double height = off.norm();
      return height > 0 ? Vector3d(middle + std::min(0.5 * texel, 0.5 * height) / height * off) : middle;
    };
    const Value one = value_at(mesh, texture, f, into(f)), other = value_at(mesh, texture, g, into(g));
    if (!one.photo || !other.photo) continue;
    // Of one chart where the corners of the edge lie at the same place of the page.
    bool same = texture.page[f] == texture.page[g];
    for (const std::uint32_t v : {e.low, e.high}) {
      Vector2f at[2];
      for (std::size_t k = 0; k < 3; ++k) {
        if (mesh.faces[f][k] == v) at[0] = texture.corners[f][k];
        if (mesh.faces[g][k] == v) at[1] = texture.corners[g][k];
      }
      same = same && (at[0] - at[1]).norm() < 0.01f;
    }
    const auto step = static_cast<double>((one.colour - other.colour).cwiseAbs().mean());
    (same ? inside : across) += step;
    ++(same ? steps.inside : steps.across);
  }
  if (steps.across > 0) steps.across_mean = across / static_cast<double>(steps.across);
  if (steps.inside > 0) steps.inside_mean = inside / static_cast<double>(steps.inside);
  return steps;
}

}  // namespace icefield
