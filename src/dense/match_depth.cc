#include <algorithm>
#include <array>
#include <cmath>
#include <memory>

#include "icefield/base/random.h"
#include "icefield/dense/dense.h"
#include "icefield/photo/filter.h"
#include "src/dense/patch_kernel.h"

namespace icefield {
namespace {

using Eigen::Matrix3f;
using Eigen::Vector3f;

constexpr std::size_t kMaxViews = 32;
constexpr float kBadCost = 2.0f;
constexpr float kWorstCost = 4.0f;       // bad in the photos and in agreement
// Below these costs the views that fit best are taken to be those that see the surface: soon when a start is at hand,
// later in the first search.
constexpr float kSettledAtStart = 0.5f, kSettledLater = 0.85f;
constexpr float kSameDepth = 1e-4f, kSameNormal = 0.9995f;
constexpr float kLeastFacing = 0.08f;    // cosine of normal and line of sight: steeper planes are not matched
constexpr float kGeometryWeight = 0.18f; // cost of a pixel of distance after there and back; 3 px at most

// A neighbour: how points of the reference's camera frame get into it, pixel middles at integers.
struct Neighbour {
  std::unique_ptr<QuadImage> image;
  Matrix3f turn;          // K R
  Vector3f shift;         // K t
  Vector3f turn_x, turn_y;  // columns of `turn` divided by the reference's focal length
  const DepthMap* map = nullptr;
  Matrix3f back;          // from the neighbour's directions to the reference's pixels: K_ref R^T
  Vector3f back_shift;    // K_ref (position of the neighbour in the reference's frame)
  float focal, cx, cy;    // of the neighbour at this level
};

struct Plane {
  float depth;
  Vector3f normal;
};

class DepthMatcher {
 public:
  DepthMatcher(const DenseView& reference, std::span<const DenseView* const> neighbours, std::span<const DepthMap* const> maps, const DenseOptions& options,
               int shrink_by, std::uint64_t seed, const Executor& executor)
      : options_(options), executor_(executor), seed_(seed), grey_(shrink(reference.grey, shrink_by)), width_(grey_.width()), height_(grey_.height()) {
    const float inverse = 1.0f / static_cast<float>(shrink_by);
    focal_ = static_cast<float>(reference.camera.focal()) * inverse;
    cx_ = static_cast<float>(reference.camera.principal_point().x()) * inverse - 0.5f;
    cy_ = static_cast<float>(reference.camera.principal_point().y()) * inverse - 0.5f;
    Matrix3f own;
    own << focal_, 0, cx_, 0, focal_, cy_, 0, 0, 1;
    for (std::size_t i = 0; i < std::min(neighbours.size(), kMaxViews); ++i) {
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
      n.turn = k * rotation.cast<float>();
      n.shift = k * translation.cast<float>();
      n.turn_x = n.turn.col(0) / focal_;
      n.turn_y = n.turn.col(1) / focal_;
      n.back = own * rotation.transpose().cast<float>();
      n.back_shift = own * Eigen::Vector3d(reference.pose.to_camera(view.pose.centre)).cast<float>();
      if (i < maps.size()) n.map = maps[i];
      neighbours_.push_back(std::move(n));
    }
    views_.reserve(neighbours_.size());
    for (const Neighbour& n : neighbours_) views_.push_back(n.image.get());
    best_of_ = std::clamp<std::size_t>((neighbours_.size() + 1) / 2, 1, 3);
    prepare_patch();
    depth_.assign(grey_.pixels(), 0);
    active_.assign(grey_.pixels(), 1);
    normal_.assign(grey_.pixels(), Vector3f(0, 0, -1));
    cost_.assign(grey_.pixels(), kWorstCost);
    chosen_.assign(grey_.pixels(), Chosen{});
  }

  int width() const { return width_; }
  int height() const { return height_; }

  void set_range(float nearest, float farthest) { nearest_ = nearest, farthest_ = farthest; }

  // Pixels whose lines of sight miss the box are left empty. A margin keeps the patches at its border whole.
  void stay_within(Bounds bounds, const Pose& pose) {
    bounds.half_size *= 1.03;
    const Eigen::Matrix3d to_world = pose.rotation().transpose();
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) active_[index(x, y)] = bounds.meets(pose.centre, to_world * direction(x, y).cast<double>());
  }

  void take_as_settled(float cost) { settled_cost_ = cost; }

  // Starts from the depths of tie points nearby in the image, some pixels from anywhere in the range.
  void start_from_points(std::span<const Eigen::Vector3d> sparse) {
    constexpr int kCell = 12;
    const int columns = (width_ + kCell - 1) / kCell, rows = (height_ + kCell - 1) / kCell;
    std::vector<std::vector<float>> cells(static_cast<std::size_t>(columns) * rows);
    for (const Eigen::Vector3d& p : sparse) {
      const int x = static_cast<int>(std::floor((p.x() / p.z() * focal_ + cx_ + 0.5) / kCell)), y = static_cast<int>(std::floor((p.y() / p.z() * focal_ + cy_ + 0.5) / kCell));
      if (x >= 0 && y >= 0 && x < columns && y < rows) cells[static_cast<std::size_t>(y) * columns + x].push_back(static_cast<float>(p.z()));
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
          depth_[at] = near[random.below(static_cast<std::uint32_t>(near.size()))] * (1 + 0.03f * (2 * random.uniformf() - 1));
        else
          depth_[at] = 1 / (1 / farthest_ + random.uniformf() * (1 / nearest_ - 1 / farthest_));
        depth_[at] = std::clamp(depth_[at], nearest_, farthest_);
        normal_[at] = random_normal(random, direction(x, y));
      }
  }

  void start_from(const DepthMatcher& coarse) {
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) {
        const int cx = std::min(x / 2, coarse.width_ - 1), cy = std::min(y / 2, coarse.height_ - 1);
        const std::size_t from = coarse.index(cx, cy), at = index(x, y);
        const Vector3f n = coarse.normal_[from];
        if (!coarse.active_[from]) {
          depth_[at] = 2 / (1 / nearest_ + 1 / farthest_);
          continue;
        }
        const float delta = coarse.depth_[from] * n.dot(coarse.direction(cx, cy));
        const float facing = n.dot(direction(x, y));
        const float depth = facing < -1e-3f ? delta / facing : coarse.depth_[from];
        depth_[at] = std::clamp(depth, nearest_, farthest_);
        normal_[at] = n;
      }
  }

  void start_from(const DepthMap& map) {
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) {
        const std::size_t at = index(x, y);
        const float depth = map.depth.at(x, y);
        depth_[at] = depth > 0 ? std::clamp(depth, nearest_, farthest_) : 0.5f * (nearest_ + farthest_);
        Vector3f n(map.normal.at(x, y, 0), map.normal.at(x, y, 1), map.normal.at(x, y, 2));
        normal_[at] = n.squaredNorm() > 0 ? n.normalized() : Vector3f(0, 0, -1);
      }
  }

  // `first` numbers the rounds for the random numbers; the search narrows from `spread` (relative depth) by half a round.
  void iterate(int rounds, int first, float spread) {
    constexpr std::size_t kRows = 4;
    executor_.blocks(static_cast<std::size_t>(height_), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      Scratch scratch = make_scratch();
      for (std::size_t y = begin; y < end; ++y)
        for (int x = 0; x < width_; ++x) {
          const std::size_t at = index(x, static_cast<int>(y));
          if (!active_[at]) continue;
          prepare_pixel(x, static_cast<int>(y), scratch);
          cost_[at] = evaluate({depth_[at], normal_[at]}, scratch);
          chosen_[at] = {scratch.chosen, static_cast<std::uint8_t>(scratch.chosen_count)};
        }
    });
    for (int round = 0; round < rounds; ++round) {
      for (int colour = 0; colour < 2; ++colour)
        executor_.blocks(static_cast<std::size_t>(height_), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
          Scratch scratch = make_scratch();
          for (std::size_t y = begin; y < end; ++y)
            for (int x = (static_cast<int>(y) + colour) & 1; x < width_; x += 2)
              if (active_[index(x, static_cast<int>(y))]) improve(x, static_cast<int>(y), first + round, round > 0, spread, scratch);
        });
      spread *= 0.5f;
    }
  }

  DepthMap result(const DenseView& view) const {
    DepthMap map{view.camera, view.pose, ImageF(width_, height_), Image<std::int8_t>(width_, height_, 3), ImageF(width_, height_, 1, kBadCost)};
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) {
        const std::size_t at = index(x, y);
        map.cost.at(x, y) = std::min(cost_[at], kBadCost);
        if (cost_[at] >= kBadCost) continue;
        map.depth.at(x, y) = depth_[at];
        for (int c = 0; c < 3; ++c) map.normal.at(x, y, c) = static_cast<std::int8_t>(std::lround(127 * normal_[at][c]));
      }
    return map;
  }

 private:
  // What is the same for all hypotheses of a pixel.
  struct Scratch {
    PatchReference patch;
    Vector3f direction;
    int x, y;
    std::array<Vector3f, kMaxViews> turned;
    std::array<std::uint8_t, 3> chosen;    // views in which the present plane fits best
    std::size_t chosen_count = 0;
  };

  std::size_t index(int x, int y) const { return static_cast<std::size_t>(y) * width_ + x; }
  Vector3f direction(int x, int y) const { return {(static_cast<float>(x) - cx_) / focal_, (static_cast<float>(y) - cy_) / focal_, 1}; }

  void prepare_patch() {
    int count = 0;
    const float sigma = 0.6f * static_cast<float>(options_.patch_radius);
    for (int dy = -options_.patch_radius; dy <= options_.patch_radius; dy += options_.patch_step)
      for (int dx = -options_.patch_radius; dx <= options_.patch_radius; dx += options_.patch_step) {
        if (count >= kMaxPatchSamples) continue;
        offsets_[count] = {dx, dy};
        nearness_[count] = std::exp(-static_cast<float>(dx * dx + dy * dy) / (2 * sigma * sigma));
        ++count;
      }
    samples_ = count;
    padded_ = std::min((count + 15) / 16 * 16, kMaxPatchSamples);
    // Likeness of brightness, in steps of one grey value.
    for (int d = 0; d < 256; ++d) likeness_[d] = std::exp(-static_cast<float>(d * d) / (2 * 32.0f * 32.0f));
  }

  Scratch make_scratch() const {
    Scratch scratch;
    scratch.patch.samples = padded_;
    scratch.patch.reach = static_cast<float>(options_.patch_radius);
    for (int i = 0; i < padded_; ++i) {
      scratch.patch.offset_x[i] = i < samples_ ? static_cast<float>(offsets_[i].first) : 0;
      scratch.patch.offset_y[i] = i < samples_ ? static_cast<float>(offsets_[i].second) : 0;
      scratch.patch.weight[i] = scratch.patch.centred[i] = 0;
    }
    return scratch;
  }

  void prepare_pixel(int x, int y, Scratch& s) const {
    s.x = x, s.y = y;
    s.direction = direction(x, y);
    for (std::size_t v = 0; v < neighbours_.size(); ++v) s.turned[v] = neighbours_[v].turn * s.direction;
    const int middle = grey_.at(x, y);
    float value[kMaxPatchSamples];
    float sum = 0, mean = 0;
    for (int i = 0; i < samples_; ++i) {
      const int px = std::clamp(x + offsets_[i].first, 0, width_ - 1), py = std::clamp(y + offsets_[i].second, 0, height_ - 1);
      const int v = grey_.at(px, py);
      value[i] = static_cast<float>(v);
      s.patch.weight[i] = nearness_[i] * likeness_[std::abs(v - middle)];
      sum += s.patch.weight[i];
      mean += s.patch.weight[i] * value[i];
    }
    const float scale = 1 / sum;
    mean *= scale;
    float variance = 0;
    for (int i = 0; i < samples_; ++i) {
      s.patch.weight[i] *= scale;
      const float off = value[i] - mean;
      s.patch.centred[i] = s.patch.weight[i] * off;
      variance += s.patch.centred[i] * off;
    }
    s.patch.variance = variance;
  }

  // What is the same for all views of a plane; nothing when it is outside the range or seen too steeply.
  struct Slant {
    float inverse, x, y;
  };
  std::optional<Slant> slant_of(const Plane& plane, const Scratch& s) const {
    const float facing = plane.normal.dot(s.direction);
    if (!(plane.depth >= nearest_ && plane.depth <= farthest_) || facing > -kLeastFacing) return std::nullopt;
    const float inverse = 1 / plane.depth, slant = inverse / (facing * focal_);
    return Slant{inverse, plane.normal.x() * slant, plane.normal.y() * slant};
  }

  float view_cost(std::size_t v, const Slant& slant, const Scratch& s) const {
    const Neighbour& n = neighbours_[v];
    // The plane's homography, H = K (R + t n^T / d) K_ref^-1, at the middle of the patch, and its derivatives.
    const Vector3f p = s.turned[v] + n.shift * slant.inverse;
    if (!(p.z() > 0)) return kBadCost;
    const float inv = 1 / p.z();
    const Vector3f px = n.turn_x + n.shift * slant.x, py = n.turn_y + n.shift * slant.y;
    PatchWarp warp;
    warp.x = p.x() * inv;
    warp.y = p.y() * inv;
    warp.xx = (px.x() - warp.x * px.z()) * inv;
    warp.xy = (py.x() - warp.x * py.z()) * inv;
    warp.yx = (px.y() - warp.y * px.z()) * inv;
    warp.yy = (py.y() - warp.y * py.z()) * inv;
    float cost = patch_cost_(s.patch, *views_[v], warp);
    if (n.map) cost += kGeometryWeight * disagreement(n, warp.x, warp.y, s);
    return cost;
  }

  // Mean over the views in which the plane fits best; s.chosen tells them.
  float evaluate(const Plane& plane, Scratch& s) const {
    s.chosen_count = 0;
    const auto slant = slant_of(plane, s);
    if (!slant) return kWorstCost;
    const std::size_t count = neighbours_.size();
    std::array<std::pair<float, std::uint32_t>, kMaxViews> ranked;
    for (std::size_t v = 0; v < count; ++v) ranked[v] = {view_cost(v, *slant, s), static_cast<std::uint32_t>(v)};
    std::partial_sort(ranked.begin(), ranked.begin() + best_of_, ranked.begin() + count);
    float sum = 0;
    for (std::size_t k = 0; k < best_of_; ++k) {
      sum += ranked[k].first;
      s.chosen[k] = static_cast<std::uint8_t>(ranked[k].second);
    }
    s.chosen_count = best_of_;
    return sum / static_cast<float>(best_of_);
  }

  // Mean over the chosen views; gives up as soon as it cannot be below `to_beat`.
  float evaluate_chosen(const Plane& plane, float to_beat, const Scratch& s) const {
    const auto slant = slant_of(plane, s);
    if (!slant) return kWorstCost;
    const float limit = to_beat * static_cast<float>(s.chosen_count);
    float sum = 0;
    for (std::size_t k = 0; k < s.chosen_count; ++k) {
      sum += view_cost(s.chosen[k], *slant, s);
      if (sum >= limit) return kWorstCost;
    }
    return sum / static_cast<float>(s.chosen_count);
  }

  // Distance in px, at most 3, between the pixel and where the neighbour's own depth sends it back.
  float disagreement(const Neighbour& n, float x, float y, const Scratch& s) const {
    int ix, iy;
    if (!pixel_at(x, y, n.map->depth.width(), n.map->depth.height(), ix, iy)) return 3;
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

  // `ask_all`: the present plane's best views may have changed since they were last asked for.
  void improve(int x, int y, int round, bool ask_all, float spread, Scratch& s) {
    prepare_pixel(x, y, s);
    const std::size_t at = index(x, y);
    Plane best{depth_[at], normal_[at]};
    float best_cost = cost_[at];
    if (ask_all)
      best_cost = evaluate(best, s);
    else
      s.chosen = chosen_[at].views, s.chosen_count = chosen_[at].count;
    // While nothing fits yet, the views that happen to fit least badly say nothing, and all are asked.
    const bool settled = best_cost < settled_cost_;
    const auto consider = [&](const Plane& plane) {
      // A plane that is the same for all that matters is not worth a look.
      if (std::abs(plane.depth - best.depth) < kSameDepth * best.depth && plane.normal.dot(best.normal) > kSameNormal) return;
      const float cost = settled ? evaluate_chosen(plane, best_cost, s) : evaluate(plane, s);
      if (cost < best_cost) best = plane, best_cost = cost;
    };
    // From regions of the other colour, near and far, the planes that fit best where they are.
    static constexpr int kNear[4][3][2] = {{{-1, 0}, {-2, -1}, {-2, 1}}, {{1, 0}, {2, -1}, {2, 1}}, {{0, -1}, {-1, -2}, {1, -2}}, {{0, 1}, {-1, 2}, {1, 2}}};
    static constexpr int kFar[4][2] = {{-1, 0}, {1, 0}, {0, -1}, {0, 1}};
    const auto propose = [&](std::size_t from, int px, int py) {
      const Vector3f& n = normal_[from];
      const float facing = n.dot(s.direction);
      if (facing > -kLeastFacing) return;
      consider({depth_[from] * n.dot(direction(px, py)) / facing, n});
    };
    float lowest = kBadCost;
    int bx = 0, by = 0;
    for (int region = 0; region < 8; ++region) {
      // Near regions propose one each, the far ones one for each axis.
      if (region != 5 && region != 7) lowest = kBadCost;
      const auto look = [&](int px, int py) {
        if (px < 0 || py < 0 || px >= width_ || py >= height_) return;
        if (const float c = cost_[index(px, py)]; c < lowest) lowest = c, bx = px, by = py;
      };
      if (region < 4)
        for (const auto& offset : kNear[region]) look(x + offset[0], y + offset[1]);
      else
        for (int step = 3; step <= 11; step += 2) look(x + step * kFar[region - 4][0], y + step * kFar[region - 4][1]);
      if (lowest < kBadCost && region != 4 && region != 6) propose(index(bx, by), bx, by);
    }
    // Then steps at random around it.
    CounterRandom random(combine_keys(seed_, combine_keys(at, 1000u + static_cast<std::uint64_t>(round))));
    const auto moved_depth = [&](float size) { return best.depth * (1 + size * (2 * random.uniformf() - 1)); };
    const auto moved_normal = [&](float size) {
      const Vector3f shift(2 * random.uniformf() - 1, 2 * random.uniformf() - 1, 2 * random.uniformf() - 1);
      return Vector3f((best.normal + size * shift).normalized());
    };
    const float turn = std::min(0.6f, 25 * spread);
    consider({moved_depth(spread), best.normal});
    consider({best.depth, moved_normal(turn)});
    consider({moved_depth(0.25f * spread), moved_normal(0.4f * turn)});
    if (best_cost > 0.6f) consider({1 / (1 / farthest_ + random.uniformf() * (1 / nearest_ - 1 / farthest_)), random_normal(random, s.direction)});
    depth_[at] = best.depth;
    normal_[at] = best.normal;
    cost_[at] = best_cost;
  }

  const DenseOptions& options_;
  const Executor& executor_;
  std::uint64_t seed_;
  ImageU8 grey_;
  int width_, height_;
  float focal_, cx_, cy_, nearest_ = 0, farthest_ = 0, settled_cost_ = kSettledAtStart;
  std::vector<Neighbour> neighbours_;
  std::vector<const QuadImage*> views_;
  std::size_t best_of_;
  PatchCost patch_cost_ = best_patch_cost();
  int samples_ = 0, padded_ = 0;
  std::array<std::pair<int, int>, kMaxPatchSamples> offsets_;
  std::array<float, kMaxPatchSamples> nearness_;
  std::array<float, 256> likeness_;
  struct Chosen {
    std::array<std::uint8_t, 3> views;
    std::uint8_t count;
  };
  std::vector<Chosen> chosen_;
  std::vector<float> depth_, cost_;
  std::vector<std::uint8_t> active_;
  std::vector<Vector3f> normal_;
};

}  // namespace

DepthMap match_depth(const DenseView& reference, std::span<const DenseView* const> neighbours, std::span<const Eigen::Vector3d> sparse, const DepthMap* start,
                     std::span<const DepthMap* const> maps, const DenseOptions& options, std::uint64_t seed, const Executor& executor,
                     const std::optional<Bounds>& bounds) {
  // Depths that tie points suggest, with room on both sides.
  std::vector<double> depths;
  for (const Eigen::Vector3d& p : sparse) depths.push_back(p.z());
  std::sort(depths.begin(), depths.end());
  const std::size_t n = depths.size();
  double nearest_depth = n > 0 ? 0.6 * depths[n / 100] : 0.01, farthest_depth = n > 0 ? 1.8 * depths[n - 1 - n / 100] : 100.0;
  if (bounds) {
    // The box, where it is in front of the photo, says more than a horizon behind it.
    double low = farthest_depth, high = 0;
    for (int corner = 0; corner < 8; ++corner) {
      const Eigen::Vector3d sign(corner & 1 ? 1 : -1, corner & 2 ? 1 : -1, corner & 4 ? 1 : -1);
      const double z = reference.pose.to_camera(bounds->centre + bounds->orientation * bounds->half_size.cwiseProduct(sign)).z();
      low = std::min(low, z);
      high = std::max(high, z);
    }
    nearest_depth = std::max(nearest_depth, 0.9 * low);
    if (high > 0) farthest_depth = std::clamp(1.1 * high, 1.01 * nearest_depth, farthest_depth);
  }
  const float nearest = static_cast<float>(nearest_depth), farthest = static_cast<float>(farthest_depth);

  DepthMatcher fine(reference, neighbours, maps, options, 1, combine_keys(seed, 1), executor);
  fine.set_range(nearest, farthest);
  if (bounds) fine.stay_within(*bounds, reference.pose);
  if (start) {
    fine.start_from(*start);
    fine.take_as_settled(kSettledLater);
    fine.iterate(1, 100, 0.003f);
    return fine.result(reference);
  }
  if (std::min(fine.width(), fine.height()) >= 64) {
    DepthMatcher coarse(reference, neighbours, {}, options, 2, combine_keys(seed, 0), executor);
    coarse.set_range(nearest, farthest);
    if (bounds) coarse.stay_within(*bounds, reference.pose);
    coarse.start_from_points(sparse);
    coarse.iterate(options.coarse_iterations, 0, 0.06f);
    fine.start_from(coarse);
    fine.take_as_settled(kSettledLater);
    fine.iterate(options.fine_iterations, 50, 0.01f);
  } else {
    fine.start_from_points(sparse);
    fine.iterate(options.coarse_iterations + options.fine_iterations, 0, 0.06f);
  }
  return fine.result(reference);
}

}  // namespace icefield
