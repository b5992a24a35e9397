// Poses from elsewhere.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "icefield/base/error.h"
#include "icefield/io/camera_file.h"
#include "icefield/orient/given.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;

using Eigen::Vector3d;

namespace {

// The photo of the list that a name from elsewhere means: as it is called, as the end of its path, or without its
// ending. Nothing for none, and for more than one.
std::optional<std::size_t> photo_meant(const PhotoList& list, const std::string& name) {
  const auto only = [&](const auto& fits) -> std::optional<std::size_t> {
    std::optional<std::size_t> found;
    for (std::size_t i = 0; i < list.used; ++i) {
      if (!fits(list.photos[i].name)) continue;
      if (found) return std::nullopt;
      found = i;
    }
    return found;
  };
  const auto ends_in = [](const std::string& text, const std::string& end) {
    return text.size() > end.size() && text.ends_with(end) && text[text.size() - end.size() - 1] == '/';
  };
  if (const auto at = only([&](const std::string& photo) { return photo == name; })) return at;
  if (const auto at = only([&](const std::string& p) { return ends_in(p, name) || ends_in(name, p); })) return at;
  const std::string stem = fs::path(name).stem().string();
  return only([&](const std::string& photo) { return fs::path(photo).stem().string() == stem; });
}

bool same_lens(const Camera& a, const Camera& b) {
  if (a.model != b.model || a.width != b.width || a.height != b.height) return false;
  for (std::size_t p = 0; p < camera_parameters(a.model).size(); ++p)
    if (std::abs(a.parameters[p] - b.parameters[p]) > 1e-6 * std::max(1.0, std::abs(a.parameters[p]))) return false;
  return true;
}

// Matches of verified pairs between photos with given poses, evenly taken.
std::vector<RayMatch> rays_between(const MatchedPhotos& matched, const PhotoList& list,
                                   const std::map<std::size_t, std::uint32_t>& row_of) {
  constexpr std::size_t kMost = 3000, kOfPair = 40;
  std::vector<RayMatch> rays;
  std::size_t usable = 0;
  for (const PairMatches& pair : matched.pairs)
    usable += pair.verified() && row_of.count(pair.first.value) > 0 && row_of.count(pair.second.value) > 0;
  const std::size_t of_pair = std::clamp<std::size_t>(usable > 0 ? kMost / usable : 1, 4, kOfPair);
  for (const PairMatches& pair : matched.pairs) {
    if (!pair.verified() || row_of.count(pair.first.value) == 0 || row_of.count(pair.second.value) == 0) continue;
    const Camera &a = list.cameras[list.photos[pair.first.value].camera.value].prior.camera,
                 &b = list.cameras[list.photos[pair.second.value].camera.value].prior.camera;
    if (!(a.focal() > 0) || !(b.focal() > 0)) continue;
    const std::size_t n = std::min(of_pair, pair.matches.size());
    for (std::size_t k = 0; k < n; ++k) {
      const Match& match = pair.matches[k * pair.matches.size() / n];
      const Keypoint &p = matched.keypoints[pair.first.value][match.first.value],
                     &q = matched.keypoints[pair.second.value][match.second.value];
      const auto u = unproject(a, {p.x, p.y}), v = unproject(b, {q.x, q.y});
      if (!u || !v) continue;
      rays.push_back(
          {row_of.at(pair.first.value), row_of.at(pair.second.value), *u, *v, 0.5 * (a.focal() + b.focal())});
    }
    if (rays.size() > 4 * kMost) break;
  }
  return rays;
}

}  // namespace

std::string GivenRequest::as_options(const PoseConvention& c) {
  std::string text = std::string("--angles ") + name_of(c.form);
  if (c.radians) text += " --radians";
  if (c.form != RotationForm::yaw_pitch_roll && c.form != RotationForm::yaw_pitch_roll_down)
    text += fmt::format(" --rotation {} --camera-axes {}", c.to_world ? "to-world" : "to-camera",
                        c.y_up ? "y-up" : "y-down");
  return text + (c.translation ? " --place translation" : " --place centre");
}

GivenReport Survey::give_poses(const GivenRequest& request) {
  GivenReport report;
  report.convention = request.convention;
  const PhotoList& list = photos();
  std::map<std::size_t, std::uint32_t> row_of;  // by photo of the list
  for (std::uint32_t r = 0; r < request.names.size(); ++r) {
    if (const std::string fault = rotation_fault(request.poses[r], request.convention); !fault.empty())
      throw Error(ErrorKind::input, fmt::format("{}, {}", request.source.string(), request.names[r]), fault,
                  "check the form of rotations (--angles), their unit and their numbers");
    const auto photo = photo_meant(list, request.names[r]);
    if (!photo) {
      report.unknown.push_back(request.names[r]);
      continue;
    }
    if (!row_of.emplace(*photo, r).second)
      throw Error(ErrorKind::input, fmt::format("{}, {}", request.source.string(), request.names[r]),
                  "means the same photo as another name: " + list.photos[*photo].name, "take one out");
  }
  report.given = row_of.size();
  if (report.given < 2)
    throw Error(ErrorKind::input, request.source.string(),
                fmt::format("names {} photos of the survey that take part", report.given),
                "give poses of its photos, by their names: `icefield photos " + folder_.string() + "` lists them");
  // The file's cameras stand for those of the survey.
  PhotoList known = list;
  if (!request.cameras.empty()) {
    std::map<std::uint32_t, std::string> taken;
    for (const auto& [photo, row] : row_of) {
      const std::uint32_t c = list.photos[photo].camera.value;
      const Camera& camera = request.cameras[request.camera_of[row]];
      if (camera.width != list.cameras[c].prior.camera.width || camera.height != list.cameras[c].prior.camera.height)
        throw Error(ErrorKind::input, request.source.string(),
                    fmt::format("has {} with {}x{} pixels, and the photo has {}x{}", request.names[row], camera.width,
                                camera.height, list.cameras[c].prior.camera.width, list.cameras[c].prior.camera.height),
                    "give cameras of the photos as they are stored");
      if (const auto [at, fresh] = taken.emplace(c, request.names[row]); !fresh)
        if (!same_lens(known.cameras[c].prior.camera, camera))
          throw Error(ErrorKind::input, request.source.string(),
                      fmt::format("has other cameras for {} and {}, which one camera of the survey took", at->second,
                                  request.names[row]),
                      "give one camera for photos of one lens; or leave the cameras out and give poses as a table");
      known.cameras[c].prior.camera = camera;
    }
  }
  for (const auto& [photo, row] : row_of)
    if (!(known.cameras[list.photos[photo].camera.value].prior.camera.focal() > 0))
      throw Error(ErrorKind::usage, list.photos[photo].name, "has no focal length that is known",
                  "give its camera: `icefield photos " + folder_.string() + " --help`, or poses as JSON with cameras");
  // Do the matches agree?
  const std::vector<RayMatch> rays = rays_between(matched(), known, row_of);
  report.matches = rays.size();
  constexpr std::size_t kLeast = 30;
  if (rays.size() >= kLeast) {
    std::vector<ConventionTrial> trials = try_conventions(request.poses, request.convention, rays);
    const auto own = std::find_if(trials.begin(), trials.end(),
                                  [&](const ConventionTrial& t) { return t.convention == request.convention; });
    report.distance_px = own->distance_px, report.front_percent = own->front_percent;
    report.best = trials.front();
    constexpr double kClearly = 0.5;
    if (trials.front().cost < kClearly * own->cost && !(trials.front().convention == request.convention) &&
        !request.believe)
      throw Error(
          ErrorKind::input, request.source.string(),
          fmt::format("is taken for {}, and then matches lie {:.1f} px from their epipolar lines and {:.0f} % of "
                      "them before both photos; as {} these are {:.1f} px and {:.0f} %",
                      describe(request.convention), own->distance_px, own->front_percent,
                      describe(trials.front().convention), trials.front().distance_px, trials.front().front_percent),
          "say so: " + GivenRequest::as_options(trials.front().convention) + "; or --believe takes them as you say");
  }
  lock();
  CameraFile file;
  file.datum = request.datum;
  report.crs_left_out = file.datum.crs;
  file.datum.crs.clear(), file.datum.vertical_crs.clear();
  for (const SurveyCamera& camera : known.cameras)
    file.camera_names.push_back(camera.name), file.cameras.push_back(camera.prior.camera);
  for (const auto& [photo, row] : row_of)
    file.photos.push_back({list.photos[photo].name, list.photos[photo].camera.value,
                           *pose_of(request.poses[row], request.convention), 0});
  write_camera_file(folder_ / kGivenInput, file);
  set("given.cameras", request.cameras.empty() ? "false" : "true");
  set("given.poses", request.use);
  report.file = folder_ / kGivenInput;
  return report;
}

void Survey::forget_given_poses() {
  lock();
  set("given.poses", "");
  std::error_code ignored;
  fs::remove(folder_ / kGivenInput, ignored);
}

OrientResult Survey::State::pose_as_given(const Settings& settings, const Matched& matched,
                                          std::vector<CameraPrior> priors, const Executor& executor,
                                          Monitor& monitor) const {
  const fs::path name = settings_file.folder() / kGivenInput;
  const auto again =
      "run `icefield given` with them again, or `icefield given " + settings_file.folder().string() + " --forget`";
  std::error_code ignored;
  if (!fs::exists(name, ignored)) throw Error(ErrorKind::input, name.string(), "is not there", again);
  const CameraFile known = read_camera_file(name);
  std::map<std::string, std::size_t> index;
  for (std::size_t i = 0; i < list->used; ++i) index[list->photos[i].name] = i;
  // Near the origin, and to the last bit: whole tens.
  Vector3d middle = Vector3d::Zero();
  for (const CameraFile::Photo& photo : known.photos)
    middle += (known.origin + photo.pose.centre) / static_cast<double>(known.photos.size());
  constexpr double kFar = 10000;
  const Vector3d origin =
      middle.cwiseAbs().maxCoeff() > kFar ? Vector3d(10 * (middle / 10).array().round()) : Vector3d::Zero();
  std::vector<std::optional<Pose>> given(list->used);
  for (const CameraFile::Photo& photo : known.photos) {
    const auto at = index.find(photo.name);
    if (at == index.end()) continue;  // it is left out by now
    Pose pose = photo.pose;
    pose.centre = (known.origin + photo.pose.centre) - origin;
    given[at->second] = pose;
    if (settings.given.cameras) priors[list->photos[at->second].camera.value].camera = known.cameras[photo.camera];
  }
  OrientResult result = orient_given(matched.photos, priors, matched.pairs, given,
                                     settings.given.poses == "fixed" ? GivenPoses::fixed : GivenPoses::start,
                                     settings.pose, executor, monitor);
  for (Block& block : result.blocks) block.datum = known.datum, block.origin = origin;
  return result;
}

}  // namespace icefield
