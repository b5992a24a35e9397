#include "icefield/surface/bake.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/surface/simplify.h"
#include "src/surface/chart_raster.h"
#include "src/surface/face_tree.h"
#include "src/surface/fill_pages.h"
#include "src/surface/photo_samples.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;

void check_options(const Mesh& light, const Mesh& fine, const Texture* texture, const BakeOptions& o) {
  check_arrays(light);
  check_arrays(fine);
  if (light.empty() || fine.empty() || light.normals.empty())
    throw Error(ErrorKind::usage, "bake", "is asked for of a mesh without faces or normals", "give other meshes");
  if (texture && !texture->empty()) check_texture(fine, *texture);
  if (o.page_size < 64 || o.page_size > 16384 || o.max_pages < 1 || o.max_pages > 999 || o.gutter < 1 ||
      o.gutter > 64 || !(o.texel >= 0) || !(o.bend > 0 && o.bend < 1.5) || !(o.reach >= 0) ||
      !(o.occlusion_reach >= 0) || o.occlusion_rays < 1 || o.occlusion_rays > 4096)
    throw Error(ErrorKind::usage, "bake", "is asked for with a number out of range",
                "see bake.h: from 1 to 999 pages of 64 to 16384 texels, lengths not below 0");
}

double size_of(const Mesh& mesh) {
  Eigen::AlignedBox3f box;
  for (const Vector3f& p : mesh.positions) box.extend(p);
  return box.isEmpty() ? 0 : static_cast<double>(box.diagonal().norm());
}

class Baking {
 public:
  Baking(const Mesh& light, const Mesh& fine, const Texture* texture, const BakeOptions& options,
         const Executor& executor, Monitor& monitor)
      : light_(light),
        fine_(fine),
        painted_(texture && !texture->empty() ? texture : nullptr),
        options_(options),
        executor_(executor.watching(monitor)),
        monitor_(monitor),
        tree_(fine),
        shift_((light.origin - fine.origin).cast<float>()) {}

  Baked run() {
    result_.summary.colour_from = painted_ ? "texture" : !fine_.colours.empty() ? "vertices" : "nothing";
    set_reach();
    make_layout();
    if (options_.occlusion) hide();
    if (options_.normals || (!painted_ && fine_.normals.empty())) {
      fine_normals_ = fine_.normals;
      if (fine_normals_.empty()) {
        Mesh copy;
        copy.positions = fine_.positions, copy.faces = fine_.faces;
        set_normals(copy);
        fine_normals_ = std::move(copy.normals);
      }
    }
    set_tangents();
    paint();
    finish();
    return std::move(result_);
  }

 private:
  void set_reach() {
    double& reach = result_.summary.reach;
    reach = options_.reach;
    if (reach > 0) return;
    // Both ways: the fine mesh may have what the light one has lost.
    constexpr double kRoom = 2;
    reach = kRoom * std::max(distance_to(light_, fine_, 20'000, executor_).q95,
                             distance_to(fine_, light_, 20'000, executor_).q95);
    reach = std::max(reach, 1e-6 * size_of(fine_));
  }

  void make_layout() {
    const MeshEdges edges = edges_of(light_);
    charts_ = make_flat_charts(light_, edges, options_.bend);
    TextureOptions layout;
    layout.page_size = options_.page_size, layout.max_pages = options_.max_pages, layout.gutter = options_.gutter;
    double flat = 0, whole = 0, largest = 1;
    for (const Chart& chart : charts_)
      for (std::size_t i = 0; i < chart.faces.size(); ++i) {
        const auto& c = chart.corners[i];
        const Vector2d ab = c[1] - c[0], ac = c[2] - c[0];
        const double on_page = 0.5 * std::abs(ab.x() * ac.y() - ab.y() * ac.x()),
                     real = face_area(light_, chart.faces[i]);
        flat += on_page, whole += real;
        if (on_page > 0) largest = std::max(largest, real / on_page);
      }
    result_.summary.stretch_mean = flat > 0 ? whole / flat : 1, result_.summary.stretch_largest = largest;
    layout.texel = options_.texel > 0 ? options_.texel
                                      : std::max(1e-12, std::sqrt(flat / options_.max_pages) / options_.page_size);
    const PageSize size = lay_out(charts_, layout, executor_, monitor_);
    Texture& texture = result_.texture;
    texture.pages.assign(static_cast<std::size_t>(size.pages), ImageU8(size.size, size.size, 3));
    texture.origins.assign(static_cast<std::size_t>(size.pages), ImageU8(size.size, size.size));
    texture.page.resize(light_.faces.size());
    texture.corners.resize(light_.faces.size());
    for (const Chart& chart : charts_)
      for (std::size_t i = 0; i < chart.faces.size(); ++i) {
        texture.page[chart.faces[i]] = static_cast<std::uint16_t>(chart.page);
        for (std::size_t k = 0; k < 3; ++k)
          texture.corners[chart.faces[i]][k] = chart.on_page(chart.on_chart(chart.corners[i][k])).cast<float>();
      }
    BakeSummary& s = result_.summary;
    s.charts = charts_.size(), s.pages = static_cast<std::size_t>(size.pages), s.page_size = size.size;
    s.texel = charts_.empty() ? 0 : 1 / charts_.front().scale;
    if (painted_) {
      double on_pages = 0;
      for (const auto& c : painted_->corners) {
        const Vector2f ab = c[1] - c[0], ac = c[2] - c[0];
        on_pages += 0.5 * static_cast<double>(std::abs(ab.x() * ac.y() - ab.y() * ac.x()));
      }
      const double finer = on_pages > 0 ? s.texel / std::sqrt(area(fine_) / on_pages) : 1;
      samples_ = std::clamp(static_cast<int>(std::ceil(0.8 * finer)), 1, 6);
    }
  }

  // What of the sky the vertices of the fine mesh see, by rays about their normals, the straight ones more often.
  void hide() {
    Mesh copy;
    copy.positions = fine_.positions, copy.faces = fine_.faces;
    set_normals(copy);
    const auto reach =
        static_cast<float>(options_.occlusion_reach > 0 ? options_.occlusion_reach : 0.2 * size_of(fine_));
    const float off = 1e-4f * reach;
    open_.assign(fine_.positions.size(), 1.0f);
    constexpr std::size_t kGrain = 2048;
    executor_.run("occlusion", block_count(open_.size(), kGrain), monitor_, [&](std::size_t block) {
      for (std::size_t v = block * kGrain; v < std::min((block + 1) * kGrain, open_.size()); ++v) {
        const Vector3f n = copy.normals[v];
        if (!(n.norm() > 0)) continue;
        const Vector3f a = n.unitOrthogonal(), b = n.cross(a);
        CounterRandom random(combine_keys(31, v));
        int seen = 0;
        for (int r = 0; r < options_.occlusion_rays; ++r) {
          // Strata along the height, so that few rays are spread evenly.
          const double u = (r + random.uniform()) / options_.occlusion_rays, w = random.uniform();
          const auto out = static_cast<float>(std::sqrt(1 - u)), aside = static_cast<float>(std::sqrt(u));
          const auto turn = static_cast<float>(2 * std::numbers::pi * w);
          FaceTree::Ray ray;
          ray.along = out * n + aside * (std::cos(turn) * a + std::sin(turn) * b);
          ray.from = fine_.positions[v] + off * n;
          ray.least = 0, ray.most = reach;
          seen += !tree_.blocked(ray);
        }
        open_[v] = static_cast<float>(seen) / static_cast<float>(options_.occlusion_rays);
      }
    });
  }

  void set_tangents() {
    result_.tangents.resize(light_.faces.size());
    for (const Chart& chart : charts_) {
      // The way that the page's x axis goes on the chart.
      Vector2d along(1, 0);
      for (int t = 0; t < chart.turns; ++t) along = Vector2d(along.y(), -along.x());
      const Vector3f way = (along.x() * chart.axes[0] + along.y() * chart.axes[1]).cast<float>();
      for (const std::uint32_t f : chart.faces)
        for (std::size_t k = 0; k < 3; ++k) {
          const Vector3f n = light_.normals[light_.faces[f][k]];
          const Vector3f t = way - n.dot(way) * n;
          result_.tangents[f][k] = t.norm() > 1e-6f ? Vector3f(t.normalized()) : Vector3f(n.unitOrthogonal());
        }
    }
  }

  struct Place {
    std::uint32_t face = 0;
    std::array<float, 3> weights{};
    bool missed = false;
  };
  Place find(const Vector3f& p, const Vector3f& normal) const {
    const auto reach = static_cast<float>(result_.summary.reach);
    Place place;
    float nearest = std::numeric_limits<float>::infinity();
    for (const float side : {1.0f, -1.0f}) {
      FaceTree::Ray ray;
      // A little from the other side, so that a place on the surface is found.
      ray.from = p - 0.02f * side * reach * normal, ray.along = side * normal, ray.least = 0, ray.most = 1.02f * reach;
      const auto hit = tree_.first_hit(ray);
      if (!hit || face_normal(fine_, hit->face).dot(normal) <= 0) continue;
      const float away = std::abs(hit->distance - 0.02f * reach);
      if (away < nearest) nearest = away, place.face = hit->face, place.weights = hit->weights;
    }
    if (nearest < std::numeric_limits<float>::infinity()) return place;
    const FaceTree::Nearest near = tree_.nearest(p);
    place.missed = true;
    place.face = near.face;
    const Face& face = fine_.faces[near.face];
    const Vector3f &a = fine_.positions[face[0]], ab = fine_.positions[face[1]] - a, ac = fine_.positions[face[2]] - a,
                   ap = near.place - a;
    const float d00 = ab.dot(ab), d01 = ab.dot(ac), d11 = ac.dot(ac), d20 = ap.dot(ab), d21 = ap.dot(ac),
                det = d00 * d11 - d01 * d01;
    if (det > 0) {
      const float v = std::clamp((d11 * d20 - d01 * d21) / det, 0.0f, 1.0f),
                  w = std::clamp((d00 * d21 - d01 * d20) / det, 0.0f, 1.0f - v);
      place.weights = {1 - v - w, v, w};
    } else {
      place.weights = {1, 0, 0};
    }
    return place;
  }

  // Of 255; and whether it is made up.
  Vector3f colour_at(const Place& place, bool& filled) const {
    if (painted_) {
      Vector2f at = Vector2f::Zero();
      for (std::size_t k = 0; k < 3; ++k) at += place.weights[k] * painted_->corners[place.face][k];
      const std::size_t page = painted_->page[place.face];
      const ImageU8& origins = painted_->origins[page];
      const int x = std::clamp(static_cast<int>(at.x()), 0, origins.width() - 1),
                y = std::clamp(static_cast<int>(at.y()), 0, origins.height() - 1);
      filled = origins.at(x, y) == static_cast<std::uint8_t>(TexelOrigin::filled);
      return rgb_bilinear(painted_->pages[page], at.x(), at.y());
    }
    filled = false;
    if (fine_.colours.empty()) return Vector3f::Constant(200);
    Vector3f colour = Vector3f::Zero();
    for (std::size_t k = 0; k < 3; ++k)
      for (int c = 0; c < 3; ++c)
        colour[c] += place.weights[k] *
                     static_cast<float>(fine_.colours[fine_.faces[place.face][k]][static_cast<std::size_t>(c)]);
    return colour;
  }

  void paint() {
    const std::size_t pages = result_.texture.pages.size();
    const int size = result_.summary.page_size;
    // Pages of normals and of the sky go through the same hands as colours.
    Texture others[2];
    for (Texture& other : others)
      other.pages.assign(pages, ImageU8(size, size, 3)), other.origins.assign(pages, ImageU8(size, size));
    std::vector<std::array<std::size_t, 2>> counts(charts_.size(), {0, 0});
    executor_.run("bake", charts_.size(), monitor_, [&](std::size_t c) {
      const Chart& chart = charts_[c];
      ChartRaster raster(chart);
      const Image<std::uint32_t> faces = raster.owner();
      raster.widen(options_.gutter);
      ImageF colours(chart.width, chart.height, 3), normals(chart.width, chart.height, 3),
          sky(chart.width, chart.height, 3);
      std::vector<std::array<int, 2>> made_up;
      raster.each([&](int x, int y, std::uint32_t i, const std::array<double, 3>& w) {
        texel(chart, x, y, i, w, faces, colours, normals, sky, counts[c], made_up);
      });
      put_on_page(chart, raster, faces, colours, TexelOrigin::photo, result_.texture);
      for (const auto& [x, y] : made_up) {
        const Vector2d at = chart.on_page(Vector2d(x + 0.5, y + 0.5));
        result_.texture.origins[static_cast<std::size_t>(chart.page)].at(
            static_cast<int>(at.x()), static_cast<int>(at.y())) = static_cast<std::uint8_t>(TexelOrigin::filled);
      }
      if (options_.normals) put_on_page(chart, raster, faces, normals, TexelOrigin::photo, others[0]);
      if (options_.occlusion) put_on_page(chart, raster, faces, sky, TexelOrigin::photo, others[1]);
    });
    std::size_t all = 0, missed = 0;
    for (const auto& count : counts) all += count[0], missed += count[1];
    result_.summary.missed_percent = all > 0 ? 100.0 * static_cast<double>(missed) / static_cast<double>(all) : 0;
    if (options_.normals) {
      fill_pages(others[0]);
      result_.normals = std::move(others[0].pages);
    }
    if (options_.occlusion) {
      fill_pages(others[1]);
      for (const ImageU8& page : others[1].pages) {
        ImageU8& grey = result_.occlusion.emplace_back(size, size);
        for (int y = 0; y < size; ++y)
          for (int x = 0; x < size; ++x) grey.at(x, y) = page.at(x, y, 0);
      }
    }
  }

  void texel(const Chart& chart, int x, int y, std::uint32_t i, const std::array<double, 3>& w,
             const Image<std::uint32_t>& faces, ImageF& colours, ImageF& normals, ImageF& sky,
             std::array<std::size_t, 2>& counts, std::vector<std::array<int, 2>>& made_up) const {
    const std::uint32_t f = chart.faces[i];
    const Face& face = light_.faces[f];
    Vector3d p = Vector3d::Zero();
    Vector3f n = Vector3f::Zero(), t = Vector3f::Zero();
    for (std::size_t k = 0; k < 3; ++k) {
      p += w[k] * light_.positions[face[k]].cast<double>();
      n += static_cast<float>(w[k]) * light_.normals[face[k]];
      t += static_cast<float>(w[k]) * result_.tangents[f][k];
    }
    n = n.norm() > 0 ? Vector3f(n.normalized()) : face_normal(light_, f);
    const Vector3f at = p.cast<float>() + shift_;
    const Place place = find(at, n);
    const bool own = faces.at(x, y) != ChartRaster::kNoFace;
    counts[0] += own, counts[1] += own && place.missed;
    bool filled = false;
    Vector3f colour = colour_at(place, filled);
    if (own && filled) made_up.push_back({x, y});
    if (samples_ > 1 && options_.colour) {
      // A texel covers several of the fine one: their mean.
      const Vector3f across = (chart.axes[0] / chart.scale).cast<float>(),
                     down = (chart.axes[1] / chart.scale).cast<float>();
      Vector3f sum = Vector3f::Zero();
      const auto steps = static_cast<float>(samples_);
      for (int v = 0; v < samples_; ++v)
        for (int u = 0; u < samples_; ++u) {
          bool ignored;
          const Vector3f near = at + ((static_cast<float>(u) + 0.5f) / steps - 0.5f) * across +
                                ((static_cast<float>(v) + 0.5f) / steps - 0.5f) * down;
          sum += colour_at(find(near, n), ignored);
        }
      colour = sum / (steps * steps);
    }
    if (!options_.colour) colour.setConstant(200);
    for (int k = 0; k < 3; ++k) colours.at(x, y, k) = colour[k];
    const Face& fine = fine_.faces[place.face];
    if (options_.normals) {
      Vector3f fine_normal = Vector3f::Zero();
      for (std::size_t k = 0; k < 3; ++k) fine_normal += place.weights[k] * fine_normals_[fine[k]];
      fine_normal = fine_normal.norm() > 0 ? Vector3f(fine_normal.normalized()) : n;
      t -= n.dot(t) * n;
      t = t.norm() > 0 ? Vector3f(t.normalized()) : n.unitOrthogonal();
      const Vector3f up = t.cross(n);  // of the page, whose y axis goes down
      const float in_frame[] = {fine_normal.dot(t), fine_normal.dot(up), fine_normal.dot(n)};
      for (int k = 0; k < 3; ++k) normals.at(x, y, k) = 128 + 127 * in_frame[k];
    }
    if (options_.occlusion) {
      float open = 0;
      for (std::size_t k = 0; k < 3; ++k) open += place.weights[k] * open_[fine[k]];
      for (int k = 0; k < 3; ++k) sky.at(x, y, k) = 255 * open;
    }
  }

  void finish() {
    result_.summary.used_percent = fill_pages(result_.texture);
    result_.summary.outcome = "baked";
  }

  const Mesh &light_, &fine_;
  const Texture* painted_;
  const BakeOptions& options_;
  const Executor executor_;
  Monitor& monitor_;
  const FaceTree tree_;
  const Vector3f shift_;
  int samples_ = 1;
  std::vector<Vector3f> fine_normals_;
  std::vector<float> open_;  // by vertex of the fine mesh
  std::vector<Chart> charts_;
  Baked result_;
};

}  // namespace

Baked bake(const Mesh& light, const Mesh& fine, const Texture* fine_texture, const BakeOptions& options,
           const Executor& executor, Monitor& monitor) {
  check_options(light, fine, fine_texture, options);
  return Baking(light, fine, fine_texture, options, executor, monitor).run();
}

}  // namespace icefield
