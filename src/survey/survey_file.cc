#include "src/survey/survey_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <sstream>
#include <toml++/toml.h>

#include "icefield/io/text_file.h"

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

std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + '"';
}

SurveyFile read_survey_file(const std::filesystem::path& file) {
  const std::string text = read_file(file, 10u << 20);
  toml::table root;
  try {
    root = toml::parse(text);
  } catch (const toml::parse_error& e) {
    throw Error(ErrorKind::input, fmt::format("{}, line {}", file.string(), e.source().begin.line),
                std::string(e.description()), "correct it by hand");
  }
  SurveyFile content;
  try {
    content.settings = Settings(effort_by_name(root["effort"].value_or(std::string("standard"))));
    for (const auto& [section, node] : root) {
      if (section == "photos" || section == "cameras" || section == "bounds" || !node.is_table()) continue;
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

std::string without_section(const std::string& text, const std::string& section) {
  std::istringstream in(text);
  std::string out, current;
  for (std::string line; std::getline(in, line);) {
    const std::string plain = trimmed(line);
    if (!plain.empty() && plain[0] == '[') current = plain.substr(1, plain.find(']') - 1);
    if (current != section) out += line + "\n";
  }
  return out;
}

std::string with_entry(const std::string& text, const std::string& section, const std::string& key,
                       const std::string& value) {
  std::vector<std::string> lines;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  const std::string entry = key + " = " + value;
  std::string current;
  std::size_t insert_at = section.empty() ? 0 : lines.size();
  bool seen = section.empty();
  for (std::size_t i = 0; i < lines.size(); ++i) {
    const std::string line = trimmed(lines[i]);
    if (!line.empty() && line[0] == '[') {
      current = line.substr(1, line.find(']') - 1);
      if (current == section) seen = true, insert_at = i + 1;
      continue;
    }
    if (current != section) continue;
    const std::size_t equals = line.find('=');
    if (equals != std::string::npos && trimmed(line.substr(0, equals)) == key) {
      lines[i] = entry;
      insert_at = std::string::npos;
      break;
    }
    if (!line.empty() && line[0] != '#') insert_at = i + 1;
  }
  if (insert_at != std::string::npos) {
    if (!seen) {
      lines.push_back("");
      lines.push_back("[" + section + "]");
      insert_at = lines.size();
    }
    lines.insert(lines.begin() + static_cast<std::ptrdiff_t>(insert_at), entry);
  }
  std::string out;
  for (const std::string& line : lines) out += line + "\n";
  return out;
}

std::string toml_list(const std::vector<std::string>& items) {
  std::string out = "[";
  for (const std::string& item : items) out += (out.size() > 1 ? ", " : "") + quoted(item);
  return out + "]";
}

}  // namespace icefield
