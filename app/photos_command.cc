// `icefield begin` and `icefield photos`: what a survey is made of.
#include <cmath>
#include <sstream>

#include "command.h"
#include "icefield/report/documents.h"

using namespace icefield;

namespace {

struct Request {
  std::vector<std::string> sources, on, off, parameters;
  std::string masks, model;
  std::size_t camera = 0;
  double focal_px = 0, uncertainty_percent = 0;  // 0: not given
  bool says_of_camera() const {
    return camera > 0 || focal_px > 0 || uncertainty_percent > 0 || !model.empty() || !parameters.empty();
  }
};

std::pair<std::string, double> parameter_of(const std::string& text) {
  const std::size_t equals = text.find('=');
  std::istringstream in(equals == std::string::npos ? std::string() : text.substr(equals + 1));
  double value = 0;
  if (!(in >> value) || !in.eof() || !std::isfinite(value))
    throw Error(ErrorKind::usage, text, "is no parameter with its value", "write --parameter radial_1=-0.08");
  return {text.substr(0, equals), value};
}

// --camera with what is given of it.
void give_camera(Survey& survey, const Request& request) {
  const PhotoList& list = survey.photos();
  if (request.camera == 0 || request.camera > list.cameras.size())
    throw Error(ErrorKind::usage, request.camera == 0 ? "--camera" : fmt::format("camera {}", request.camera),
                request.camera == 0 ? "is missing: which camera is meant?" : "does not exist",
                "`icefield photos` numbers the cameras");
  if (request.uncertainty_percent > 0 && !(request.focal_px > 0))
    throw Error(ErrorKind::usage, "--uncertain", "is of no focal length", "give --focal-px as well");
  GivenCamera given;
  given.focal_px = request.focal_px;
  if (request.uncertainty_percent > 0) given.uncertainty_percent = request.uncertainty_percent;
  if (!request.model.empty()) {
    given.model = camera_model_by_name(request.model);
    if (!given.model)
      throw Error(ErrorKind::usage, request.model, "is no camera model", "take pinhole, radial, brown or fisheye");
  }
  for (const std::string& text : request.parameters) given.parameters.insert(parameter_of(text));
  survey.set_camera(list.cameras[request.camera - 1].name, given);
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  if (!request.masks.empty()) survey.set_masks(request.masks);
  if (!request.on.empty()) survey.switch_photos(request.on, true);
  if (!request.off.empty()) survey.switch_photos(request.off, false);
  if (request.says_of_camera()) give_camera(survey, request);
  show(photos_document(survey.photos()), common, monitor, "icefield match " + common.survey);
  return 0;
}

void add_masks(Arguments options, Request& request) {
  options.option(
      "--masks", request.masks,
      "Folder of masks: for NAME.jpg a NAME.png of its size, black where pixels take no part; kept in survey.toml");
}

}  // namespace

Command begin_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = with_settings(
      survey_command(tool, common, "begin",
                     "Gather photos into a survey; read metadata; first cameras; score sharpness and exposure"),
      common);
  options.option("photos", request->sources, "Photos and folders of photos").required();
  add_masks(options, *request);
  return {options, [request, &common](Monitor& monitor) {
            Survey::begin(common.survey, {request->sources.begin(), request->sources.end()});
            return run(common, *request, monitor);
          }};
}

Command photos_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = with_settings(
      survey_command(tool, common, "photos",
                     "List the photos: camera, focal length and where it came from, sharpness, exposure; switch photos "
                     "off"),
      common);
  add_masks(options, *request);
  options.option("--off", request->off, "Names of photos that take no part");
  options.option("--on", request->on, "Names of photos to take in again");
  options
      .option("--camera", request->camera,
              "The camera that the following say something of, by its number in the list; kept in survey.toml, in "
              "place of what was given before; alone: forget that")
      .positive();
  options.option("--model", request->model,
                 "pinhole (no distortion), radial (the start for all), brown (with tangential terms), fisheye");
  options.option("--focal-px", request->focal_px, "Focal length of the camera, in pixels of its photos").positive();
  options.option("--uncertain", request->uncertainty_percent, "Standard deviation of this focal length, percent")
      .positive();
  options.option("--parameter", request->parameters, "A further parameter, as radial_1=-0.08; more than once")
      .one_each();
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
