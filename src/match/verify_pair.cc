#include <algorithm>
#include <cmath>

#include "icefield/geometry/two_view.h"
#include "icefield/match/match.h"

namespace icefield {

const char* describe(PairState state) {
  switch (state) {
    case PairState::calibrated: return "verified by an essential matrix";
    case PairState::uncalibrated: return "verified by a fundamental matrix";
    case PairState::too_few_matches: return "too few matches";
    case PairState::no_geometry: break;
  }
  return "no two-view geometry supports the matches";
}

PairMatches verify_pair(const Features& first, const Features& second, std::span<const Match> matches, const CameraPrior& first_camera,
                        const CameraPrior& second_camera, const VerifyOptions& options, std::uint64_t seed) {
  PairMatches result;
  result.candidates = static_cast<std::uint32_t>(matches.size());
  if (static_cast<int>(matches.size()) < options.min_inliers) return result;

  const auto usable = [&](const CameraPrior& prior) {
    return prior.camera.focal() > 0 && prior.focal_uncertainty_percent <= options.max_focal_uncertainty_percent;
  };
  const bool calibrated = usable(first_camera) && usable(second_camera);
  std::vector<PointPair> pairs;
  pairs.reserve(matches.size());
  for (const Match& match : matches) {
    const Keypoint &a = first.keypoints[match.first.value], &b = second.keypoints[match.second.value];
    PointPair pair{{a.x, a.y}, {b.x, b.y}};
    if (calibrated) {
      pair.first = unproject(first_camera.camera, pair.first).value_or(Eigen::Vector2d(1e3, 1e3));
      pair.second = unproject(second_camera.camera, pair.second).value_or(Eigen::Vector2d(-1e3, 1e3));
    }
    pairs.push_back(pair);
  }
  TwoViewOptions fit_options;
  fit_options.confidence = options.confidence;
  fit_options.max_samples = options.max_samples;
  fit_options.max_error = options.max_error_px;
  if (calibrated) fit_options.max_error /= 0.5 * (first_camera.camera.focal() + second_camera.camera.focal());
  const TwoViewFit fit = calibrated ? fit_essential(pairs, fit_options, seed) : fit_fundamental(pairs, fit_options, seed);

  if (static_cast<int>(fit.inliers.size()) < options.min_inliers ||
      static_cast<double>(fit.inliers.size()) < options.min_inlier_share * static_cast<double>(matches.size())) {
    result.state = PairState::no_geometry;
    return result;
  }
  result.state = calibrated ? PairState::calibrated : PairState::uncalibrated;
  result.matrix = fit.matrix;
  for (const std::uint32_t i : fit.inliers) result.matches.push_back(matches[i]);
  return result;
}

}  // namespace icefield
