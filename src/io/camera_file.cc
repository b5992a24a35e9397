#include "icefield/io/camera_file.h"

#include <fmt/format.h>

#include <map>
#include <nlohmann/json.hpp>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "src/io/json_place.h"

namespace icefield {
namespace {

using Json = nlohmann::ordered_json;
using Place = JsonPlace;
constexpr int kVersion = 1;
constexpr const char* kFormat = "icefield cameras";

Json conventions() {
  return {
      {"camera_frame", "x right, y down, z forward"},
      {"pose", "X_camera = R(orientation) (X_world - position)"},
      {"orientation", "unit quaternion w, x, y, z, world to camera"},
      {"image",
       "continuous pixels of the photo as stored; the top-left corner is (0, 0), the middle of the first pixel (0.5, "
       "0.5)"},
      {"radial",
       "s = 1 + radial_1 r^2 + radial_2 r^4, r^2 = x^2 + y^2, (x, y) = (X, Y) / Z; pixel = focal s (x, y) + centre"}};
}

Json to_json(const Eigen::Vector3d& v) {
  return {v.x(), v.y(), v.z()};
}
Json to_json(const Eigen::Quaterniond& q) {
  return {q.w(), q.x(), q.y(), q.z()};
}

// Files of before have no axes.
Datum read_datum(const Place& root) {
  Datum datum;
  const std::string units = root.at("units").text();
  if (units != datum.units_name()) datum.units = units;
  if (root.has("crs") && !root.at("crs").is_null()) datum.crs = root.at("crs").text();
  if (root.has("vertical_crs")) datum.vertical_crs = root.at("vertical_crs").text();
  if (!root.has("axes")) return datum;
  const std::string axes = root.at("axes").text();
  for (const Axes known : {Axes::guessed, Axes::level, Axes::east_north_up})
    if (axes == describe(known)) {
      datum.axes = known;
      return datum;
    }
  root.at("axes").fail("are none that are known");
}

}  // namespace

void write_camera_file(const std::filesystem::path& file, const CameraFile& content) {
  Json root;
  root["format"] = kFormat;
  root["version"] = kVersion;
  if (!content.fingerprint.empty()) root["fingerprint"] = content.fingerprint;
  const Datum& datum = content.datum;
  root["units"] = datum.units_name();
  root["crs"] = datum.crs.empty() ? Json(nullptr) : Json(datum.crs);
  if (!datum.vertical_crs.empty()) root["vertical_crs"] = datum.vertical_crs;
  root["axes"] = describe(datum.axes);
  if (!content.origin.isZero()) root["origin"] = to_json(content.origin);
  root["conventions"] = conventions();
  root["cameras"] = Json::object();
  for (std::size_t i = 0; i < content.cameras.size(); ++i) {
    const Camera& camera = content.cameras[i];
    Json entry;
    entry["width"] = camera.width;
    entry["height"] = camera.height;
    entry["model"] = camera_model_name(camera.model);
    const auto parameters = camera_parameters(camera.model);
    for (std::size_t p = 0; p < parameters.size(); ++p)
      entry["parameters"][parameters[p].name] = {{"value", camera.parameters[p]}, {"unit", parameters[p].unit}};
    root["cameras"][content.camera_names[i]] = std::move(entry);
  }
  root["photos"] = Json::array();
  for (const CameraFile::Photo& photo : content.photos)
    root["photos"].push_back({{"name", photo.name},
                              {"camera", content.camera_names[photo.camera]},
                              {"position", to_json(Eigen::Vector3d(content.origin + photo.pose.centre))},
                              {"orientation", to_json(photo.pose.orientation)}});
  for (std::size_t i = 0; i < content.photos.size(); ++i)
    if (content.photos[i].gsd > 0) root["photos"][i]["gsd"] = content.photos[i].gsd;
  if (content.bounds)
    root["bounds"] = {{"centre", to_json(Eigen::Vector3d(content.origin + content.bounds->centre))},
                      {"half_size", to_json(content.bounds->half_size)},
                      {"orientation", to_json(content.bounds->orientation)}};
  if (content.bounds && !content.bounds->outline.empty())
    for (const Eigen::Vector2d& corner : content.bounds->outline)
      root["bounds"]["outline"].push_back({content.origin.x() + corner.x(), content.origin.y() + corner.y()});
  write_file(file, root.dump(1) + "\n");
}

CameraFile read_camera_file(const std::filesystem::path& file) {
  const std::string text = read_file(file, std::size_t{256} << 20);
  Json json;
  try {
    json = Json::parse(text);
  } catch (const Json::exception& e) {
    throw Error(ErrorKind::input, file.string(), "is no JSON", "give a file of cameras as `export` writes it");
  }
  const Place root(json, file.string(), "", "compare it with docs/cameras.schema.json");
  if (root.at("format").text() != kFormat) root.fail("is no file of cameras");
  if (root.at("version").number() > kVersion) root.fail("was written by a newer version");
  CameraFile content;
  if (root.has("fingerprint")) content.fingerprint = root.at("fingerprint").text();
  content.datum = read_datum(root);
  if (root.has("origin")) content.origin = root.at("origin").vector();
  std::map<std::string, std::size_t> index;
  const Place cameras = root.at("cameras");
  for (const auto& [name, unused] : cameras.keys().items()) {
    const Place entry = cameras.at(name);
    Camera camera;
    const auto model = camera_model_by_name(entry.at("model").text());
    if (!model) entry.fail("unknown camera model");
    camera.model = *model;
    camera.width = entry.at("width").size_px();
    camera.height = entry.at("height").size_px();
    const auto parameters = camera_parameters(camera.model);
    for (std::size_t p = 0; p < parameters.size(); ++p)
      camera.parameters[p] = entry.at("parameters").at(parameters[p].name).at("value").number();
    if (!(camera.focal() > 0)) entry.fail("the focal length is not positive");
    index[name] = content.cameras.size();
    content.camera_names.push_back(name);
    content.cameras.push_back(camera);
  }
  for (const Place& entry : root.at("photos").items()) {
    CameraFile::Photo photo;
    photo.name = entry.at("name").text();
    const auto found = index.find(entry.at("camera").text());
    if (found == index.end()) entry.fail("names a camera that the file does not have");
    photo.camera = found->second;
    photo.pose.centre = entry.at("position").vector() - content.origin;
    photo.pose.orientation = entry.at("orientation").quaternion();
    if (entry.has("gsd")) photo.gsd = entry.at("gsd").number();
    content.photos.push_back(std::move(photo));
  }
  if (root.has("bounds")) {
    const Place bounds = root.at("bounds");
    content.bounds = Bounds{bounds.at("centre").vector() - content.origin, bounds.at("half_size").vector(),
                            bounds.at("orientation").quaternion()};
    if (bounds.has("outline"))
      for (const Place& corner : bounds.at("outline").items()) {
        const auto xy = corner.numbers(2);
        content.bounds->outline.emplace_back(xy[0] - content.origin.x(), xy[1] - content.origin.y());
      }
  }
  return content;
}

}  // namespace icefield
