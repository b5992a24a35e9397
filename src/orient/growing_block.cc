#include "src/orient/growing_block.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/random.h"
#include "icefield/geometry/resection.h"

namespace icefield {
namespace {

constexpr double kDegree = std::numbers::pi / 180;
// Photos of a doubtful focal length that are asked whether they agree with the one found.
constexpr std::size_t kFocalWitnesses = 5;
constexpr double kDoubtfulFocalPercent = 20;
constexpr std::size_t kLargestBatch = 24;

}  // namespace

GrowingBlock::GrowingBlock(const OrientInput& input, std::shared_ptr<const TrackSet> tracks,
                           std::vector<Camera> cameras)
    : input_(input),
      tracks_(std::move(tracks)),
      cameras_(std::move(cameras)),
      posed_(input.photos.size(), 0),
      poses_(input.photos.size()),
      has_point_(tracks_->tracks.size(), 0),
      points_(tracks_->tracks.size(), Eigen::Vector3d::Zero()),
      used_(tracks_->tracks.elements.size(), 0),
      view_(input.photos.size()),
      failure_(input.photos.size()),
      failed_at_(input.photos.size(), 0),
      camera_photos_(cameras_.size(), 0),
      min_angle_(input.options.min_growing_angle_deg * kDegree) {
  for (const CameraPrior& prior : input.priors)
    doubtful_focal_.push_back(!(prior.camera.focal() > 0) || prior.focal_uncertainty_percent > kDoubtfulFocalPercent);
}

std::optional<Eigen::Vector2d> GrowingBlock::direction(PhotoIndex photo, FeatureIndex feature) const {
  return unproject(cameras_[input_.photos[photo.value].camera.value], pixel(photo, feature));
}

std::optional<double> GrowingBlock::residual(const Tracks::Element& element, const Eigen::Vector3d& point) const {
  const auto p =
      project(cameras_[input_.photos[element.photo.value].camera.value], poses_[element.photo.value].to_camera(point));
  if (!p) return std::nullopt;
  return (*p - pixel(element.photo, element.feature)).norm();
}

std::size_t GrowingBlock::point_count() const {
  return static_cast<std::size_t>(std::count(has_point_.begin(), has_point_.end(), 1));
}
std::size_t GrowingBlock::observation_count() const {
  return static_cast<std::size_t>(std::count(used_.begin(), used_.end(), 1));
}

// Many and well spread points fix a pose best: photos keep count of the cells of a grid that hold points.
void GrowingBlock::count_view(std::uint32_t track, int change) {
  for (const Tracks::Element& e : elements(track)) {
    const Camera& camera = cameras_[input_.photos[e.photo.value].camera.value];
    const Eigen::Vector2d p = pixel(e.photo, e.feature);
    const int x = std::clamp(static_cast<int>(p.x() / camera.width * kCells), 0, kCells - 1),
              y = std::clamp(static_cast<int>(p.y() / camera.height * kCells), 0, kCells - 1);
    View& view = view_[e.photo.value];
    std::uint16_t& cell = view.in_cell[static_cast<std::size_t>(y * kCells + x)];
    if (change > 0) {
      view.cells += cell++ == 0;
      ++view.points;
    } else {
      view.cells -= --cell == 0;
      --view.points;
    }
  }
}

void GrowingBlock::add_photo(PhotoIndex photo, const Pose& pose) {
  posed_[photo.value] = 1;
  poses_[photo.value] = pose;
  order_.push_back(photo.value);
  failure_[photo.value].clear();
  ++camera_photos_[input_.photos[photo.value].camera.value];
}

void GrowingBlock::remove_photo(PhotoIndex photo) {
  posed_[photo.value] = 0;
  std::erase(order_, photo.value);
  --camera_photos_[input_.photos[photo.value].camera.value];
  for (std::size_t i = 0; i < tracks_->photo_tracks[photo.value].size(); ++i) {
    const std::uint32_t t = tracks_->photo_tracks[photo.value][i];
    const auto list = elements(t);
    std::uint8_t* const used = used_.data() + tracks_->tracks.starts[t];
    std::size_t views = 0;
    for (std::size_t k = 0; k < list.size(); ++k) {
      if (list[k].photo == photo) used[k] = 0;
      views += used[k];
    }
    if (views >= 2) continue;
    std::fill_n(used, list.size(), std::uint8_t{0});
    set_point(t, false);
  }
}

bool GrowingBlock::start(PhotoIndex first, PhotoIndex second, const Pose& second_in_first) {
  add_photo(first, {});
  add_photo(second, second_in_first);
  triangulate_tracks(tracks_->photo_tracks[second.value]);
  const auto least = static_cast<std::size_t>(input_.options.min_seed_points);
  if (point_count() < least) return false;
  adjust_all(false);
  remove_all_outliers(input_.options.max_growing_residual_px);
  return point_count() >= least;
}

void GrowingBlock::adopt(std::span<const Pose> poses, const std::vector<std::uint8_t>& taken) {
  const OrientOptions& options = input_.options;
  for (std::size_t i = 0; i < taken.size(); ++i)
    if (taken[i]) add_photo(PhotoIndex(i), poses[i]);
  settle();
  drop_weak_photos(static_cast<std::size_t>(options.min_resection_points), "placed with all others");
}

void GrowingBlock::settle() {
  const OrientOptions& options = input_.options;
  for (std::uint32_t t = 0; t < tracks_->tracks.size(); ++t) set_point(t, false);
  std::fill(used_.begin(), used_.end(), std::uint8_t{0});
  // Limits narrow as poses improve.
  OrientOptions wide = options;
  for (const double factor : {10.0, 4.0, 1.5}) {
    wide.max_growing_residual_px = factor * options.max_growing_residual_px;
    const OrientInput loose{input_.photos, input_.priors, input_.pairs, wide, input_.executor, input_.monitor, {}, {}};
    GrowingBlock rough(loose, tracks_, cameras_);
    for (const std::uint32_t i : order_) rough.add_photo(PhotoIndex(i), poses_[i]);
    rough.triangulate_all();
    AdjustOptions adjusting = rough.adjust_options(false);
    adjusting.loss_width_px = std::max(2.0, 0.5 * wide.max_growing_residual_px);
    adjusting.max_iterations = 20;
    const AdjustResult result = adjust(rough.to_block(), adjusting, input_.executor, input_.monitor);
    ++adjustments_;
    if (!result.summary.valid) continue;
    cameras_ = result.block.cameras;
    for (const PosedPhoto& photo : result.block.photos) poses_[photo.photo.value] = photo.pose;
  }
  triangulate_all();
  adjust_all(false);
  remove_all_outliers(options.max_growing_residual_px);
}

void GrowingBlock::take(const Block& block) {
  cameras_ = block.cameras;
  for (const PosedPhoto& photo : block.photos) add_photo(photo.photo, photo.pose);
  for (std::size_t round = 0; round < 2; ++round) {
    triangulate_all();
    adjust_all(false);
    remove_all_outliers(input_.options.max_growing_residual_px);
  }
  close_loops();
}

void GrowingBlock::hold(const Block& block) {
  cameras_ = block.cameras;
  for (const PosedPhoto& photo : block.photos) add_photo(photo.photo, photo.pose);
  min_angle_ = input_.options.min_point_angle_deg * std::numbers::pi / 180;
  triangulate_all();
  const OrientOptions& options = input_.options;
  remove_all_outliers(options.max_growing_residual_px);
  // As narrow as the poses allow.
  constexpr double kSpreads = 4;
  const double spread = block_statistics(to_block()).rms_px;
  remove_all_outliers(std::max(options.max_residual_px, std::min(options.max_growing_residual_px, kSpreads * spread)));
}

std::size_t GrowingBlock::drop_weak_photos(std::size_t least, const char* why) {
  std::size_t dropped = 0;
  for (bool again = true; again;) {
    again = false;
    for (const std::uint32_t i : std::vector<std::uint32_t>(order_)) {
      std::size_t held = 0;
      for (const std::uint32_t t : tracks_->photo_tracks[i]) {
        if (!has_point_[t]) continue;
        const auto list = elements(t);
        for (std::size_t k = 0; k < list.size(); ++k)
          held += list[k].photo.value == i && used_[tracks_->tracks.starts[t] + k];
      }
      if (held >= least) continue;
      remove_photo(PhotoIndex(i));
      failure_[i] = fmt::format("only {} tie points fit it, {}, {} needed", held, why, least);
      ++dropped;
      again = true;
    }
  }
  return dropped;
}

GrowingBlock::Resected GrowingBlock::resect_photo(PhotoIndex photo, const Camera& camera) const {
  const OrientOptions& options = input_.options;
  Resected result;
  std::vector<PointView> views;
  std::vector<std::uint32_t> seen;  // the tracks of these
  const auto& tracks = tracks_->photo_tracks[photo.value];
  for (std::size_t i = 0; i < tracks.size(); ++i) {
    if (!has_point_[tracks[i]]) continue;
    const auto d = unproject(camera, pixel(photo, tracks_->photo_features[photo.value][i]));
    if (!d) continue;
    views.push_back({points_[tracks[i]], *d});
    seen.push_back(tracks[i]);
  }
  result.in_view = static_cast<std::uint32_t>(views.size());
  const double wider = lenient() ? 2 : 1;
  const int least = lenient() ? std::max(12, options.min_resection_points * 3 / 5) : options.min_resection_points;
  if (static_cast<int>(views.size()) < least) {
    result.failure = fmt::format("{} tie points in view, {} needed", views.size(), least);
    return result;
  }
  const double focal = camera.focal();
  ResectionOptions resection_options;
  resection_options.confidence = options.resection_confidence;
  resection_options.max_samples = options.max_resection_samples;
  resection_options.max_error = wider * options.max_resection_error_px / focal;
  const Resection resection = resect(views, resection_options, combine_keys(0x7e5ec7, photo.value));
  const double share = lenient() ? std::max(0.5, options.min_resection_share) : options.min_resection_share;
  const std::size_t needed = std::max<std::size_t>(
      static_cast<std::size_t>(least), static_cast<std::size_t>(std::ceil(share * static_cast<double>(views.size()))));
  if (resection.inliers.size() < needed) {
    result.failure = fmt::format("only {} of its {} tie points agree on a pose, {} needed", resection.inliers.size(),
                                 views.size(), needed);
    return result;
  }
  if (min_angle_ < options.min_growing_angle_deg * kDegree) {
    // Far points hold the direction of a photo; its place must hang on some whose depth is sure.
    const auto sure = std::count_if(resection.inliers.begin(), resection.inliers.end(), [&](std::uint32_t i) {
      return ray_angle(seen[i]) >= options.min_growing_angle_deg * kDegree;
    });
    if (sure < options.min_sure_points) {
      result.failure = fmt::format(
          "{} tie points in view, but only {} of them at a sure distance, {} needed: its place would be left to chance",
          views.size(), sure, options.min_sure_points);
      return result;
    }
  }
  std::vector<PointView> chosen;
  for (const std::uint32_t i : resection.inliers) chosen.push_back(views[i]);
  result.pose = refine_pose(resection.pose, chosen, 1.0 / focal);
  result.done = true;
  return result;
}

// The first photo of a camera whose focal length is not known: found with its pose, and held against what other photos
// of the camera say; the focal length that most of their tie points agree with is taken.
GrowingBlock::Resected GrowingBlock::resect_with_focal(PhotoIndex photo) const {
  const std::uint32_t c = input_.photos[photo.value].camera.value;
  const Camera& camera = cameras_[c];
  const auto views_of = [&](std::size_t i) {
    std::vector<PointView> views;
    const auto& tracks = tracks_->photo_tracks[i];
    for (std::size_t k = 0; k < tracks.size(); ++k)
      if (has_point_[tracks[k]])
        views.push_back(
            {points_[tracks[k]], pixel(PhotoIndex(i), tracks_->photo_features[i][k]) - camera.principal_point()});
    return views;
  };
  std::vector<std::pair<double, std::size_t>> witnesses;
  for (std::size_t i = 0; i < input_.photos.size(); ++i)
    if (i != photo.value && input_.photos[i].camera.value == c &&
        static_cast<int>(view_[i].points) >= input_.options.min_resection_points)
      witnesses.emplace_back(-view_score(i), i);
  std::sort(witnesses.begin(), witnesses.end());
  witnesses.resize(std::min(witnesses.size(), kFocalWitnesses));
  witnesses.emplace_back(0, photo.value);

  const double side = std::max(camera.width, camera.height);
  ResectionOptions options;
  options.max_error = input_.options.max_resection_error_px;
  options.confidence = input_.options.resection_confidence;
  options.max_samples = input_.options.max_resection_samples;
  std::vector<double> focals;
  std::vector<std::vector<PointView>> views;
  for (const auto& [score, i] : witnesses) {
    views.push_back(views_of(i));
    const FocalResection found = resect_focal(views.back(), options, 0.35 * side, 8 * side, combine_keys(0xf0ca1, i));
    if (static_cast<int>(found.inliers.size()) >= input_.options.min_resection_points)
      focals.push_back(found.pose.focal);
  }
  double best_focal = 0;
  std::size_t best = 0;
  for (const double focal : focals) {
    std::size_t agree = 0;
    for (std::size_t w = 0; w < views.size(); ++w) {
      std::vector<PointView> scaled = views[w];
      for (PointView& v : scaled) v.direction /= focal;
      ResectionOptions fixed = options;
      fixed.max_error /= focal;
      agree += resect(scaled, fixed, combine_keys(0xf0ca2, w)).inliers.size();
    }
    if (agree > best) best = agree, best_focal = focal;
  }
  Resected result;
  result.in_view = view_[photo.value].points;
  if (best == 0) {
    result.failure =
        fmt::format("{} tie points in view do not agree on a pose and a focal length of its camera", result.in_view);
    return result;
  }
  // With it the photo is resected like any other.
  Camera with_focal = camera;
  with_focal.parameters[0] = best_focal;
  result = resect_photo(photo, with_focal);
  result.focal = best_focal;
  return result;
}

// Photos that can be tried, those that see the block best first. Those that failed come again once they see a fifth
// more.
std::vector<std::size_t> GrowingBlock::candidates(const std::vector<bool>& allowed) {
  const int least =
      lenient() ? std::max(12, input_.options.min_resection_points * 3 / 5) : input_.options.min_resection_points;
  std::vector<std::pair<double, std::size_t>> found;
  for (std::size_t i = 0; i < input_.photos.size(); ++i) {
    if (posed_[i] || !allowed[i]) continue;
    const auto in_view = static_cast<int>(view_[i].points);
    if (in_view < least) {
      if (in_view > 0 && (failed_at_[i] == 0 || failure_[i].empty()))
        failure_[i] = fmt::format("{} tie points in view, {} needed", in_view, input_.options.min_resection_points);
      continue;
    }
    if (failed_at_[i] > 0 && in_view < 1.2 * failed_at_[i]) continue;
    found.emplace_back(-view_score(i), i);
  }
  std::sort(found.begin(), found.end());
  // Those that see nearly as much as the best come with it, more of them as the block grows.
  std::vector<std::size_t> batch;
  const std::size_t most = std::clamp<std::size_t>(order_.size() / 10, 1, kLargestBatch);
  for (const auto& [score, i] : found) {
    if (batch.size() >= most || -score < 0.7 * -found.front().first) break;
    batch.push_back(i);
  }
  return batch;
}

// When no photo can be added, points of vague depth are better than none before a photo is given up: they hold its
// direction, the others its place. In two steps, the second down to what the finished block asks for; in the end with
// wider limits, which the photo must then do without.
bool GrowingBlock::next_stage(const std::vector<bool>& allowed) {
  if (order_.size() == static_cast<std::size_t>(std::count(allowed.begin(), allowed.end(), true)) || stage_ >= 3)
    return false;
  const OrientOptions& options = input_.options;
  ++stage_;
  std::fill(failed_at_.begin(), failed_at_.end(), 0);
  const double least = options.min_point_angle_deg * kDegree,
               angle = stage_ == 1 ? std::max(least, 0.3 * options.min_growing_angle_deg * kDegree) : least;
  if (min_angle_ > angle) {
    min_angle_ = angle;
    triangulate_all();
    adjust_all(false);
    remove_all_outliers(options.max_growing_residual_px);
  }
  return true;
}

void GrowingBlock::grow(const std::vector<bool>& allowed, std::size_t max_photos, const std::function<void()>& save) {
  const OrientOptions& options = input_.options;
  while (order_.size() < max_photos) {
    input_.monitor.check();
    save();
    std::vector<std::size_t> batch = candidates(allowed);
    if (batch.empty()) {
      if (next_stage(allowed)) continue;
      break;
    }
    batch.resize(std::min(batch.size(), max_photos - order_.size()));
    std::vector<Resected> results(batch.size());
    Monitor silent;
    input_.executor.run("", batch.size(), silent, [&](std::size_t k) {
      const std::uint32_t c = input_.photos[batch[k]].camera.value;
      results[k] = doubtful_focal_[c] && camera_photos_[c] == 0 ? resect_with_focal(PhotoIndex(batch[k]))
                                                                : resect_photo(PhotoIndex(batch[k]), cameras_[c]);
    });
    std::vector<PhotoIndex> added;
    bool new_camera = false;
    for (std::size_t k = 0; k < batch.size(); ++k) {
      const PhotoIndex photo(batch[k]);
      const std::uint32_t c = input_.photos[batch[k]].camera.value;
      failed_at_[batch[k]] = results[k].in_view;
      if (!results[k].done) {
        failure_[batch[k]] = results[k].failure;
        continue;
      }
      if (results[k].focal > 0) {
        if (camera_photos_[c] > 0) {  // another of this batch has just settled it: once more with that
          failed_at_[batch[k]] = 0;
          continue;
        }
        cameras_[c].parameters[0] = results[k].focal;
        new_camera = true;
        input_.monitor.log(LogLevel::detail, fmt::format("focal length of the camera of {}: {:.0f} px, by resection",
                                                         input_.photos[batch[k]].name, results[k].focal));
      }
      add_photo(photo, results[k].pose);
      added.push_back(photo);
    }
    if (added.empty()) continue;
    for (const PhotoIndex photo : added) triangulate_tracks(tracks_->photo_tracks[photo.value]);
    input_.monitor.progress("pose photos", order_.size(), input_.photos.size());
    const double grown = 1 + options.adjust_growth_share;
    if (order_.size() < 8 || new_camera ||
        static_cast<double>(observation_count()) > grown * static_cast<double>(adjusted_observations_)) {
      adjust_all(false);
      remove_all_outliers(options.max_growing_residual_px);
      if (order_.size() >= 8) close_loops();
    } else {
      adjust_near(added);
    }
    if (!lenient()) continue;
    // Let in on trial: the usual limits hold for what is left after the adjustment.
    for (const PhotoIndex photo : added) {
      std::size_t held = 0;
      for (const std::uint32_t t : tracks_->photo_tracks[photo.value]) {
        const auto list = elements(t);
        for (std::size_t k = 0; k < list.size(); ++k)
          held += list[k].photo == photo && used_[tracks_->tracks.starts[t] + k];
      }
      if (static_cast<int>(held) >= options.min_resection_points) continue;
      remove_photo(photo);
      failure_[photo.value] = fmt::format("{} tie points in view, but only {} fit it after adjustment, {} needed",
                                          failed_at_[photo.value], held, options.min_resection_points);
    }
  }
}

void GrowingBlock::finish(bool trial) {
  const OrientOptions& options = input_.options;
  if (close_loops()) remove_all_outliers(options.max_growing_residual_px);
  min_angle_ = options.min_point_angle_deg * kDegree;
  for (int round = 0; round < 2; ++round) {
    triangulate_all();
    adjust_all(false);
    remove_all_outliers(options.max_growing_residual_px);
    if (round == 0) refine_tracks();
  }
  triangulate_all();
  if (!trial && options.free_whole_lens && options.free_distortion) {
    free_lenses();
    triangulate_all();
  }
  // Outliers by the noise of the block itself, between rounds: what is far off for sharp photos is usual for soft ones.
  const auto limit = [&] {
    const double sigma = residual_sigma(to_block());
    return sigma > 0 ? std::min(options.max_residual_px, options.max_residual_sigmas * sigma) : options.max_residual_px;
  };
  remove_all_outliers(options.max_residual_px);
  adjust_all(true);
  for (int round = 0; round < 2; ++round) {
    if (remove_all_outliers(limit()) == 0) break;
    adjust_all(true);
  }
}

double GrowingBlock::robust_score() const {
  double score = 0;
  for (std::uint32_t t = 0; t < tracks_->tracks.size(); ++t) {
    if (!has_point_[t]) continue;
    const auto list = elements(t);
    for (std::size_t k = 0; k < list.size(); ++k) {
      if (!used_[tracks_->tracks.starts[t] + k]) continue;
      if (const auto error = residual(list[k], points_[t])) score += 1 / (1 + *error * *error);
    }
  }
  return score;
}

void GrowingBlock::write(ByteWriter& out) const {
  for (const Camera& camera : cameras_) out.put(camera.model).put(camera.parameters);
  out.put(posed_);
  for (const Pose& pose : poses_)
    for (const double v : {pose.orientation.w(), pose.orientation.x(), pose.orientation.y(), pose.orientation.z(),
                           pose.centre.x(), pose.centre.y(), pose.centre.z()})
      out.put(v);
  out.put(order_).put(has_point_);
  for (const Eigen::Vector3d& p : points_) out.put(p.x()).put(p.y()).put(p.z());
  out.put(used_);
  for (const std::string& failure : failure_) out.put(failure);
  out.put(min_angle_)
      .put(failed_at_)
      .put(static_cast<std::uint64_t>(adjusted_observations_))
      .put(static_cast<std::uint64_t>(loop_that_failed_))
      .put(adjustments_)
      .put(loops_closed_)
      .put(stage_);
}

void GrowingBlock::read(ByteReader& in) {
  for (Camera& camera : cameras_) {
    camera.model = in.get<CameraModel>();
    camera.parameters = in.get<decltype(camera.parameters)>();
  }
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
  std::vector<std::uint8_t> has_point(has_point_.size());
  same_size(has_point, in.get_array<std::uint8_t>());
  for (Eigen::Vector3d& p : points_)
    for (int c = 0; c < 3; ++c) p[c] = in.get<double>();
  same_size(used_, in.get_array<std::uint8_t>());
  for (std::string& failure : failure_) failure = in.get_string();
  min_angle_ = in.get<double>();
  same_size(failed_at_, in.get_array<std::uint32_t>());
  adjusted_observations_ = in.get<std::uint64_t>();
  loop_that_failed_ = in.get<std::uint64_t>();
  adjustments_ = in.get<int>();
  loops_closed_ = in.get<int>();
  stage_ = in.get<int>();
  for (std::uint32_t t = 0; t < has_point.size(); ++t) set_point(t, has_point[t] != 0);
  for (const std::uint32_t i : order_) ++camera_photos_[input_.photos[i].camera.value];
}

}  // namespace icefield
