#include "src/surface/mesh_in_photo.h"

#include <algorithm>
#include <cmath>

namespace icefield {

using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr std::size_t kGrain = 4096;
constexpr int kBand = 64;  // rows that are filled by one thread

struct Corners {
  Vector3f a, b, c;  // x, y in pixels of the shrunk photo; 1 / depth
};

// Fills one face into the rows from `top` up to, not including, `bottom`.
template <class Put>
void fill(const Corners& t, int width, int top, int bottom, const Put& put) {
  const float turn = (t.b.x() - t.a.x()) * (t.c.y() - t.a.y()) - (t.b.y() - t.a.y()) * (t.c.x() - t.a.x());
  if (turn == 0) return;
  const int y0 = std::max(top, static_cast<int>(std::ceil(std::min({t.a.y(), t.b.y(), t.c.y()}) - 0.5f))),
            y1 = std::min(bottom - 1, static_cast<int>(std::floor(std::max({t.a.y(), t.b.y(), t.c.y()}) - 0.5f))),
            x0 = std::max(0, static_cast<int>(std::ceil(std::min({t.a.x(), t.b.x(), t.c.x()}) - 0.5f))),
            x1 = std::min(width - 1, static_cast<int>(std::floor(std::max({t.a.x(), t.b.x(), t.c.x()}) - 0.5f)));
  const float by_turn = 1 / turn, v_x = (t.c.y() - t.a.y()) * by_turn, v_y = -(t.c.x() - t.a.x()) * by_turn,
              w_x = -(t.b.y() - t.a.y()) * by_turn, w_y = (t.b.x() - t.a.x()) * by_turn;
  for (int y = y0; y <= y1; ++y)
    for (int x = x0; x <= x1; ++x) {
      const float px = static_cast<float>(x) + 0.5f - t.a.x(), py = static_cast<float>(y) + 0.5f - t.a.y();
      const float v = px * v_x + py * v_y, w = px * w_x + py * w_y;
      constexpr float kRim = -1e-5f;  // what lies on a side belongs to both
      if (v < kRim || w < kRim || v + w > 1 - kRim) continue;
      put(x, y, 1 / (t.a.z() + v * (t.b.z() - t.a.z()) + w * (t.c.z() - t.a.z())));
    }
}

}  // namespace

MeshInPhoto draw_in_photo(const Mesh& mesh, const Camera& camera, const Pose& pose, int shrink, bool with_faces,
                          const Executor& executor) {
  const int width = camera.width / shrink, height = camera.height / shrink;
  MeshInPhoto drawn;
  drawn.depth = ImageF(width, height, 1, MeshInPhoto::kNoDepth);
  if (with_faces) drawn.faces = Image<std::uint32_t>(width, height, 1, MeshInPhoto::kNoFace);
  std::vector<Vector3f> corners(mesh.positions.size());
  executor.blocks(mesh.positions.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t v = begin; v < end; ++v) {
      corners[v] = Vector3f(0, 0, 0);
      const Vector3d at = pose.to_camera(mesh.position(v));
      const auto p = project(camera, at);
      // A face reaches in from outside by no more than its own size.
      if (!p || !(std::abs(p->x() - camera.width / 2.0) < camera.width) ||
          !(std::abs(p->y() - camera.height / 2.0) < camera.height))
        continue;
      corners[v] = Vector3f(static_cast<float>(p->x() / shrink), static_cast<float>(p->y() / shrink),
                            static_cast<float>(1 / at.z()));
    }
  });
  // Faces by the bands that they reach into.
  const auto bands = static_cast<std::size_t>((height + kBand - 1) / kBand);
  std::vector<std::vector<std::uint32_t>> of_band(bands);
  for (std::uint32_t f = 0; f < mesh.faces.size(); ++f) {
    const Vector3f &a = corners[mesh.faces[f][0]], &b = corners[mesh.faces[f][1]], &c = corners[mesh.faces[f][2]];
    if (!(a.z() > 0 && b.z() > 0 && c.z() > 0)) continue;
    const float low = std::min({a.y(), b.y(), c.y()}), high = std::max({a.y(), b.y(), c.y()});
    if (high < 0 || low > static_cast<float>(height)) continue;
    const auto first = static_cast<std::size_t>(std::max(0.0f, low)) / kBand,
               last = std::min(bands - 1, static_cast<std::size_t>(std::max(0.0f, high)) / kBand);
    for (std::size_t k = first; k <= last; ++k) of_band[k].push_back(f);
  }
  executor.blocks(bands, 1, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t k = begin; k < end; ++k) {
      const int top = static_cast<int>(k) * kBand, bottom = std::min(height, top + kBand);
      for (const std::uint32_t f : of_band[k]) {
        const Face& face = mesh.faces[f];
        fill({corners[face[0]], corners[face[1]], corners[face[2]]}, width, top, bottom, [&](int x, int y, float d) {
          float& nearest = drawn.depth.at(x, y);
          if (!(d < nearest)) return;
          nearest = d;
          if (with_faces) drawn.faces.at(x, y) = f;
        });
      }
    }
  });
  return drawn;
}

}  // namespace icefield
