#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>
#include <optional>

#include "icefield/geometry/two_view.h"
#include "icefield/match/match.h"
#include "icefield/match/study_pair.h"
#include "src/geometry/decompositions.h"
#include "src/geometry/normalisation.h"
#include "src/match/guided.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

// What is found by the steps below.
struct Geometry {
  PairGeometry kind = PairGeometry::none;
  TwoViewModel model = TwoViewModel::none;
  Matrix3d matrix = Matrix3d::Zero();
  std::vector<std::uint32_t> inliers;  // into the pairs
  double noise = 0;

  bool maps_points() const { return model == TwoViewModel::homography || model == TwoViewModel::rotation; }
};

Geometry from(PairGeometry kind, TwoViewModel model, TwoViewFit fit) {
  return {kind, model, fit.matrix, std::move(fit.inliers), fit.noise};
}

// The homography K R K^-1 of a turn that comes nearest to the given one, over focal lengths (fields of view from 19 to
// 118 degrees); the principal point is the middle of the photo, the focal length one for both.
Matrix3d nearest_turn(const Matrix3d& homography, const Camera& camera1, const Camera& camera2) {
  const auto centred = [](const Camera& camera, double focal) {
    Matrix3d k;
    k << focal, 0, 0.5 * camera.width, 0, focal, 0.5 * camera.height, 0, 0, 1;
    return k;
  };
  const double side = std::max({camera1.width, camera1.height, camera2.width, camera2.height});
  struct Tried {
    Matrix3d turn;
    double deviation;
  };
  const auto at = [&](double focal) -> Tried {
    const Matrix3d k1 = centred(camera1, focal), k2 = centred(camera2, focal);
    Matrix3d m = k2.inverse() * homography * k1;
    m /= std::cbrt(m.determinant());
    const auto [u, v, values] = singular_values(m);
    return {k2 * (u * v.transpose()) * k1.inverse(), (values - Eigen::Vector3d::Ones()).norm()};
  };
  constexpr double kStep = 1.06;
  double best = side;
  for (double focal = 0.3 * side, least = 1e300; focal <= 3 * side; focal *= kStep)
    if (const double deviation = at(focal).deviation; deviation < least) least = deviation, best = focal;
  double low = best / kStep, high = best * kStep;
  for (int i = 0; i < 12; ++i) {
    const double a = low + (high - low) / 3, b = high - (high - low) / 3;
    (at(a).deviation < at(b).deviation ? high : low) = at(a).deviation < at(b).deviation ? b : a;
  }
  return at(0.5 * (low + high)).turn;
}

class Verifier {
 public:
  Verifier(std::span<const PointPair> pairs, const VerifyOptions& options, double max_error, std::uint64_t seed)
      : pairs_(pairs), options_(options), seed_(seed) {
    fit_.confidence = options.confidence;
    fit_.max_samples = options.max_samples;
    fit_.max_error = max_error;
    fit_.best_first = true;
    fit_.least_share = std::max(options.min_inlier_share,
                                static_cast<double>(options.min_inliers) / static_cast<double>(pairs.size()));
  }

  Geometry calibrated() const {
    TwoViewFit essential = fit_essential(pairs_, fit_, seed_);
    if (!enough(essential)) return plane_alone();
    std::vector<PointPair> inliers;
    TwoViewFit turn, plane;
    for (bool again = true; again;) {
      inliers = chosen(pairs_, essential.inliers);
      turn = fit_rotation(inliers, among_inliers(essential), seed_);
      plane = fit_homography(inliers, among_inliers(essential), seed_);
      // Five pairs mostly far away or on a plane leave the baseline to chance, and with it which of the others agree.
      const TwoViewFit& most = 5 * turn.inliers.size() >= 4 * plane.inliers.size() ? turn : plane;
      again = false;
      if (static_cast<double>(most.inliers.size()) < kDominant * static_cast<double>(inliers.size())) break;
      auto better =
          from_parallax(most, 6, [&](const Matrix3d& m) { return refine_essential(m, pairs_, fit_.max_error); });
      again = better && better->inliers.size() > essential.inliers.size();
      if (again) essential = std::move(*better);
    }
    // Does less explain as much?
    if (explains(turn, essential))
      return from(PairGeometry::turned, TwoViewModel::rotation, over_all(std::move(turn), essential));
    if (!explains(plane, essential)) return from(PairGeometry::depth, TwoViewModel::essential, std::move(essential));
    // A plane allows two poses; when both hold for nearly all matches the essential matrix may be of the wrong one.
    const std::vector<PointPair> on_plane = chosen(inliers, plane.inliers);
    std::size_t poses = 0;
    for (const PlanePose& pose : poses_from_homography(plane.matrix, on_plane)) {
      if (2 * pose.in_front < on_plane.size()) continue;
      const Matrix3d other = essential_from_pose(pose.pose);
      std::size_t held = 0;
      for (const PointPair& p : inliers) held += sampson_error2(other, p) < fit_.max_error * fit_.max_error;
      poses += static_cast<double>(held) > 0.97 * static_cast<double>(inliers.size());
    }
    if (poses > 1) return from(PairGeometry::flat, TwoViewModel::homography, over_all(std::move(plane), essential));
    return from(PairGeometry::flat, TwoViewModel::essential, std::move(essential));
  }

  Geometry uncalibrated(const Camera& camera1, const Camera& camera2) const {
    TwoViewFit fundamental = fit_fundamental(pairs_, fit_, seed_);
    if (!enough(fundamental)) return plane_alone();
    const std::vector<PointPair> inliers = chosen(pairs_, fundamental.inliers);
    TwoViewFit plane = fit_homography(inliers, among_inliers(fundamental), seed_);
    if (static_cast<double>(plane.inliers.size()) >= kDominant * static_cast<double>(inliers.size()))
      if (auto better = from_parallax(plane, options_.min_inliers, [](const Matrix3d& m) { return m; });
          better && better->inliers.size() > fundamental.inliers.size())
        return from(PairGeometry::depth, TwoViewModel::fundamental, std::move(*better));
    if (!explains(plane, fundamental))
      return from(PairGeometry::depth, TwoViewModel::fundamental, std::move(fundamental));
    const Matrix3d turn = nearest_turn(plane.matrix, camera1, camera2), back = turn.inverse();
    const auto turned = std::count_if(inliers.begin(), inliers.end(), [&](const PointPair& p) {
      return transfer_error2(turn, back, p) < fit_.max_error * fit_.max_error;
    });
    const bool is_turn =
        static_cast<double>(turned) >= options_.min_plane_share * static_cast<double>(plane.inliers.size());
    return from(is_turn ? PairGeometry::turned : PairGeometry::flat, TwoViewModel::homography,
                over_all(std::move(plane), fundamental));
  }

 private:
  static constexpr double kDominant =
      0.4;  // share of the matches that a plane or a turn holds for, from which on it may mislead

  bool enough(const TwoViewFit& fit) const {
    return static_cast<int>(fit.inliers.size()) >= options_.min_inliers &&
           static_cast<double>(fit.inliers.size()) >= options_.min_inlier_share * static_cast<double>(pairs_.size());
  }
  // The epipolar geometry from a plane or a turn that holds for many matches and from what is off it, at least `least`
  // matches.
  template <class Refine>
  std::optional<TwoViewFit> from_parallax(const TwoViewFit& map, int least, Refine&& refine) const {
    const double limit2 = fit_.max_error * fit_.max_error;
    const Matrix3d inverse = map.matrix.inverse();
    std::vector<PointPair> off;
    for (const PointPair& p : pairs_)
      if (!(transfer_error2(map.matrix, inverse, p) < limit2)) off.push_back(p);
    TwoViewOptions options = fit_;
    options.max_samples = 500;
    const TwoViewFit parallax = fit_parallax(map.matrix, off, options, seed_);
    // More than wrong matches would give: a line through an epipole is within reach of one in thirty.
    const double chance = static_cast<double>(off.size()) / 30;
    if (static_cast<double>(parallax.inliers.size()) < std::max<double>(least, chance + 5 * std::sqrt(chance)))
      return std::nullopt;
    TwoViewFit fit;
    fit.matrix = refine(parallax.matrix);
    for (std::size_t i = 0; i < pairs_.size(); ++i)
      if (sampson_error2(fit.matrix, pairs_[i]) < limit2) fit.inliers.push_back(static_cast<std::uint32_t>(i));
    fit.noise = std::max(map.noise, parallax.noise);
    return fit;
  }
  // A plane or a turn is the whole story unless enough is left over that only depth explains.
  bool explains(const TwoViewFit& simple, const TwoViewFit& full) const {
    const double left = static_cast<double>(full.inliers.size()) - static_cast<double>(simple.inliers.size());
    return static_cast<int>(simple.inliers.size()) >= options_.min_inliers &&
           left <= std::max<double>(options_.min_off_plane,
                                    (1 - options_.min_plane_share) * static_cast<double>(full.inliers.size()));
  }
  // Few samples suffice where most pairs agree. A map of points has errors in two directions where the epipolar
  // constraint sees one, and there shares it between the two photos: seven of its standard deviations are five of
  // theirs.
  TwoViewOptions among_inliers(const TwoViewFit& full) const {
    TwoViewOptions options = fit_;
    options.max_samples = 100;
    options.max_error = std::clamp(7 * full.noise, fit_.max_error / 4, fit_.max_error);
    return options;
  }
  static TwoViewFit over_all(TwoViewFit simple, const TwoViewFit& full) {
    for (std::uint32_t& i : simple.inliers) i = full.inliers[i];
    return simple;
  }
  // A plane needs neither focal length: it may hold where nothing else does.
  Geometry plane_alone() const {
    TwoViewOptions options = fit_;
    options.max_samples = std::min(300, fit_.max_samples);
    TwoViewFit plane = fit_homography(pairs_, options, seed_);
    if (!enough(plane)) return {};
    return from(PairGeometry::flat, TwoViewModel::homography, std::move(plane));
  }

  std::span<const PointPair> pairs_;
  const VerifyOptions& options_;
  TwoViewOptions fit_;
  std::uint64_t seed_;
};

std::vector<Vector2d> places(const Features& features, const Camera* camera) {
  std::vector<Vector2d> out;
  out.reserve(features.size());
  for (const Keypoint& k : features.keypoints) {
    const Vector2d pixel(k.x, k.y);
    out.push_back(camera ? unproject(*camera, pixel).value_or(Vector2d(1e3, 1e3)) : pixel);
  }
  return out;
}

// `near` and `turned_deg`, from at most 200 of the matches.
void look_at_rays(PairMatches& pair, const Features& first, const Features& second, const CameraPrior& first_camera,
                  const CameraPrior& second_camera, const VerifyOptions& options) {
  constexpr std::size_t kSample = 200;
  constexpr double kNearDeg = 3;
  PairMatches sample;
  sample.geometry = pair.geometry, sample.model = pair.model, sample.matrix = pair.matrix;
  const std::size_t step = (pair.matches.size() + kSample - 1) / kSample;
  for (std::size_t i = 0; i < pair.matches.size(); i += step) sample.matches.push_back(pair.matches[i]);
  const PairStudy study = study_pair(sample, first.keypoints, second.keypoints, first_camera, second_camera, options);
  if (study.poses.empty()) return;
  pair.turned_deg = static_cast<float>(
      rotation_angle(study.poses.front().pose.orientation, Eigen::Quaterniond::Identity()) * 180 / std::numbers::pi);
  std::size_t near = 0;
  for (const PairStudy::Point& p : study.points) near += p.angle_deg >= kNearDeg;
  pair.near = static_cast<std::uint32_t>(near * pair.matches.size() / sample.matches.size());
}

}  // namespace

const char* name_of(PairGeometry geometry) {
  switch (geometry) {
    case PairGeometry::depth:
      return "depth";
    case PairGeometry::flat:
      return "flat";
    case PairGeometry::turned:
      return "turned";
    case PairGeometry::none:
      break;
  }
  return "none";
}

const char* name_of(PairFault fault) {
  switch (fault) {
    case PairFault::few_matches:
      return "few matches";
    case PairFault::disagree:
      return "disagree";
    case PairFault::same_pixels:
      return "same pixels";
    case PairFault::none:
      break;
  }
  return "none";
}

const char* describe(PairGeometry geometry) {
  switch (geometry) {
    case PairGeometry::depth:
      return "two places, a subject with depth";
    case PairGeometry::flat:
      return "two places, a flat subject";
    case PairGeometry::turned:
      return "one place: the photo was turned, no depth can come of it";
    case PairGeometry::none:
      break;
  }
  return "no geometry";
}

const char* describe(PairFault fault) {
  switch (fault) {
    case PairFault::few_matches:
      return "too few matches to tell";
    case PairFault::disagree:
      return "no two-view geometry supports the matches";
    case PairFault::same_pixels:
      return "matches that stay at the same pixel and nothing else, such as a date stamp";
    case PairFault::none:
      break;
  }
  return "there is a geometry";
}

namespace {

PairMatches verified(const Features& first, const Features& second, std::span<const Match> given,
                     const CameraPrior& first_camera, const CameraPrior& second_camera, const VerifyOptions& options,
                     std::uint64_t seed) {
  PairMatches result;
  result.candidates = static_cast<std::uint32_t>(given.size());
  std::vector<Match> matches(given.begin(), given.end());
  const Camera &camera1 = first_camera.camera, &camera2 = second_camera.camera;
  if (camera1.width == camera2.width && camera1.height == camera2.height && options.fixed_pattern_px > 0) {
    const auto stays = [&](const Match& m) {
      const Keypoint &a = first.keypoints[m.first.value], &b = second.keypoints[m.second.value];
      return std::hypot(a.x - b.x, a.y - b.y) < options.fixed_pattern_px;
    };
    const auto fixed = static_cast<std::size_t>(std::count_if(matches.begin(), matches.end(), stays));
    // A few may stay by chance; when most do and they are not few among the features, the photos are of one place.
    const bool most = 2 * fixed > matches.size() && 5 * fixed > std::min(first.size(), second.size());
    if (fixed >= 8 && !most) {
      std::erase_if(matches, stays);
      result.fixed = static_cast<std::uint32_t>(fixed);
    }
  }
  const auto fixed_only = static_cast<int>(result.fixed) >= options.min_inliers;
  if (static_cast<int>(matches.size()) < options.min_inliers) {
    if (fixed_only) result.fault = PairFault::same_pixels;
    return result;
  }
  std::stable_sort(matches.begin(), matches.end(), [](const Match& a, const Match& b) { return a.ratio < b.ratio; });

  const auto usable = [&](const CameraPrior& prior) {
    return prior.camera.focal() > 0 && prior.focal_uncertainty_percent <= options.max_focal_uncertainty_percent;
  };
  const bool calibrated = usable(first_camera) && usable(second_camera);
  const std::vector<Vector2d> places1 = places(first, calibrated ? &camera1 : nullptr),
                              places2 = places(second, calibrated ? &camera2 : nullptr);
  std::vector<PointPair> pairs;
  pairs.reserve(matches.size());
  for (const Match& m : matches) pairs.push_back({places1[m.first.value], places2[m.second.value]});
  const double pixel = calibrated ? 2 / (camera1.focal() + camera2.focal()) : 1;
  const Verifier verifier(pairs, options, options.max_error_px * pixel, seed);
  Geometry geometry = calibrated ? verifier.calibrated() : verifier.uncalibrated(camera1, camera2);
  if (geometry.model == TwoViewModel::none) {
    result.fault = fixed_only ? PairFault::same_pixels : PairFault::disagree;
    return result;
  }
  result.geometry = geometry.kind;
  result.fault = PairFault::none;
  result.model = geometry.model;
  result.matrix = geometry.matrix;

  // Within 3.5 times the noise; less than 2 px would cut into what an unknown lens distorts.
  const double limit = std::clamp(3.5 * geometry.noise, 2.0 * pixel, options.max_error_px * pixel),
               limit2 = limit * limit;
  const Matrix3d inverse = geometry.maps_points() ? Matrix3d(geometry.matrix.inverse()) : Matrix3d::Zero();
  const auto agrees = [&](const PointPair& p) {
    return (geometry.maps_points() ? transfer_error2(geometry.matrix, inverse, p)
                                   : sampson_error2(geometry.matrix, p)) < limit2;
  };
  for (std::size_t i = 0; i < matches.size(); ++i)
    if (agrees(pairs[i])) result.matches.push_back(matches[i]);
  if (options.guided && !result.matches.empty()) {
    Guide guide;
    guide.first = places1;
    guide.second = places2;
    guide.matrix = result.matrix;
    guide.lines = !geometry.maps_points();
    guide.max_error = limit;
    guide.same_place = 1.5 * pixel;
    guide.max_ratio = options.max_guided_ratio;
    const std::vector<Match> more = match_guided(first, second, result.matches, guide);
    result.matches.insert(result.matches.end(), more.begin(), more.end());
    result.guided = static_cast<std::uint32_t>(more.size());
    if (result.model == TwoViewModel::essential) {
      std::vector<PointPair> all;
      for (const Match& m : result.matches) all.push_back({places1[m.first.value], places2[m.second.value]});
      result.matrix = refine_essential(result.matrix, all, options.max_error_px * pixel);
    }
  }
  if (calibrated) look_at_rays(result, first, second, first_camera, second_camera, options);
  std::sort(result.matches.begin(), result.matches.end(), [](const Match& a, const Match& b) {
    return std::pair(a.first.value, a.second.value) < std::pair(b.first.value, b.second.value);
  });
  return result;
}

}  // namespace

PairMatches verify_pair(const PairPhoto& first, const PairPhoto& second, std::span<const Match> matches,
                        const VerifyOptions& options, std::uint64_t seed) {
  for (const Match& m : matches)
    if (m.first.value >= first.features.size() || m.second.value >= second.features.size())
      throw Error(ErrorKind::usage, "a match", "is of a feature that a photo does not have",
                  "give matches of these features");
  PairMatches result = verified(first.features, second.features, matches, first.camera, second.camera, options, seed);
  result.first = first.photo, result.second = second.photo;
  return result;
}

}  // namespace icefield
