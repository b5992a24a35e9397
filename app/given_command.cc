// `icefield given`: poses from elsewhere.
#include "command.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/pose_table.h"
#include "icefield/report/documents.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string file, use = "fixed", units;
  ConventionWords words;
  bool believe = false, forget = false;
};

GivenRequest read(const Request& request) {
  GivenRequest given;
  given.source = request.file, given.use = request.use, given.believe = request.believe;
  std::string extension = fs::path(request.file).extension().string();
  std::transform(extension.begin(), extension.end(), extension.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  if (extension == ".json") {
    const CameraFile file = read_camera_file(request.file);
    given.convention = usual_convention(RotationForm::quaternion);
    given.datum = file.datum;
    given.cameras = file.cameras;
    for (const CameraFile::Photo& photo : file.photos) {
      Pose pose = photo.pose;
      pose.centre += file.origin;
      given.names.push_back(photo.name), given.camera_of.push_back(photo.camera);
      given.poses.push_back(written(pose, given.convention));
    }
  } else {
    std::optional<RotationForm> form;
    if (!request.words.angles.empty()) form = rotation_form_by_name(request.words.angles);
    PoseTable table = read_pose_table(request.file, form);
    given.convention =
        request.words.of(table.form.value_or(RotationForm::quaternion), table.translation.value_or(false));
    given.names = std::move(table.names), given.poses = std::move(table.poses);
  }
  if (!request.units.empty()) given.datum.units = request.units;
  if (given.datum.known() && given.datum.axes == Axes::guessed) given.datum.axes = Axes::level;
  return given;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  if (request.forget) {
    survey.forget_given_poses();
    Document document;
    document.say("Given poses are forgotten");
    document.json = "{\"forgotten\": true}";
    show(document, common, monitor, "icefield pose " + common.survey);
    return 0;
  }
  if (request.file.empty())
    throw Error(ErrorKind::usage, "given", "is to be told where the poses are",
                "name a table or a JSON file of cameras");
  const GivenRequest given = read(request);
  show(given_document(survey.give_poses(given), given.use), common, monitor, "icefield pose " + common.survey);
  return 0;
}

}  // namespace

Command given_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "given",
      "Poses from elsewhere: kept, and checked against the matches for what their numbers mean. `pose` then takes them "
      "as they are, or starts from them, in exactly their frame");
  options.option("file", request->file,
                 "Cameras as JSON, or a table: photo, x, y, z and omega, phi, kappa; yaw, pitch, roll; qw, qx, qy, qz; "
                 "or r11 to r33");
  with_convention(options, request->words,
                  "What the rotations of a table are, where its headings do not say: quaternion, quaternion-xyzw, "
                  "matrix, opk, ypr (the camera looks ahead) or ypr-down");
  options
      .option("--as", request->use,
              "fixed: to the last bit; start: adjusted with all else, then laid over where they were")
      .one_of({"fixed", "start"})
      .with_default();
  options.option("--units", request->units, "Of the places, as m; empty: not known");
  options.flag("--believe", request->believe, "Take them as you say even where the matches say otherwise");
  options.flag("--forget", request->forget, "Forget them: `pose` finds poses by itself again");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
