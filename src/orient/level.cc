#include "src/orient/level.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "icefield/block/bounds.h"
#include "src/geometry/decompositions.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector3d;

constexpr double kDegrees = 57.29577951308232;

// The photos' axes in the block's frame.
struct PhotoAxes {
  std::vector<Vector3d> x, y, z;
  Vector3d mean_y = Vector3d::Zero(), mean_z = Vector3d::Zero();

  explicit PhotoAxes(const Block& block) {
    for (const PosedPhoto& photo : block.photos) {
      const Eigen::Quaterniond turn = photo.pose.orientation.conjugate();
      x.push_back(turn * Vector3d::UnitX()), y.push_back(turn * Vector3d::UnitY()),
          z.push_back(turn * Vector3d::UnitZ());
    }
    for (const Vector3d& v : y) mean_y += v / static_cast<double>(y.size());
    for (const Vector3d& v : z) mean_z += v / static_cast<double>(z.size());
  }
};

double extent_along(const Block& block, const Vector3d& direction) {
  double low = 1e300, high = -1e300;
  for (const PosedPhoto& photo : block.photos) {
    const double at = direction.dot(photo.pose.centre);
    low = std::min(low, at), high = std::max(high, at);
  }
  return high - low;
}

// How far directions scatter about their mean, degrees, each coordinate.
double scatter_deg(const std::vector<Vector3d>& directions, const Vector3d& mean) {
  std::vector<double> off;
  for (const Vector3d& d : directions)
    off.push_back(kDegrees * std::acos(std::clamp(d.dot(mean.normalized()), -1.0, 1.0)));
  return off.empty() ? 0 : median(off) / 1.1774;  // of a plane's two coordinates
}

// By their rolls, photos that look in many directions say how well up is known: a least-squares tilt about two axes.
double tilt_sigma_deg(const PhotoAxes& axes, const Vector3d& up) {
  std::vector<double> rolls;
  Matrix3d normal = Matrix3d::Zero();
  for (const Vector3d& x : axes.x) {
    rolls.push_back(std::abs(kDegrees * std::asin(std::clamp(x.dot(up), -1.0, 1.0))));
    const Vector3d level = x - up * up.dot(x);
    normal += level * level.transpose();
  }
  const double roll = std::max(0.2, 1.4826 * median(rolls));
  const auto [values, unused] = spectrum(normal);  // the least is 0, along up
  return roll / std::sqrt(std::max(0.5, values[1]));
}

// The plane that most points lie within a fiftieth of the usual distance of.
void find_largest_plane(const Block& block, LevelGuess& guess) {
  const Bounds subject = automatic_bounds(block);
  std::vector<Vector3d> points;
  std::vector<double> distances;
  const std::size_t step = std::max<std::size_t>(1, block.points.size() / 4000);
  for (std::size_t i = 0; i < block.points.size(); i += step) {
    if (!subject.contains(block.points[i])) continue;
    points.push_back(block.points[i]);
    for (const Observation& o : block.of_point(i))
      distances.push_back((block.points[i] - block.photos[o.photo].pose.centre).norm());
  }
  if (points.size() < 50) return;
  const double within = 0.02 * median(distances);
  CounterRandom random(points.size());
  const auto any = [&] { return points[random.below(static_cast<std::uint32_t>(points.size()))]; };
  std::size_t most = 0;
  Vector3d best = guess.up, on_it = Vector3d::Zero();
  for (int sample = 0; sample < 200; ++sample) {
    const Vector3d a = any(), b = any(), c = any();
    const Vector3d across = (b - a).cross(c - a);
    if (!(across.norm() > 1e-9 * within * within)) continue;
    const Vector3d normal = across.normalized();
    const auto count = static_cast<std::size_t>(std::count_if(
        points.begin(), points.end(), [&](const Vector3d& p) { return std::abs(normal.dot(p - a)) < within; }));
    if (count > most) most = count, best = normal, on_it = a;
  }
  if (most < 10) return;
  // The slab is thick: what is in it says how the plane lies.
  for (int round = 0; round < 5; ++round) {
    Vector3d middle = Vector3d::Zero();
    Matrix3d scatter = Matrix3d::Zero();
    double count = 0;
    for (const Vector3d& p : points)
      if (std::abs(best.dot(p - on_it)) < within) middle += p, ++count;
    middle /= count;
    for (const Vector3d& p : points)
      if (std::abs(best.dot(p - on_it)) < within) scatter += (p - middle) * (p - middle).transpose();
    best = spectrum(scatter).vectors.col(0);
    on_it = middle;
  }
  most = static_cast<std::size_t>(std::count_if(
      points.begin(), points.end(), [&](const Vector3d& p) { return std::abs(best.dot(p - on_it)) < within; }));
  guess.plane_share = static_cast<double>(most) / static_cast<double>(points.size());
  guess.plane_lean_deg = kDegrees * std::acos(std::min(1.0, std::abs(best.dot(guess.up))));
}

// Up is where photos have no horizontal: the direction least covered by their x axes; its sign from their y axes, or,
// for photos that look down, from their line of sight.
LevelGuess guess_by_photos(const Block& block) {
  LevelGuess guess;
  const PhotoAxes axes(block);
  Matrix3d spread = Matrix3d::Zero();
  Vector3d down = Vector3d::Zero();
  for (std::size_t i = 0; i < axes.x.size(); ++i) {
    spread += axes.x[i] * axes.x[i].transpose();
    down += axes.y[i] + axes.z[i];
  }
  const auto [values, directions] = spectrum(spread);
  const double n = static_cast<double>(axes.x.size());
  if (values[1] < 0.1 * values[2]) {
    // Photos with parallel x axes leave two directions open. Those that stand beside each other along x, and are all
    // held the same way up, were held upright; others look down: they cover an area, or fly along their y axis.
    const Vector3d x = directions.col(2);
    const auto across = [&](const Vector3d& v) { return Vector3d(v - x * x.dot(v)); };
    const bool same_way_up = axes.mean_y.norm() > 0.7;
    const bool beside = same_way_up && extent_along(block, axes.mean_y.normalized()) < 0.4 * extent_along(block, x);
    constexpr double kUsualHold = 5, kUsualMount = 3;  // degrees: a hand's error, an aircraft's
    if (beside) {
      guess.source = LevelSource::held;
      guess.up = -across(axes.mean_y).normalized();
      guess.sigma_deg = std::hypot(kUsualHold, scatter_deg(axes.y, axes.mean_y) / std::sqrt(n));
    } else {
      guess.source = LevelSource::looking_down;
      guess.up = -across(axes.mean_z).normalized();
      guess.sigma_deg = std::hypot(kUsualMount, scatter_deg(axes.z, axes.mean_z) / std::sqrt(n));
    }
    if (guess.up.allFinite()) return guess;
    guess = LevelGuess();
  }
  guess.up = directions.col(0);
  if (guess.up.dot(down) > 0) guess.up = -guess.up;
  guess.sigma_deg = tilt_sigma_deg(axes, guess.up);
  return guess;
}

}  // namespace

const char* describe(LevelSource source) {
  switch (source) {
    case LevelSource::held:
      return "photos side by side, taken as held upright";
    case LevelSource::looking_down:
      return "photos that look alike, taken as looking down";
    default:
      return "the photos' horizontals";
  }
}

LevelGuess guess_level(const Block& block) {
  LevelGuess guess = guess_by_photos(block);
  find_largest_plane(block, guess);
  return guess;
}

void make_level(Block& block) {
  Similarity turn;
  turn.rotation = turn_between(guess_by_photos(block).up, Vector3d::UnitZ());
  transform(block, turn);

  // Origin and scale from the subject; a horizon behind it does not count.
  const Bounds subject = automatic_bounds(block);
  std::vector<double> distances;
  std::array<std::vector<double>, 3> coordinates;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!subject.contains(block.points[i])) continue;
    for (int c = 0; c < 3; ++c) coordinates[static_cast<std::size_t>(c)].push_back(block.points[i][c]);
    for (const Observation& o : block.of_point(i))
      distances.push_back((block.points[i] - block.photos[o.photo].pose.centre).norm());
  }
  if (distances.empty()) return;
  Similarity fit;
  fit.scale = 1 / median(distances);
  fit.translation = -fit.scale * Vector3d(median(coordinates[0]), median(coordinates[1]), median(coordinates[2]));
  transform(block, fit);
}

}  // namespace icefield
