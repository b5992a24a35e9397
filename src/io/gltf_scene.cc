#include "icefield/io/gltf_scene.h"

#include <cmath>
#include <cstring>
#include <limits>
#include <nlohmann/json.hpp>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Quaterniond;
using Eigen::Vector3d;
using Json = nlohmann::ordered_json;

// From z up to y up.
Matrix3d to_y_up() {
  Matrix3d m;
  m << 1, 0, 0, 0, 0, 1, 0, -1, 0;
  return m;
}

template <class T>
void put(std::string& out, T value) {
  char bytes[sizeof(T)];
  std::memcpy(bytes, &value, sizeof value);
  out.append(bytes, sizeof(T));
}

}  // namespace

void write_scene_glb(const std::filesystem::path& file, const CameraFile& cameras, const PointCloud& points) {
  constexpr std::size_t kMost = 200'000'000;
  if (points.size() > kMost)
    throw Error(ErrorKind::usage, file.string(), "would be larger than a glTF file can be", "take fewer points");
  Json json;
  json["asset"] = {{"version", "2.0"}, {"generator", "Icefield"}};
  json["asset"]["extras"] = {{"up", "y"},
                             {"units", cameras.datum.units_name()},
                             {"origin", {cameras.origin.x(), cameras.origin.y(), cameras.origin.z()}}};
  json["scene"] = 0;
  Json nodes = Json::array(), lenses = Json::array(), roots = Json::array();
  // One for each photo: some readers take no camera for two nodes.
  for (const CameraFile::Photo& photo : cameras.photos) {
    const Camera& camera = cameras.cameras[photo.camera];
    const Eigen::Vector2d middle = camera.principal_point();
    lenses.push_back({{"name", photo.name},
                      {"type", "perspective"},
                      {"perspective",
                       {{"aspectRatio", static_cast<double>(camera.width) / camera.height},
                        {"yfov", 2 * std::atan(0.5 * camera.height / camera.focal())},
                        {"znear", 1e-3}}},
                      {"extras",
                       {{"width", camera.width},
                        {"height", camera.height},
                        {"focal_px", camera.focal()},
                        {"centre_px", {middle.x(), middle.y()}},
                        {"model", camera_model_name(camera.model)}}}});
  }
  for (const CameraFile::Photo& photo : cameras.photos) {
    // Camera axes x right, y up, z backwards, in a world with y up.
    const Matrix3d to_world = to_y_up() * photo.pose.rotation().transpose() * Vector3d(1, -1, -1).asDiagonal();
    const Quaterniond q(to_world);
    const Vector3d at = to_y_up() * photo.pose.centre;
    roots.push_back(nodes.size());
    nodes.push_back({{"name", photo.name},
                     {"camera", nodes.size()},
                     {"rotation", {q.x(), q.y(), q.z(), q.w()}},
                     {"translation", {at.x(), at.y(), at.z()}}});
  }
  std::string binary;
  if (points.size() > 0) {
    Eigen::Vector3f low = Eigen::Vector3f::Constant(std::numeric_limits<float>::infinity()), high = -low;
    for (std::size_t i = 0; i < points.size(); ++i) {
      const Eigen::Vector3f p = (to_y_up() * (points.position(i) - cameras.origin)).cast<float>();
      low = low.cwiseMin(p), high = high.cwiseMax(p);
      for (int c = 0; c < 3; ++c) put(binary, p[c]);
    }
    const std::size_t places = binary.size();
    constexpr int kArray = 34962, kFloat = 5126, kByte = 5121, kPoints = 0;
    json["bufferViews"] = {{{"buffer", 0}, {"byteOffset", 0}, {"byteLength", places}, {"target", kArray}}};
    json["accessors"] = {{{"bufferView", 0},
                          {"componentType", kFloat},
                          {"count", points.size()},
                          {"type", "VEC3"},
                          {"min", {low.x(), low.y(), low.z()}},
                          {"max", {high.x(), high.y(), high.z()}}}};
    Json attributes = {{"POSITION", 0}};
    if (!points.colours.empty()) {
      for (const auto& colour : points.colours) {
        for (const std::uint8_t c : colour) put(binary, c);
        put(binary, std::uint8_t{255});
      }
      json["bufferViews"].push_back(
          {{"buffer", 0}, {"byteOffset", places}, {"byteLength", binary.size() - places}, {"target", kArray}});
      json["accessors"].push_back({{"bufferView", 1},
                                   {"componentType", kByte},
                                   {"normalized", true},
                                   {"count", points.size()},
                                   {"type", "VEC4"}});
      attributes["COLOR_0"] = 1;
    }
    json["meshes"] = {{{"name", "points"}, {"primitives", {{{"attributes", attributes}, {"mode", kPoints}}}}}};
    json["buffers"] = {{{"byteLength", binary.size()}}};
    roots.push_back(nodes.size());
    nodes.push_back({{"name", "points"}, {"mesh", 0}});
  }
  json["scenes"] = {{{"nodes", roots}}};
  json["nodes"] = nodes;
  if (!lenses.empty()) json["cameras"] = lenses;
  std::string text = json.dump();
  text.resize((text.size() + 3) / 4 * 4, ' ');
  binary.resize((binary.size() + 3) / 4 * 4, '\0');
  std::string out = "glTF";
  put(out, std::uint32_t{2});
  put(out, static_cast<std::uint32_t>(12 + 8 + text.size() + (binary.empty() ? 0 : 8 + binary.size())));
  put(out, static_cast<std::uint32_t>(text.size()));
  out += "JSON" + text;
  if (!binary.empty()) {
    put(out, static_cast<std::uint32_t>(binary.size()));
    out += std::string("BIN\0", 4) + binary;
  }
  write_file(file, out);
}

}  // namespace icefield
