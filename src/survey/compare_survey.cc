#include "icefield/survey/compare_survey.h"

#include <map>

namespace icefield {
namespace {

// By photo of the survey that takes part.
std::vector<std::optional<NamedPose>> true_poses(Survey& survey, const CameraFile& truth) {
  std::map<std::string, NamedPose> by_name;
  for (NamedPose& pose : named_poses(truth)) by_name.emplace(pose.name, std::move(pose));
  std::vector<std::optional<NamedPose>> poses(survey.photos().used);
  for (std::size_t i = 0; i < poses.size(); ++i)
    if (const auto found = by_name.find(survey.photos().photos[i].name); found != by_name.end())
      poses[i] = found->second;
  return poses;
}

CameraComparison cameras_against(Survey& survey, std::size_t block, const SurveyTruth& truth) {
  // In the block's own frame, which no projection distorts, as its cloud is.
  std::vector<NamedPose> own = named_poses(survey.cameras(block));
  const Block& posed = survey.block(block);
  for (std::size_t i = 0; i < own.size(); ++i) own[i].pose = posed.photos[i].pose;
  auto compared = compare_cameras(own, named_poses(truth.cameras));
  if (!compared)
    throw Error(ErrorKind::input, truth.name,
                "shares fewer than three photos with the block, or they stand in one line",
                "give the true cameras of this photo set");
  return std::move(*compared);
}

PairComparison pairs_against(Survey& survey, const std::vector<std::optional<NamedPose>>& truth,
                             const std::vector<PhotoOverlap>& overlaps) {
  const MatchedPhotos matched = survey.matched();
  std::vector<std::string> names;
  for (std::size_t i = 0; i < truth.size(); ++i) names.push_back(survey.photos().photos[i].name);
  return compare_pairs(names, matched.keypoints, matched.pairs, truth, overlaps);
}

CloudComparison cloud_against(PointCloud cloud, const Similarity& to_truth, const SurveyTruth& truth,
                              const Executor& executor, Monitor& monitor) {
  // Of the surface, in the frame of the true cameras; their file counts from an origin.
  const Eigen::Vector3d origin = truth.surface->origin - truth.cameras.origin;
  for (Eigen::Vector3f& x : cloud.positions) x = (to_truth * (cloud.origin + x.cast<double>()) - origin).cast<float>();
  cloud.origin = origin;
  PointCloud surface = *truth.surface;
  surface.origin = origin;
  return compare_clouds(cloud, surface, truth.cameras.bounds, executor, monitor);
}

}  // namespace

std::vector<NamedPose> named_poses(const CameraFile& file) {
  std::vector<NamedPose> poses;
  for (const CameraFile::Photo& photo : file.photos)
    poses.push_back({photo.name, file.cameras[photo.camera], photo.pose, photo.gsd});
  return poses;
}

SurveyComparison compare_survey(Survey& survey, std::size_t block, const SurveyTruth& truth,
                                std::optional<PointCloud> cloud, const Executor& executor, Monitor& monitor) {
  SurveyComparison result;
  result.units = truth.cameras.datum.units_name();
  const OrientResult* posed = survey.posed();
  if (posed || truth.surface) result.cameras = cameras_against(survey, block, truth);
  if (posed) {
    const CameraFile own = survey.cameras(block);
    if (!own.datum.crs.empty() && own.datum.crs == truth.cameras.datum.crs) {
      result.crs = own.datum.crs;
      result.places = compare_places(named_poses(own), own.origin, named_poses(truth.cameras), truth.cameras.origin);
    }
  }
  survey.need_matches();
  const std::vector<std::optional<NamedPose>> poses = true_poses(survey, truth.cameras);
  result.pairs = pairs_against(survey, poses, truth.overlaps);
  result.with_overlaps = !truth.overlaps.empty();
  if (posed) {
    const TrackedPhotos tracked = survey.tracks();
    result.observations = compare_observations(tracked.photos, tracked.tracks, posed->blocks, poses, executor);
    result.rms_px = block_statistics(posed->blocks[block]).rms_px;
  }
  if (truth.surface)
    result.cloud = cloud_against(cloud ? std::move(*cloud) : survey.cloud(block), result.cameras->to_truth, truth,
                                 executor, monitor);
  return result;
}

}  // namespace icefield
