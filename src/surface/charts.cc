#include "src/surface/charts.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>
#include <unordered_set>

#include "icefield/base/error.h"
#include "src/surface/pack_shapes.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

// Texels of a cell, each way: charts are placed by cells.
int cell_of(int page_size) {
  return page_size <= 4096 ? 2 : 4;
}

// The neighbours of each face across edges of two faces.
struct FaceNeighbours {
  std::vector<std::array<std::uint32_t, 3>> across;
  explicit FaceNeighbours(const Mesh& mesh, const MeshEdges& edges)
      : across(mesh.faces.size(), {kUnseen, kUnseen, kUnseen}) {
    const auto put = [&](std::uint32_t f, std::uint32_t g) {
      for (std::uint32_t& a : across[f])
        if (a == kUnseen) {
          a = g;
          return;
        }
    };
    for (const MeshEdges::Edge& e : edges.edges) {
      if (e.count != 2) continue;
      put(edges.faces[e.first], edges.faces[e.first + 1]);
      put(edges.faces[e.first + 1], edges.faces[e.first]);
    }
  }
};

// Axes of a plane that a face's normal stands on.
std::array<Vector3d, 2> axes_under(const Vector3d& normal) {
  const Vector3d a = normal.unitOrthogonal();
  return {a, normal.cross(a)};
}

void measure(Chart& chart, const Mesh& mesh) {
  double flat = 0, real = 0;
  chart.low = Vector2d::Constant(std::numeric_limits<double>::infinity()), chart.high = -chart.low;
  for (std::size_t i = 0; i < chart.faces.size(); ++i) {
    const auto& c = chart.corners[i];
    const Vector2d ab = c[1] - c[0], ac = c[2] - c[0];
    flat += 0.5 * std::abs(ab.x() * ac.y() - ab.y() * ac.x());
    real += face_area(mesh, chart.faces[i]);
    for (const Vector2d& p : c) chart.low = chart.low.cwiseMin(p), chart.high = chart.high.cwiseMax(p);
  }
  chart.texel = chart.photo == kUnseen ? 1 : flat > 0 ? std::sqrt(real / flat) : 0;
}

// Which cells a chart needs, its gutter included.
CellShape cells_of(const Chart& chart, int gutter, int cell) {
  CellShape shape(chart.width / cell, chart.height / cell);
  for (const auto& corners : chart.corners) {
    std::array<Vector2d, 3> p;
    for (std::size_t k = 0; k < 3; ++k) p[k] = chart.on_chart(corners[k]) / cell;
    const double margin = static_cast<double>(gutter) / cell;
    const Vector2d low = p[0].cwiseMin(p[1]).cwiseMin(p[2]).array() - margin,
                   high = p[0].cwiseMax(p[1]).cwiseMax(p[2]).array() + margin;
    const int x0 = std::clamp(static_cast<int>(std::floor(low.x())), 0, shape.width - 1),
              x1 = std::clamp(static_cast<int>(std::floor(high.x())), 0, shape.width - 1),
              y0 = std::clamp(static_cast<int>(std::floor(low.y())), 0, shape.height - 1),
              y1 = std::clamp(static_cast<int>(std::floor(high.y())), 0, shape.height - 1);
    // Sides, as far out as the margin and the half of a cell reach.
    std::array<Vector2d, 3> normal;
    std::array<double, 3> reach;
    const double turn = (p[1] - p[0]).x() * (p[2] - p[0]).y() - (p[1] - p[0]).y() * (p[2] - p[0]).x();
    for (std::size_t k = 0; k < 3; ++k) {
      const Vector2d along = p[(k + 1) % 3] - p[k];
      normal[k] = Vector2d(along.y(), -along.x()) * (turn > 0 ? 1 : -1);  // outwards
      const double length = normal[k].norm();
      if (length > 0) normal[k] /= length;
      reach[k] = (margin + 0.5) * normal[k].cwiseAbs().sum();
    }
    for (int y = y0; y <= y1; ++y)
      for (int x = x0; x <= x1; ++x) {
        const Vector2d middle(x + 0.5, y + 0.5);
        bool out = false;
        for (std::size_t k = 0; k < 3 && turn != 0; ++k) out = out || normal[k].dot(middle - p[k]) > reach[k];
        if (!out) shape.set(x, y);
      }
  }
  return shape;
}

// Sizes of the charts for texels of a size.
void scale_charts(std::vector<Chart>& charts, double texel, int gutter, int cell) {
  for (Chart& chart : charts) {
    chart.scale = chart.photo == kUnseen ? chart.fineness / texel : std::min(1.0, chart.texel / texel);
    if (chart.scale == 1)
      chart.shift = Vector2d::Constant(gutter) - chart.low.array().floor().matrix();
    else
      chart.shift = Vector2d::Constant(gutter) - chart.scale * chart.low;
    const Vector2d size = chart.on_chart(chart.high).array() + gutter;
    const auto whole = [&](double length) {
      return cell * std::max(1, static_cast<int>(std::ceil(std::min(length, 1e6) / cell)));
    };
    chart.width = whole(size.x()), chart.height = whole(size.y());
  }
}

}  // namespace

Vector2d Chart::on_page(const Vector2d& p) const {
  Vector2d q = p;
  double w = width, h = height;
  for (int t = 0; t < turns; ++t) {
    q = Vector2d(h - q.y(), q.x());
    std::swap(w, h);
  }
  return q + Vector2d(x, y);
}

std::vector<Chart> make_charts(const Mesh& mesh, const MeshEdges& edges, const Block& block,
                               const std::vector<std::uint32_t>& choice) {
  const FaceNeighbours neighbours(mesh, edges);
  std::vector<std::uint8_t> done(mesh.faces.size(), 0);
  std::vector<Chart> charts;
  std::vector<std::uint32_t> open;
  const double flat_enough = std::cos(0.9);
  for (std::uint32_t seed = 0; seed < mesh.faces.size(); ++seed) {
    if (done[seed]) continue;
    Chart chart;
    chart.photo = choice[seed];
    const Vector3f upright = face_normal(mesh, seed);
    done[seed] = 1;
    open.assign(1, seed);
    while (!open.empty()) {
      const std::uint32_t f = open.back();
      open.pop_back();
      chart.faces.push_back(f);
      for (const std::uint32_t g : neighbours.across[f]) {
        if (g == kUnseen || done[g] || choice[g] != chart.photo) continue;
        if (chart.photo == kUnseen && !(face_normal(mesh, g).dot(upright) > flat_enough)) continue;
        done[g] = 1;
        open.push_back(g);
      }
    }
    std::sort(chart.faces.begin(), chart.faces.end());
    chart.corners.reserve(chart.faces.size());
    const auto axes = axes_under(upright.norm() > 0 ? Vector3d(upright.cast<double>()) : Vector3d::UnitZ());
    for (const std::uint32_t f : chart.faces) {
      std::array<Vector2d, 3>& corners = chart.corners.emplace_back();
      for (std::size_t k = 0; k < 3; ++k) {
        const std::uint32_t v = mesh.faces[f][k];
        if (chart.photo == kUnseen) {
          const Vector3d p = mesh.positions[v].cast<double>();
          corners[k] = Vector2d(axes[0].dot(p), axes[1].dot(p));
        } else {
          const PosedPhoto& photo = block.photos[chart.photo];
          corners[k] = *project(block.camera_of(photo), photo.pose.to_camera(mesh.position(v)));
        }
      }
    }
    measure(chart, mesh);
    charts.push_back(std::move(chart));
  }
  return charts;
}

namespace {

// The cells of a chart's plane that faces have taken.
class TakenCells {
 public:
  explicit TakenCells(double size) : size_(size) {}
  // Takes the cells whose middles lie in the triangle; none where another face has one of them.
  bool take(const std::array<Vector2d, 3>& p) {
    found_.clear();
    const Vector2d low = p[0].cwiseMin(p[1]).cwiseMin(p[2]) / size_, high = p[0].cwiseMax(p[1]).cwiseMax(p[2]) / size_;
    const Vector2d ab = p[1] - p[0], ac = p[2] - p[0];
    const double turn = ab.x() * ac.y() - ab.y() * ac.x();
    if (turn == 0) return true;
    for (auto y = static_cast<std::int64_t>(std::floor(low.y())); y <= static_cast<std::int64_t>(high.y()); ++y)
      for (auto x = static_cast<std::int64_t>(std::floor(low.x())); x <= static_cast<std::int64_t>(high.x()); ++x) {
        const Vector2d ap = size_ * Vector2d(static_cast<double>(x) + 0.5, static_cast<double>(y) + 0.5) - p[0];
        const double v = (ap.x() * ac.y() - ap.y() * ac.x()) / turn, w = (ab.x() * ap.y() - ab.y() * ap.x()) / turn;
        constexpr double kInside = 1e-6;
        if (v < kInside || w < kInside || v + w > 1 - kInside) continue;
        const std::uint64_t cell = static_cast<std::uint64_t>(x) << 32 ^ (static_cast<std::uint64_t>(y) & 0xffffffffu);
        if (taken_.count(cell) > 0) return false;
        found_.push_back(cell);
      }
    taken_.insert(found_.begin(), found_.end());
    return true;
  }

 private:
  double size_;
  std::unordered_set<std::uint64_t> taken_;
  std::vector<std::uint64_t> found_;
};

}  // namespace

std::vector<Chart> make_flat_charts(const Mesh& mesh, const MeshEdges& edges, double bend) {
  const FaceNeighbours neighbours(mesh, edges);
  const std::size_t n = mesh.faces.size();
  std::vector<Vector3d> normals(n);
  std::vector<double> areas(n);
  double all = 0;
  for (std::size_t f = 0; f < n; ++f) {
    normals[f] = face_normal(mesh, f).cast<double>(), areas[f] = face_area(mesh, f);
    all += areas[f];
  }
  const double cell = std::max(1e-300, 0.4 * std::sqrt(all / static_cast<double>(std::max<std::size_t>(1, n))));
  // The direction of a piece is that of some faces around its first one.
  constexpr std::size_t kAround = 40;
  const double flat_enough = std::cos(bend);
  std::vector<std::uint8_t> done(n, 0);
  std::vector<std::uint32_t> seen_for(n, kUnseen), open;
  std::vector<Chart> charts;
  for (std::uint32_t seed = 0; seed < n; ++seed) {
    if (done[seed]) continue;
    Vector3d upright = areas[seed] * normals[seed];
    open.assign(1, seed);
    seen_for[seed] = seed;
    for (std::size_t at = 0; at < open.size() && at < kAround; ++at)
      for (const std::uint32_t g : neighbours.across[open[at]]) {
        if (g == kUnseen || done[g] || seen_for[g] == seed || normals[g].dot(normals[seed]) < flat_enough) continue;
        seen_for[g] = seed;
        upright += areas[g] * normals[g];
        open.push_back(g);
      }
    if (!(upright.norm() > 0) || normals[seed].dot(upright.normalized()) < flat_enough) upright = normals[seed];
    if (!(upright.norm() > 0)) upright = Vector3d::UnitZ();
    upright.normalize();
    Chart chart;
    chart.fineness = 1;
    chart.axes = axes_under(upright);
    const auto corners_of = [&](std::uint32_t f) {
      std::array<Vector2d, 3> corners;
      for (std::size_t k = 0; k < 3; ++k) {
        const Vector3d p = mesh.positions[mesh.faces[f][k]].cast<double>();
        corners[k] = Vector2d(chart.axes[0].dot(p), chart.axes[1].dot(p));
      }
      return corners;
    };
    TakenCells cells(cell);
    cells.take(corners_of(seed));
    done[seed] = 1;
    open.assign(1, seed);
    // Ring after ring, so that pieces are round.
    for (std::size_t at = 0; at < open.size(); ++at)
      for (const std::uint32_t g : neighbours.across[open[at]]) {
        if (g == kUnseen || done[g] || normals[g].dot(upright) < flat_enough || !cells.take(corners_of(g))) continue;
        done[g] = 1;
        open.push_back(g);
      }
    chart.faces = open;
    std::sort(chart.faces.begin(), chart.faces.end());
    for (const std::uint32_t f : chart.faces) chart.corners.push_back(corners_of(f));
    measure(chart, mesh);
    charts.push_back(std::move(chart));
  }
  return charts;
}

PageSize lay_out(std::vector<Chart>& charts, const TextureOptions& options, const Executor& executor,
                 Monitor& monitor) {
  // As fine as the finest photo, or as asked for; for a mesh that no photo sees, by its size.
  double texel = options.texel, extent = 0;
  for (const Chart& chart : charts) {
    if (options.texel <= 0 && chart.photo != kUnseen && chart.texel > 0)
      texel = texel > 0 ? std::min(texel, chart.texel) : chart.texel;
    extent = std::max(extent, (chart.high - chart.low).maxCoeff());
  }
  if (!(texel > 0)) texel = std::max(1e-12, 2 * extent / options.page_size);
  const int cell = cell_of(options.page_size);
  const auto attempt = [&](int size, std::vector<CellPlace>& places) {
    monitor.check();
    std::vector<CellShape> shapes(charts.size());
    const int side = size / cell;
    for (const Chart& chart : charts)
      if (chart.width > size || chart.height > size) return false;
    executor.blocks(charts.size(), 8, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) shapes[i] = cells_of(charts[i], options.gutter, cell);
    });
    places = pack_shapes(shapes, side, options.max_pages);
    return !places.empty();
  };
  const double room = static_cast<double>(options.max_pages) * options.page_size * options.page_size;
  const auto no_room = [] {
    return Error(ErrorKind::usage, "texture", "has more charts than its pages hold even with the coarsest texels",
                 "give larger pages, or more of them; or take small pieces off the mesh");
  };
  // Each needs a texel with its gutter at least.
  const double least = 2 * options.gutter + 1;
  if (static_cast<double>(charts.size()) * least * least > room) throw no_room();
  int size = options.page_size;
  std::vector<CellPlace> places;
  constexpr int kMostAttempts = 400;
  for (int k = 0;; ++k) {
    if (k == kMostAttempts) throw no_room();
    monitor.progress("lay out", static_cast<std::size_t>(std::min(k, 9)), 10);
    scale_charts(charts, texel, options.gutter, cell);
    double needed = 0;
    for (const Chart& chart : charts) {
      double flat = 0;
      for (const auto& c : chart.corners) {
        const Vector2d ab = c[1] - c[0], ac = c[2] - c[0];
        flat += 0.5 * std::abs(ab.x() * ac.y() - ab.y() * ac.x());
      }
      needed += chart.scale * chart.scale * flat;
    }
    // What cannot be is not tried.
    constexpr double kFullest = 0.92, kStep = 1.025;
    if (needed > kFullest * room) {
      texel *= std::max(kStep, std::sqrt(needed / (kFullest * room)));
      continue;
    }
    if (attempt(size, places)) break;
    texel *= kStep;
  }
  // Pages that are not full can be smaller: halves first, then what lies between, to a multiple of so many texels.
  constexpr int kSizes = 64;
  std::vector<CellPlace> smaller;
  while (size / 2 >= kSizes && attempt(size / 2, smaller)) places = smaller, size /= 2;
  for (int low = size / 2 / kSizes + 1, high = size / kSizes; low < high;) {
    const int middle = (low + high) / 2;
    if (attempt(middle * kSizes, smaller))
      places = smaller, size = middle * kSizes, high = middle;
    else
      low = middle + 1;
  }
  monitor.progress("lay out", 10, 10);
  PageSize result{size, 0};
  for (std::size_t i = 0; i < charts.size(); ++i) {
    Chart& chart = charts[i];
    chart.page = places[i].page, chart.turns = places[i].turns;
    chart.x = cell * places[i].x, chart.y = cell * places[i].y;
    result.pages = std::max(result.pages, chart.page + 1);
  }
  return result;
}

}  // namespace icefield
