#include <algorithm>
#include <array>
#include <cmath>
#include <memory>
#include <numeric>

#include "icefield/base/random.h"
#include "icefield/dense/dense.h"
#include "icefield/photo/filter.h"
#include "src/dense/local_planes.h"
#include "src/dense/patch_kernel.h"

namespace icefield {
namespace {

using Eigen::Matrix3f;
using Eigen::Vector3f;

constexpr float kBadCost = 2.0f;
constexpr float kWorstCost = 4.0f;  // bad in the photos and in agreement
// Below these costs the views that fit best are taken to be those that see the surface: soon when a start is at hand,
// later in the first search.
constexpr float kSettledAtStart = 0.5f, kSettledLater = 0.85f;
constexpr float kRounding = 1e-3f;  // of costs, far more than it is
constexpr float kSameDepth = 1e-4f, kSameNormal = 0.9995f;
constexpr int kReach = 11;              // of the far regions, px
constexpr float kLeastFacing = 0.08f;   // cosine of normal and line of sight: steeper planes are not matched
constexpr double kWideStep = 1.5;       // samples of a wide patch are so much farther apart
constexpr float kReliableCost = 0.3f;   // where texture is not weak: such pixels tell what planes to expect around them
constexpr float kPriorVariance = 1.5f;  // times weak
constexpr float kUnknownPlane = 0.5f;   // what a depth costs where no plane is to be expected, of the prior
constexpr float kOffPlane = 3;   // tolerances from the plane to expect, at which a plane counts as another surface
constexpr int kDetailReach = 3;  // of the square over which detail is summed, px
constexpr float kGeometryWeight = 0.18f;  // cost of a pixel of distance after there and back; 3 px at most

// A neighbour: how points of its camera frame get into the reference, pixel middles at integers. The way there is in a
// ViewRow.
struct Neighbour {
  std::unique_ptr<QuadImage> image;
  const DepthMap* map = nullptr;
  Matrix3f back;        // from the neighbour's directions to the reference's pixels: K_ref R^T
  Vector3f back_shift;  // K_ref (position of the neighbour in the reference's frame)
  float focal, cx, cy;  // of the neighbour at this level
};

struct Plane {
  float depth;
  Vector3f normal;
};

// Mean square around each pixel of what the picture loses at half size, grey values squared.
std::vector<float> detail_energy(const ImageU8& grey, const Executor& executor) {
  const int width = grey.width(), height = grey.height();
  const ImageU8 half = shrink(grey, 2);
  const std::size_t pitch = static_cast<std::size_t>(width);
  std::vector<float> lost(grey.pixels()), across(grey.pixels()), energy(grey.pixels());
  constexpr float kInverse = 1.0f / (2 * kDetailReach + 1);
  executor.blocks(static_cast<std::size_t>(height), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t row = begin; row < end; ++row) {
      const int y = static_cast<int>(row);
      // The four pixels of the small picture around this one, three quarters of it from the nearer ones.
      const int y0 = std::min(y / 2, half.height() - 1), y1 = std::clamp(y0 + ((y & 1) ? 1 : -1), 0, half.height() - 1);
      for (int x = 0; x < width; ++x) {
        const int x0 = std::min(x / 2, half.width() - 1), x1 = std::clamp(x0 + ((x & 1) ? 1 : -1), 0, half.width() - 1);
        const float near_row = 0.75f * half.at(x0, y0) + 0.25f * half.at(x1, y0);
        const float far_row = 0.75f * half.at(x0, y1) + 0.25f * half.at(x1, y1);
        const float d = static_cast<float>(grey.at(x, y)) - (0.75f * near_row + 0.25f * far_row);
        lost[row * pitch + static_cast<std::size_t>(x)] = d * d;
      }
      for (int x = 0; x < width; ++x) {
        float sum = 0;
        for (int dx = -kDetailReach; dx <= kDetailReach; ++dx)
          sum += lost[row * pitch + static_cast<std::size_t>(std::clamp(x + dx, 0, width - 1))];
        across[row * pitch + static_cast<std::size_t>(x)] = sum * kInverse;
      }
    }
  });
  executor.blocks(static_cast<std::size_t>(height), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t row = begin; row < end; ++row)
      for (std::size_t x = 0; x < pitch; ++x) {
        float sum = 0;
        for (int dy = -kDetailReach; dy <= kDetailReach; ++dy)
          sum += across[static_cast<std::size_t>(std::clamp(static_cast<int>(row) + dy, 0, height - 1)) * pitch + x];
        energy[row * pitch + x] = sum * kInverse;
      }
  });
  return energy;
}

// The neighbours that are asked in a part of the photo, side by side.
struct Row {
  ViewRow views;
  std::array<std::uint8_t, kMaxViews> neighbour{};  // that each of them is
  std::size_t best_of = 1;                          // so many of them make the cost of a plane
};

// Views of a row in which a plane fits best.
struct ChosenViews {
  std::array<std::uint8_t, 3> views{};
  std::uint8_t count = 0;
};

class DepthMatcher {
 public:
  DepthMatcher(const DenseView& reference, std::span<const DenseView* const> neighbours,
               std::span<const DepthMap* const> maps, const MatchViews* where, const DenseOptions& options,
               int shrink_by, std::uint64_t seed, const Executor& executor)
      : options_(options),
        executor_(executor),
        seed_(seed),
        grey_(shrink(reference.grey, shrink_by)),
        width_(grey_.width()),
        height_(grey_.height()),
        own_(grey_) {
    const float inverse = 1.0f / static_cast<float>(shrink_by);
    ViewRow everybody;
    focal_ = static_cast<float>(reference.camera.focal()) * inverse;
    cx_ = static_cast<float>(reference.camera.principal_point().x()) * inverse - 0.5f;
    cy_ = static_cast<float>(reference.camera.principal_point().y()) * inverse - 0.5f;
    Matrix3f own;
    own << focal_, 0, cx_, 0, focal_, cy_, 0, 0, 1;
    for (std::size_t i = 0; i < std::min<std::size_t>(neighbours.size(), kMaxViews); ++i) {
      const DenseView& view = *neighbours[i];
      Neighbour n;
      n.image = std::make_unique<QuadImage>(shrink(view.grey, shrink_by));
      n.focal = static_cast<float>(view.camera.focal()) * inverse;
      n.cx = static_cast<float>(view.camera.principal_point().x()) * inverse - 0.5f;
      n.cy = static_cast<float>(view.camera.principal_point().y()) * inverse - 0.5f;
      Matrix3f k;
      k << n.focal, 0, n.cx, 0, n.focal, n.cy, 0, 0, 1;
      const Eigen::Matrix3d rotation = view.pose.rotation() * reference.pose.rotation().transpose();
      const Eigen::Vector3d translation = view.pose.rotation() * (reference.pose.centre - view.pose.centre);
      const Matrix3f turn = k * rotation.cast<float>();
      const Vector3f shift = k * translation.cast<float>();
      for (int r = 0; r < 3; ++r) {
        for (int c = 0; c < 3; ++c) everybody.turn[3 * r + c][i] = turn(r, c);
        everybody.turn_x[r][i] = turn(r, 0) / focal_, everybody.turn_y[r][i] = turn(r, 1) / focal_;
        everybody.shift[r][i] = shift[r];
      }
      everybody.right[i] = static_cast<float>(n.image->width) - 1.5f,
      everybody.bottom[i] = static_cast<float>(n.image->height) - 1.5f;
      everybody.images[i] = n.image.get();
      same_image_[i].fill(n.image.get());
      has_maps_ = has_maps_ || (i < maps.size() && maps[i]);
      n.back = own * rotation.transpose().cast<float>();
      n.back_shift = own * Eigen::Vector3d(reference.pose.to_camera(view.pose.centre)).cast<float>();
      if (i < maps.size()) n.map = maps[i];
      neighbours_.push_back(std::move(n));
    }
    everybody.count = static_cast<int>(neighbours_.size());
    prepare_rows(everybody, where);
    std::iota(all_.begin(), all_.end(), std::uint8_t{0});
    prepare_patch(options_.patch_radius, options_.patch_step, shapes_[0]);
    prepare_patch(static_cast<int>(std::lround(options_.wide_patch * options_.patch_radius)),
                  static_cast<int>(std::lround(kWideStep * options_.patch_step)), shapes_[1]);
    weak_variance_ = static_cast<float>(options_.weak_contrast * options_.weak_contrast);
    planes_.assign(grey_.pixels(), Plane{0, Vector3f(0, 0, -1)});
    active_.assign(grey_.pixels(), 1);
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) active_[index(x, y)] = row_at(x, y).views.count > 0;
    prepare_regions();
    cost_.assign(grey_.pixels(), kWorstCost);
    chosen_.assign(grey_.pixels(), ChosenViews{});
  }

  int width() const { return width_; }
  int height() const { return height_; }

  void set_range(float nearest, float farthest) { nearest_ = nearest, farthest_ = farthest; }

  // Pixels whose lines of sight miss the box are left empty. A margin keeps the patches at its border whole.
  void stay_within(Bounds bounds, const Pose& pose) {
    bounds.half_size *= 1.03;
    const Eigen::Matrix3d to_world = pose.rotation().transpose();
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x)
        active_[index(x, y)] =
            active_[index(x, y)] && bounds.meets(pose.centre, to_world * direction(x, y).cast<double>());
  }

  // Pixels that the photo's mask takes out, or that it does not reach, are left empty. The view is `shrink_by` times
  // larger.
  void leave_out(const ImageU8& usable, int shrink_by) {
    if (usable.empty()) return;
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x)
        if (usable.at(std::min(x * shrink_by, usable.width() - 1), std::min(y * shrink_by, usable.height() - 1)) == 0)
          active_[index(x, y)] = 0;
  }

  // Looks up, from the planes found so far, what to expect where texture is weak.
  void expect_planes() {
    expect_planes([&](std::size_t at) { return active_[at] && cost_[at] < kReliableCost ? planes_[at].depth : 0.0f; });
  }
  void expect_planes(const DepthMap& map) {
    expect_planes([&](std::size_t at) {
      const int x = static_cast<int>(at) % width_, y = static_cast<int>(at) / width_;
      return active_[at] && map.cost_at(x, y) < kReliableCost ? map.depth.at(x, y) : 0.0f;
    });
  }
  // As the coarser level does.
  void expect_planes_of(const DepthMatcher& coarse) {
    expected_ = coarse.expected_;
    expected_shrink_ = 2 * coarse.expected_shrink_;
  }

  void take_as_settled(float cost) { settled_cost_ = cost; }

  // Pixels around which the photo shows nothing that one of half the size does not keep the plane that they start with:
  // what is looked for in them is noise.
  void search_only_detail() {
    const double least = options_.detail_contrast * options_.detail_contrast;
    if (!(least > 0) || std::min(width_, height_) < 2 * kDetailReach) return;
    const std::vector<float> energy = detail_energy(grey_, executor_);
    searched_.resize(grey_.pixels());
    for (std::size_t at = 0; at < searched_.size(); ++at) searched_[at] = active_[at] && energy[at] >= least;
  }

  // Starts from the depths of tie points nearby in the image, some pixels from anywhere in the range.
  void start_from_points(std::span<const Eigen::Vector3d> sparse) {
    constexpr int kCell = 12;
    const int columns = (width_ + kCell - 1) / kCell, rows = (height_ + kCell - 1) / kCell;
    std::vector<std::vector<float>> cells(static_cast<std::size_t>(columns) * rows);
    for (const Eigen::Vector3d& p : sparse) {
      // Compared before they become whole numbers: a point beside the camera lies anywhere.
      const double x = (p.x() / p.z() * focal_ + cx_ + 0.5) / kCell, y = (p.y() / p.z() * focal_ + cy_ + 0.5) / kCell;
      if (x >= 0 && y >= 0 && x < columns && y < rows)
        cells[static_cast<std::size_t>(y) * columns + static_cast<std::size_t>(x)].push_back(static_cast<float>(p.z()));
    }
    // Empty cells take over from the nearest filled ones, in growing squares.
    std::vector<std::vector<float>> filled = cells;
    for (int y = 0; y < rows; ++y)
      for (int x = 0; x < columns; ++x) {
        auto& cell = filled[static_cast<std::size_t>(y) * columns + x];
        for (int r = 1; cell.size() < 4 && r < std::max(columns, rows); ++r)
          for (int v = std::max(0, y - r); v <= std::min(rows - 1, y + r); ++v)
            for (int u = std::max(0, x - r); u <= std::min(columns - 1, x + r); ++u)
              if (std::max(std::abs(u - x), std::abs(v - y)) == r) {
                const auto& from = cells[static_cast<std::size_t>(v) * columns + u];
                cell.insert(cell.end(), from.begin(), from.end());
              }
      }
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) {
        const std::size_t at = index(x, y);
        if (!active_[at]) continue;
        CounterRandom random(combine_keys(seed_, at));
        const auto& near = filled[static_cast<std::size_t>(y / kCell) * columns + x / kCell];
        if (!near.empty() && random.uniformf() < 0.75f)
          planes_[at].depth =
              near[random.below(static_cast<std::uint32_t>(near.size()))] * (1 + 0.03f * (2 * random.uniformf() - 1));
        else
          planes_[at].depth = 1 / (1 / farthest_ + random.uniformf() * (1 / nearest_ - 1 / farthest_));
        planes_[at].depth = std::clamp(planes_[at].depth, nearest_, farthest_);
        planes_[at].normal = random_normal(random, direction(x, y));
      }
  }

  void start_from(const DepthMatcher& coarse) {
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) {
        const int cx = std::min(x / 2, coarse.width_ - 1), cy = std::min(y / 2, coarse.height_ - 1);
        const std::size_t from = coarse.index(cx, cy), at = index(x, y);
        const Vector3f n = coarse.planes_[from].normal;
        if (!coarse.active_[from]) {
          planes_[at].depth = 2 / (1 / nearest_ + 1 / farthest_);
          continue;
        }
        const float delta = coarse.planes_[from].depth * n.dot(coarse.direction(cx, cy));
        const float facing = n.dot(direction(x, y));
        const float depth = facing < -1e-3f ? delta / facing : coarse.planes_[from].depth;
        planes_[at].depth = std::clamp(depth, nearest_, farthest_);
        planes_[at].normal = n;
      }
  }

  void start_from(const DepthMap& map) {
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) {
        const std::size_t at = index(x, y);
        const float depth = map.depth.at(x, y);
        planes_[at].depth = depth > 0 ? std::clamp(depth, nearest_, farthest_) : 0.5f * (nearest_ + farthest_);
        Vector3f n(map.normal.at(x, y, 0), map.normal.at(x, y, 1), map.normal.at(x, y, 2));
        planes_[at].normal = n.squaredNorm() > 0 ? n.normalized() : Vector3f(0, 0, -1);
      }
  }

  // `first` numbers the rounds for the random numbers; the search narrows from `spread` (relative depth) by half a
  // round.
  void iterate(int rounds, int first, float spread) {
    executor_.blocks(static_cast<std::size_t>(height_), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      Scratch scratch = make_scratch();
      for (std::size_t y = begin; y < end; ++y)
        for (int x = 0; x < width_; ++x) {
          const std::size_t at = index(x, static_cast<int>(y));
          if (!active_[at]) continue;
          prepare_pixel(x, static_cast<int>(y), scratch);
          cost_[at] = evaluate(planes_[at], scratch, chosen_[at]);
        }
    });
    for (int round = 0; round < rounds; ++round) {
      for (int colour = 0; colour < 2; ++colour)
        executor_.blocks(static_cast<std::size_t>(height_), kRows,
                         [&](std::size_t, std::size_t begin, std::size_t end) {
                           Scratch scratch = make_scratch();
                           for (std::size_t y = begin; y < end; ++y)
                             for (int x = (static_cast<int>(y) + colour) & 1; x < width_; x += 2)
                               if (searched(index(x, static_cast<int>(y))))
                                 improve(x, static_cast<int>(y), first + round, round == 1, spread, scratch);
                         });
      spread *= 0.5f;
    }
  }

  DepthMap result(const DenseView& view) const {
    constexpr std::uint8_t kWorst = static_cast<std::uint8_t>(kBadCost / DepthMap::kCostStep);
    DepthMap map{view.camera,
                 view.pose,
                 ImageF(width_, height_),
                 Image<std::int8_t>(width_, height_, 3),
                 ImageU8(width_, height_, 1, kWorst),
                 Image<std::uint16_t>(width_, height_, 1),
                 {}};
    executor_.blocks(static_cast<std::size_t>(height_), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      Scratch scratch = make_scratch();
      for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < width_; ++x) {
          const std::size_t at = index(x, y);
          if (!active_[at] || cost_[at] >= kBadCost) continue;
          prepare_pixel(x, y, scratch);
          const Sight sight = sight_of(planes_[at], scratch);
          if (!sight.seen) continue;  // whatever cost is believed
          map.cost.at(x, y) = static_cast<std::uint8_t>(std::lround(std::max(0.0f, cost_[at]) / DepthMap::kCostStep));
          map.depth.at(x, y) = planes_[at].depth;
          for (int c = 0; c < 3; ++c)
            map.normal.at(x, y, c) = static_cast<std::int8_t>(std::lround(127 * planes_[at].normal[c]));
          map.support.at(x, y) = sight.supporting;
        }
    });
    return map;
  }

 private:
  static constexpr std::size_t kRows = 4;  // that a thread takes at a time

  template <class DepthAt>
  void expect_planes(const DepthAt& depth_at) {
    expected_ = {}, expected_shrink_ = 1;
    if (!(options_.plane_prior > 0 && weak_variance_ > 0)) return;
    // One pixel of four is enough.
    enum : std::uint8_t { kNothing, kWeak, kReliable };
    const std::size_t columns = (grey_.width() + 1u) / 2u, rows = (grey_.height() + 1u) / 2u;
    std::vector<std::uint8_t> kinds(columns * rows, kNothing);
    executor_.blocks(rows, kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      Scratch scratch = make_scratch();
      for (std::size_t row = begin; row < end; ++row)
        for (std::size_t column = 0; column < columns; ++column) {
          const int x = static_cast<int>(2 * column), y = static_cast<int>(2 * row);
          if (!active_[index(x, y)]) continue;
          kernel_.reference(shapes_[0], own_, x, y, scratch.patches[0]);
          if (scratch.patches[0].variance < weak_variance_)
            kinds[row * columns + column] = kWeak;
          else if (depth_at(index(x, y)) > 0)
            kinds[row * columns + column] = kReliable;
        }
    });
    if (std::find(kinds.begin(), kinds.end(), kWeak) == kinds.end()) return;
    expected_ = LocalPlanes(width_, height_, focal_, cx_, cy_);
    for (std::size_t row = 0; row < rows; ++row)
      for (std::size_t column = 0; column < columns; ++column)
        if (kinds[row * columns + column] == kReliable) {
          const int x = static_cast<int>(2 * column), y = static_cast<int>(2 * row);
          expected_.add(x, y, depth_at(index(x, y)));
        }
    expected_.fit();
  }

  // What is the same for all hypotheses of a pixel.
  struct Scratch {
    const Row* row;                         // of the pixel's part
    std::array<PatchReference, 2> patches;  // as wide as usual, and wide
    const PatchReference* patch;            // the one in use
    PixelTurns turns;
    PlaneWarps in_views, of_planes;
    PlaneList list;
    Vector3f direction;
    int x, y;
    Vector3f expected;                             // plane to expect, as inverse depth times (x, y, 1)
    float expected_inverse, per_tolerance, prior;  // its inverse depth here; prior: what it counts, 0: none
  };

  bool searched(std::size_t at) const { return searched_.empty() ? active_[at] != 0 : searched_[at] != 0; }
  std::size_t index(int x, int y) const { return static_cast<std::size_t>(y) * width_ + x; }
  Vector3f direction(int x, int y) const {
    return {(static_cast<float>(x) - cx_) / focal_, (static_cast<float>(y) - cy_) / focal_, 1};
  }

  void prepare_patch(int radius, int step, PatchShape& shape) const {
    int count = 0;
    // As many samples as there is room for, all over the patch.
    while ((2 * radius / step + 1) * (2 * radius / step + 1) > kMaxPatchSamples) ++step;
    shape.radius = radius;
    const float sigma = 0.6f * static_cast<float>(radius);
    for (int dy = -radius; dy <= radius; dy += step)
      for (int dx = -radius; dx <= radius; dx += step) {
        shape.dx[static_cast<std::size_t>(count)] = dx, shape.dy[static_cast<std::size_t>(count)] = dy;
        shape.step[count] = dy * width_ + dx;
        shape.nearness[count] = std::exp(-static_cast<float>(dx * dx + dy * dy) / (2 * sigma * sigma));
        ++count;
      }
    shape.samples = count;
    shape.padded = std::min((count + 15) / 16 * 16, kMaxPatchSamples);
    // Likeness of brightness, in steps of one grey value.
    for (int d = 0; d < 256; ++d) shape.likeness[d] = std::exp(-static_cast<float>(d * d) / (2 * 32.0f * 32.0f));
  }

  // Four near regions, and the far ones of either axis.
  void prepare_regions() {
    static constexpr int kNear[4][3][2] = {{{-1, 0}, {-2, -1}, {-2, 1}},
                                           {{1, 0}, {2, -1}, {2, 1}},
                                           {{0, -1}, {-1, -2}, {1, -2}},
                                           {{0, 1}, {-1, 2}, {1, 2}}};
    const auto add = [&](Region& region, int dx, int dy) {
      const auto k = static_cast<std::size_t>(region.count++);
      region.dx[k] = dx, region.dy[k] = dy, region.step[k] = dy * width_ + dx;
    };
    for (std::size_t r = 0; r < 4; ++r)
      for (const auto& offset : kNear[r]) add(regions_[r], offset[0], offset[1]);
    for (const int side : {-1, 1})
      for (int step = 3; step <= kReach; step += 2) {
        add(regions_[4], side * step, 0);
        add(regions_[5], 0, side * step);
      }
  }

  // A row for each set of neighbours that some part asks.
  void prepare_rows(const ViewRow& everybody, const MatchViews* where) {
    const auto all = static_cast<std::uint16_t>((1u << everybody.count) - 1);
    std::vector<std::uint16_t> sets;
    const auto number_of = [&](std::uint16_t set) {
      const auto found = std::find(sets.begin(), sets.end(), set);
      if (found != sets.end()) return static_cast<std::uint16_t>(found - sets.begin());
      sets.push_back(set);
      rows_.push_back(row_of(everybody, set));
      return static_cast<std::uint16_t>(sets.size() - 1);
    };
    part_columns_.assign(static_cast<std::size_t>(width_), 0), part_rows_.assign(static_cast<std::size_t>(height_), 0);
    if (!where || where->asked.empty()) {
      row_of_part_ = {number_of(all)};
      return;
    }
    for (const std::uint16_t asked : where->asked) row_of_part_.push_back(number_of(asked & all));
    for (int x = 0; x < width_; ++x) part_columns_[static_cast<std::size_t>(x)] = x * where->columns / width_;
    for (int y = 0; y < height_; ++y)
      part_rows_[static_cast<std::size_t>(y)] = y * where->rows / height_ * where->columns;
  }

  static Row row_of(const ViewRow& everybody, std::uint16_t set) {
    Row row;
    for (std::size_t v = 0; v < static_cast<std::size_t>(everybody.count); ++v) {
      if (!(set >> v & 1)) continue;
      const auto at = static_cast<std::size_t>(row.views.count++);
      for (std::size_t k = 0; k < 9; ++k) row.views.turn[k][at] = everybody.turn[k][v];
      for (std::size_t r = 0; r < 3; ++r) {
        row.views.turn_x[r][at] = everybody.turn_x[r][v], row.views.turn_y[r][at] = everybody.turn_y[r][v];
        row.views.shift[r][at] = everybody.shift[r][v];
      }
      row.views.right[at] = everybody.right[v], row.views.bottom[at] = everybody.bottom[v];
      row.views.images[at] = everybody.images[v];
      row.neighbour[at] = static_cast<std::uint8_t>(v);
    }
    row.best_of = std::clamp<std::size_t>(static_cast<std::size_t>(row.views.count + 1) / 2, 1, 3);
    return row;
  }

  const Row& row_at(int x, int y) const {
    return rows_[row_of_part_[static_cast<std::size_t>(part_rows_[static_cast<std::size_t>(y)] +
                                                       part_columns_[static_cast<std::size_t>(x)])]];
  }

  Scratch make_scratch() const {
    Scratch scratch;
    for (std::size_t k = 0; k < shapes_.size(); ++k) {
      PatchReference& patch = scratch.patches[k];
      patch.samples = shapes_[k].padded;
      patch.reach = static_cast<float>(shapes_[k].radius);
      for (int i = 0; i < patch.samples; ++i) {
        patch.offset_x[i] = static_cast<float>(kSubpixels * shapes_[k].dx[static_cast<std::size_t>(i)]);
        patch.offset_y[i] = static_cast<float>(kSubpixels * shapes_[k].dy[static_cast<std::size_t>(i)]);
      }
    }
    return scratch;
  }

  void prepare_pixel(int x, int y, Scratch& s) const {
    s.x = x, s.y = y;
    s.direction = direction(x, y);
    s.row = &row_at(x, y);
    kernel_.turn(s.row->views, s.direction.x(), s.direction.y(), s.turns);
    s.patch = &s.patches[0];
    s.prior = 0;
    kernel_.reference(shapes_[0], own_, x, y, s.patches[0]);
    if (!expected_.empty() && s.patch->variance < kPriorVariance * weak_variance_) {
      const LocalPlanes::Plane& plane = expected_.at(x / expected_shrink_, y / expected_shrink_);
      s.prior = static_cast<float>(options_.plane_prior) * (1 - s.patch->variance / (kPriorVariance * weak_variance_));
      s.expected = plane.inverse_depth, s.expected_inverse = plane.inverse_depth.dot(s.direction);
      s.per_tolerance = plane.tolerance > 0 && s.expected_inverse > 0 ? 1 / plane.tolerance : 0;
    }
    if (s.patch->variance >= weak_variance_) return;
    s.patch = &s.patches[1];
    kernel_.reference(shapes_[1], own_, x, y, s.patches[1]);
  }

  // Puts the plane into the list; false when it is outside the range or seen too steeply.
  bool enlist(const Plane& plane, std::size_t place, Scratch& s) const {
    const float facing = plane.normal.dot(s.direction);
    if (!(plane.depth >= nearest_ && plane.depth <= farthest_) || facing > -kLeastFacing) return false;
    const float inverse = 1 / plane.depth, slant = inverse / (facing * focal_);
    s.list.inverse[place] = inverse, s.list.slant_x[place] = plane.normal.x() * slant,
    s.list.slant_y[place] = plane.normal.y() * slant;
    return true;
  }

  // What a depth costs beside the photos: less on the plane to expect, more off it.
  float prior_cost(float depth, const Scratch& s) const {
    if (!(s.prior > 0)) return 0;
    if (s.per_tolerance == 0) return kUnknownPlane * s.prior;
    return s.prior *
           (std::clamp((std::abs(1 / (depth * s.expected_inverse) - 1) * s.per_tolerance - 1) / (kOffPlane - 1), 0.0f,
                       1.0f) -
            0.5f);
  }

  // `view`: of the pixel's row.
  float disagreement_in(std::size_t view, const PlaneWarps& warps, std::size_t at, const Scratch& s) const {
    const Neighbour& n = neighbours_[s.row->neighbour[view]];
    return n.map ? kGeometryWeight * disagreement(n, warps.x[at], warps.y[at], s) : 0;
  }

  // Mean over the views in which the costs are lowest, the earlier one where two are alike; `chosen` tells them.
  static float mean_of_best(const Row& row, const float* costs, ChosenViews& chosen) {
    float best[3];
    std::size_t count = 0;
    for (int v = 0; v < row.views.count; ++v) {
      if (count == row.best_of && !(costs[v] < best[count - 1])) continue;
      std::size_t at = count < row.best_of ? count++ : count - 1;
      for (; at > 0 && costs[v] < best[at - 1]; --at) best[at] = best[at - 1], chosen.views[at] = chosen.views[at - 1];
      best[at] = costs[v];
      chosen.views[at] = static_cast<std::uint8_t>(v);
    }
    chosen.count = static_cast<std::uint8_t>(count);
    float sum = 0;
    for (std::size_t k = 0; k < count; ++k) sum += best[k];
    return sum / static_cast<float>(count);
  }

  // One plane in all views.
  float evaluate(const Plane& plane, Scratch& s, ChosenViews& chosen) const {
    chosen.count = 0;
    if (!enlist(plane, 0, s)) return kWorstCost;
    const ViewRow& views = s.row->views;
    kernel_.warp_views(views, s.turns, s.list, s.patch->reach, s.in_views);
    float costs[kMaxViews];
    kernel_.costs(*s.patch, views.images.data(), s.in_views, all_.data(), views.count, costs);
    if (has_maps_)
      for (std::size_t v = 0; v < static_cast<std::size_t>(views.count); ++v)
        costs[v] += disagreement_in(v, s.in_views, v, s);
    return mean_of_best(*s.row, costs, chosen) + prior_cost(plane.depth, s);
  }

  // Whether any view sees the plane, and the views whose photos it fits, a bit each.
  struct Sight {
    bool seen = false;
    std::uint16_t supporting = 0;
  };
  Sight sight_of(const Plane& plane, Scratch& s) const {
    Sight sight;
    if (!enlist(plane, 0, s)) return sight;
    const ViewRow& views = s.row->views;
    kernel_.warp_views(views, s.turns, s.list, s.patch->reach, s.in_views);
    float costs[kMaxViews];
    kernel_.costs(*s.patch, views.images.data(), s.in_views, all_.data(), views.count, costs);
    unsigned bits = 0;
    for (std::size_t v = 0; v < static_cast<std::size_t>(views.count); ++v) {
      if (s.in_views.slot[v] == kMaxWarps) continue;
      sight.seen = true;
      bits |= static_cast<unsigned>(costs[v] < options_.max_cost) << s.row->neighbour[v];
    }
    sight.supporting = static_cast<std::uint16_t>(bits);
    return sight;
  }

  // Planes to choose from, side by side so that a view's warps and scores are worked out for all of them at once.
  struct Candidates {
    std::array<Plane, kMaxPlanes> planes;
    std::size_t count = 0;
  };
  void add(const Plane& plane, const Plane& best, Candidates& candidates, Scratch& s) const {
    // A plane that is the same for all that matters is not worth a look.
    if (std::abs(plane.depth - best.depth) < kSameDepth * best.depth && plane.normal.dot(best.normal) > kSameNormal)
      return;
    if (enlist(plane, candidates.count, s)) candidates.planes[candidates.count++] = plane;
  }

  // The best of the candidates becomes the plane when its cost is lower.
  struct Best {
    Plane plane;
    float cost;
    ChosenViews chosen;
  };
  void take_better(const Candidates& candidates, bool settled, Best& best, Scratch& s) const {
    if (candidates.count == 0) return;
    if (settled)
      take_better_in_chosen(candidates, best, s);
    else
      take_better_in_all(candidates, best, s);
  }

  // Mean over the chosen views. Most planes that are tried are far worse than the one at hand, and the first view
  // tells: costs in photos are not below 0 but for rounding, so that the mean cannot come below the limit any more.
  void take_better_in_chosen(const Candidates& candidates, Best& best, Scratch& s) const {
    std::array<std::uint8_t, kMaxPlanes> left = all_;
    std::array<float, kMaxPlanes> sums{};
    std::size_t count = candidates.count;
    if (s.prior > 0)
      for (std::size_t i = 0; i < count; ++i)
        sums[i] = static_cast<float>(best.chosen.count) * prior_cost(candidates.planes[i].depth, s);
    const float limit = best.cost * static_cast<float>(best.chosen.count) + kRounding;
    for (std::size_t k = 0; k < best.chosen.count && count > 0; ++k) {
      const std::size_t view = best.chosen.views[k];
      float costs[kMaxPlanes];
      kernel_.warp_planes(s.row->views, s.turns, static_cast<int>(view), s.list, static_cast<int>(candidates.count),
                          s.patch->reach, s.of_planes);
      kernel_.costs(*s.patch, same_image_[s.row->neighbour[view]].data(), s.of_planes, left.data(),
                    static_cast<int>(count), costs);
      std::size_t kept = 0;
      for (std::size_t i = 0; i < count; ++i) {
        const std::uint8_t at = left[i];
        sums[at] += costs[i];
        if (sums[at] > limit) continue;
        if (has_maps_) sums[at] += disagreement_in(view, s.of_planes, at, s);
        left[kept] = at;
        kept += sums[at] <= limit;
      }
      count = kept;
    }
    for (std::size_t i = 0; i < count; ++i)
      if (const float cost = sums[left[i]] / static_cast<float>(best.chosen.count); cost < best.cost)
        best.plane = candidates.planes[left[i]], best.cost = cost;
  }

  // While nothing fits yet, the views that happen to fit least badly say nothing, and all are asked.
  void take_better_in_all(const Candidates& candidates, Best& best, Scratch& s) const {
    std::array<std::array<float, kMaxViews>, kMaxPlanes> costs;
    for (std::size_t view = 0; view < static_cast<std::size_t>(s.row->views.count); ++view) {
      float of_planes[kMaxPlanes];
      kernel_.warp_planes(s.row->views, s.turns, static_cast<int>(view), s.list, static_cast<int>(candidates.count),
                          s.patch->reach, s.of_planes);
      kernel_.costs(*s.patch, same_image_[s.row->neighbour[view]].data(), s.of_planes, all_.data(),
                    static_cast<int>(candidates.count), of_planes);
      for (std::size_t i = 0; i < candidates.count; ++i)
        costs[i][view] = of_planes[i] + (has_maps_ ? disagreement_in(view, s.of_planes, i, s) : 0);
    }
    for (std::size_t i = 0; i < candidates.count; ++i) {
      ChosenViews chosen;
      if (const float cost = mean_of_best(*s.row, costs[i].data(), chosen) + prior_cost(candidates.planes[i].depth, s);
          cost < best.cost)
        best = {candidates.planes[i], cost, chosen};
    }
  }

  // Distance in px, at most 3, between the pixel and where the neighbour's own depth sends it back. A neighbour that
  // does not see the place says nothing more than its kUnseenCost.
  float disagreement(const Neighbour& n, float x, float y, const Scratch& s) const {
    int ix, iy;
    if (!pixel_at(x, y, n.map->depth.width(), n.map->depth.height(), ix, iy)) return 0;
    const float depth = n.map->depth.at(ix, iy);
    if (!(depth > 0)) return 3;
    const Vector3f p = n.back * (depth * Vector3f((x - n.cx) / n.focal, (y - n.cy) / n.focal, 1)) + n.back_shift;
    if (!(p.z() > 0)) return 3;
    const float dx = p.x() / p.z() - static_cast<float>(s.x), dy = p.y() / p.z() - static_cast<float>(s.y);
    return std::min(3.0f, std::sqrt(dx * dx + dy * dy));
  }

  Vector3f random_normal(CounterRandom& random, const Vector3f& line) const {
    // Within about 60 degrees of the line of sight.
    Vector3f n;
    do n = Vector3f(2 * random.uniformf() - 1, 2 * random.uniformf() - 1, 2 * random.uniformf() - 1);
    while (n.squaredNorm() > 1);
    return (-line.normalized() + 0.9f * n).normalized();
  }

  // `ask_all`: which views fit the present plane best is asked for again, since the plane has changed.
  void improve(int x, int y, int round, bool ask_all, float spread, Scratch& s) {
    prepare_pixel(x, y, s);
    const std::size_t at = index(x, y);
    Best best{planes_[at], cost_[at], chosen_[at]};
    if (ask_all) best.cost = evaluate(best.plane, s, best.chosen);
    const bool settled = best.cost < settled_cost_;
    // From regions of the other colour, near and far, the planes that fit best where they are.
    Candidates candidates;
    const bool whole = x >= kReach && y >= kReach && x + kReach < width_ && y + kReach < height_;
    for (const Region& region : regions_) {
      float lowest = kBadCost;
      int best_at = -1;
      for (int k = 0; k < region.count; ++k) {
        const int px = x + region.dx[static_cast<std::size_t>(k)], py = y + region.dy[static_cast<std::size_t>(k)];
        if (!whole && (px < 0 || py < 0 || px >= width_ || py >= height_)) continue;
        const float c =
            cost_[static_cast<std::size_t>(static_cast<std::ptrdiff_t>(at) + region.step[static_cast<std::size_t>(k)])];
        best_at = c < lowest ? k : best_at;
        lowest = c < lowest ? c : lowest;
      }
      if (best_at < 0) continue;
      const auto k = static_cast<std::size_t>(best_at);
      const Plane& from = planes_[static_cast<std::size_t>(static_cast<std::ptrdiff_t>(at) + region.step[k])];
      const float facing = from.normal.dot(s.direction);
      if (facing <= -kLeastFacing)
        add({from.depth * from.normal.dot(direction(x + region.dx[k], y + region.dy[k])) / facing, from.normal},
            best.plane, candidates, s);
    }
    if (s.prior > 0 && s.per_tolerance > 0)
      add({1 / s.expected_inverse, -s.expected.normalized()}, best.plane, candidates, s);
    take_better(candidates, settled, best, s);
    // Then steps at random around it.
    CounterRandom random(combine_keys(seed_, combine_keys(at, 1000u + static_cast<std::uint64_t>(round))));
    const Plane from = best.plane;
    const auto moved_depth = [&](float size) { return from.depth * (1 + size * (2 * random.uniformf() - 1)); };
    const auto moved_normal = [&](float size) {
      const Vector3f shift(2 * random.uniformf() - 1, 2 * random.uniformf() - 1, 2 * random.uniformf() - 1);
      return Vector3f((from.normal + size * shift).normalized());
    };
    const float turn = std::min(0.6f, 25 * spread);
    candidates.count = 0;
    add({moved_depth(spread), from.normal}, from, candidates, s);
    add({from.depth, moved_normal(turn)}, from, candidates, s);
    add({moved_depth(0.25f * spread), moved_normal(0.4f * turn)}, from, candidates, s);
    if (best.cost > 0.6f)
      add({1 / (1 / farthest_ + random.uniformf() * (1 / nearest_ - 1 / farthest_)),
           random_normal(random, s.direction)},
          from, candidates, s);
    take_better(candidates, settled, best, s);
    planes_[at] = best.plane;
    cost_[at] = best.cost;
    chosen_[at] = best.chosen;
  }

  const DenseOptions& options_;
  const Executor& executor_;
  std::uint64_t seed_;
  ImageU8 grey_;
  int width_, height_;
  float focal_, cx_, cy_, nearest_ = 0, farthest_ = 0, settled_cost_ = kSettledAtStart;
  std::vector<Neighbour> neighbours_;
  std::vector<Row> rows_;
  std::vector<std::uint16_t> row_of_part_;
  std::vector<int> part_columns_, part_rows_;  // by column of the image; by row, times the columns of parts
  std::array<std::array<const QuadImage*, kMaxPlanes>, kMaxViews> same_image_{};
  std::array<std::uint8_t, kMaxWarps> all_;  // 0, 1, 2, ...
  bool has_maps_ = false;
  DenseKernel kernel_ = best_dense_kernel();
  std::array<PatchShape, 2> shapes_;  // as wide as usual, and wide
  float weak_variance_;
  QuadImage own_;
  LocalPlanes expected_;  // of a level so many times smaller
  int expected_shrink_ = 1;
  std::vector<ChosenViews> chosen_;
  std::vector<Plane> planes_;
  std::vector<float> cost_;
  std::vector<std::uint8_t> active_;
  std::vector<std::uint8_t> searched_;  // empty: all active ones
  struct Region {
    int count = 0;
    std::array<int, 10> dx{}, dy{}, step{};
  };
  std::array<Region, 6> regions_;
};

}  // namespace

DepthMap match_depth(const DenseView& reference, std::span<const DenseView* const> neighbours,
                     std::span<const Eigen::Vector3d> sparse, const DepthMap* start,
                     std::span<const DepthMap* const> maps, const DenseOptions& options, std::uint64_t seed,
                     const Executor& executor, const std::optional<Bounds>& bounds, const MatchViews* where) {
  // Depths that tie points suggest, with room on both sides.
  std::vector<double> depths;
  for (const Eigen::Vector3d& p : sparse) depths.push_back(p.z());
  std::sort(depths.begin(), depths.end());
  const std::size_t n = depths.size();
  double nearest_depth = n > 0 ? 0.6 * depths[n / 100] : 0.01,
         farthest_depth = n > 0 ? 1.8 * depths[n - 1 - n / 100] : 100.0;
  if (bounds) {
    // The box, where it is in front of the photo, says more than a horizon behind it.
    double low = farthest_depth, high = 0;
    for (int corner = 0; corner < 8; ++corner) {
      const Eigen::Vector3d sign(corner & 1 ? 1 : -1, corner & 2 ? 1 : -1, corner & 4 ? 1 : -1);
      const double z =
          reference.pose.to_camera(bounds->centre + bounds->orientation * bounds->half_size.cwiseProduct(sign)).z();
      low = std::min(low, z);
      high = std::max(high, z);
    }
    nearest_depth = std::max(nearest_depth, 0.9 * low);
    if (high > 0) farthest_depth = std::clamp(1.1 * high, 1.01 * nearest_depth, farthest_depth);
  }
  const float nearest = static_cast<float>(nearest_depth), farthest = static_cast<float>(farthest_depth);

  DepthMatcher fine(reference, neighbours, maps, where, options, 1, combine_keys(seed, 1), executor);
  fine.set_range(nearest, farthest);
  if (bounds) fine.stay_within(*bounds, reference.pose);
  fine.leave_out(reference.usable, 1);
  if (start) {
    fine.start_from(*start);
    fine.expect_planes(*start);
    fine.take_as_settled(kSettledLater);
    fine.search_only_detail();
    fine.iterate(1, 100, 0.003f);
    return fine.result(reference);
  }
  if (std::min(fine.width(), fine.height()) >= 64) {
    DepthMatcher coarse(reference, neighbours, {}, where, options, 2, combine_keys(seed, 0), executor);
    coarse.set_range(nearest, farthest);
    if (bounds) coarse.stay_within(*bounds, reference.pose);
    coarse.leave_out(reference.usable, 2);
    coarse.start_from_points(sparse);
    coarse.iterate(options.coarse_iterations, 0, 0.06f);
    coarse.expect_planes();
    fine.start_from(coarse);
    fine.expect_planes_of(coarse);
    fine.take_as_settled(kSettledLater);
    fine.search_only_detail();
    fine.iterate(options.fine_iterations, 50, 0.01f);
  } else {
    fine.start_from_points(sparse);
    fine.iterate(options.coarse_iterations + options.fine_iterations, 0, 0.06f);
  }
  return fine.result(reference);
}

}  // namespace icefield
