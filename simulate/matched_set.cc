#include "simulate/matched_set.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <unordered_map>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "icefield/geometry/two_view.h"
#include "simulate/noise.h"
#include "src/geometry/decompositions.h"

namespace icefield::simulate {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;
constexpr double kPi = std::numbers::pi;

struct Spot {
  Vector3d place, normal;
  std::uint32_t texture;  // spots of one texture look the same
  double size;            // world units: what a feature there covers
};

struct World {
  std::vector<Spot> spots;
  std::vector<Pose> poses;
  double reach = 1e9;  // beyond it spots are too small to be features
};

Pose wobbled(Pose pose, double angle, double shift, CounterRandom& random) {
  const auto vector = [&](double s) { return Vector3d(s * random.normal(), s * random.normal(), s * random.normal()); };
  pose.orientation = (rotation_from_vector(vector(angle)) * pose.orientation).normalized();
  pose.centre += vector(shift);
  return pose;
}

double terrain_height(double x, double y, std::uint64_t seed) {
  return 14 * fractal({static_cast<float>(0.012 * x), static_cast<float>(0.012 * y), 0.4f}, 1.0f, 5, 0.5f, 0.0f,
                      static_cast<std::uint32_t>(seed));
}

World make_ring(const MatchedSetOptions& options, CounterRandom& random) {
  World world;
  for (int i = 0; i < options.photos; ++i) {
    const double angle = 2 * kPi * (i + 0.15 * random.normal()) / options.photos, height = i % 2 == 0 ? 0.4 : 2.2;
    const double radius = 5 * (1 + 0.04 * random.normal());
    world.poses.push_back(
        wobbled(look_at({radius * std::cos(angle), radius * std::sin(angle), height}, {0, 0, 0.3}, Vector3d::UnitZ()),
                0.03, 0.05, random));
  }
  // A third of a lumpy ball is seen from anywhere, three quarters of it well enough.
  const auto count = static_cast<std::size_t>(options.features * 5.0);
  while (world.spots.size() < count) {
    const Vector3d u = Vector3d(random.normal(), random.normal(), random.normal()).normalized();
    const double r = 1.3 + 0.25 * std::sin(3 * u.x() + 2 * u.y()) * std::cos(4 * u.z() + u.x());
    const Vector3d place = r * u + 0.02 * Vector3d(random.normal(), random.normal(), random.normal());
    world.spots.push_back({place, (u + 0.25 * Vector3d(random.normal(), random.normal(), random.normal())).normalized(),
                           0, std::exp(random.uniform(-5.0, -2.5))});
  }
  return world;
}

World make_flight(const MatchedSetOptions& options, CounterRandom& random, bool flat) {
  World world;
  const double height = 60, width = height * 1500 / 1250, depth = height * 1000 / 1250;
  const double step = 0.25 * depth, apart = 0.4 * width;
  const int strips = std::max(2, static_cast<int>(std::lround(std::sqrt(options.photos * step / apart)))),
            along = (options.photos + strips - 1) / strips;
  for (int i = 0; i < options.photos; ++i) {
    const int strip = i / along, k = strip % 2 == 0 ? i % along : along - 1 - i % along;
    const double x = strip * apart + 0.02 * width * random.normal(), y = k * step + 0.02 * depth * random.normal();
    const Vector3d centre(x, y, height + 0.7 * random.normal());
    const bool oblique = i % 10 == 9;
    const Vector3d target =
        oblique ? Vector3d(x + 20 * random.normal(), y + 20 * random.normal(), 0) : Vector3d(x, y, 0);
    world.poses.push_back(
        wobbled(look_at(centre, target, Vector3d(0, strip % 2 == 0 ? 1 : -1, 0.05)), 0.02, 0, random));
  }
  const double margin = 0.5 * width, x1 = (strips - 1) * apart + margin, y1 = (along - 1) * step + margin;
  const auto count = static_cast<std::size_t>(options.features * 1.5 * (x1 + margin) * (y1 + margin) / (width * depth));
  for (std::size_t i = 0; i < count; ++i) {
    const double x = random.uniform(-margin, x1), y = random.uniform(-margin, y1);
    const double z = flat ? 0.0 : terrain_height(x, y, options.seed);
    const Vector3d normal = Vector3d(0.2 * random.normal(), 0.2 * random.normal(), 1).normalized();
    world.spots.push_back({{x, y, z}, normal, 0, std::exp(random.uniform(-2.2, 0.3))});
  }
  return world;
}

// Along the inner side of a closed path with four corners, the wall 7 metres away, everything seen within 40.
World make_gorge(const MatchedSetOptions& options, CounterRandom& random) {
  World world;
  const double step = 1.1, length = step * options.photos, side = length / 4, wall = 7;
  const auto corner = [&](double s) {  // place and outward direction at a length along the path, corners rounded
    const double t = std::fmod(s, length) / side;
    const int edge = std::min(3, static_cast<int>(t));
    const double f = t - edge;
    const Vector3d corners[] = {{0, 0, 0}, {side, 0, 0}, {side, side, 0}, {0, side, 0}, {0, 0, 0}};
    const Vector3d at = (1 - f) * corners[edge] + f * corners[edge + 1];
    const Vector3d along = (corners[edge + 1] - corners[edge]).normalized();
    const Vector3d out(along.y(), -along.x(), 0);
    const double turn =
        0.25 * kPi *
        (std::exp(-f * side / 2.5) * -1 + std::exp(-(1 - f) * side / 2.5));  // towards the corner's diagonal
    return std::pair{at, Vector3d(Eigen::AngleAxisd(turn, Vector3d::UnitZ()) * out)};
  };
  for (int i = 0; i < options.photos; ++i) {
    const auto [at, out] = corner(step * i);
    const double look = (i % 3 - 1) * 0.35;  // a little forward, straight, a little back
    const Vector3d centre = at + Vector3d(0.1 * random.normal(), 0.1 * random.normal(), 1.6 + 0.05 * random.normal());
    const Vector3d direction = Eigen::AngleAxisd(look, Vector3d::UnitZ()) * out;
    world.poses.push_back(
        wobbled(look_at(centre, centre + direction + Vector3d(0, 0, 0.15), Vector3d::UnitZ()), 0.02, 0, random));
  }
  const double seen_width = wall * 1500 / 1250;
  const auto count = static_cast<std::size_t>(options.features * 1.4 * (length + 8 * wall) / seen_width);
  for (std::size_t i = 0; i < count; ++i) {
    const double s = random.uniform(-wall, side + wall),
                 depth = wall + 1.5 * std::sin(0.7 * s) + (random.uniform() < 0.15 ? random.uniform(0.0, 6.0) : 0.0);
    const double heights = random.uniform(-1.5, 6.5);
    Vector3d place(s, -depth, heights), normal(0.3 * random.normal(), 1, 0.3 * random.normal());
    for (int edge = static_cast<int>(random.below(4)); edge > 0; --edge) {
      place = Vector3d(side - place.y(), place.x(), place.z());
      normal = Vector3d(-normal.y(), normal.x(), normal.z());
    }
    world.spots.push_back({place, normal.normalized(), 0, std::exp(random.uniform(-4.6, -2.0))});
  }
  world.reach = 40;
  return world;
}

World make_hut(const MatchedSetOptions& options, CounterRandom& random) {
  World world;
  const double a = 5, b = 3;  // half lengths of the walls
  for (int i = 0; i < options.photos; ++i) {
    const double angle = 2 * kPi * (i + 0.1 * random.normal()) / options.photos;
    const Vector3d centre(11 * std::cos(angle), 9 * std::sin(angle), 1.7 + 0.1 * random.normal());
    world.poses.push_back(
        wobbled(look_at(centre, {0.5 * a * std::cos(angle), 0.5 * b * std::sin(angle), 1.8}, Vector3d::UnitZ()), 0.03,
                0.1, random));
  }
  const auto count = static_cast<std::size_t>(options.features * 3.2);
  std::uint32_t texture = 0;
  while (world.spots.size() < count) {
    const double kind = random.uniform();
    Spot spot{{}, {}, 0, std::exp(random.uniform(-4.6, -2.2))};
    if (kind < 0.2) {  // ground and boulders around, of their own
      const double angle = random.uniform(0, 2 * kPi), r = random.uniform(1.0, 1.9);
      spot.place = {r * (a + 0.5) * std::cos(angle), r * (b + 0.8) * std::sin(angle), random.uniform(0.0, 0.5)};
      spot.normal = Vector3d(0.7 * std::cos(angle), 0.7 * std::sin(angle), 0.6).normalized();
      world.spots.push_back(spot);
      continue;
    }
    const bool lengthwise = kind < 0.7;
    const double u = random.uniform(-1, 1), z = random.uniform(0, 3.4),
                 relief = 0.25 * std::sin(3 * u * 4) * std::sin(2 * z) + (random.uniform() < 0.2 ? 0.3 : 0.0);
    spot.place = lengthwise ? Vector3d(a * u, -b - relief, z) : Vector3d(-a - relief, b * u, z);
    spot.normal = lengthwise ? Vector3d(0.2 * random.normal(), -1, 0.2 * random.normal()).normalized()
                             : Vector3d(-1, 0.2 * random.normal(), 0.2 * random.normal()).normalized();
    Spot back = spot;  // the wall opposite, turned about the vertical
    back.place = {-spot.place.x(), -spot.place.y(), spot.place.z()};
    back.normal = {-spot.normal.x(), -spot.normal.y(), spot.normal.z()};
    if (options.twins && lengthwise && random.uniform() < 0.7) {
      spot.texture = back.texture = ++texture;
      world.spots.push_back(spot);
      world.spots.push_back(back);
    } else {
      world.spots.push_back(random.uniform() < 0.5 ? spot : back);
    }
  }
  return world;
}

struct Seen {
  std::uint32_t spot;
  FeatureIndex feature;
};

constexpr int kWidth = 1500, kHeight = 1000;

World make_world(const MatchedSetOptions& options, CounterRandom& random) {
  if (options.kind == "ring") return make_ring(options, random);
  if (options.kind == "flight") return make_flight(options, random, false);
  if (options.kind == "plane") return make_flight(options, random, true);
  if (options.kind == "gorge") return make_gorge(options, random);
  if (options.kind == "hut") return make_hut(options, random);
  throw Error(ErrorKind::usage, "kind '" + options.kind + "'", "does not exist",
              "choose ring, flight, plane, gorge or hut");
}

// The spots of a world by squares of the ground.
class SpotsByPlace {
 public:
  explicit SpotsByPlace(const World& world) {
    Vector3d high = low_ = world.spots.front().place;
    for (const Spot& s : world.spots) low_ = low_.cwiseMin(s.place), high = high.cwiseMax(s.place);
    extent_ = (high - low_).norm();
    side_ = std::max(1e-9, std::min(extent_ / 8, world.reach / 4));
    for (std::uint32_t s = 0; s < world.spots.size(); ++s) {
      const auto [x, y] = square_of(world.spots[s].place);
      squares_[key_of(x, y)].push_back(s);
    }
  }
  // In rising order; those within `reach`, and some more.
  std::vector<std::uint32_t> around(const Vector3d& place, double reach) const {
    std::vector<std::uint32_t> near;
    const auto [cx, cy] = square_of(place);
    const auto steps = static_cast<std::int64_t>(std::min(1e6, std::ceil(std::min(reach, 2 * extent_) / side_)));
    for (std::int64_t x = cx - steps; x <= cx + steps; ++x)
      for (std::int64_t y = cy - steps; y <= cy + steps; ++y)
        if (const auto found = squares_.find(key_of(x, y)); found != squares_.end())
          near.insert(near.end(), found->second.begin(), found->second.end());
    std::sort(near.begin(), near.end());
    return near;
  }

 private:
  std::pair<std::int64_t, std::int64_t> square_of(const Vector3d& p) const {
    return {static_cast<std::int64_t>(std::floor((p.x() - low_.x()) / side_)),
            static_cast<std::int64_t>(std::floor((p.y() - low_.y()) / side_))};
  }
  static std::uint64_t key_of(std::int64_t x, std::int64_t y) {
    return static_cast<std::uint64_t>(x + (1 << 20)) << 32 | static_cast<std::uint64_t>(y + (1 << 20));
  }
  Vector3d low_;
  double extent_ = 0, side_ = 0;
  std::unordered_map<std::uint64_t, std::vector<std::uint32_t>> squares_;
};

// The set, step by step.
class Maker {
 public:
  Maker(const MatchedSetOptions& options, const Executor& executor)
      : options_(options),
        executor_(executor),
        random_(combine_keys(0x3a7c4, options.seed)),
        world_(make_world(options, random_)),
        poses_(world_.poses) {}

  MatchedSet make() {
    turn_and_drop_photos();
    for (int lens = 0; lens < (options_.two_lenses ? 2 : 1); ++lens) add_lens(lens);
    name_photos();
    find_keypoints();
    const auto chosen = choose_pairs();
    set_.pairs.resize(chosen.size());
    std::vector<std::uint8_t> wrong(chosen.size(), 0);
    executor_.run("", chosen.size(), silent_monitor(), [&](std::size_t unit) {
      const auto [i, j] = chosen[unit];
      wrong[unit] = match(i, j, set_.pairs[unit]);
    });
    set_.wrong_pairs = static_cast<std::size_t>(std::count(wrong.begin(), wrong.end(), 1));
    return std::move(set_);
  }

 private:
  void turn_and_drop_photos() {
    for (int i = 1; i < options_.turned && i < static_cast<int>(poses_.size()); ++i) {
      poses_[static_cast<std::size_t>(i)] = poses_[0];
      poses_[static_cast<std::size_t>(i)].orientation =
          (rotation_from_vector(
               {0.02 * random_.normal(), (i % 2 == 0 ? 0.07 : -0.07) * ((i + 1) / 2), 0.02 * random_.normal()}) *
           poses_[0].orientation)
              .normalized();
    }
    if (options_.missing_share > 0) {
      const auto gone = static_cast<std::ptrdiff_t>(options_.missing_share * static_cast<double>(poses_.size())),
                 from = static_cast<std::ptrdiff_t>(poses_.size()) / 2 - gone / 2;
      poses_.erase(poses_.begin() + from, poses_.begin() + from + gone);
    }
  }

  void add_lens(int lens) {
    const double focal = 1250 * (1 + 0.05 * random_.normal()) * (lens == 1 ? 1.6 : 1.0);
    Camera truth = make_camera(CameraModel::brown, kWidth, kHeight, focal);
    truth.parameters[1] += 3 * random_.normal(), truth.parameters[2] += 3 * random_.normal();
    truth.parameters[3] = -0.06 + 0.02 * random_.normal(), truth.parameters[4] = 0.02 * random_.normal();
    if (options_.lens_fault)
      truth.parameters[6] = 1e-4 * random_.normal(), truth.parameters[7] = 1e-4 * random_.normal();
    if (options_.fisheye) {
      truth = make_camera(CameraModel::fisheye, kWidth, kHeight, 0.55 * focal);
      truth.parameters[1] += 3 * random_.normal(), truth.parameters[2] += 3 * random_.normal();
      truth.parameters[3] = 0.02 * random_.normal(), truth.parameters[4] = 0.01 * random_.normal();
    }
    set_.truth.cameras.push_back(truth);
    const bool known = options_.focal_error_percent < 100;
    const double start =
        known ? truth.focal() * (1 + 0.01 * options_.focal_error_percent * std::clamp(random_.normal(), -2.0, 2.0)) : 0;
    set_.priors.push_back(
        {make_camera(options_.fisheye ? CameraModel::fisheye : CameraModel::radial, kWidth, kHeight, start),
         known ? std::max(1.0, options_.focal_error_percent) : 0});
  }

  void name_photos() {
    const std::size_t count = poses_.size();
    set_.photos.resize(count);
    set_.gsd.assign(count, 0);
    for (std::size_t i = 0; i < count; ++i) {
      const CameraIndex camera(options_.two_lenses ? i % 2 : 0);
      set_.truth.photos.push_back({PhotoIndex(i), camera, poses_[i]});
      set_.photos[i] = {fmt::format("{}_{:04}.jpg", options_.kind, i + 1), camera, {}};
    }
  }

  bool is_blurred(std::size_t i) const {
    const auto count = static_cast<double>(poses_.size());
    const auto from = static_cast<std::size_t>(0.4 * count);
    return i >= from && i < from + static_cast<std::size_t>(options_.blurred_share * count);
  }

  // What a photo sees of the spots, found three times in four, sharp enough and large enough; and which photos see
  // enough that others see as well.
  void find_keypoints() {
    const SpotsByPlace spots(world_);
    const bool from_above = options_.kind == "flight" || options_.kind == "plane";
    const double reach = std::min(world_.reach, from_above ? 150.0 : 1e9);
    std::vector<std::vector<std::uint32_t>> in_view(poses_.size());
    seen_.resize(poses_.size());
    executor_.run("", poses_.size(), silent_monitor(),
                  [&](std::size_t i) { in_view[i] = keypoints_of(i, spots.around(poses_[i].centre, reach), reach); });
    std::vector<std::uint32_t> views(world_.spots.size(), 0);
    for (const auto& list : in_view)
      for (const std::uint32_t s : list) ++views[s];
    for (const auto& list : in_view)
      set_.usable.push_back(std::count_if(list.begin(), list.end(), [&](std::uint32_t s) { return views[s] >= 3; }) >=
                            50);
  }

  std::vector<std::uint32_t> keypoints_of(std::size_t i, const std::vector<std::uint32_t>& near, double reach) {
    CounterRandom own(combine_keys(options_.seed, 1000 + i));
    const Camera& camera = set_.truth.cameras[set_.photos[i].camera.value];
    std::vector<Keypoint>& keypoints = set_.photos[i].keypoints;
    const bool blurred = is_blurred(i);
    std::vector<std::uint32_t> in_view;
    std::vector<double> depths;
    for (const std::uint32_t s : near) {
      const Spot& spot = world_.spots[s];
      const Vector3d towards = poses_[i].centre - spot.place;
      const double distance = towards.norm();
      if (distance > reach || spot.normal.dot(towards) < 0.34 * distance) continue;
      const Vector3d p = poses_[i].to_camera(spot.place);
      const auto pixel = project(camera, p);
      if (!pixel || pixel->x() < 8 || pixel->y() < 8 || pixel->x() > kWidth - 8 || pixel->y() > kHeight - 8) continue;
      const double size = spot.size * camera.focal() / p.z();
      if (size < 1.2 || size > 60) continue;
      in_view.push_back(s);
      depths.push_back(p.z());
      if (own.uniform() > (blurred ? 0.06 : 0.75)) continue;
      const double sigma =
          options_.noise_px * (own.uniform() < 0.05 ? 3 : 1) * (blurred ? 4 : 1) * std::max(1.0, std::sqrt(size / 6));
      seen_[i].push_back({s, FeatureIndex(keypoints.size())});
      keypoints.push_back({static_cast<float>(pixel->x() + sigma * own.normal()),
                           static_cast<float>(pixel->y() + sigma * own.normal()), static_cast<float>(0.5 * size), 0});
    }
    // And as many again that no other photo has.
    for (std::size_t extra = seen_[i].size() / 3; extra > 0; --extra)
      keypoints.push_back(
          {static_cast<float>(own.uniform(8, kWidth - 8)), static_cast<float>(own.uniform(8, kHeight - 8)), 2, 0});
    if (!depths.empty()) set_.gsd[i] = median(depths) / camera.focal();
    return in_view;
  }

  // By the textures that photos have in common.
  std::vector<std::pair<std::uint32_t, std::uint32_t>> choose_pairs() {
    const auto count = static_cast<std::uint32_t>(poses_.size());
    std::unordered_map<std::uint32_t, std::uint32_t> of_texture;
    std::uint32_t next = 0;
    for (const Spot& spot : world_.spots) {
      const std::uint32_t t = spot.texture;
      look_.push_back(t == 0 ? next++ : of_texture.emplace(t, next).second ? next++ : of_texture[t]);
    }
    std::vector<std::vector<std::uint32_t>> sights(next);  // by texture: photos
    for (std::uint32_t i = 0; i < count; ++i)
      for (const Seen& s : seen_[i]) sights[look_[s.spot]].push_back(i);
    std::vector<std::unordered_map<std::uint32_t, std::uint32_t>> common(count);
    for (const auto& list : sights)
      for (std::size_t a = 0; a < list.size(); ++a)
        for (std::size_t b = a + 1; b < list.size(); ++b)
          if (list[a] != list[b]) ++common[list[a]][list[b]];
    std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> partners(count);
    for (std::uint32_t i = 0; i < count; ++i)
      for (const auto& [j, n] : common[i])
        if (n >= 20) partners[i].push_back({n, j}), partners[j].push_back({n, i});
    std::vector<std::pair<std::uint32_t, std::uint32_t>> chosen;
    for (std::uint32_t i = 0; i < count; ++i) {
      std::sort(partners[i].begin(), partners[i].end(), [](const auto& a, const auto& b) {
        return a.first != b.first ? a.first > b.first : a.second < b.second;
      });
      for (std::size_t k = 0; k < std::min(partners[i].size(), static_cast<std::size_t>(options_.matched_with)); ++k)
        chosen.emplace_back(std::min(i, partners[i][k].second), std::max(i, partners[i][k].second));
    }
    std::sort(chosen.begin(), chosen.end());
    chosen.erase(std::unique(chosen.begin(), chosen.end()), chosen.end());
    return chosen;
  }

  struct Candidates {
    std::vector<Match> matches;
    std::vector<bool> are_right;
  };
  Candidates compare(std::uint32_t i, std::uint32_t j) const {
    CounterRandom own(combine_keys(options_.seed, combine_keys(i, j)));
    std::unordered_map<std::uint32_t, std::uint32_t> by_look;
    for (std::uint32_t k = 0; k < seen_[j].size(); ++k) by_look.emplace(look_[seen_[j][k].spot], k);
    Candidates found;
    std::vector<bool> taken(set_.photos[j].keypoints.size(), false);
    for (const Seen& a : seen_[i]) {
      if (own.uniform() < options_.wrong_share) {
        const FeatureIndex any(own.below(static_cast<std::uint32_t>(taken.size())));
        if (!taken[any.value])
          taken[any.value] = true, found.matches.push_back({a.feature, any, 0.78f}), found.are_right.push_back(false);
        continue;
      }
      const auto same = by_look.find(look_[a.spot]);
      if (same == by_look.end()) continue;
      const Seen& b = seen_[j][same->second];
      // Descriptors stand a change of view of some 40 degrees and of scale of two and a half; those of twins are
      // compared as each shows itself.
      const Vector3d from_i = (poses_[i].centre - world_.spots[a.spot].place).normalized(),
                     from_j = (poses_[j].centre - world_.spots[b.spot].place).normalized();
      const Vector3d &n_i = world_.spots[a.spot].normal, &n_j = world_.spots[b.spot].normal;
      const double angle = a.spot == b.spot
                               ? std::acos(std::clamp(from_i.dot(from_j), -1.0, 1.0))
                               : std::acos(std::clamp((turn_between(n_i, n_j) * from_i).dot(from_j), -1.0, 1.0));
      const double scale =
          set_.photos[i].keypoints[a.feature.value].scale / set_.photos[j].keypoints[b.feature.value].scale;
      const double limit = 40 * kPi / 180,
                   chance = 0.9 * (1 - angle * angle / (limit * limit)) * (scale > 2.5 || scale < 0.4 ? 0 : 1);
      if (own.uniform() >= chance || taken[b.feature.value]) continue;
      taken[b.feature.value] = true;
      found.matches.push_back({a.feature, b.feature, static_cast<float>(own.uniform(0.3, 0.75))});
      found.are_right.push_back(a.spot == b.spot);
    }
    return found;
  }

  Vector2d direction(std::uint32_t photo, FeatureIndex f) const {
    Camera camera = set_.priors[set_.photos[photo].camera.value].camera;
    if (!(camera.focal() > 0))
      camera =
          set_.truth.cameras[set_.photos[photo].camera.value];  // nothing known: its fundamental matrix, as it were
    const Keypoint& k = set_.photos[photo].keypoints[f.value];
    return unproject(camera, {k.x, k.y}).value_or(Vector2d::Zero());
  }

  // Returns whether most of what the pair holds is wrong.
  bool match(std::uint32_t i, std::uint32_t j, PairMatches& pair) const {
    pair.first = PhotoIndex(i), pair.second = PhotoIndex(j);
    const Candidates found = compare(i, j);
    pair.candidates = static_cast<std::uint32_t>(found.matches.size());
    std::vector<PointPair> points;
    for (const Match& m : found.matches) points.push_back({direction(i, m.first), direction(j, m.second)});
    TwoViewOptions fit_options;
    fit_options.max_error = 4.0 / set_.truth.cameras[0].focal();
    fit_options.max_samples = 300;
    const bool turned = (poses_[i].centre - poses_[j].centre).norm() < 1e-6;
    const TwoViewFit fit = turned ? fit_rotation(points, fit_options, combine_keys(i, j))
                                  : fit_essential(points, fit_options, combine_keys(i, j));
    if (fit.inliers.size() < 20 ||
        static_cast<double>(fit.inliers.size()) < 0.12 * static_cast<double>(found.matches.size())) {
      pair.fault = found.matches.size() < 20 ? PairFault::few_matches : PairFault::disagree;
      return false;
    }
    pair.geometry = turned ? PairGeometry::turned : options_.kind == "plane" ? PairGeometry::flat : PairGeometry::depth;
    pair.fault = PairFault::none;
    pair.model = turned ? TwoViewModel::rotation : TwoViewModel::essential;
    pair.matrix = fit.matrix;
    std::size_t right = 0;
    for (const std::uint32_t k : fit.inliers) pair.matches.push_back(found.matches[k]), right += found.are_right[k];
    return right < fit.inliers.size() / 2;
  }

  const MatchedSetOptions& options_;
  const Executor& executor_;
  CounterRandom random_;
  World world_;
  std::vector<Pose>& poses_;
  MatchedSet set_;
  std::vector<std::vector<Seen>> seen_;  // by photo
  std::vector<std::uint32_t> look_;      // by spot: what it looks like
};

}  // namespace

MatchedSet make_matched_set(const MatchedSetOptions& options, const Executor& executor) {
  return Maker(options, executor).make();
}

}  // namespace icefield::simulate
