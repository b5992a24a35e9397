#include "icefield/draw/draw_mesh.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "icefield/photo/filter.h"
#include "src/draw/parts.h"
#include "src/surface/photo_samples.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr int kFiner = 2;  // pixels of the drawing in one of the picture, each way

Bounds focus_of(const Mesh& mesh) {
  Eigen::AlignedBox3d box;
  for (const Vector3f& p : mesh.positions)
    if (p.allFinite()) box.extend(p.cast<double>());
  Bounds focus;
  focus.centre = mesh.origin + box.center();
  focus.half_size = 0.5 * box.sizes();
  return focus;
}

// Larger and moved, so that the mesh fills the picture.
void fill_picture(Eye& eye, const Mesh& mesh, int width, int height) {
  Eigen::AlignedBox2d box;
  for (std::size_t v = 0; v < mesh.positions.size(); ++v) {
    const Vector3d p = eye.place(mesh.position(v));
    if (p.allFinite() && (!eye.perspective || p.z() > 0)) box.extend(p.head<2>());
  }
  if (box.isEmpty()) return;
  constexpr double kShare = 0.94;
  const double larger =
      kShare * std::min(width / std::max(1e-9, box.sizes().x()), height / std::max(1e-9, box.sizes().y()));
  const Vector2d centre = box.center() - eye.middle;
  eye.scale *= larger;
  eye.middle = Vector2d(0.5 * width, 0.5 * height) - larger * centre;
}

// The faces in a picture, the nearest in front.
class Painting {
 public:
  Painting(int width, int height, const Eye& eye, const Tone& ground)
      : image_(width, height, 3),
        nearest_(static_cast<std::size_t>(width) * static_cast<std::size_t>(height), 1e30f),
        eye_(eye) {
    for (int y = 0; y < height; ++y)
      for (int x = 0; x < width; ++x) {
        const double tone[] = {ground.r, ground.g, ground.b};
        for (int c = 0; c < 3; ++c) image_.at(x, y, c) = static_cast<std::uint8_t>(255 * tone[c]);
      }
  }

  // Corners as pixels and depths; `colour(weights)` of a place by the shares of its corners.
  template <class Colour>
  void face(const std::array<Vector3d, 3>& p, const Colour& colour) {
    for (const Vector3d& c : p)
      if (eye_.perspective && !(c.z() > 1e-6)) return;
    const double twice = (p[1].x() - p[0].x()) * (p[2].y() - p[0].y()) - (p[2].x() - p[0].x()) * (p[1].y() - p[0].y());
    if (!(std::abs(twice) > 1e-12)) return;
    const auto range = [&](int c, int most) {
      const double low = std::min({p[0][c], p[1][c], p[2][c]}), high = std::max({p[0][c], p[1][c], p[2][c]});
      return std::pair(std::max(0, static_cast<int>(std::floor(std::max(-1.0, low - 0.5)))),
                       std::min(most - 1, static_cast<int>(std::ceil(std::min<double>(most, high)))));
    };
    const auto [x0, x1] = range(0, image_.width());
    const auto [y0, y1] = range(1, image_.height());
    for (int y = y0; y <= y1; ++y)
      for (int x = x0; x <= x1; ++x) {
        const double px = x + 0.5, py = y + 0.5;
        std::array<double, 3> w;
        for (std::size_t k = 0; k < 3; ++k) {
          const Vector3d &a = p[(k + 1) % 3], &b = p[(k + 2) % 3];
          w[k] = ((a.x() - px) * (b.y() - py) - (b.x() - px) * (a.y() - py)) / twice;
        }
        if (w[0] < 0 || w[1] < 0 || w[2] < 0) continue;
        double depth = w[0] * p[0].z() + w[1] * p[1].z() + w[2] * p[2].z();
        if (eye_.perspective) {
          depth = 1 / (w[0] / p[0].z() + w[1] / p[1].z() + w[2] / p[2].z());
          for (std::size_t k = 0; k < 3; ++k) w[k] *= depth / p[k].z();
        }
        float& before = nearest_[static_cast<std::size_t>(y) * static_cast<std::size_t>(image_.width()) +
                                 static_cast<std::size_t>(x)];
        if (!(depth < before)) continue;
        before = static_cast<float>(depth);
        const Vector3d rgb = colour(w);
        for (int c = 0; c < 3; ++c) image_.at(x, y, c) = static_cast<std::uint8_t>(std::clamp(rgb[c], 0.0, 255.0));
      }
  }
  // Whether a place is no farther than what was painted there, but for a little.
  bool seen(const Vector3d& p, double slack) const {
    const int x = pixel_at(p.x()), y = pixel_at(p.y());
    if (x < 0 || y < 0 || x >= image_.width() || y >= image_.height() || (eye_.perspective && p.z() <= 0)) return false;
    return p.z() <= nearest_[static_cast<std::size_t>(y) * static_cast<std::size_t>(image_.width()) +
                             static_cast<std::size_t>(x)] +
                        slack;
  }
  const ImageU8& image() const { return image_; }

 private:
  ImageU8 image_;
  std::vector<float> nearest_;
  const Eye& eye_;
};

// A tone for each patch of a texture: faces that lie side by side on a page as they do on the mesh.
std::vector<Vector3d> patch_tones(const Mesh& mesh, const Texture& texture) {
  UnionFind patches(mesh.faces.size());
  const MeshEdges edges = edges_of(mesh);
  const auto place_of = [&](std::uint32_t face, std::uint32_t vertex) {
    for (std::size_t k = 0; k < 3; ++k)
      if (mesh.faces[face][k] == vertex) return texture.corners[face][k];
    return Vector2f(0, 0);
  };
  for (const MeshEdges::Edge& e : edges.edges) {
    if (e.count != 2) continue;
    const std::uint32_t f = edges.faces[e.first], g = edges.faces[e.first + 1];
    if (texture.page[f] == texture.page[g] && (place_of(f, e.low) - place_of(g, e.low)).norm() < 0.01f &&
        (place_of(f, e.high) - place_of(g, e.high)).norm() < 0.01f)
      patches.join(f, g);
  }
  std::vector<Vector3d> tones(mesh.faces.size());
  for (std::uint32_t f = 0; f < tones.size(); ++f) {
    CounterRandom random(patches.find(f));
    for (int c = 0; c < 3; ++c) tones[f][c] = 70 + 170 * random.uniform();
    const ImageU8& origins = texture.origins[texture.page[f]];
    const Vector2f middle = (texture.corners[f][0] + texture.corners[f][1] + texture.corners[f][2]) / 3;
    const int x = std::clamp(static_cast<int>(middle.x()), 0, origins.width() - 1),
              y = std::clamp(static_cast<int>(middle.y()), 0, origins.height() - 1);
    if (origins.at(x, y) == static_cast<std::uint8_t>(TexelOrigin::filled)) tones[f].setConstant(150);
  }
  return tones;
}

}  // namespace

ImageU8 draw_mesh(const Mesh& mesh, const DrawOptions& options, const DrawMeshOptions& wanted) {
  check_arrays(mesh);
  const auto need = [](bool good, const char* paint, const char* what) {
    if (!good)
      throw Error(ErrorKind::usage, paint, fmt::format("needs {}, which the mesh does not carry", what),
                  "draw its shape or wire");
  };
  need(wanted.paint != MeshPaint::support || !mesh.support.empty(), "support", "the support of its vertices");
  need(wanted.paint != MeshPaint::error || !mesh.errors.empty(), "error", "expected errors");
  const bool painted = wanted.paint == MeshPaint::texture || wanted.paint == MeshPaint::patches;
  need(!painted || (wanted.texture && !wanted.texture->empty()), "texture", "a texture");
  if (painted) check_texture(mesh, *wanted.texture);
  const std::vector<Vector3d> tones =
      wanted.paint == MeshPaint::patches ? patch_tones(mesh, *wanted.texture) : std::vector<Vector3d>();
  const bool with_colours = wanted.paint == MeshPaint::colour && !mesh.colours.empty();
  Canvas canvas(options.width, options.height, kFirn);
  const int height = options.height - kFooter;
  std::vector<double> values;
  if (wanted.paint == MeshPaint::support) values.assign(mesh.support.begin(), mesh.support.end());
  if (wanted.paint == MeshPaint::error) values.assign(mesh.errors.begin(), mesh.errors.end());
  if (!mesh.empty()) {
    const Bounds shown = focus_of(mesh);
    const double radius = std::max(1e-9, shown.half_size.norm());
    Eye eye = eye_at(shown.centre, shown.half_size, wanted.from, options, options.width - (values.empty() ? 0 : 90),
                     height, 2.9, 1.7);
    fill_picture(eye, mesh, options.width - (values.empty() ? 0 : 90), height);
    const ValueScale scale(values, false, [](std::size_t) { return true; });
    Eye finer = eye;
    finer.scale *= kFiner, finer.middle *= kFiner;
    Painting painting(kFiner * options.width, kFiner * height, finer, kFirn);
    std::vector<Vector3d> places(mesh.positions.size());
    for (std::size_t v = 0; v < places.size(); ++v) places[v] = finer.place(mesh.position(v));
    const Vector3d up = eye.pose.orientation * Vector3d::UnitZ(), light = Vector3d(-0.4, -0.7, -0.6).normalized();
    const Vector3d clay(188, 196, 202), gone(255 * kRust.r, 255 * kRust.g, 255 * kRust.b);
    for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
      const Face& face = mesh.faces[f];
      const bool marked = !wanted.marked.empty() && wanted.marked[f];
      // In the frame of the eye: x right, y down, z away.
      std::array<Vector3d, 3> normals;
      Vector3d flat = eye.pose.orientation * face_normal(mesh, f).cast<double>();
      const Vector3d middle = eye.pose.to_camera(mesh.position(face[0]));
      const bool back = flat.dot(eye.perspective ? middle : Vector3d::UnitZ().eval()) > 0;
      for (std::size_t k = 0; k < 3; ++k)
        normals[k] =
            mesh.normals.empty() ? flat : Vector3d(eye.pose.orientation * mesh.normals[face[k]].cast<double>());
      painting.face({places[face[0]], places[face[1]], places[face[2]]}, [&](const std::array<double, 3>& w) {
        Vector3d normal = w[0] * normals[0] + w[1] * normals[1] + w[2] * normals[2];
        if (normal.norm() > 0) normal.normalize();
        if (back) normal = -normal;
        const double lit = 0.35 + 0.5 * std::max(0.0, normal.dot(light)) + 0.15 * (0.5 + 0.5 * normal.dot(up));
        Vector3d colour = clay;
        double shade = lit * (back ? 0.55 : 1.0);
        if (wanted.paint == MeshPaint::texture) {
          const auto& corners = wanted.texture->corners[f];
          Vector2f at = Vector2f::Zero();
          for (std::size_t k = 0; k < 3; ++k) at += static_cast<float>(w[k]) * corners[k];
          colour = rgb_bilinear(wanted.texture->pages[wanted.texture->page[f]], at.x(), at.y()).cast<double>();
          shade = back ? 0.4 : 1.0;
        } else if (wanted.paint == MeshPaint::patches) {
          colour = tones[f];
          shade = (0.55 + 0.5 * lit) * (back ? 0.55 : 1.0);
        } else if (with_colours) {
          colour.setZero();
          for (std::size_t k = 0; k < 3; ++k)
            for (int c = 0; c < 3; ++c) colour[c] += w[k] * mesh.colours[face[k]][static_cast<std::size_t>(c)];
          shade = (0.75 + 0.35 * lit) * (back ? 0.55 : 1.0);
        } else if (!values.empty()) {
          const auto scaled = scale.colour(w[0] * values[face[0]] + w[1] * values[face[1]] + w[2] * values[face[2]]);
          colour = Vector3d(scaled[0], scaled[1], scaled[2]);
          shade = 0.6 + 0.45 * lit;
        }
        if (marked) colour = gone, shade = 0.5 + 0.6 * lit;
        if (wanted.paint == MeshPaint::wire) {
          // The share of a corner falls off by its height over the opposite side.
          double rim = 1e9, least = 1e9;
          for (std::size_t k = 0; k < 3; ++k) {
            const Vector3d &a = places[face[(k + 1) % 3]], &b = places[face[(k + 2) % 3]], &c = places[face[k]];
            const Vector2d along = (b - a).head<2>(), to = (c - a).head<2>();
            const double tall = std::abs(along.x() * to.y() - along.y() * to.x()) / std::max(1e-9, along.norm());
            rim = std::min(rim, w[k] * tall), least = std::min(least, tall);
          }
          // Where faces are no larger than lines are wide, lines would hide the shape.
          constexpr double kClear = 14;
          if (rim < 1.1) shade *= 1 - 0.55 * std::min(1.0, least / kClear);
        }
        return Vector3d(shade * colour);
      });
    }
    paste(canvas, shrink(painting.image(), kFiner), 0, 0, 1);
    if (wanted.borders && wanted.paint != MeshPaint::texture) {
      const double slack = 0.01 * radius;
      for (const MeshEdges::Edge& e : edges_of(mesh).edges) {
        if (e.count != 1) continue;
        const Vector3d &a = places[e.low], &b = places[e.high];
        if (!painting.seen(a, slack) || !painting.seen(b, slack)) continue;
        canvas.line(a.x() / kFiner, a.y() / kFiner, b.x() / kFiner, b.y() / kFiner, kRust, 1.2);
      }
    }
    if (!values.empty()) scale.draw(canvas, height, wanted.paint == MeshPaint::support ? "support" : "expected error");
  }
  footer(canvas, options.title, fmt::format("{} faces; {}", mesh.faces.size(), seen_from(wanted.from, options)));
  return canvas.image();
}

}  // namespace icefield
