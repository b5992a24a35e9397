#include "icefield/surface/fit_open.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/nearest.h"
#include "icefield/base/statistics.h"
#include "icefield/surface/trim.h"
#include "src/surface/cut_cube.h"
#include "src/surface/vertex_fans.h"
#include "src/surface/vote_grid.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

constexpr double kBytesPerBlock = 18e3;

// The surface where distances are 0, in cells whose corners have votes enough.
class Extraction {
 public:
  Extraction(const VoteGrid& grid, const Vector3d& low, double step, int min_votes)
      : grid_(grid), low_(low), step_(step), min_votes_(min_votes) {
    mesh_.origin = low;
  }
  Mesh run() {
    for (std::size_t b = 0; b < grid_.blocks(); ++b) {
      const auto from = grid_.corner(b);
      // Of this block and of those that follow it.
      for (int c = 0; c < 8; ++c)
        around_[static_cast<std::size_t>(c)] =
            grid_.block_at(from[0] + 8 * (c & 1), from[1] + 8 * (c >> 1 & 1), from[2] + 8 * (c >> 2));
      for (int k = 0; k < VoteGrid::kSide; ++k)
        for (int j = 0; j < VoteGrid::kSide; ++j)
          for (int i = 0; i < VoteGrid::kSide; ++i) cube(from, i, j, k);
    }
    return std::move(mesh_);
  }

 private:
  void cube(const std::array<int, 3>& from, int i, int j, int k) {
    unsigned inside = 0;
    std::array<float, 8> values;
    for (int c = 0; c < 8; ++c) {
      const int x = i + (c & 1), y = j + (c >> 1 & 1), z = k + (c >> 2);
      const std::uint32_t block = around_[static_cast<std::size_t>((x >> 3) | (y >> 3) << 1 | (z >> 3) << 2)];
      if (block == VoteGrid::kNone) return;
      const std::size_t node = VoteGrid::node_in_block(x, y, z);
      if (grid_.votes(block, node) < min_votes_) return;
      values[static_cast<std::size_t>(c)] = grid_.distance(block, node);
      inside |= (values[static_cast<std::size_t>(c)] < 0 ? 1u : 0u) << c;
    }
    const auto vertex = [&](int a, int b) {
      const int lower = std::min(a, b), way = std::max(a, b) - lower;
      const std::array<int, 3> at = {from[0] + i + (lower & 1), from[1] + j + (lower >> 1 & 1),
                                     from[2] + k + (lower >> 2)};
      constexpr std::int64_t kHalf = 1 << 19;
      const std::uint64_t key =
          (static_cast<std::uint64_t>(at[0] + kHalf) << 40 | static_cast<std::uint64_t>(at[1] + kHalf) << 20 |
           static_cast<std::uint64_t>(at[2] + kHalf)) *
              8 +
          static_cast<std::uint64_t>(way);
      const auto [found, fresh] = numbers_.try_emplace(key, static_cast<std::uint32_t>(mesh_.positions.size()));
      if (fresh) {
        constexpr float kLeast = 1e-2f;  // away from the ends, so that no face is without area
        const float p = values[static_cast<std::size_t>(a)], q = values[static_cast<std::size_t>(b)];
        const float t = std::clamp(p / (p - q), kLeast, 1 - kLeast);
        const auto place = [&](int c) {
          return Vector3f(static_cast<float>(from[0] + i + (c & 1)), static_cast<float>(from[1] + j + (c >> 1 & 1)),
                          static_cast<float>(from[2] + k + (c >> 2)));
        };
        mesh_.positions.push_back(static_cast<float>(step_) * (place(a) + t * (place(b) - place(a))));
      }
      return found->second;
    };
    cut_cube(inside, vertex, [&](std::uint32_t a, std::uint32_t b, std::uint32_t c) {
      mesh_.faces.push_back({a, b, c});
    });
  }

  const VoteGrid& grid_;
  Vector3d low_;
  double step_;
  int min_votes_;
  std::array<std::uint32_t, 8> around_{};
  std::unordered_map<std::uint64_t, std::uint32_t> numbers_;  // of vertices, by the edge that they lie on
  Mesh mesh_;
};

double spacing_of(const PointCloud& cloud, const NearestPoints& nearest) {
  constexpr std::size_t kSample = 20000, kNeighbours = 8;
  std::vector<double> sample;
  for (std::size_t i = 0; i < cloud.size(); i += std::max<std::size_t>(1, cloud.size() / kSample)) {
    const auto found = nearest.nearest(cloud.positions[i], kNeighbours + 1);
    if (found.size() > 1)
      sample.push_back(std::sqrt(std::numbers::pi * static_cast<double>(found.back().distance2) /
                                 static_cast<double>(found.size() - 1)));
  }
  return sample.empty() ? 0 : median(std::move(sample));
}

// Colours, errors and support from the points around.
void describe_by_cloud(Mesh& mesh, const PointCloud& cloud, const NearestPoints& nearest, double spacing,
                       const Executor& executor) {
  const std::size_t n = mesh.positions.size();
  const Vector3f shift = (mesh.origin - cloud.origin).cast<float>();
  mesh.support.resize(n);
  if (!cloud.colours.empty()) mesh.colours.resize(n);
  if (!cloud.errors.empty()) mesh.errors.resize(n);
  const auto usual = static_cast<float>(spacing * spacing);
  executor.blocks(n, 1024, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t v = begin; v < end; ++v) {
      constexpr std::size_t kNear = 4;
      const auto found = nearest.nearest(mesh.positions[v] + shift, kNear);
      mesh.support[v] = std::min(1.0f, usual / std::max(found[0].distance2, 1e-30f));
      Vector3f colour = Vector3f::Zero();
      float weights = 0, error = 0;
      for (const auto& near : found) {
        const float w = 1 / (near.distance2 + 0.25f * usual);
        if (!cloud.colours.empty())
          colour +=
              w * Vector3f(cloud.colours[near.index][0], cloud.colours[near.index][1], cloud.colours[near.index][2]);
        if (!cloud.errors.empty()) error += w * cloud.errors[near.index];
        weights += w;
      }
      if (!cloud.colours.empty())
        for (int c = 0; c < 3; ++c)
          mesh.colours[v][static_cast<std::size_t>(c)] =
              static_cast<std::uint8_t>(std::clamp(colour[c] / weights + 0.5f, 0.0f, 255.0f));
      if (!cloud.errors.empty()) mesh.errors[v] = error / weights;
    }
  });
}

void check_options(const FitOpenOptions& o) {
  if (!(o.step_spacings > 0) || !(o.reach >= 1 && o.reach <= 8) || !(o.smoothness > 0) || o.rounds < 0 ||
      o.min_votes < 1 || o.min_support < 0 || !(o.small_piece_steps2 >= 0))
    throw Error(ErrorKind::usage, "open surface", "is asked for with a number out of range",
                "give a step and a smoothness above 0, and a reach from 1 to 8 steps");
}

// Pieces smaller than so many square steps go.
void drop_small(Mesh& mesh, double least_area, std::size_t& left_out) {
  const MeshPieces pieces = pieces_of(mesh);
  std::vector<std::uint8_t> keep(mesh.faces.size());
  for (std::size_t f = 0; f < keep.size(); ++f) keep[f] = pieces.areas[pieces.piece[f]] >= least_area;
  left_out = static_cast<std::size_t>(
      std::count_if(pieces.areas.begin(), pieces.areas.end(), [&](double a) { return a < least_area; }));
  mesh = pick_faces(mesh, keep);
}

}  // namespace

OpenSurface fit_open_surface(std::size_t maps, const std::function<std::optional<DepthMap>(std::size_t)>& map,
                             const PointCloud& cloud, const Vector3d& shift, const FitOpenOptions& options,
                             const std::optional<Bounds>& bounds, const Executor& executor, Monitor& monitor) {
  check_options(options);
  OpenSurface result;
  FitOpenSummary& s = result.summary;
  if (cloud.size() < 100) {
    s.outcome = fmt::format("the cloud has {} points: too few for a surface", cloud.size());
    return result;
  }
  const Executor watched = executor.watching(monitor);
  const NearestPoints nearest(cloud.positions);
  s.spacing = spacing_of(cloud, nearest);
  s.step = options.step_spacings * s.spacing;
  if (!(s.step > 0)) {
    s.outcome = "all points of the cloud lie in one place";
    return result;
  }
  // In the frame of the maps, on whole steps.
  Eigen::AlignedBox3d box;
  for (std::size_t i = 0; i < cloud.size(); i += 1 + cloud.size() / 100'000) box.extend(cloud.position(i) - shift);
  const Vector3d low = s.step * (box.center() / s.step).array().round().matrix();
  if (box.sizes().maxCoeff() / s.step > (1 << 19)) {
    s.outcome = "the cloud is too wide for its spacing";
    return result;
  }
  VoteGrid grid(low, s.step, options, watched);
  for (std::size_t m = 0; m < maps; ++m) {
    monitor.progress("look", m, maps);
    monitor.check();
    if (const auto seen = map(m)) s.pixels += grid.look(*seen), ++s.maps;
  }
  grid.settle();
  s.blocks = grid.blocks();
  s.memory_bytes = kBytesPerBlock * static_cast<double>(s.blocks);
  if (s.blocks == 0) {
    s.outcome = "no depth map has a pixel that enough photos support";
    return result;
  }
  if (s.memory_bytes > static_cast<double>(executor.memory_bytes()))
    throw Error(ErrorKind::resource, "open surface",
                fmt::format("needs {:.1f} GB at a step of {:.3g}", s.memory_bytes / 1e9, s.step),
                "give more --memory, a larger mesh.step_spacings, smaller bounds, or take mesh.way=closed");
  for (std::size_t m = 0; m < maps; ++m) {
    monitor.progress("vote", m, maps);
    monitor.check();
    if (const auto seen = map(m)) grid.vote(*seen);
  }
  monitor.progress("vote", maps, maps);
  grid.minimise(monitor);
  Mesh& mesh = result.mesh;
  mesh = Extraction(grid, low, s.step, options.min_votes).run();
  mesh.datum = cloud.datum;
  mesh.origin = low + shift;
  if (bounds && !mesh.empty()) mesh = pick_faces(mesh, faces_within(mesh, *bounds));
  if (!mesh.empty()) drop_small(mesh, options.small_piece_steps2 * s.step * s.step, s.pieces_left_out);
  part_fans(mesh);
  if (mesh.empty()) {
    s.outcome = "the depth maps do not agree on a surface";
    return result;
  }
  // Coordinates count from the cloud's origin, as those of the closed way do.
  const Vector3f move = (mesh.origin - cloud.origin).cast<float>();
  for (Vector3f& p : mesh.positions) p += move;
  mesh.origin = cloud.origin;
  set_normals(mesh);
  describe_by_cloud(mesh, cloud, nearest, s.spacing, watched);
  s.outcome = "fitted";
  return result;
}

}  // namespace icefield
