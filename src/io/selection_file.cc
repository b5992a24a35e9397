#include "icefield/io/selection_file.h"

#include <numbers>

#include "icefield/io/text_file.h"
#include "src/io/json_place.h"

namespace icefield {
namespace {

using Json = nlohmann::ordered_json;
constexpr const char* kFormat = "icefield selection";
constexpr const char* kRemedy = "compare it with \"Selections\" in docs/formats.md";

Bounds read_box(const JsonPlace& place) {
  Bounds box;
  box.centre = place.at("centre").vector();
  const Eigen::Vector3d size = place.at("size").vector();
  if (!(size.minCoeff() > 0)) place.at("size").fail("is not above 0 along each axis");
  box.half_size = 0.5 * size;
  if (place.has("turn_deg")) {
    const double turn = place.at("turn_deg").number() * std::numbers::pi / 180;
    box.orientation = Eigen::Quaterniond(Eigen::AngleAxisd(turn, Eigen::Vector3d::UnitZ()));
  } else if (place.has("orientation")) {
    box.orientation = place.at("orientation").quaternion();
  }
  return box;
}

SelectionPart read_part(const JsonPlace& place) {
  SelectionPart part;
  bool any = false;
  for (const auto& [key, ignored] : place.keys().items()) {
    const JsonPlace value = place.at(key);
    any = true;
    if (key == "box") {
      part.box = read_box(value);
    } else if (key == "outline") {
      for (const JsonPlace& corner : value.items()) {
        const auto xy = corner.numbers(2);
        part.outline.emplace_back(xy[0], xy[1]);
      }
      if (part.outline.size() < 3) value.fail("has fewer than three corners");
    } else if (key == "low") {
      part.low = value.number();
    } else if (key == "high") {
      part.high = value.number();
    } else if (key == "plane") {
      Plane plane;
      plane.normal = value.at("normal").vector();
      const double length = plane.normal.norm();
      if (!(length > 0)) value.at("normal").fail("has no length");
      plane.normal /= length;
      plane.distance = value.at("distance").number();
      part.plane = plane;
    } else {
      place.fail("'" + key + "' is none of box, outline, low, high, plane");
    }
  }
  if (!any) place.fail("names no part of space");
  return part;
}

Json numbers(const Eigen::Vector3d& v) {
  return {v.x(), v.y(), v.z()};
}

Json part_json(const SelectionPart& part) {
  Json json = Json::object();
  if (part.box) {
    const Eigen::Quaterniond& q = part.box->orientation;
    json["box"] = {{"centre", numbers(part.box->centre)},
                   {"size", numbers(2 * part.box->half_size)},
                   {"orientation", {q.w(), q.x(), q.y(), q.z()}}};
  }
  for (const Eigen::Vector2d& corner : part.outline) json["outline"].push_back({corner.x(), corner.y()});
  if (part.low) json["low"] = *part.low;
  if (part.high) json["high"] = *part.high;
  if (part.plane) json["plane"] = {{"normal", numbers(part.plane->normal)}, {"distance", part.plane->distance}};
  return json;
}

}  // namespace

Selection read_selection_file(const std::filesystem::path& file) {
  const Json json = Json::parse(read_file(file), nullptr, false);
  if (json.is_discarded()) throw Error(ErrorKind::input, file.string(), "is no JSON", kRemedy);
  const JsonPlace root(json, file.string(), "", kRemedy);
  if (root.at("format").text() != kFormat) root.at("format").fail(std::string("is not \"") + kFormat + "\"");
  if (root.at("version").number() != 1) root.at("version").fail("is not 1: a newer Icefield wrote it");
  Selection selection;
  for (const auto& [key, ignored] : root.keys().items()) {
    if (key == "format" || key == "version") continue;
    if (key != "keep" && key != "drop") root.fail("'" + key + "' is none of keep, drop");
    for (const JsonPlace& part : root.at(key).items())
      (key == "keep" ? selection.keep : selection.drop).push_back(read_part(part));
  }
  if (selection.empty()) root.fail("neither keeps nor drops anything");
  return selection;
}

void write_selection_file(const std::filesystem::path& file, const Selection& selection) {
  Json json = {{"format", kFormat}, {"version", 1}, {"keep", Json::array()}, {"drop", Json::array()}};
  for (const SelectionPart& part : selection.keep) json["keep"].push_back(part_json(part));
  for (const SelectionPart& part : selection.drop) json["drop"].push_back(part_json(part));
  write_file(file, json.dump(1) + "\n");
}

}  // namespace icefield
