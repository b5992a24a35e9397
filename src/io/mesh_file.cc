#include "icefield/io/mesh_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <nlohmann/json.hpp>
#include <numeric>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "src/io/file_writer.h"
#include "src/io/mesh_readers.h"
#include "src/io/page_codec.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;

std::string extension_of(const fs::path& file) {
  std::string extension = file.extension().string();
  std::transform(extension.begin(), extension.end(), extension.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return extension;
}

template <class T>
void put(std::string& bytes, T value) {
  bytes.append(reinterpret_cast<const char*>(&value), sizeof value);
}

std::string one_line(std::string text) {
  std::replace_if(
      text.begin(), text.end(), [](char c) { return c == '\n' || c == '\r'; }, ' ');
  return text;
}

// What formats ask for.
class MeshWriter {
 public:
  MeshWriter(const fs::path& file, const Mesh& mesh, const MeshFileOptions& options, const Texture* texture,
             const Baked* baked = nullptr)
      : file_(file), out_(file), mesh_(mesh), options_(options), texture_(texture), baked_(baked) {}

  void ply() {
    const bool wide = !mesh_.origin.isZero();
    std::string header = "ply\nformat binary_little_endian 1.0\ncomment written by Icefield\n";
    if (!options_.fingerprint.empty()) header += "comment fingerprint " + options_.fingerprint + "\n";
    if (as_it_is()) {
      const Datum& datum = mesh_.datum;
      if (!datum.crs.empty()) header += "comment crs " + one_line(datum.crs) + "\n";
      if (!datum.vertical_crs.empty()) header += "comment vertical_crs " + one_line(datum.vertical_crs) + "\n";
      if (datum.known())
        header += fmt::format("comment units {}\ncomment axes {}\n", datum.units, describe(datum.axes));
      if (wide)
        header += fmt::format("comment origin {} {} {}\n", mesh_.origin.x(), mesh_.origin.y(), mesh_.origin.z());
    }
    header += fmt::format("element vertex {}\n", mesh_.positions.size());
    for (const char* axis : {"x", "y", "z"}) header += fmt::format("property {} {}\n", wide ? "double" : "float", axis);
    if (!mesh_.normals.empty()) header += "property float nx\nproperty float ny\nproperty float nz\n";
    if (!mesh_.colours.empty()) header += "property uchar red\nproperty uchar green\nproperty uchar blue\n";
    if (!mesh_.support.empty()) header += "property float support\n";
    if (!mesh_.errors.empty()) header += "property float error\n";
    header += fmt::format("element face {}\nproperty list uchar uint vertex_indices\n", mesh_.faces.size());
    if (!mesh_.kinds.empty()) header += "property uchar kind\n";
    out_.append(header + "end_header\n");
    std::string row;
    for (std::size_t v = 0; v < mesh_.positions.size(); ++v) {
      row.clear();
      const Vector3d p = place(v, true);
      for (int c = 0; c < 3; ++c) wide ? put(row, p[c]) : put(row, static_cast<float>(p[c]));
      if (!mesh_.normals.empty()) {
        const Vector3f n = turned(mesh_.normals[v].cast<double>()).cast<float>();
        for (int c = 0; c < 3; ++c) put(row, n[c]);
      }
      if (!mesh_.colours.empty())
        for (const std::uint8_t c : mesh_.colours[v]) put(row, c);
      if (!mesh_.support.empty()) put(row, mesh_.support[v]);
      if (!mesh_.errors.empty()) put(row, static_cast<float>(options_.scale) * mesh_.errors[v]);
      out_.append(row);
    }
    for (std::size_t f = 0; f < mesh_.faces.size(); ++f) {
      row.clear();
      put(row, std::uint8_t{3});
      for (const std::uint32_t v : mesh_.faces[f]) put(row, v);
      if (!mesh_.kinds.empty()) put(row, mesh_.kinds[f]);
      out_.append(row);
    }
    out_.finish();
  }

  void obj() {
    if (texture_) write_materials();
    out_.append("# written by Icefield\n");
    if (as_it_is() && mesh_.datum.known()) out_.append(fmt::format("# units {}\n", mesh_.datum.units));
    if (texture_) out_.append("mtllib " + beside(".mtl").filename().string() + "\n");
    for (std::size_t v = 0; v < mesh_.positions.size(); ++v) {
      const Vector3d p = place(v, true);
      std::string line = fmt::format("v {:.10g} {:.10g} {:.10g}", p.x(), p.y(), p.z());
      if (!mesh_.colours.empty() && !texture_)
        for (const std::uint8_t c : mesh_.colours[v]) line += fmt::format(" {:.4f}", c / 255.0);
      out_.append(line + "\n");
    }
    for (const Vector3f& normal : mesh_.normals) {
      const Vector3d n = turned(normal.cast<double>());
      out_.append(fmt::format("vn {:.5f} {:.5f} {:.5f}\n", n.x(), n.y(), n.z()));
    }
    if (texture_)
      obj_faces_on_pages();
    else
      for (const Face& f : mesh_.faces)
        out_.append(mesh_.normals.empty()
                        ? fmt::format("f {} {} {}\n", f[0] + 1, f[1] + 1, f[2] + 1)
                        : fmt::format("f {0}//{0} {1}//{1} {2}//{2}\n", f[0] + 1, f[1] + 1, f[2] + 1));
    out_.finish();
  }

  void stl() {
    if (mesh_.faces.size() > 0xffffffffu)
      throw Error(ErrorKind::usage, "mesh", "has more faces than an STL can count", "write another format");
    std::string bytes = "written by Icefield";
    bytes.resize(80, ' ');
    put(bytes, static_cast<std::uint32_t>(mesh_.faces.size()));
    out_.append(bytes);
    for (const Face& f : mesh_.faces) {
      bytes.clear();
      const Vector3d a = place(f[0], false), b = place(f[1], false), c = place(f[2], false);
      const Vector3d across = (b - a).cross(c - a);
      const Vector3d n = across.norm() > 0 ? Vector3d(across.normalized()) : Vector3d(Vector3d::Zero());
      for (const Vector3d& v : {n, a, b, c})
        for (int k = 0; k < 3; ++k) put(bytes, static_cast<float>(v[k]));
      put(bytes, std::uint16_t{0});
      out_.append(bytes);
    }
    out_.finish();
  }

  // One buffer: places, normals, colours or places on pages, faces page by page, pictures.
  void glb() {
    const Corners corners = texture_ ? corners_on_pages() : plain_corners();
    const std::size_t n = corners.vertices.size(), m = mesh_.faces.size();
    std::vector<Picture> pictures = pictures_of_glb();
    std::size_t picture_bytes = 0;
    for (const Picture& picture : pictures) picture_bytes += picture.bytes.size() + 4;
    if (n > 0xfffffffeu || 12 * m + 56 * n + picture_bytes > 0xf0000000u)
      throw Error(ErrorKind::usage, "mesh", "is larger than a glTF file can be", "make it lighter with --faces");
    nlohmann::ordered_json json;
    json["asset"] = {{"version", "2.0"}, {"generator", "Icefield"}};
    json["asset"]["extras"] = {{"up", "y"}, {"units", mesh_.datum.units_name()}};
    if (!options_.fingerprint.empty()) json["asset"]["extras"]["fingerprint"] = options_.fingerprint;
    if (!mesh_.origin.isZero() || !mesh_.datum.crs.empty()) {
      json["asset"]["extras"]["origin"] = {mesh_.origin.x(), mesh_.origin.y(), mesh_.origin.z()};
      json["asset"]["extras"]["crs"] = mesh_.datum.crs;
      if (!mesh_.datum.vertical_crs.empty()) json["asset"]["extras"]["vertical_crs"] = mesh_.datum.vertical_crs;
    }
    if (texture_ && !baked_) json["extensionsUsed"] = {"KHR_materials_unlit"};
    json["scene"] = 0;
    json["scenes"] = {{{"nodes", {0}}}};
    json["nodes"] = {{{"mesh", 0}}};
    nlohmann::ordered_json attributes, accessors = nlohmann::ordered_json::array(),
                                       views = nlohmann::ordered_json::array();
    std::size_t at = 0;
    const auto view = [&](std::size_t bytes, int target) {
      views.push_back({{"buffer", 0}, {"byteOffset", at}, {"byteLength", bytes}});
      if (target > 0) views.back()["target"] = target;
      at += (bytes + 3) / 4 * 4;
      return views.size() - 1;
    };
    constexpr int kArray = 34962, kElements = 34963, kFloat = 5126, kByte = 5121, kInt = 5125;
    Vector3f low = Vector3f::Constant(std::numeric_limits<float>::infinity()), high = -low;
    for (std::size_t v = 0; v < mesh_.positions.size(); ++v) {
      const Vector3f p = place(v, false).cast<float>();
      low = low.cwiseMin(p), high = high.cwiseMax(p);
    }
    if (mesh_.positions.empty()) low = high = Vector3f::Zero();
    const auto accessor = [&](std::size_t of, int type, std::size_t count, const char* shape) {
      accessors.push_back({{"bufferView", of}, {"componentType", type}, {"count", count}, {"type", shape}});
      return accessors.size() - 1;
    };
    attributes["POSITION"] = accessor(view(12 * n, kArray), kFloat, n, "VEC3");
    accessors.back()["min"] = {low.x(), low.y(), low.z()};
    accessors.back()["max"] = {high.x(), high.y(), high.z()};
    if (!mesh_.normals.empty()) attributes["NORMAL"] = accessor(view(12 * n, kArray), kFloat, n, "VEC3");
    const bool with_colours = !mesh_.colours.empty() && !texture_;
    if (with_colours) {
      attributes["COLOR_0"] = accessor(view(4 * n, kArray), kByte, n, "VEC4");
      accessors.back()["normalized"] = true;
    }
    if (texture_) attributes["TEXCOORD_0"] = accessor(view(8 * n, kArray), kFloat, n, "VEC2");
    if (baked_) attributes["TANGENT"] = accessor(view(16 * n, kArray), kFloat, n, "VEC4");
    // Names of one's own begin so, as the standard has it.
    if (!mesh_.support.empty()) attributes["_SUPPORT"] = accessor(view(4 * n, kArray), kFloat, n, "SCALAR");
    if (!mesh_.errors.empty()) attributes["_ERROR"] = accessor(view(4 * n, kArray), kFloat, n, "SCALAR");
    nlohmann::ordered_json primitives = nlohmann::ordered_json::array(), materials = nlohmann::ordered_json::array();
    for (std::size_t p = 0; p < corners.faces.size(); ++p) {
      const std::size_t faces =
          accessor(view(12 * corners.faces[p].size(), kElements), kInt, 3 * corners.faces[p].size(), "SCALAR");
      nlohmann::ordered_json paint = {{"metallicFactor", 0}, {"roughnessFactor", 1}}, material;
      if (texture_) {
        paint["baseColorTexture"] = {{"index", p}};
        const std::size_t pages = texture_->pages.size();
        if (baked_ && !baked_->normals.empty()) material["normalTexture"] = {{"index", pages + p}};
        if (baked_ && !baked_->occlusion.empty())
          material["occlusionTexture"] = {{"index", pages + baked_->normals.size() + p}};
        if (!baked_) material["extensions"]["KHR_materials_unlit"] = nlohmann::ordered_json::object();
      }
      material["pbrMetallicRoughness"] = paint;
      materials.push_back(material);
      if (!corners.faces[p].empty() || corners.faces.size() == 1)
        primitives.push_back({{"attributes", attributes}, {"indices", faces}, {"material", p}});
    }
    json["meshes"] = {{{"primitives", primitives}}};
    json["materials"] = materials;
    if (texture_) {
      nlohmann::ordered_json images = nlohmann::ordered_json::array(), textures = nlohmann::ordered_json::array(),
                             origins = nlohmann::ordered_json::array();
      for (std::size_t p = 0; p < pictures.size(); ++p) {
        images.push_back({{"bufferView", view(pictures[p].bytes.size(), 0)},
                          {"mimeType", pictures[p].png ? "image/png" : "image/jpeg"}});
        if (pictures[p].shown)
          textures.push_back({{"source", p}, {"sampler", 0}});
        else
          origins.push_back(p);
      }
      constexpr int kClamp = 33071, kLinear = 9729, kMips = 9987;
      json["samplers"] = {{{"magFilter", kLinear}, {"minFilter", kMips}, {"wrapS", kClamp}, {"wrapT", kClamp}}};
      json["images"] = images;
      json["textures"] = textures;
      json["asset"]["extras"]["origins"] = origins;
    }
    json["buffers"] = {{{"byteLength", at}}};
    json["bufferViews"] = views;
    json["accessors"] = accessors;
    std::string text = json.dump();
    text.resize((text.size() + 3) / 4 * 4, ' ');
    std::string head = "glTF";
    put(head, std::uint32_t{2});
    put(head, static_cast<std::uint32_t>(12 + 8 + text.size() + 8 + at));
    put(head, static_cast<std::uint32_t>(text.size()));
    head += "JSON" + text;
    put(head, static_cast<std::uint32_t>(at));
    head += std::string("BIN\0", 4);
    out_.append(head);
    std::string row;
    for (const std::uint32_t v : corners.vertices) {
      row.clear();
      const Vector3f p = place(v, false).cast<float>();
      for (int c = 0; c < 3; ++c) put(row, p[c]);
      out_.append(row);
    }
    if (!mesh_.normals.empty())
      for (const std::uint32_t v : corners.vertices) {
        row.clear();
        const Vector3f t = turned(mesh_.normals[v].cast<double>()).cast<float>();
        for (int c = 0; c < 3; ++c) put(row, t[c]);
        out_.append(row);
      }
    if (with_colours)
      for (const std::uint32_t v : corners.vertices) {
        // The standard has linear light.
        row.clear();
        for (const std::uint8_t c : mesh_.colours[v]) {
          const double s = c / 255.0, linear = s <= 0.04045 ? s / 12.92 : std::pow((s + 0.055) / 1.055, 2.4);
          put(row, static_cast<std::uint8_t>(std::lround(255 * linear)));
        }
        put(row, std::uint8_t{255});
        out_.append(row);
      }
    for (const Vector2f& p : corners.places) {
      row.clear();
      put(row, p.x()), put(row, p.y());
      out_.append(row);
    }
    for (const Vector3f& tangent : corners.tangents) {
      row.clear();
      const Vector3f t = turned(tangent.cast<double>()).cast<float>();
      for (int c = 0; c < 3; ++c) put(row, t[c]);
      put(row, -1.0f);  // pages are seen from outside, and their y axis goes down
      out_.append(row);
    }
    for (const std::vector<float>* numbers : {&mesh_.support, &mesh_.errors}) {
      if (numbers->empty()) continue;
      for (const std::uint32_t v : corners.vertices) {
        row.clear();
        put(row, (*numbers)[v]);
        out_.append(row);
      }
    }
    for (const auto& faces : corners.faces)
      for (const Face& f : faces) {
        row.clear();
        for (const std::uint32_t v : f) put(row, v);
        out_.append(row);
      }
    for (Picture& picture : pictures) {
      picture.bytes.resize((picture.bytes.size() + 3) / 4 * 4, '\0');
      out_.append(picture.bytes);
    }
    out_.finish();
  }

 private:
  // Vertices as a file has them: one for each place on a page. Faces by page.
  struct Corners {
    std::vector<std::uint32_t> vertices;  // of the mesh
    std::vector<Vector2f> places;         // shares of the page; empty without pages
    std::vector<Vector3f> tangents;       // of what is baked
    std::vector<std::vector<Face>> faces;
  };
  Corners plain_corners() const {
    Corners corners;
    corners.vertices.resize(mesh_.positions.size());
    std::iota(corners.vertices.begin(), corners.vertices.end(), 0u);
    corners.faces.push_back(mesh_.faces);
    return corners;
  }
  Corners corners_on_pages() const {
    Corners corners;
    corners.faces.resize(texture_->pages.size());
    // Of each vertex those that stand for it, as a chain.
    constexpr std::uint32_t kNone = 0xffffffffu;
    std::vector<std::uint32_t> first(mesh_.positions.size(), kNone), next;
    for (std::size_t f = 0; f < mesh_.faces.size(); ++f) {
      const ImageU8& page = texture_->pages[texture_->page[f]];
      Face face;
      for (std::size_t k = 0; k < 3; ++k) {
        const std::uint32_t v = mesh_.faces[f][k];
        const Vector2f at(texture_->corners[f][k].x() / static_cast<float>(page.width()),
                          texture_->corners[f][k].y() / static_cast<float>(page.height()));
        std::uint32_t i = first[v];
        while (i != kNone && corners.places[i] != at) i = next[i];
        if (i == kNone) {
          i = static_cast<std::uint32_t>(corners.vertices.size());
          corners.vertices.push_back(v);
          corners.places.push_back(at);
          if (baked_) corners.tangents.push_back(baked_->tangents[f][k]);
          next.push_back(first[v]);
          first[v] = i;
        }
        face[k] = i;
      }
      corners.faces[texture_->page[f]].push_back(face);
    }
    return corners;
  }
  struct Picture {
    std::string bytes;
    bool png = true, shown = true;  // shown: one of the material's
  };
  // Pages of colours, of normals, of the sky, then where colours come from.
  std::vector<Picture> pictures_of_glb() const {
    std::vector<Picture> pictures;
    if (!texture_) return pictures;
    const PageFormat format = options_.png_pages ? PageFormat::png : PageFormat::jpeg;
    for (const ImageU8& page : texture_->pages)
      pictures.push_back({encode_page(page, format, options_.jpeg_quality), options_.png_pages});
    if (baked_) {
      for (const ImageU8& page : baked_->normals) pictures.push_back({encode_page(page, PageFormat::png, 0)});
      for (const ImageU8& page : baked_->occlusion) pictures.push_back({encode_page(page, PageFormat::png, 0)});
    }
    for (const ImageU8& origins : texture_->origins)
      pictures.push_back({encode_page(shown(origins), PageFormat::png, 0), true, false});
    return pictures;
  }
  // Of where colours come from: black for nowhere, grey for a photo, white for made up.
  static ImageU8 shown(const ImageU8& origins) {
    ImageU8 picture = origins;
    for (std::uint8_t& value : picture.values()) value = static_cast<std::uint8_t>(value == 2 ? 255 : value * 127);
    return picture;
  }

  fs::path beside(const std::string& ending) const { return file_.parent_path() / (file_.stem().string() + ending); }
  void write_materials() const {
    std::string text = "# written by Icefield\n";
    for (std::size_t p = 0; p < texture_->pages.size(); ++p) {
      const PageFormat format = options_.png_pages ? PageFormat::png : PageFormat::jpeg;
      const fs::path picture = beside(fmt::format("_{}.{}", p + 1, options_.png_pages ? "png" : "jpg"));
      write_file(picture, encode_page(texture_->pages[p], format, options_.jpeg_quality));
      write_file(beside(fmt::format("_{}_origin.png", p + 1)),
                 encode_page(shown(texture_->origins[p]), PageFormat::png, 0));
      text += fmt::format("newmtl page_{}\nKa 0 0 0\nKd 1 1 1\nKs 0 0 0\nillum {}\nmap_Kd {}\n", p + 1, baked_ ? 1 : 0,
                          picture.filename().string());
      if (baked_) text += write_baked_pages(p);
    }
    write_file(beside(".mtl"), text);
  }
  std::string write_baked_pages(std::size_t p) const {
    std::string text;
    if (!baked_->normals.empty()) {
      const fs::path picture = beside(fmt::format("_{}_normal.png", p + 1));
      write_file(picture, encode_page(baked_->normals[p], PageFormat::png, 0));
      text += "norm " + picture.filename().string() + "\n";
    }
    if (!baked_->occlusion.empty()) {
      const fs::path picture = beside(fmt::format("_{}_sky.png", p + 1));
      write_file(picture, encode_page(baked_->occlusion[p], PageFormat::png, 0));
      text += "# share of the sky that is seen: " + picture.filename().string() + "\n";
    }
    return text;
  }
  void obj_faces_on_pages() {
    const Corners corners = corners_on_pages();
    for (const Vector2f& p : corners.places) out_.append(fmt::format("vt {:.7f} {:.7f}\n", p.x(), 1 - p.y()));
    for (std::size_t p = 0; p < corners.faces.size(); ++p) {
      if (corners.faces[p].empty()) continue;
      out_.append(fmt::format("usemtl page_{}\n", p + 1));
      for (const Face& f : corners.faces[p]) {
        std::string line = "f";
        for (const std::uint32_t i : f) {
          const std::uint32_t v = corners.vertices[i] + 1;
          line += mesh_.normals.empty() ? fmt::format(" {}/{}", v, i + 1) : fmt::format(" {0}/{1}/{0}", v, i + 1);
        }
        out_.append(line + "\n");
      }
    }
  }
  // Coordinates are those of the datum.
  bool as_it_is() const { return !options_.y_up && options_.scale == 1; }
  Vector3d turned(const Vector3d& v) const { return options_.y_up ? Vector3d(v.x(), v.z(), -v.y()) : v; }
  Vector3d place(std::size_t v, bool with_origin) const {
    const Vector3d p = mesh_.positions[v].cast<double>();
    return options_.scale * turned(with_origin ? Vector3d(mesh_.origin + p) : p);
  }

  fs::path file_;
  FileWriter out_;
  const Mesh& mesh_;
  const MeshFileOptions& options_;
  const Texture* texture_;
  const Baked* baked_;
};

}  // namespace

MeshFormat mesh_format_of(const fs::path& file) {
  const std::string extension = extension_of(file);
  if (extension == ".ply") return MeshFormat::ply;
  if (extension == ".obj") return MeshFormat::obj;
  if (extension == ".stl") return MeshFormat::stl;
  if (extension == ".glb") return MeshFormat::glb;
  throw Error(ErrorKind::usage, file.string(), "has an extension that no mesh format has",
              "use .ply, .obj, .stl or .glb");
}

void write_mesh(const fs::path& file, const Mesh& mesh, MeshFormat format, const MeshFileOptions& options,
                const Texture* texture) {
  check_arrays(mesh);
  if (texture && texture->empty()) texture = nullptr;
  if (texture && format != MeshFormat::obj && format != MeshFormat::glb)
    throw Error(ErrorKind::usage, file.string(), "is of a format that carries no texture", "write .glb or .obj");
  if (texture) check_texture(mesh, *texture);
  if (!(options.scale > 0) || !std::isfinite(options.scale))
    throw Error(ErrorKind::usage, file.string(), "is asked for with a scale that is not above 0", "give a number");
  MeshFileOptions wanted = options;
  if (format == MeshFormat::glb) wanted.y_up = true, wanted.scale = 1;
  MeshWriter writer(file, mesh, wanted, texture);
  switch (format) {
    case MeshFormat::ply:
      return writer.ply();
    case MeshFormat::obj:
      return writer.obj();
    case MeshFormat::stl:
      return writer.stl();
    case MeshFormat::glb:
      return writer.glb();
  }
}

void write_baked_mesh(const fs::path& file, const Mesh& mesh, MeshFormat format, const MeshFileOptions& options,
                      const Baked& baked) {
  check_arrays(mesh);
  check_texture(mesh, baked.texture);
  const std::size_t pages = baked.texture.pages.size();
  if (mesh.normals.empty() || baked.tangents.size() != mesh.faces.size() ||
      (!baked.normals.empty() && baked.normals.size() != pages) ||
      (!baked.occlusion.empty() && baked.occlusion.size() != pages))
    throw Error(ErrorKind::usage, file.string(), "is asked for with what was baked on another mesh",
                "give the mesh that it was baked on, with its normals");
  if (format != MeshFormat::obj && format != MeshFormat::glb)
    throw Error(ErrorKind::usage, file.string(), "is of a format that carries no texture", "write .glb or .obj");
  MeshFileOptions wanted = options;
  if (format == MeshFormat::glb) wanted.y_up = true, wanted.scale = 1;
  MeshWriter writer(file, mesh, wanted, &baked.texture, &baked);
  format == MeshFormat::glb ? writer.glb() : writer.obj();
}

namespace {

Mesh read_any(const fs::path& file, Texture* texture) {
  std::error_code ignored;
  if (!fs::is_regular_file(file, ignored))
    throw Error(ErrorKind::input, file.string(), "cannot be read", "check that it is there and may be read");
  const std::string extension = extension_of(file);
  if (extension == ".obj") return read_obj(file, texture);
  if (extension == ".stl") return read_stl(file);
  if (extension == ".ply") return read_mesh_ply(file);
  if (extension == ".glb") return read_glb(file, texture);
  throw Error(ErrorKind::input, file.string(), "is no mesh that can be read", "give a PLY, an OBJ, an STL or a .glb");
}

}  // namespace

Mesh read_mesh(const fs::path& file) {
  return read_any(file, nullptr);
}

TexturedMesh read_textured_mesh(const fs::path& file) {
  TexturedMesh result;
  result.mesh = read_any(file, &result.texture);
  return result;
}

}  // namespace icefield
