// glTF 2.0 in one file (Khronos Group, 2017): what a mesh needs of it.
#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <cstring>
#include <nlohmann/json.hpp>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "src/io/mesh_readers.h"
#include "src/io/page_codec.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

using Eigen::Matrix4d;
using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;
using Json = nlohmann::json;

class GlbReader {
 public:
  GlbReader(const fs::path& file, Texture* texture) : file_(file), texture_(texture) {}

  Mesh read() {
    bytes_ = read_file(file_, std::size_t{5} << 30);
    take_chunks();
    try {
      read_frame();
      if (texture_) read_pages();
      read_scene();
    } catch (const Json::exception& e) {
      no(fmt::format("is not built as glTF says: {}", e.what()));
    }
    if (mesh_.faces.empty()) no("has no triangle");
    if (!coloured_) mesh_.colours.clear();
    if (!with_normals_) mesh_.normals.clear();
    // Corners that lie at several places of a page are one vertex again.
    merge_equal_vertices(mesh_);
    if (texture_) {
      if (!textured_)
        *texture_ = {};
      else
        finish_texture();
    }
    return std::move(mesh_);
  }

 private:
  [[noreturn]] void no(const std::string& fault) const {
    throw Error(ErrorKind::input, file_.string(), fault, "give a glTF 2.0 file (.glb) with triangles, not compressed");
  }

  std::uint32_t number_at(std::size_t at) const {
    std::uint32_t value = 0;
    std::memcpy(&value, bytes_.data() + at, sizeof value);
    return value;
  }
  void take_chunks() {
    if (bytes_.size() < 20 || !bytes_.starts_with("glTF")) no("is no glTF in one file");
    if (number_at(4) != 2) no(fmt::format("is of version {} of glTF", number_at(4)));
    for (std::size_t at = 12; at + 8 <= bytes_.size();) {
      const std::size_t length = number_at(at), from = at + 8;
      const std::string_view kind(bytes_.data() + at + 4, 4);
      if (length > bytes_.size() - from) no("ends too early");
      const std::string_view chunk(bytes_.data() + from, length);
      if (kind == "JSON" && json_.is_null()) {
        json_ = Json::parse(chunk, nullptr, false);
        if (!json_.is_object()) no("has a JSON part that cannot be read");
      } else if (kind == std::string_view("BIN\0", 4) && data_.empty()) {
        data_ = chunk;
      }
      at = from + (length + 3) / 4 * 4;
    }
    if (json_.is_null()) no("has no JSON part");
  }

  // Our own files say what coordinates mean; in others they are metres, y up.
  void read_frame() {
    const Json asset = json_.value("asset", Json::object());
    if (!asset.is_object() || !asset.contains("extras") || !asset["extras"].is_object()) return;
    const Json& extras = asset["extras"];
    if (const auto origin = extras.find("origin"); origin != extras.end() && origin->is_array() && origin->size() == 3)
      for (int c = 0; c < 3; ++c) {
        const double value = (*origin)[static_cast<std::size_t>(c)].get<double>();
        if (!std::isfinite(value)) no("has an origin that is no place");
        mesh_.origin[c] = value;
      }
    if (extras.contains("crs") && extras["crs"].is_string()) mesh_.datum.crs = extras["crs"].get<std::string>();
    if (extras.contains("vertical_crs") && extras["vertical_crs"].is_string())
      mesh_.datum.vertical_crs = extras["vertical_crs"].get<std::string>();
    if (!mesh_.datum.crs.empty()) mesh_.datum.units = std::string("m"), mesh_.datum.axes = Axes::east_north_up;
  }

  const Json& entry(const char* list, std::size_t index) const {
    const auto found = json_.find(list);
    if (found == json_.end() || !found->is_array() || index >= found->size())
      no(fmt::format("names entry {} of '{}', which there is not", index, list));
    return (*found)[index];
  }
  static std::size_t whole(const Json& json, const char* name, std::size_t otherwise) {
    const auto found = json.find(name);
    if (found == json.end()) return otherwise;
    return found->get<std::size_t>();
  }
  std::string_view bytes_of_view(std::size_t index) const {
    const Json& view = entry("bufferViews", index);
    if (whole(view, "buffer", 0) != 0) no("keeps data in another file");
    const std::size_t offset = whole(view, "byteOffset", 0), length = view.at("byteLength").get<std::size_t>();
    if (offset > data_.size() || length > data_.size() - offset) no("has a view past the end of its data");
    return data_.substr(offset, length);
  }

  // Numbers of an accessor, `width` of them a row; normalised whole numbers come as shares.
  struct Rows {
    std::size_t count = 0, width = 0;
    std::vector<double> values;
  };
  Rows rows(std::size_t index, std::initializer_list<const char*> shapes, bool as_indices = false) const {
    const Json& accessor = entry("accessors", index);
    const std::string shape = accessor.at("type").get<std::string>();
    if (std::find(shapes.begin(), shapes.end(), shape) == shapes.end())
      no(fmt::format("has an accessor of type '{}' where another belongs", shape));
    if (accessor.contains("sparse")) no("has a sparse accessor, which is not read");
    Rows result;
    result.count = accessor.at("count").get<std::size_t>();
    result.width = shape == "SCALAR" ? 1 : static_cast<std::size_t>(shape[3] - '0');
    const int type = accessor.at("componentType").get<int>();
    const std::size_t size = type == 5126 || type == 5125 ? 4 : type == 5123 || type == 5122 ? 2 : 1;
    if (type < 5120 || type > 5126 || type == 5124) no(fmt::format("has numbers of type {}", type));
    if (as_indices && type != 5121 && type != 5123 && type != 5125) no("has corners of triangles that are no counts");
    const std::string_view data = bytes_of_view(accessor.at("bufferView").get<std::size_t>());
    const std::size_t offset = whole(accessor, "byteOffset", 0), row = size * result.width,
                      stride = std::max(row, whole(entry("bufferViews", accessor.at("bufferView").get<std::size_t>()),
                                                   "byteStride", row));
    if (result.count > 0 && (offset > data.size() || row > data.size() - offset ||
                             (result.count - 1) > (data.size() - offset - row) / stride))
      no("has an accessor past the end of its data");
    const double share = !as_indices && accessor.value("normalized", false) ? (type == 5121   ? 1 / 255.0
                                                                               : type == 5123 ? 1 / 65535.0
                                                                                              : 1.0)
                                                                            : 1.0;
    result.values.reserve(result.count * result.width);
    for (std::size_t i = 0; i < result.count; ++i)
      for (std::size_t k = 0; k < result.width; ++k) {
        const char* at = data.data() + offset + i * stride + k * size;
        double value = 0;
        const auto load = [&](auto number) {
          std::memcpy(&number, at, sizeof number);
          value = static_cast<double>(number);
        };
        if (type == 5126) load(float{});
        if (type == 5125) load(std::uint32_t{});
        if (type == 5123) load(std::uint16_t{});
        if (type == 5122) load(std::int16_t{});
        if (type == 5121) load(std::uint8_t{});
        if (type == 5120) load(std::int8_t{});
        result.values.push_back(share * value);
      }
    return result;
  }

  void read_pages() {
    const Json materials = json_.value("materials", Json::array());
    for (std::size_t m = 0; m < materials.size(); ++m) {
      page_of_material_.push_back(kNoPage);
      const Json& material = materials[m];
      const Json pbr = material.value("pbrMetallicRoughness", Json::object());
      if (!pbr.is_object() || !pbr.contains("baseColorTexture")) continue;
      const std::size_t texture = pbr["baseColorTexture"].at("index").get<std::size_t>();
      const Json& source = entry("textures", texture);
      if (!source.contains("source")) continue;
      const Json& image = entry("images", source["source"].get<std::size_t>());
      if (!image.contains("bufferView")) continue;  // in another file, which is not opened
      page_of_material_.back() = texture_->pages.size();
      texture_->pages.push_back(decode_page(bytes_of_view(image["bufferView"].get<std::size_t>()), file_.string()));
    }
    if (texture_->pages.size() > 0xfffe) no("has more pages than a mesh can have");
  }

  void read_scene() {
    const Json nodes = json_.value("nodes", Json::array());
    std::vector<std::size_t> roots;
    if (json_.contains("scenes")) {
      const Json& scene = entry("scenes", whole(json_, "scene", 0));
      for (const Json& node : scene.value("nodes", Json::array())) roots.push_back(node.get<std::size_t>());
    }
    // Each node stands in one place of the tree; one that comes again closes a ring.
    std::vector<std::uint8_t> taken(nodes.size(), 0);
    std::vector<std::pair<std::size_t, Matrix4d>> open;
    for (const std::size_t root : roots) open.emplace_back(root, Matrix4d::Identity());
    while (!open.empty()) {
      const auto [index, above] = open.back();
      open.pop_back();
      if (index >= nodes.size()) no(fmt::format("names node {}, which there is not", index));
      if (taken[index]) no(fmt::format("has node {} twice", index));
      taken[index] = 1;
      const Json& node = nodes[index];
      const Matrix4d here = above * matrix_of(node);
      for (const Json& child : node.value("children", Json::array())) open.emplace_back(child.get<std::size_t>(), here);
      if (node.contains("mesh"))
        for (const Json& primitive : entry("meshes", node["mesh"].get<std::size_t>()).at("primitives"))
          read_primitive(primitive, here);
    }
  }
  Matrix4d matrix_of(const Json& node) const {
    Matrix4d matrix = Matrix4d::Identity();
    const auto numbers = [&](const char* name, std::size_t count, std::vector<double>& into) {
      const auto found = node.find(name);
      if (found == node.end()) return false;
      into = found->get<std::vector<double>>();
      if (into.size() != count || !std::all_of(into.begin(), into.end(), [](double v) { return std::isfinite(v); }))
        no(fmt::format("has a node with a '{}' that cannot be", name));
      return true;
    };
    std::vector<double> v;
    if (numbers("matrix", 16, v)) {
      for (int c = 0; c < 4; ++c)
        for (int r = 0; r < 4; ++r) matrix(r, c) = v[static_cast<std::size_t>(4 * c + r)];
      return matrix;
    }
    Eigen::Affine3d affine = Eigen::Affine3d::Identity();
    if (numbers("translation", 3, v)) affine.translate(Vector3d(v[0], v[1], v[2]));
    if (numbers("rotation", 4, v)) affine.rotate(Eigen::Quaterniond(v[3], v[0], v[1], v[2]).normalized());
    if (numbers("scale", 3, v)) affine.scale(Vector3d(v[0], v[1], v[2]));
    return affine.matrix();
  }

  void read_primitive(const Json& primitive, const Matrix4d& matrix) {
    if (whole(primitive, "mode", 4) != 4) return;  // points and lines
    const Json& attributes = primitive.at("attributes");
    const Rows places = rows(attributes.at("POSITION").get<std::size_t>(), {"VEC3"});
    const std::size_t first = mesh_.positions.size();
    if (first + places.count >= 0xffffffffu) no("has more vertices than a mesh can have");
    const auto turned = [](const Vector3d& p) { return Vector3d(p.x(), -p.z(), p.y()); };
    const bool plain = matrix.isIdentity(0);
    for (std::size_t i = 0; i < places.count; ++i) {
      Vector3d p(places.values[3 * i], places.values[3 * i + 1], places.values[3 * i + 2]);
      if (!plain) p = (matrix * p.homogeneous()).head<3>();
      mesh_.positions.push_back(turned(p).cast<float>());
    }
    with_normals_ = with_normals_ && attributes.contains("NORMAL");
    if (with_normals_) {
      const Rows normals = rows(attributes["NORMAL"].get<std::size_t>(), {"VEC3"});
      const Eigen::Matrix3d turn = matrix.topLeftCorner<3, 3>().inverse().transpose();
      for (std::size_t i = 0; i < places.count && i < normals.count; ++i) {
        Vector3d n(normals.values[3 * i], normals.values[3 * i + 1], normals.values[3 * i + 2]);
        if (!plain) n = (turn * n).normalized();
        mesh_.normals.push_back(turned(n).cast<float>());
      }
    }
    mesh_.normals.resize(mesh_.positions.size(), Vector3f::UnitZ());
    coloured_ = coloured_ && attributes.contains("COLOR_0");
    if (coloured_) read_colours(attributes["COLOR_0"].get<std::size_t>());
    mesh_.colours.resize(mesh_.positions.size());
    read_faces(primitive, attributes, first, places.count);
  }
  void read_colours(std::size_t accessor) {
    const Rows colours = rows(accessor, {"VEC3", "VEC4"});
    for (std::size_t i = 0; i < colours.count && mesh_.colours.size() < mesh_.positions.size(); ++i) {
      std::array<std::uint8_t, 3> colour;
      for (std::size_t c = 0; c < 3; ++c) {
        // The standard has linear light.
        const double linear = std::clamp(colours.values[colours.width * i + c], 0.0, 1.0);
        const double s = linear <= 0.0031308 ? 12.92 * linear : 1.055 * std::pow(linear, 1 / 2.4) - 0.055;
        colour[c] = static_cast<std::uint8_t>(std::lround(255 * (linear >= 0 ? s : 0)));
      }
      mesh_.colours.push_back(colour);
    }
  }
  void read_faces(const Json& primitive, const Json& attributes, std::size_t first, std::size_t count) {
    std::vector<double> corners;
    if (primitive.contains("indices")) {
      corners = rows(primitive["indices"].get<std::size_t>(), {"SCALAR"}, true).values;
    } else {
      for (std::size_t i = 0; i < count; ++i) corners.push_back(static_cast<double>(i));
    }
    std::vector<Vector2f> on_page;
    std::size_t page = kNoPage;
    if (texture_ && attributes.contains("TEXCOORD_0")) {
      const Rows places = rows(attributes["TEXCOORD_0"].get<std::size_t>(), {"VEC2"});
      for (std::size_t i = 0; i < places.count; ++i) {
        on_page.emplace_back(static_cast<float>(places.values[2 * i]), static_cast<float>(places.values[2 * i + 1]));
        if (!on_page.back().allFinite()) on_page.back().setZero();
      }
      const std::size_t material = whole(primitive, "material", page_of_material_.size());
      if (material < page_of_material_.size()) page = page_of_material_[material];
      if (on_page.size() < count) page = kNoPage;
    }
    textured_ = textured_ || page != kNoPage;
    for (std::size_t i = 0; i + 2 < corners.size(); i += 3) {
      Face face;
      std::array<Vector2f, 3> places{Vector2f::Zero(), Vector2f::Zero(), Vector2f::Zero()};
      for (std::size_t k = 0; k < 3; ++k) {
        const double v = corners[i + k];
        if (!(v < static_cast<double>(count))) no(fmt::format("has vertex {} in a face, and {} vertices", v, count));
        face[k] = static_cast<std::uint32_t>(first + static_cast<std::size_t>(v));
        if (page != kNoPage) places[k] = on_page[static_cast<std::size_t>(v)];
      }
      mesh_.faces.push_back(face);
      if (!texture_) continue;
      texture_->corners.push_back(places);
      texture_->page.push_back(static_cast<std::uint16_t>(page == kNoPage ? 0xffff : page));
    }
  }

  void finish_texture() {
    // Faces without a picture get a white one.
    std::size_t white = kNoPage;
    for (std::uint16_t& page : texture_->page) {
      if (page != 0xffff) continue;
      if (white == kNoPage) {
        white = texture_->pages.size();
        texture_->pages.emplace_back(1, 1, 3, std::uint8_t{255});
      }
      page = static_cast<std::uint16_t>(white);
    }
    scale_places(*texture_);
    // Where colours were made up, of our own files.
    const Json extras = json_["asset"].value("extras", Json::object());
    if (!extras.contains("origins")) return;
    const std::vector<std::size_t> images = extras["origins"].get<std::vector<std::size_t>>();
    for (std::size_t p = 0; p < std::min(images.size(), texture_->pages.size()); ++p) {
      const Json& image = entry("images", images[p]);
      const ImageU8 origins = decode_page(bytes_of_view(image.at("bufferView").get<std::size_t>()), file_.string());
      if (origins.width() != texture_->pages[p].width() || origins.height() != texture_->pages[p].height())
        no("has origins of another size than its page");
      for (int y = 0; y < origins.height(); ++y)
        for (int x = 0; x < origins.width(); ++x)
          texture_->origins[p].at(x, y) = std::min<std::uint8_t>(2, origins.at(x, y, 0) / 100);
    }
  }

  static constexpr std::size_t kNoPage = static_cast<std::size_t>(-1);
  const fs::path& file_;
  Texture* texture_;
  std::string bytes_;
  std::string_view data_;
  Json json_;
  Mesh mesh_;
  bool coloured_ = true, with_normals_ = true, textured_ = false;
  std::vector<std::size_t> page_of_material_;
};

}  // namespace

Mesh read_glb(const fs::path& file, Texture* texture) {
  return GlbReader(file, texture).read();
}

}  // namespace icefield
