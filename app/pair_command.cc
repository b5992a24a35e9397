// `icefield pair`: two photos alone.
#include <algorithm>

#include "command.h"
#include "icefield/io/ply_file.h"
#include "icefield/match/study_pair.h"
#include "icefield/report/documents.h"

using namespace icefield;

namespace {

struct Request {
  std::string first, second, points;
};

// The points with the colours of the first photo.
void write_points(const std::string& file, const PairStudy& study, const PairMatches& pair,
                  const std::vector<Keypoint>& first, const ImageU8& photo) {
  PointCloud cloud;
  for (const PairStudy::Point& p : study.points) {
    const Keypoint& k = first[pair.matches[p.match].first.value];
    const int x = std::clamp(static_cast<int>(k.x), 0, photo.width() - 1),
              y = std::clamp(static_cast<int>(k.y), 0, photo.height() - 1);
    const auto channel = [&](int c) { return photo.at(x, y, photo.channels() < 3 ? 0 : c); };
    cloud.positions.push_back(p.position.cast<float>());
    cloud.colours.push_back({channel(0), channel(1), channel(2)});
  }
  write_ply(file, cloud);
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  const PhotoList& photos = survey.photos();
  PhotoIndex i = survey.photo_index(request.first), j = survey.photo_index(request.second);
  if (i == j) throw Error(ErrorKind::usage, request.first, "is given twice", "name two photos");
  const bool swapped = i > j;
  if (swapped) std::swap(i, j);
  const SurveyPhoto &photo1 = photos.photos[i.value], &photo2 = photos.photos[j.value];
  const Features first = survey.features(i), second = survey.features(j);
  const CameraPrior &camera1 = photos.cameras[photo1.camera.value].prior,
                    &camera2 = photos.cameras[photo2.camera.value].prior;
  const std::optional<PairMatches> kept = survey.pair(i, j);
  // A pair that `match` did not choose is matched here, and not kept.
  const PairMatches pair =
      kept ? *kept
           : verify_pair({i, first, camera1}, {j, second, camera2},
                         match_descriptors(first, second, survey.settings().descriptor), survey.settings().verify, 1);
  const std::vector<Keypoint> keypoints1 = survey.keypoints(i), keypoints2 = survey.keypoints(j);
  const PairStudy study = study_pair(pair, keypoints1, keypoints2, camera1, camera2, survey.settings().verify);
  Document document =
      pair_document({photo1.name, photo2.name, first.size(), second.size(), kept.has_value()}, pair, study);
  if (!request.points.empty()) {
    if (study.points.empty())
      throw Error(ErrorKind::computation, photo1.name + " and " + photo2.name,
                  "have no points: " + std::string(describe(pair.fault)),
                  "choose another pair; `icefield view " + common.survey + " pairs` shows those with matches");
    write_points(request.points, study, pair, keypoints1, survey.source()->load(i));
    document.say(fmt::format("{}: {} points", request.points, study.points.size()));
  }
  if (swapped) document.say("(The photos are taken in the survey's order.)");
  show(document, common, monitor,
       kept ? fmt::format("icefield view {} matches --photo {} --with {}", common.survey, photo1.name, photo2.name)
            : fmt::format("icefield view {} pairs", common.survey));
  return 0;
}

}  // namespace

Command pair_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "pair", "Study two photos: features, matches, two-view geometry, the possible poses, points");
  options.option("first", request->first, "Name of a photo").required();
  options.option("second", request->second, "Name of another").required();
  options.option("--points", request->points, "Write the points to this PLY file, in the first photo's frame");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
