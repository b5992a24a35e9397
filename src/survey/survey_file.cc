#include "src/survey/survey_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <sstream>

#include "icefield/io/text_file.h"
#include "src/survey/toml_text.h"

namespace icefield {
namespace {

std::vector<std::string> strings(const toml::node_view<toml::node> node, const std::filesystem::path& file,
                                 const char* what) {
  std::vector<std::string> list;
  if (!node) return list;
  const toml::array* array = node.as_array();
  const auto bad = [&] {
    throw Error(ErrorKind::input, file.string(), std::string(what) + " is no list of texts",
                "write " + std::string(what) + " = [\"...\"]");
  };
  if (!array) bad();
  for (const toml::node& item : *array) {
    if (!item.is_string()) bad();
    list.push_back(item.as_string()->get());
  }
  return list;
}

std::vector<Eigen::Vector2d> read_outline(const toml::node_view<toml::node> node, const std::filesystem::path& file) {
  std::vector<Eigen::Vector2d> outline;
  if (!node) return outline;
  const auto bad = [&] {
    throw Error(ErrorKind::input, file.string(), "bounds outline is no list of three or more corners",
                "write outline = [[x, y], [x, y], [x, y]]");
  };
  const toml::array* corners = node.as_array();
  if (!corners || corners->size() < 3) bad();
  for (const toml::node& item : *corners) {
    const toml::array* pair = item.as_array();
    if (!pair || pair->size() != 2) bad();
    const auto x = pair->get(0)->value<double>(), y = pair->get(1)->value<double>();
    if (!x || !y || !std::isfinite(*x) || !std::isfinite(*y)) bad();
    outline.emplace_back(*x, *y);
  }
  return outline;
}

// `outline`: where it stands without a box.
std::optional<Bounds> read_bounds(const toml::node_view<toml::node> node, const std::filesystem::path& file,
                                  std::vector<Eigen::Vector2d>& outline) {
  const auto vector = [&](const char* key) -> std::optional<Eigen::Vector3d> {
    const toml::array* array = node[key].as_array();
    if (!array) return std::nullopt;
    Eigen::Vector3d v;
    bool good = array->size() == 3;
    for (std::size_t i = 0; good && i < 3; ++i) {
      const auto number = array->get(i)->value<double>();
      good = number && std::isfinite(*number);
      if (good) v[static_cast<Eigen::Index>(i)] = *number;
    }
    if (!good)
      throw Error(ErrorKind::input, file.string(), std::string("bounds ") + key + " is no list of three numbers",
                  "write " + std::string(key) + " = [x, y, z]");
    return v;
  };
  const auto centre = vector("centre"), size = vector("size");
  outline = read_outline(node["outline"], file);
  if (!centre && !size) return std::nullopt;
  if (!centre || !size || !(size->minCoeff() > 0))
    throw Error(ErrorKind::input, file.string(), "bounds have no volume",
                "give centre and a positive size, or take the section out");
  Bounds bounds;
  bounds.centre = *centre;
  bounds.half_size = 0.5 * *size;
  const double turn = node["turn_deg"].value_or(0.0) * std::numbers::pi / 180;
  bounds.orientation = Eigen::Quaterniond(Eigen::AngleAxisd(turn, Eigen::Vector3d::UnitZ()));
  bounds.outline = std::exchange(outline, {});
  return bounds;
}

GivenCamera read_given_camera(const std::string& name, const toml::table* entry, const std::filesystem::path& file) {
  const auto bad = [&](const std::string& fault, const std::string& remedy) {
    throw Error(ErrorKind::input, file.string(), "camera '" + name + "' " + fault, remedy);
  };
  GivenCamera camera;
  if (!entry || entry->empty()) bad("says nothing", "write focal_px = NUMBER, or model = \"fisheye\"");
  if (const auto named = (*entry)["model"]) {
    camera.model = camera_model_by_name(named.value_or(std::string()));
    if (!camera.model)
      bad("has a model that does not exist", "write model = \"pinhole\", \"radial\", \"brown\" or \"fisheye\"");
  }
  const CameraModel model = camera.model.value_or(CameraModel::radial);
  for (const auto& [key, node] : *entry) {
    const std::string of(key.str());
    if (of == "model") continue;
    const auto number = node.value<double>();
    if (!number || !std::isfinite(*number)) bad("has a " + of + " that is no number", "write " + of + " = NUMBER");
    if (of == "focal_px" || of == "uncertainty_percent") {
      if (!(*number > 0)) bad("has a " + of + " that is not above 0", "write " + of + " = NUMBER");
      (of == "focal_px" ? camera.focal_px : camera.uncertainty_percent) = *number;
    } else if (has_parameter(model, of)) {
      camera.parameters[of] = *number;
    } else {
      bad("has a " + of + ", which its model has not", "its parameters are " + parameter_names(model));
    }
  }
  if (entry->contains("uncertainty_percent") && camera.focal_px == 0)
    bad("has an uncertainty_percent of no focal_px", "write focal_px = NUMBER as well");
  return camera;
}

}  // namespace

std::string parameter_names(CameraModel model) {
  std::string names;
  for (const CameraParameter& p : camera_parameters(model).subspan(1))
    names += (names.empty() ? "focal_px, " : ", ") + std::string(p.name);
  return names;
}

bool has_parameter(CameraModel model, const std::string& name) {
  const auto known = camera_parameters(model).subspan(1);
  return std::any_of(known.begin(), known.end(), [&](const CameraParameter& p) { return name == p.name; });
}

SurveyFile read_survey_file(const std::filesystem::path& file) {
  return survey_file_of(read_file(file, 10u << 20), file);
}

SurveyFile survey_file_of(const std::string& text, const std::filesystem::path& file) {
  toml::table root = parsed_toml(text, file.string());
  SurveyFile content;
  try {
    const auto effort = [&](const toml::node_view<toml::node> node, const std::string& what) {
      if (!node.is_string())
        throw Error(ErrorKind::input, what, "is no text", "write " + what + " = \"draft\", \"standard\" or \"fine\"");
      return effort_by_name(node.as_string()->get());
    };
    std::map<std::string, Effort> of_steps;
    if (toml::table* steps = root["step_effort"].as_table())
      for (auto&& [step, node] : *steps) {
        if (step != "match" && step != "pose" && step != "densify")
          throw Error(ErrorKind::input, "step_effort." + std::string(step.str()), "names no step",
                      "match, pose and densify can have an effort of their own");
        of_steps[std::string(step.str())] = effort(toml::node_view<toml::node>(node), std::string(step.str()));
      }
    content.settings =
        Settings(root.contains("effort") ? effort(root["effort"], "effort") : Effort::standard, std::move(of_steps));
    for (const auto& [section, node] : root) {
      if (section == "photos" || section == "cameras" || section == "bounds" || section == "step_effort") continue;
      if (section == "effort") continue;
      if (!node.is_table())
        throw Error(ErrorKind::input, "entry '" + std::string(section.str()) + "'", "means nothing at this place",
                    "entries stand in sections, [section], all but effort; `icefield settings` lists them");
      for (const auto& [key, value] : *node.as_table()) {
        std::ostringstream printed;
        if (value.is_string())
          printed << value.as_string()->get();
        else
          value.visit([&](const auto& v) { printed << v; });
        content.settings.set(std::string(section.str()) + "." + std::string(key.str()), printed.str());
      }
    }
  } catch (const Error& e) {
    throw Error(ErrorKind::input, file.string(), e.subject() + " " + e.fault(), e.remedy());
  }
  content.sources = strings(root["photos"]["sources"], file, "sources");
  content.off = strings(root["photos"]["off"], file, "off");
  if (const auto masks = root["photos"]["masks"]) {
    if (!masks.is_string())
      throw Error(ErrorKind::input, file.string(), "masks is no text", "write masks = \"FOLDER\"");
    content.masks = masks.as_string()->get();
  }
  if (const toml::table* cameras = root["cameras"].as_table())
    for (const auto& [name, node] : *cameras)
      content.cameras[std::string(name.str())] = read_given_camera(std::string(name.str()), node.as_table(), file);
  if (root.contains("bounds")) content.bounds = read_bounds(root["bounds"], file, content.outline);
  return content;
}

}  // namespace icefield
