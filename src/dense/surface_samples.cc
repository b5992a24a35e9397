#include "src/dense/surface_samples.h"

#include <numbers>

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

// Of a place found in a neighbour, px of the depth map, one standard deviation; and what patches smooth away, in
// footprints. With them the expected errors are about those that simulated scenes show (docs/benchmarks.md).
constexpr double kPlaceSigma = 0.12, kSmoothed = 0.15;
constexpr double kThinTolerance = 0.5;  // of the distances, where only two photos see thin detail
constexpr float kThinCost = 0.75f;      // of max_cost
constexpr std::size_t kRows = 8;        // that a thread takes at a time

Vector3f normal_at(const DepthMap& map, int x, int y) {
  return Vector3f(map.normal.at(x, y, 0), map.normal.at(x, y, 1), map.normal.at(x, y, 2)).normalized();
}

// A map as seen from the camera of another: all within a few depths, so that single precision is good for a thousandth
// of a pixel.
struct Beside {
  std::shared_ptr<const DepthMap> map;
  Eigen::Matrix3f turn, back;  // from the other's camera frame to this one's, and the other way
  Eigen::Vector3f shift;
  float focal, cx, cy, right, bottom;

  Beside(std::shared_ptr<const DepthMap> m, const Lifted& from) : map(std::move(m)) {
    const Lifted own(map);
    turn = (own.to_camera * from.to_world).cast<float>();
    back = turn.transpose();
    shift = (own.to_camera * (from.centre - own.centre)).cast<float>();
    focal = static_cast<float>(own.focal), cx = static_cast<float>(own.cx), cy = static_cast<float>(own.cy);
    right = static_cast<float>(map->depth.width()), bottom = static_cast<float>(map->depth.height());
  }
  // The pixel on which a place falls that is given in this map's camera frame.
  bool pixel(const Vector3f& q, int& u, int& v) const {
    if (!(q.z() > 0)) return false;
    const float scale = focal / q.z(), x = q.x() * scale + cx + 0.5f, y = q.y() * scale + cy + 0.5f;
    if (!(x > 0 && y > 0 && x < right && y < bottom)) return false;
    u = static_cast<int>(x), v = static_cast<int>(y);
    return true;
  }
};

// What one map says, pixel by pixel.
class Sampler {
 public:
  Sampler(const Witnesses& witnesses, double footprint, const DenseOptions& options)
      : options_(options),
        own_(witnesses.map),
        colour_(*witnesses.colour),
        exposure_(witnesses.exposure),
        footprint_(footprint),
        focal_(static_cast<float>(own_.focal)),
        max_distance_(static_cast<float>(options.return_px + 0.5)),
        max_depth_(static_cast<float>(0.01 * options.depth_gap_percent)),
        min_cosine_(static_cast<float>(std::cos(options.facing_gap_deg * std::numbers::pi / 180))),
        own_to_world_(own_.to_world.cast<float>()) {
    for (const auto& other : witnesses.others) others_.emplace_back(other, own_);
  }

  int width() const { return own_.map->depth.width(); }
  // Where the pixel's surface lies; nothing where the map itself does not believe it.
  bool place(int x, int y, Vector3d& p) const {
    if (!believed(*own_.map, x, y, options_)) return false;
    p = own_.centre + static_cast<double>(own_.map->depth.at(x, y)) * own_.line(x, y);
    return true;
  }
  // False where too few agree.
  bool sample(int x, int y, SurfaceSample& s) const {
    const double depth = own_.map->depth.at(x, y);
    // In the camera frame.
    const auto z = static_cast<float>(depth);
    const Vector3f sight = own_.sight(x, y), n = normal_at(*own_.map, x, y);
    Agreement agreed{n, z};
    for (const Beside& other : others_) ask(other, z, sight, n, agreed);
    const bool thin =
        options_.keep_thin && agreed.closely >= 2 && own_.map->cost_at(x, y) <= kThinCost * options_.max_cost;
    if ((agreed.count < options_.min_views && !thin) || !(agreed.information > 0)) return false;
    agreed.normal.normalize();
    const double cosine = std::abs(agreed.normal.dot(sight));
    s.position = (own_.centre + static_cast<double>(agreed.depths) / agreed.count * own_.line(x, y)).cast<float>();
    s.normal = own_to_world_ * agreed.normal;
    s.footprint = static_cast<float>(options_.spacing > 0 ? options_.spacing : depth / own_.focal);
    s.variance = static_cast<float>(kPlaceSigma * kPlaceSigma * cosine * cosine / agreed.information +
                                    std::pow(kSmoothed * depth / own_.focal, 2));
    // The best views are those from near at a right angle.
    const double weight = cosine / sight.norm() * own_.focal / depth * footprint_;
    s.colour_weight = static_cast<float>(weight * weight * weight * weight);
    for (std::size_t c = 0; c < 3; ++c)
      s.colour[c] =
          colour_.empty()
              ? 128.0f
              : static_cast<float>(colour_.at(x, y, colour_.channels() == 3 ? static_cast<int>(c) : 0)) * exposure_[c];
    s.views = static_cast<std::uint16_t>(agreed.count);
    return true;
  }

 private:
  struct Agreement {
    Vector3f normal;
    float depths, information = 0;  // sums
    int count = 1, closely = 1;
  };

  void ask(const Beside& other, float z, const Vector3f& sight, const Vector3f& n, Agreement& agreed) const {
    int u, v;
    const Vector3f along = other.turn * sight, q = z * along + other.shift;
    if (!other.pixel(q, u, v) || !believed(*other.map, u, v, options_)) return;
    const float there = other.map->depth.at(u, v);
    if (std::abs(there - q.z()) > max_depth_ * q.z()) return;
    const float inverse = 1 / other.focal;
    const Vector3f met(there * (static_cast<float>(u) - other.cx) * inverse,
                       there * (static_cast<float>(v) - other.cy) * inverse, there);
    const Vector3f r = other.back * (met - other.shift);
    const float dx = (r.x() / r.z() - sight.x()) * focal_, dy = (r.y() / r.z() - sight.y()) * focal_,
                distance2 = dx * dx + dy * dy;
    if (!(distance2 <= max_distance_ * max_distance_)) return;
    const Vector3f other_normal = other.back * normal_at(*other.map, u, v);
    if (n.dot(other_normal) < min_cosine_) return;
    ++agreed.count;
    constexpr auto kThin = static_cast<float>(kThinTolerance);
    agreed.closely += distance2 <= kThin * kThin * max_distance_ * max_distance_ &&
                      std::abs(there - q.z()) <= kThin * max_depth_ * q.z();
    // What the other map says of this very spot: its plane met by this line of sight. Averaging the neighbouring
    // pixel's own point would shift the spot along the surface.
    const float facing = other_normal.dot(sight);
    agreed.depths += std::abs(facing) > 0.1f * sight.norm() ? other_normal.dot(r) / facing : z;
    agreed.normal += other_normal;
    // How the place in the other photo moves with the depth.
    const float scale = other.focal / (q.z() * q.z());
    const float mx = scale * (along.x() * q.z() - q.x() * along.z()),
                my = scale * (along.y() * q.z() - q.y() * along.z());
    agreed.information += mx * mx + my * my;
  }

  const DenseOptions& options_;
  Lifted own_;
  const ImageU8& colour_;
  std::array<float, 3> exposure_;
  double footprint_;
  float focal_, max_distance_, max_depth_, min_cosine_;
  Eigen::Matrix3f own_to_world_;
  std::vector<Beside> others_;
};

}  // namespace

Lifted::Lifted(std::shared_ptr<const DepthMap> m) : map(std::move(m)) {
  to_camera = map->pose.rotation();
  to_world = to_camera.transpose();
  centre = map->pose.centre;
  focal = map->camera.focal();
  cx = map->camera.principal_point().x() - 0.5;
  cy = map->camera.principal_point().y() - 0.5;
}

std::vector<SurfaceSample> surface_samples(const Witnesses& witnesses, std::size_t first_row, std::size_t last_row,
                                           const std::function<bool(const Vector3d&)>& wanted, double footprint,
                                           const DenseOptions& options, const Executor& executor) {
  const Sampler sampler(witnesses, footprint, options);
  std::vector<std::vector<SurfaceSample>> parts(block_count(last_row - first_row, kRows));
  executor.blocks(last_row - first_row, kRows, [&](std::size_t index, std::size_t begin, std::size_t end) {
    std::vector<SurfaceSample>& part = parts[index];
    // In squares, so that what is near on the surface stays near in memory.
    const std::size_t rows = end - begin, columns = static_cast<std::size_t>(sampler.width());
    Vector3d place;
    SurfaceSample sample;
    for (std::size_t square = 0; square < columns; square += kRows)
      for (std::size_t k = 0, across = std::min(kRows, columns - square); k < rows * across; ++k) {
        const int x = static_cast<int>(square + k % across), y = static_cast<int>(first_row + begin + k / across);
        if (sampler.place(x, y, place) && wanted(place) && sampler.sample(x, y, sample)) part.push_back(sample);
      }
  });
  std::vector<SurfaceSample> samples;
  for (std::vector<SurfaceSample>& part : parts) {
    samples.insert(samples.end(), part.begin(), part.end());
    part = {};
  }
  return samples;
}

}  // namespace icefield
