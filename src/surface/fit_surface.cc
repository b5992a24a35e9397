#include "icefield/surface/fit_surface.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "icefield/base/error.h"
#include "icefield/base/nearest.h"
#include "icefield/base/statistics.h"
#include "icefield/surface/trim.h"
#include "src/surface/extract.h"
#include "src/surface/implicit.h"
#include "src/surface/octree.h"

namespace icefield {
namespace {

using Eigen::Vector3f;

constexpr std::size_t kGrain = 4096;
constexpr std::size_t kLeast = 30;  // points
constexpr int kFull = 4;            // levels that are complete

// Bits of three coordinates in turn.
std::uint64_t morton(std::uint32_t x, std::uint32_t y, std::uint32_t z) {
  const auto spread = [](std::uint64_t v) {
    v = (v | v << 32) & 0x1f00000000ffffull;
    v = (v | v << 16) & 0x1f0000ff0000ffull;
    v = (v | v << 8) & 0x100f00f00f00f00full;
    v = (v | v << 4) & 0x10c30c30c30c30c3ull;
    return (v | v << 2) & 0x1249249249249249ull;
  };
  return spread(x) | spread(y) << 1 | spread(z) << 2;
}

class Fitting {
 public:
  Fitting(const PointCloud& cloud, const FitSurfaceOptions& options, const std::optional<Bounds>& bounds,
          const Executor& executor, Monitor& monitor)
      : cloud_(cloud), options_(options), bounds_(bounds), executor_(executor), monitor_(monitor) {}

  FittedSurface run() {
    FittedSurface result;
    summary_ = &result.summary;
    take_points();
    summary_->points = positions_.size();
    summary_->points_left_out = cloud_.size() - positions_.size();
    if (positions_.size() < kLeast) {
      summary_->outcome = fmt::format("the cloud has {} usable points, {} are needed", positions_.size(), kLeast);
      return result;
    }
    sort_along_curve();
    find_spacings();
    if (!(summary_->spacing > 0)) {
      summary_->outcome = "most points lie on each other: they have no spacing";
      return result;
    }
    choose_levels();
    {
      Octree octree(positions_, levels_, low_, side_, kFull, executor_);
      for (const Octree::Level& level : octree.levels()) summary_->cells += level.cells();
      summary_->levels = octree.finest() + 1;
      const ImplicitSamples samples{positions_, normals_, areas_, levels_};
      const ImplicitFunction f = fit_implicit(octree, samples, options_.hold, executor_, monitor_);
      octree.forget_around();
      result.mesh = extract_surface(octree, f, executor_);
    }
    summary_->faces_closed = result.mesh.faces.size();
    if (result.mesh.empty()) {
      summary_->outcome = "the points' normals do not enclose anything";
      return result;
    }
    describe_vertices(result.mesh);
    nearest_.reset();  // room for what follows
    source_ = {}, positions_ = {}, normals_ = {}, areas_ = {}, levels_ = {};
    result.mesh.origin = cloud_.origin;
    result.mesh.datum = cloud_.datum;
    if (options_.min_support > 0) trim(result.mesh);
    set_normals(result.mesh);
    summary_->outcome = "fitted";
    return result;
  }

 private:
  void take_points() {
    const bool with_normals = !cloud_.normals.empty();
    for (std::uint32_t i = 0; i < cloud_.size(); ++i) {
      const bool good = cloud_.positions[i].allFinite() &&
                        (!with_normals || (cloud_.normals[i].allFinite() && cloud_.normals[i].squaredNorm() > 0.25f)) &&
                        (!bounds_ || bounds_->contains(cloud_.position(i)));
      if (good) source_.push_back(i);
    }
    positions_.reserve(source_.size());
    for (const std::uint32_t i : source_) positions_.push_back(cloud_.positions[i]);
    summary_->normals_made = !with_normals;
  }

  // Points that lie together stand together.
  void sort_along_curve() {
    Eigen::AlignedBox3f box;
    for (const Vector3f& p : positions_) box.extend(p);
    // Room around, so that the surface closes within the cube.
    side_ = 1.3f * std::max(box.sizes().maxCoeff(), 1e-20f);
    low_ = box.center() - Vector3f::Constant(0.5f * side_);
    constexpr float kSteps = 1 << 20;
    std::vector<std::pair<std::uint64_t, std::uint32_t>> keys(positions_.size());
    executor_.blocks(positions_.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) {
        const Vector3f t = kSteps / side_ * (positions_[i] - low_);
        keys[i] = {morton(static_cast<std::uint32_t>(t.x()), static_cast<std::uint32_t>(t.y()),
                          static_cast<std::uint32_t>(t.z())),
                   static_cast<std::uint32_t>(i)};
      }
    });
    std::sort(keys.begin(), keys.end());
    std::vector<std::uint32_t> source(source_.size());
    std::vector<Vector3f> positions(positions_.size());
    for (std::size_t i = 0; i < keys.size(); ++i) {
      source[i] = source_[keys[i].second];
      positions[i] = positions_[keys[i].second];
    }
    source_ = std::move(source);
    positions_ = std::move(positions);
  }

  // One point in so many asks for its neighbours; those beside it on the curve take its answer.
  void find_spacings() {
    nearest_ = std::make_unique<NearestPoints>(std::span<const Vector3f>(positions_));
    constexpr std::size_t kShare = 4;
    areas_.resize(positions_.size());
    const auto k = static_cast<std::size_t>(std::max(3, options_.neighbours));
    executor_.blocks(block_count(positions_.size(), kShare), kGrain / kShare,
                     [&](std::size_t, std::size_t begin, std::size_t end) {
                       for (std::size_t g = begin; g < end; ++g) {
                         const std::size_t first = g * kShare, last = std::min(first + kShare, positions_.size());
                         const auto found = nearest_->nearest(positions_[first + (last - first) / 2], k + 1);
                         // The k-th neighbour's disc holds k points and this one's half.
                         const float area =
                             std::numbers::pi_v<float> * found.back().distance2 / static_cast<float>(found.size() - 1);
                         for (std::size_t i = first; i < last; ++i) areas_[i] = area;
                       }
                     });
    std::vector<double> sample;
    for (std::size_t i = 0; i < areas_.size(); i += std::max<std::size_t>(1, areas_.size() / 20000))
      sample.push_back(std::sqrt(areas_[i]));
    summary_->spacing = median(sample);
    // A lone point far from all others does not stand for a field of its own.
    const auto usual = static_cast<float>(summary_->spacing * summary_->spacing);
    for (float& a : areas_) a = std::clamp(a, 1e-4f * usual, 16 * usual);
    normals_.resize(positions_.size());
    if (!cloud_.normals.empty())
      for (std::size_t i = 0; i < positions_.size(); ++i) normals_[i] = cloud_.normals[source_[i]].normalized();
    else
      make_normals();
  }

  void make_normals() {
    PointCloud copy;
    copy.positions = positions_;
    Vector3f middle = Vector3f::Zero();
    for (const Vector3f& p : positions_) middle += p / static_cast<float>(positions_.size());
    estimate_normals(copy, 12, Vector3f::UnitZ(), executor_);
    for (std::size_t i = 0; i < positions_.size(); ++i) {
      normals_[i] = copy.normals[i];
      if (normals_[i].dot(positions_[i] - middle) < 0) normals_[i] = -normals_[i];
    }
  }

  void choose_levels() {
    levels_.resize(positions_.size());
    for (std::size_t i = 0; i < positions_.size(); ++i) {
      const double cell = options_.cell_spacings * std::sqrt(static_cast<double>(areas_[i]));
      // The level whose cells are nearest in size.
      const double level = std::log2(side_ / cell) - 1;
      levels_[i] =
          static_cast<std::uint8_t>(std::clamp(static_cast<int>(std::lround(level)), kFull, Octree::kMostLevels - 1));
    }
  }

  void describe_vertices(Mesh& mesh) const {
    const std::size_t n = mesh.positions.size();
    mesh.support.resize(n);
    const bool coloured = !cloud_.colours.empty(), with_errors = !cloud_.errors.empty();
    if (coloured) mesh.colours.resize(n);
    if (with_errors) mesh.errors.resize(n);
    executor_.blocks(n, kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) {
        constexpr std::size_t kNear = 4;
        const auto found = nearest_->nearest(mesh.positions[v], kNear);
        const float usual = areas_[found[0].index];
        mesh.support[v] = std::min(1.0f, usual / std::max(found[0].distance2, 1e-30f));
        if (!coloured && !with_errors) continue;
        Vector3f colour = Vector3f::Zero();
        float weights = 0, error = 0;
        for (const auto& near : found) {
          const float w = 1 / (near.distance2 + 0.25f * usual);
          const std::uint32_t i = source_[near.index];
          if (coloured) colour += w * Vector3f(cloud_.colours[i][0], cloud_.colours[i][1], cloud_.colours[i][2]);
          if (with_errors) error += w * cloud_.errors[i];
          weights += w;
        }
        if (coloured)
          for (int c = 0; c < 3; ++c)
            mesh.colours[v][static_cast<std::size_t>(c)] =
                static_cast<std::uint8_t>(std::clamp(colour[c] / weights + 0.5f, 0.0f, 255.0f));
        if (with_errors) mesh.errors[v] = error / weights;
      }
    });
  }

  void trim(Mesh& mesh) {
    const double before = area(mesh);
    TrimBySupport wanted;
    wanted.min_support = options_.min_support;
    wanted.small_patch = options_.small_patch_spacings2 * summary_->spacing * summary_->spacing;
    mesh = trim_by_support(mesh, wanted, &summary_->pieces_left_out);
    summary_->trimmed_percent = before > 0 ? 100 * (1 - area(mesh) / before) : 0;
  }

  const PointCloud& cloud_;
  const FitSurfaceOptions& options_;
  const std::optional<Bounds>& bounds_;
  const Executor& executor_;
  Monitor& monitor_;
  FitSurfaceSummary* summary_ = nullptr;
  std::vector<std::uint32_t> source_;  // by point that is used: in the cloud
  std::vector<Vector3f> positions_, normals_;
  std::vector<float> areas_;
  std::vector<std::uint8_t> levels_;
  std::unique_ptr<NearestPoints> nearest_;
  Vector3f low_;
  float side_ = 1;
};

}  // namespace

FittedSurface fit_surface(const PointCloud& cloud, const FitSurfaceOptions& options,
                          const std::optional<Bounds>& bounds, const Executor& executor, Monitor& monitor) {
  if (!(options.cell_spacings > 0) || !(options.hold >= 0))
    throw Error(ErrorKind::usage, "surface", "is asked for with cells that are not above 0, or a negative hold",
                "leave both at their defaults");
  return Fitting(cloud, options, bounds, executor.watching(monitor), monitor).run();
}

}  // namespace icefield
