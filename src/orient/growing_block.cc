#include "src/orient/growing_block.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <set>

#include "icefield/base/random.h"
#include "icefield/geometry/resection.h"
#include "icefield/geometry/triangulate.h"

namespace icefield {
namespace {

constexpr double kDegree = std::numbers::pi / 180;

}  // namespace

OrientInput prepare_input(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors, std::span<const PairMatches> pairs,
                          const Tracks& tracks, const OrientOptions& options, const Executor& executor, Monitor& monitor) {
  OrientInput input{photos, priors, pairs, tracks, options, executor, monitor, {}, {}};
  input.photo_tracks.resize(photos.size());
  input.photo_features.resize(photos.size());
  for (std::size_t t = 0; t < tracks.size(); ++t)
    for (const Tracks::Element& e : tracks.track(TrackIndex(t))) {
      input.photo_tracks[e.photo.value].push_back(static_cast<std::uint32_t>(t));
      input.photo_features[e.photo.value].push_back(e.feature);
    }
  return input;
}

GrowingBlock::GrowingBlock(const OrientInput& input, std::vector<Camera> cameras)
    : input_(input), cameras_(std::move(cameras)), posed_(input.photos.size(), 0), poses_(input.photos.size()),
      has_point_(input.tracks.size(), 0), points_(input.tracks.size(), Eigen::Vector3d::Zero()), used_(input.tracks.elements.size(), 0),
      failure_(input.photos.size()), failed_at_(input.photos.size(), 0), min_angle_(input.options.min_growing_angle_deg * kDegree) {}

Eigen::Vector2d GrowingBlock::pixel(PhotoIndex photo, FeatureIndex feature) const {
  const Keypoint& k = input_.photos[photo.value].keypoints[feature.value];
  return {k.x, k.y};
}

std::optional<Eigen::Vector2d> GrowingBlock::direction(PhotoIndex photo, FeatureIndex feature) const {
  return unproject(cameras_[input_.photos[photo.value].camera.value], pixel(photo, feature));
}

std::size_t GrowingBlock::point_count() const { return static_cast<std::size_t>(std::count(has_point_.begin(), has_point_.end(), 1)); }
std::size_t GrowingBlock::observation_count() const { return static_cast<std::size_t>(std::count(used_.begin(), used_.end(), 1)); }

std::size_t GrowingBlock::points_in_view(PhotoIndex photo) const {
  std::size_t count = 0;
  for (const std::uint32_t t : input_.photo_tracks[photo.value]) count += has_point_[t];
  return count;
}

// Number of cells of a grid that hold tie points in view: many and well spread ones fix a pose best.
double GrowingBlock::view_score(PhotoIndex photo) const {
  constexpr int kCells = 16;
  std::vector<std::uint8_t> filled(kCells * kCells, 0);
  const Camera& camera = cameras_[input_.photos[photo.value].camera.value];
  std::size_t cells = 0, count = 0;
  const auto& tracks = input_.photo_tracks[photo.value];
  for (std::size_t i = 0; i < tracks.size(); ++i) {
    if (!has_point_[tracks[i]]) continue;
    ++count;
    const Eigen::Vector2d p = pixel(photo, input_.photo_features[photo.value][i]);
    const int x = std::clamp(static_cast<int>(p.x() / camera.width * kCells), 0, kCells - 1);
    const int y = std::clamp(static_cast<int>(p.y() / camera.height * kCells), 0, kCells - 1);
    std::uint8_t& cell = filled[y * kCells + x];
    cells += !cell;
    cell = 1;
  }
  return static_cast<double>(cells) + 1e-6 * static_cast<double>(count);
}

bool GrowingBlock::start(PhotoIndex first, PhotoIndex second, const Pose& second_in_first) {
  for (const PhotoIndex photo : {first, second}) {
    posed_[photo.value] = 1;
    order_.push_back(photo.value);
  }
  poses_[second.value] = second_in_first;
  triangulate_photo(second);
  if (point_count() < static_cast<std::size_t>(input_.options.min_seed_points)) return false;
  adjust_all(false);
  remove_outliers(input_.options.max_growing_residual_px);
  return point_count() >= static_cast<std::size_t>(input_.options.min_seed_points);
}

double GrowingBlock::ray_angle(std::uint32_t track) const {
  std::vector<Ray> rays;
  for (std::uint64_t e = input_.tracks.starts[track]; e < input_.tracks.starts[track + 1]; ++e)
    if (used_[e]) rays.push_back({poses_[input_.tracks.elements[e].photo.value], {}});
  return triangulation_angle(rays, points_[track]);
}

bool GrowingBlock::resect_photo(PhotoIndex photo) {
  const OrientOptions& options = input_.options;
  std::vector<PointView> views;
  std::vector<std::uint32_t> seen;   // the tracks of these
  const auto& tracks = input_.photo_tracks[photo.value];
  for (std::size_t i = 0; i < tracks.size(); ++i) {
    if (!has_point_[tracks[i]]) continue;
    const auto d = direction(photo, input_.photo_features[photo.value][i]);
    if (!d) continue;
    views.push_back({points_[tracks[i]], *d});
    seen.push_back(tracks[i]);
  }
  failed_at_[photo.value] = static_cast<std::uint32_t>(views.size());
  if (static_cast<int>(views.size()) < options.min_resection_points) {
    failure_[photo.value] = fmt::format("{} tie points in view, {} needed", views.size(), options.min_resection_points);
    return false;
  }
  const double focal = cameras_[input_.photos[photo.value].camera.value].focal();
  ResectionOptions resection_options;
  resection_options.max_error = options.max_resection_error_px / focal;
  const Resection resection = resect(views, resection_options, combine_keys(0x7e5ec7, photo.value));
  const std::size_t needed = std::max<std::size_t>(static_cast<std::size_t>(options.min_resection_points),
                                                   static_cast<std::size_t>(std::ceil(options.min_resection_share * static_cast<double>(views.size()))));
  if (resection.inliers.size() < needed) {
    failure_[photo.value] = fmt::format("only {} of its {} tie points agree on a pose, {} needed", resection.inliers.size(), views.size(), needed);
    return false;
  }
  if (min_angle_ < options.min_growing_angle_deg * kDegree) {
    // Far points hold the direction of a photo; its place must hang on some whose depth is sure.
    const auto sure = static_cast<std::size_t>(std::count_if(resection.inliers.begin(), resection.inliers.end(), [&](std::uint32_t i) { return ray_angle(seen[i]) >= options.min_growing_angle_deg * kDegree; }));
    if (static_cast<int>(sure) < options.min_sure_points) {
      failure_[photo.value] = fmt::format("{} tie points in view, but only {} of them at a sure distance, {} needed: its place would be left to chance", views.size(), sure, options.min_sure_points);
      return false;
    }
  }
  std::vector<PointView> chosen;
  for (const std::uint32_t i : resection.inliers) chosen.push_back(views[i]);
  poses_[photo.value] = refine_pose(resection.pose, chosen, 1.0 / focal);
  posed_[photo.value] = 1;
  order_.push_back(photo.value);
  failure_[photo.value].clear();
  return true;
}

// Gives tracks a point, or a point more observations. Tracks are independent.
void GrowingBlock::triangulate_tracks(std::span<const std::uint32_t> tracks) {
  const OrientOptions& options = input_.options;
  const double max_error = options.max_growing_residual_px, min_angle = min_angle_;
  input_.executor.blocks(tracks.size(), 128, [&](std::size_t, std::size_t begin, std::size_t end) {
    struct View {
      std::uint64_t element;
      Ray ray;
      PhotoIndex photo;
      Eigen::Vector2d pixel;
    };
    std::vector<View> views;
    for (std::size_t n = begin; n < end; ++n) {
      const std::uint32_t t = tracks[n];
      views.clear();
      for (std::uint64_t e = input_.tracks.starts[t]; e < input_.tracks.starts[t + 1]; ++e) {
        const Tracks::Element& element = input_.tracks.elements[e];
        if (!posed_[element.photo.value]) continue;
        if (const auto d = direction(element.photo, element.feature))
          views.push_back({e, {poses_[element.photo.value], *d}, element.photo, pixel(element.photo, element.feature)});
      }
      if (views.size() < 2) continue;
      const auto fits = [&](const Eigen::Vector3d& point, const View& view) {
        const auto p = project(cameras_[input_.photos[view.photo.value].camera.value], view.ray.pose.to_camera(point));
        return p && (*p - view.pixel).norm() <= max_error;
      };
      if (has_point_[t]) {
        for (const View& view : views)
          if (!used_[view.element] && fits(points_[t], view)) used_[view.element] = 1;
        continue;
      }
      // The pair of views that most others agree with; among equals the widest.
      std::size_t best_support = 1;
      double best_angle = 0;
      Eigen::Vector3d best_point;
      for (std::size_t i = 0; i < views.size(); ++i)
        for (std::size_t j = i + 1; j < views.size(); ++j) {
          const Ray two[] = {views[i].ray, views[j].ray};
          const auto point = triangulate(two);
          if (!point) continue;
          const double angle = triangulation_angle(two, *point);
          if (angle < min_angle) continue;
          std::size_t support = 0;
          for (const View& view : views) support += fits(*point, view);
          if (support > best_support || (support == best_support && angle > best_angle && support >= 2)) {
            best_support = support;
            best_angle = angle;
            best_point = *point;
          }
        }
      if (best_support < 2) continue;
      std::vector<Ray> rays;
      for (const View& view : views)
        if (fits(best_point, view)) rays.push_back(view.ray);
      const auto point = triangulate(rays);
      if (!point || triangulation_angle(rays, *point) < min_angle) continue;
      std::size_t support = 0;
      for (const View& view : views) support += fits(*point, view);
      if (support < 2) continue;
      points_[t] = *point;
      has_point_[t] = 1;
      for (const View& view : views) used_[view.element] = fits(*point, view);
    }
  });
}

void GrowingBlock::triangulate_all() {
  std::vector<std::uint32_t> all(input_.tracks.size());
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = static_cast<std::uint32_t>(i);
  triangulate_tracks(all);
}

Block GrowingBlock::to_block() const {
  Block block;
  block.cameras = cameras_;
  std::vector<std::uint32_t> place(input_.photos.size(), 0);
  for (std::size_t i = 0; i < input_.photos.size(); ++i) {
    if (!posed_[i]) continue;
    place[i] = static_cast<std::uint32_t>(block.photos.size());
    block.photos.push_back({PhotoIndex(i), input_.photos[i].camera, poses_[i]});
  }
  for (std::size_t t = 0; t < input_.tracks.size(); ++t) {
    if (!has_point_[t]) continue;
    for (std::uint64_t e = input_.tracks.starts[t]; e < input_.tracks.starts[t + 1]; ++e) {
      const Tracks::Element& element = input_.tracks.elements[e];
      if (!posed_[element.photo.value]) continue;
      if (used_[e])
        block.observations.push_back({place[element.photo.value], element.feature, pixel(element.photo, element.feature)});
      else
        ++block.observations_dropped;
    }
    block.points.push_back(points_[t]);
    block.tracks.push_back(TrackIndex(t));
    block.starts.push_back(block.observations.size());
  }
  return block;
}

void GrowingBlock::adjust_all(bool final_round) {
  const OrientOptions& options = input_.options;
  AdjustOptions adjust_options;
  // Distortion cannot be told from shape until several photos see the same points.
  const bool enough = order_.size() >= 4;
  adjust_options.free_parameters = {options.free_focal && order_.size() >= 3, false, false, options.free_distortion && enough, options.free_distortion && enough};
  adjust_options.loss = final_round ? Loss::huber : Loss::cauchy;
  adjust_options.loss_width_px = final_round ? 1.0 : 2.0;
  adjust_options.max_iterations = final_round ? 40 : 12;
  adjust_options.cost_tolerance = final_round ? 1e-8 : 1e-4;
  for (std::size_t c = 0; c < cameras_.size(); ++c) {
    const CameraPrior& prior = input_.priors[c];
    if (prior.camera.focal() > 0 && prior.focal_uncertainty_percent > 0)
      adjust_options.priors.push_back({CameraIndex(c), 0, prior.camera.focal(), 0.01 * prior.focal_uncertainty_percent * prior.camera.focal()});
    if (cameras_[c].model == CameraModel::radial)
      for (const int p : {3, 4}) adjust_options.priors.push_back({CameraIndex(c), p, prior.camera.parameters[p], options.radial_sigma});
  }
  AdjustResult result = adjust(to_block(), adjust_options, input_.executor, input_.monitor);
  ++adjustments_;
  if (!result.summary.usable) return;
  cameras_ = result.block.cameras;
  for (const PosedPhoto& photo : result.block.photos) poses_[photo.photo.value] = photo.pose;
  for (std::size_t i = 0; i < result.block.points.size(); ++i) points_[result.block.tracks[i].value] = result.block.points[i];
  adjusted_observations_ = result.summary.observations;
}

std::size_t GrowingBlock::remove_outliers(double max_residual_px) {
  const double min_angle = min_angle_;
  std::vector<std::size_t> removed(block_count(input_.tracks.size(), 256), 0);
  input_.executor.blocks(input_.tracks.size(), 256, [&](std::size_t part, std::size_t begin, std::size_t end) {
    std::vector<Ray> rays;
    for (std::size_t t = begin; t < end; ++t) {
      if (!has_point_[t]) continue;
      rays.clear();
      const std::uint64_t first = input_.tracks.starts[t], last = input_.tracks.starts[t + 1];
      for (std::uint64_t e = first; e < last; ++e) {
        if (!used_[e]) continue;
        const Tracks::Element& element = input_.tracks.elements[e];
        const Pose& pose = poses_[element.photo.value];
        const auto p = project(cameras_[input_.photos[element.photo.value].camera.value], pose.to_camera(points_[t]));
        if (!p || (*p - pixel(element.photo, element.feature)).norm() > max_residual_px) {
          used_[e] = 0;
          ++removed[part];
        } else {
          rays.push_back({pose, {}});
        }
      }
      if (rays.size() >= 2 && triangulation_angle(rays, points_[t]) >= min_angle) continue;
      has_point_[t] = 0;
      for (std::uint64_t e = first; e < last; ++e) {
        removed[part] += used_[e];
        used_[e] = 0;
      }
    }
  });
  std::size_t sum = 0;
  for (const std::size_t n : removed) sum += n;
  return sum;
}

void GrowingBlock::grow(const std::vector<bool>& allowed, std::size_t max_photos, const std::function<void()>& save) {
  const OrientOptions& options = input_.options;
  while (order_.size() < max_photos) {
    input_.monitor.check();
    save();
    // Photos by their view of the block; those that failed come again once they see a fifth more.
    std::vector<std::pair<double, std::size_t>> candidates;
    for (std::size_t i = 0; i < input_.photos.size(); ++i) {
      if (posed_[i] || !allowed[i]) continue;
      const std::size_t in_view = points_in_view(PhotoIndex(i));
      if (static_cast<int>(in_view) < options.min_resection_points) {
        if (in_view > 0) failure_[i] = fmt::format("{} tie points in view, {} needed", in_view, options.min_resection_points);
        continue;
      }
      if (failed_at_[i] > 0 && static_cast<double>(in_view) < 1.2 * failed_at_[i]) continue;
      candidates.emplace_back(-view_score(PhotoIndex(i)), i);
    }
    if (candidates.empty()) {
      // Points of vague depth are better than none before a photo is given up: they hold its direction, the others its place.
      // In two steps, the second down to what the finished block asks for.
      const double least = options.min_point_angle_deg * kDegree, first_step = std::max(least, 0.3 * options.min_growing_angle_deg * kDegree), relaxed = min_angle_ > first_step ? first_step : least;
      if (!(min_angle_ > relaxed) || std::count(posed_.begin(), posed_.end(), 1) == std::count(allowed.begin(), allowed.end(), true)) break;
      min_angle_ = relaxed;
      std::fill(failed_at_.begin(), failed_at_.end(), 0);
      triangulate_all();
      adjust_all(false);
      remove_outliers(options.max_growing_residual_px);
      continue;
    }
    std::sort(candidates.begin(), candidates.end());
    bool added = false;
    for (const auto& [score, index] : candidates) {
      // Those that see nearly as much as the best are added with it, before the next adjustment.
      if (added && -score < 0.8 * -candidates.front().first) break;
      if (order_.size() >= max_photos) break;
      if (!resect_photo(PhotoIndex(index))) continue;
      added = true;
      triangulate_photo(PhotoIndex(index));
      input_.monitor.progress("pose photos", order_.size(), input_.photos.size());
      if (static_cast<double>(observation_count()) > (1 + options.adjust_growth_share) * static_cast<double>(adjusted_observations_)) break;
    }
    if (!added) continue;  // all of them are marked as failed now; the next look finds none or others
    if (order_.size() < 5 || static_cast<double>(observation_count()) > (1 + options.adjust_growth_share) * static_cast<double>(adjusted_observations_)) {
      adjust_all(false);
      remove_outliers(options.max_growing_residual_px);
    }
  }
}

void GrowingBlock::finish() {
  const OrientOptions& options = input_.options;
  min_angle_ = options.min_point_angle_deg * kDegree;
  for (int round = 0; round < 2; ++round) {
    triangulate_all();
    adjust_all(false);
    remove_outliers(options.max_growing_residual_px);
  }
  triangulate_all();
  remove_outliers(options.max_residual_px);
  adjust_all(true);
  if (remove_outliers(options.max_residual_px) > 0) adjust_all(true);
}

double GrowingBlock::robust_score() const {
  double score = 0;
  for (std::size_t t = 0; t < input_.tracks.size(); ++t) {
    if (!has_point_[t]) continue;
    for (std::uint64_t e = input_.tracks.starts[t]; e < input_.tracks.starts[t + 1]; ++e) {
      if (!used_[e]) continue;
      const Tracks::Element& element = input_.tracks.elements[e];
      const auto p = project(cameras_[input_.photos[element.photo.value].camera.value], poses_[element.photo.value].to_camera(points_[t]));
      if (p) score += 1 / (1 + (*p - pixel(element.photo, element.feature)).squaredNorm());
    }
  }
  return score;
}

void GrowingBlock::write(ByteWriter& out) const {
  for (const Camera& camera : cameras_) out.put(camera.parameters);
  out.put(posed_);
  for (const Pose& pose : poses_)
    for (const double v : {pose.orientation.w(), pose.orientation.x(), pose.orientation.y(), pose.orientation.z(), pose.centre.x(), pose.centre.y(), pose.centre.z()}) out.put(v);
  out.put(order_).put(has_point_);
  for (const Eigen::Vector3d& p : points_) out.put(p.x()).put(p.y()).put(p.z());
  out.put(used_);
  for (const std::string& failure : failure_) out.put(failure);
  out.put(min_angle_).put(failed_at_).put(static_cast<std::uint64_t>(adjusted_observations_)).put(adjustments_);
}

void GrowingBlock::read(ByteReader& in) {
  for (Camera& camera : cameras_) camera.parameters = in.get<decltype(camera.parameters)>();
  const auto same_size = [](auto& to, auto&& from) {
    if (from.size() != to.size()) throw Error(ErrorKind::input, "checkpoint", "does not fit", "it is computed again");
    to = std::move(from);
  };
  same_size(posed_, in.get_array<std::uint8_t>());
  for (Pose& pose : poses_) {
    double v[7];
    for (double& x : v) x = in.get<double>();
    pose.orientation = Eigen::Quaterniond(v[0], v[1], v[2], v[3]);
    pose.centre = {v[4], v[5], v[6]};
  }
  order_ = in.get_array<std::uint32_t>();
  same_size(has_point_, in.get_array<std::uint8_t>());
  for (Eigen::Vector3d& p : points_)
    for (int c = 0; c < 3; ++c) p[c] = in.get<double>();
  same_size(used_, in.get_array<std::uint8_t>());
  for (std::string& failure : failure_) failure = in.get_string();
  min_angle_ = in.get<double>();
  same_size(failed_at_, in.get_array<std::uint32_t>());
  adjusted_observations_ = in.get<std::uint64_t>();
  adjustments_ = in.get<int>();
}

}  // namespace icefield
