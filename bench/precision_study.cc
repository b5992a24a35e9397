// How true the standard deviations are that a posed survey gives of itself, against the truth of a made-up set; and how
// the errors of its observations hang together.
#include <fmt/format.h>

#include <cmath>

#include "app/arguments.h"
#include "icefield/adjust/uncertainty.h"
#include "icefield/base/statistics.h"
#include "icefield/geometry/triangulate.h"
#include "icefield/judge/compare.h"
#include "icefield/survey/survey.h"
#include "simulate/plan.h"

namespace {

using namespace icefield;
using Eigen::Vector2d;
using Eigen::Vector3d;

struct Ratios {
  std::vector<double> values;
  double squares = 0, variances = 0;
  void add(double error, double sigma) {
    if (!(sigma > 0) || !std::isfinite(sigma)) return;
    values.push_back(error / sigma);
    squares += error * error, variances += sigma * sigma;
  }
  std::string text() {
    return fmt::format("{:.2f} in the middle, {:.2f} by squares ({})", median(values), std::sqrt(squares / variances),
                       values.size());
  }
};

// The block in the frame of the truth.
Block in_truth(const Block& block, const Similarity& to_truth) {
  Block moved = block;
  transform(moved, to_truth);
  return moved;
}

// Errors of observations by true poses, each point where these have it: their size by the size of the feature, and how
// like those of one track, or of neighbours in a photo, are.
void study_errors(const Block& truth, const std::vector<std::vector<Keypoint>>& keypoints) {
  std::vector<std::vector<std::pair<Vector2d, Vector2d>>> by_photo(truth.photos.size());  // place, error
  std::vector<std::pair<double, double>> by_scale;
  double within[4] = {}, size[4] = {};
  std::size_t count[4] = {};
  for (std::size_t p = 0; p < truth.points.size(); ++p) {
    const auto seen = truth.of_point(p);
    std::vector<Ray> rays;
    for (const Observation& o : seen)
      if (const auto d = unproject(truth.camera_of(truth.photos[o.photo]), o.pixel))
        rays.push_back({truth.photos[o.photo].pose, *d});
    if (rays.size() != seen.size() || seen.size() < 3) continue;
    const auto point = triangulate(rays);
    if (!point) continue;
    std::vector<Vector2d> errors;
    for (const Observation& o : seen) errors.push_back(residual_px(truth, *point, o).value_or(Vector2d(1e3, 0)));
    if (std::any_of(errors.begin(), errors.end(), [](const Vector2d& e) { return e.norm() > 5; })) continue;
    const double grow =
        std::sqrt(2.0 * static_cast<double>(seen.size()) / (2.0 * static_cast<double>(seen.size()) - 3));
    for (std::size_t a = 0; a < seen.size(); ++a) {
      by_photo[seen[a].photo].emplace_back(seen[a].pixel, grow * errors[a]);
      if (seen[a].feature.valid() && !keypoints.empty())
        by_scale.emplace_back(keypoints[truth.photos[seen[a].photo].photo.value][seen[a].feature.value].scale,
                              grow * grow * errors[a].squaredNorm() / 2);
    }
    if (seen.size() < 5) continue;
    for (std::size_t a = 0; a < seen.size(); ++a)
      for (std::size_t b = a + 1; b < seen.size(); ++b) {
        const Vector3d u = *point - truth.photos[seen[a].photo].pose.centre,
                       v = *point - truth.photos[seen[b].photo].pose.centre;
        const double degrees = std::atan2(u.cross(v).norm(), u.dot(v)) * 57.29578;
        const int bin = degrees < 10 ? 0 : degrees < 20 ? 1 : degrees < 40 ? 2 : 3;
        within[bin] += errors[a].dot(errors[b]);
        size[bin] += 0.5 * (errors[a].squaredNorm() + errors[b].squaredNorm());
        ++count[bin];
      }
  }
  std::sort(by_scale.begin(), by_scale.end());
  fmt::print("  errors by scale of the feature, px:");
  for (std::size_t k = 0; k < 6 && !by_scale.empty(); ++k) {
    std::vector<double> part;
    for (std::size_t i = k * by_scale.size() / 6; i < (k + 1) * by_scale.size() / 6; ++i)
      part.push_back(by_scale[i].second);
    double sum = 0;
    for (const double e : part) sum += e;
    fmt::print(" {:.1f}: {:.3f} (middle {:.3f})", by_scale[k * by_scale.size() / 6].first,
               std::sqrt(sum / static_cast<double>(part.size())), std::sqrt(median(part) / 0.693));
  }
  fmt::print(
      "\n  likeness in a track (of five and more), by angle: to 10 {:.3f}, to 20 {:.3f}, to 40 {:.3f}, more "
      "{:.3f}\n",
      within[0] / size[0], within[1] / size[1], within[2] / size[2], within[3] / size[3]);
  double near[6] = {}, all = 0;
  std::size_t pairs[6] = {}, observations = 0;
  constexpr double kBins[6] = {3, 10, 30, 100, 200, 400};
  for (const auto& list : by_photo)
    for (std::size_t a = 0; a < list.size(); ++a) {
      all += list[a].second.squaredNorm(), ++observations;
      for (std::size_t b = a + 1; b < list.size(); ++b) {
        const double distance = (list[a].first - list[b].first).norm();
        for (int k = 0; k < 6; ++k)
          if (distance < kBins[k]) {
            near[k] += list[a].second.dot(list[b].second), ++pairs[k];
            break;
          }
      }
    }
  fmt::print("  likeness in a photo, by distance:");
  for (int k = 0; k < 6; ++k)
    fmt::print(" to {} px {:.3f}", kBins[k],
               near[k] / static_cast<double>(pairs[k]) / (all / static_cast<double>(observations)));
  fmt::print("; size {:.3f} px\n", std::sqrt(all / static_cast<double>(2 * observations)));
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app{"Standard deviations of a posed survey against the truth of the made-up set."};
  std::string folder, made;
  bool errors = false;
  app.option("survey", folder).required();
  app.option("made", made, "the set's folder").required();
  app.flag("--errors", errors, "also how errors of observations hang together");
  if (!app.parse(argc, argv)) return app.status();
  const Executor executor;
  Monitor monitor;
  Survey survey(folder, executor, monitor);
  const OrientResult& result = survey.pose();
  const simulate::PlanOptions plan = simulate::read_plan(made);
  const simulate::Scene scene(plan.scene);
  std::map<std::string, simulate::PlannedPhoto> planned;
  for (const auto& p : simulate::plan_photos(plan)) planned.emplace(p.name, p);
  std::vector<CameraPrior> priors;
  for (const SurveyCamera& camera : survey.photos().cameras) priors.push_back(camera.prior);
  for (const Block& block : result.blocks) {
    std::vector<NamedPose> got, truth;
    for (const PosedPhoto& p : block.photos) {
      const auto& t = planned.at(survey.photo_name(p.photo));
      got.push_back({t.name, block.camera_of(p), p.pose, 0});
      truth.push_back({t.name, t.shot.camera, t.shot.pose, 0});
    }
    const auto compared = compare_cameras(got, truth);
    if (!compared) continue;
    const AdjustOptions options = final_adjust_options(block, priors, survey.settings().pose, result.summary.held);
    UncertaintyOptions wanted;
    wanted.groups = true;
    const Uncertainty uncertain = uncertainty(block, options, wanted, executor, monitor);
    const double scale = compared->to_truth.scale;
    const Block moved = in_truth(block, compared->to_truth);
    Ratios centres, turns, points;
    std::vector<double> mahalanobis;
    for (std::size_t i = 0; i < block.photos.size(); ++i) {
      const auto& t = planned.at(survey.photo_name(block.photos[i].photo));
      const Vector3d off = moved.photos[i].pose.centre - t.shot.pose.centre;
      centres.add(off.norm(), scale * std::sqrt(uncertain.poses[i].bottomRightCorner<3, 3>().trace()));
      const Eigen::AngleAxisd turn(moved.photos[i].pose.orientation * t.shot.pose.orientation.conjugate());
      turns.add(turn.angle(), std::sqrt(uncertain.poses[i].topLeftCorner<3, 3>().trace()));
    }
    for (std::size_t p = 0; p < block.points.size(); ++p) {
      const Observation& o = block.of_point(p)[0];
      const Vector3d from = planned.at(survey.photo_name(block.photos[o.photo].photo)).shot.pose.centre;
      const auto hit = scene.trace(from.cast<float>(), (moved.points[p] - from).normalized().cast<float>());
      if (!hit || !uncertain.points[p].allFinite()) continue;
      const Vector3d normal = (compared->to_truth.rotation.conjugate() * hit->geometric_normal.cast<double>());
      const double off = (hit->position.cast<double>() - moved.points[p]).dot(hit->geometric_normal.cast<double>());
      const double sigma = scale * std::sqrt(normal.dot(uncertain.points[p] * normal));
      // One coordinate: its middle is 0.6745 of the standard deviation.
      points.add(std::abs(off) / 0.6745 * 0.888, sigma);
    }
    const BlockStatistics statistics = block_statistics(block);
    fmt::print("{}: {} photos, {} points, RMS {:.3f} px, sigma {:.3f} px, groups {:.2f}\n", folder, block.photos.size(),
               block.points.size(), statistics.rms_px, uncertain.sigma_px, uncertain.group_factor);
    fmt::print("  true over said: centres {}, orientations {}, points {}\n", centres.text(), turns.text(),
               points.text());
    for (std::size_t c = 0; c < block.cameras.size(); ++c) {
      const auto user = std::find_if(block.photos.begin(), block.photos.end(),
                                     [&](const PosedPhoto& p) { return p.camera.value == c; });
      if (user == block.photos.end()) continue;
      const Camera& shot = planned.at(survey.photo_name(user->photo)).shot.camera;
      const auto names = camera_parameters(block.cameras[c].model);
      const auto true_names = camera_parameters(shot.model);
      fmt::print("  camera:");
      for (std::size_t k = 0; k < uncertain.cameras[c].parameters.size(); ++k) {
        const auto parameter = static_cast<std::size_t>(uncertain.cameras[c].parameters[k]);
        double expected = 0;
        for (std::size_t n = 0; n < true_names.size(); ++n)
          if (std::string(true_names[n].name) == names[parameter].name) expected = shot.parameters[n];
        fmt::print(" {} {:+.1f}", names[parameter].name,
                   (block.cameras[c].parameters[parameter] - expected) / uncertain.cameras[c].deviation(k));
      }
      fmt::print(" standard deviations off\n");
    }
    if (!errors) continue;
    Block true_block = moved;
    for (std::size_t i = 0; i < block.photos.size(); ++i) {
      const auto& t = planned.at(survey.photo_name(block.photos[i].photo));
      true_block.photos[i].pose = t.shot.pose;
      true_block.cameras[block.photos[i].camera.value] = t.shot.camera;
    }
    std::vector<std::vector<Keypoint>> keypoints;
    for (std::size_t i = 0; i < survey.photos().used; ++i)
      keypoints.push_back(survey.keypoints(PhotoIndex(static_cast<std::uint32_t>(i))));
    study_errors(true_block, keypoints);
  }
  return 0;
}
