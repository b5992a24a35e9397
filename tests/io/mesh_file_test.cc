#include "icefield/io/mesh_file.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <cstring>
#include <nlohmann/json.hpp>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "icefield/surface/check_mesh.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;
using testing::HasSubstr;
namespace fs = std::filesystem;

Mesh pyramid() {
  Mesh mesh;
  mesh.positions = {{0, 0, 0}, {2, 0, 0}, {2, 2, 0}, {0, 2, 0}, {1, 1, 3.25f}};
  mesh.faces = {{0, 2, 1}, {0, 3, 2}, {0, 1, 4}, {1, 2, 4}, {2, 3, 4}, {3, 0, 4}};
  for (std::uint8_t v = 0; v < 5; ++v) {
    mesh.colours.push_back({static_cast<std::uint8_t>(50 * v), 10, 200});
    mesh.support.push_back(0.125f * static_cast<float>(v));
    mesh.errors.push_back(0.5f);
  }
  mesh.kinds.assign(6, FaceKind::measured);
  mesh.kinds[1] = FaceKind::closed;
  set_normals(mesh);
  return mesh;
}
fs::path file(const std::string& name) {
  return test::scratch_folder() / name;
}
std::string fault_of(const std::string& name, const std::string& content) {
  write_file(file(name), content);
  try {
    read_mesh(file(name));
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::input);
    EXPECT_THAT(e.subject(), HasSubstr(name));
    return e.fault();
  }
  return "nothing";
}

TEST(MeshFile, PlyKeepsAllThatAMeshCarries) {
  Mesh mesh = pyramid();
  mesh.origin = {600000, 5200000, 2300};
  mesh.datum.crs = "EPSG:25832", mesh.datum.units = "m", mesh.datum.axes = Axes::east_north_up;
  write_mesh(file("a.ply"), mesh, MeshFormat::ply);
  EXPECT_EQ(read_mesh(file("a.ply")).to_bytes(), mesh.to_bytes());
  mesh.origin.setZero();
  write_mesh(file("b.ply"), mesh, MeshFormat::ply);
  EXPECT_EQ(read_mesh(file("b.ply")).to_bytes(), mesh.to_bytes());
  // Text, of another program: other order, other lists, faces of four corners, elements that nobody knows.
  write_file(file("c.ply"),
             "ply\nformat ascii 1.0\nelement vertex 4\nproperty double z\nproperty double y\nproperty double x\n"
             "property list uchar int odd\nelement edge 1\nproperty int a\nproperty int b\nelement face 1\n"
             "property float weight\nproperty list uchar int vertex_index\nend_header\n"
             "0 0 0 0\n0 0 1 2 7 8\n0 1 1 0\n0 1 0 0\n0 1\n0.5 4 0 1 2 3\n");
  const Mesh square = read_mesh(file("c.ply"));
  EXPECT_EQ(square.faces.size(), 2u);
  EXPECT_NEAR(area(square), 1, 1e-9);
}

TEST(MeshFile, ObjAndStlComeBack) {
  const Mesh mesh = pyramid();
  write_mesh(file("a.obj"), mesh, MeshFormat::obj);
  const Mesh obj = read_mesh(file("a.obj"));
  EXPECT_EQ(obj.faces, mesh.faces);
  EXPECT_EQ(obj.colours, mesh.colours);
  write_mesh(file("a.stl"), mesh, MeshFormat::stl);
  EXPECT_EQ(fs::file_size(file("a.stl")), 84u + 50 * 6);
  const Mesh stl = read_mesh(file("a.stl"));
  EXPECT_EQ(stl.positions.size(), 5u);
  EXPECT_TRUE(check_mesh(stl).closed());
  EXPECT_NEAR(volume(stl), volume(mesh), 1e-6);
  write_file(file("t.stl"),
             "solid x\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\n"
             "endsolid\n");
  EXPECT_NEAR(area(read_mesh(file("t.stl"))), 0.5, 1e-9);
  // Polygons, numbers from the end, texture and normals in the way, hostile materials that nobody opens.
  write_file(file("b.obj"),
             "mtllib ../../etc/passwd\n# a square\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvn 0 0 1\n"
             "usemtl x\nf -4/1/1 -3/1/1 -2//1 -1\r\n");
  EXPECT_NEAR(area(read_mesh(file("b.obj"))), 1, 1e-9);
}

TEST(MeshFile, AxesAndScaleAreAsAskedFor) {
  Mesh mesh = pyramid();
  MeshFileOptions options;
  options.y_up = true, options.scale = 1000;
  write_mesh(file("mm.obj"), mesh, MeshFormat::obj, options);
  const Mesh back = read_mesh(file("mm.obj"));
  EXPECT_LT((back.positions[4] - Vector3f(1000, 3250, -1000)).norm(), 0.01f);
  EXPECT_GT(volume(back), 0);  // a turn, no mirror
  EXPECT_THROW(write_mesh(file("x.obj"), mesh, MeshFormat::obj, {false, 0, ""}), Error);
  EXPECT_THROW(mesh_format_of("mesh.doc"), Error);
}

// As the standard has it: header, JSON, one buffer, all within bounds.
TEST(MeshFile, GltfHoldsWhatItSays) {
  Mesh mesh = pyramid();
  mesh.origin = {600000, 5200000, 2300};
  mesh.datum.crs = "EPSG:25832", mesh.datum.units = "m";
  write_mesh(file("a.glb"), mesh, MeshFormat::glb);
  const std::string bytes = read_file(file("a.glb"));
  const auto word = [&](std::size_t at) {
    std::uint32_t v;
    std::memcpy(&v, bytes.data() + at, 4);
    return v;
  };
  EXPECT_EQ(bytes.substr(0, 4), "glTF");
  EXPECT_EQ(word(4), 2u);
  EXPECT_EQ(word(8), bytes.size());
  const std::size_t text = word(12), buffer = 20 + text + 8;
  EXPECT_EQ(text % 4, 0u);
  const auto json = nlohmann::json::parse(bytes.substr(20, text));
  EXPECT_EQ(word(20 + text), bytes.size() - buffer);
  EXPECT_EQ(json["buffers"][0]["byteLength"], bytes.size() - buffer);
  EXPECT_EQ(json["asset"]["extras"]["origin"][1], 5200000.0);
  const auto& primitive = json["meshes"][0]["primitives"][0];
  const auto accessor = [&](const nlohmann::json& index) { return json["accessors"][index.get<std::size_t>()]; };
  const auto start = [&](const nlohmann::json& index) {
    const auto& view = json["bufferViews"][accessor(index)["bufferView"].get<std::size_t>()];
    EXPECT_LE(view["byteOffset"].get<std::size_t>() + view["byteLength"].get<std::size_t>(), bytes.size() - buffer);
    return buffer + view["byteOffset"].get<std::size_t>();
  };
  EXPECT_EQ(accessor(primitive["indices"])["count"], 18);
  EXPECT_EQ(accessor(primitive["attributes"]["POSITION"])["count"], 5);
  EXPECT_EQ(accessor(primitive["attributes"]["POSITION"])["max"][1], 3.25);
  float top[3];
  std::memcpy(top, bytes.data() + start(primitive["attributes"]["POSITION"]) + 4 * 12, 12);
  EXPECT_EQ(top[1], 3.25f);
  EXPECT_EQ(top[2], -1.0f);
  for (std::size_t i = 0; i < 18; ++i) EXPECT_EQ(word(start(primitive["indices"]) + 4 * i), mesh.faces[i / 3][i % 3]);
  EXPECT_EQ(static_cast<std::uint8_t>(bytes[start(primitive["attributes"]["COLOR_0"]) + 3]), 255);
}

TEST(MeshFile, BadFilesAreNamed) {
  const std::string head =
      "ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nproperty float y\nproperty float z\n";
  EXPECT_THAT(fault_of("1.ply", "plum"), HasSubstr("no PLY"));
  EXPECT_THAT(
      fault_of("2.ply", head + "element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n3 0 1 2\n"),
      HasSubstr("vertex 1 in face 0"));
  EXPECT_THAT(fault_of("3.ply", head + "element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n"),
              HasSubstr("cannot be read"));
  EXPECT_THAT(fault_of("4.ply",
                       "ply\nformat ascii 1.0\nelement vertex 99999999999\nproperty float x\nproperty float y\n"
                       "property float z\nend_header\n0 0 0\n"),
              HasSubstr("ends before"));
  EXPECT_THAT(fault_of("5.ply", head + "element face 1\nproperty int a\nend_header\n0 0 0\n1\n"),
              HasSubstr("without a list"));
  EXPECT_THAT(
      fault_of("6.ply", head + "element face 1\nproperty list float int vertex_indices\nend_header\n0 0 0\n1e9 1\n"),
      HasSubstr("a list of"));
  EXPECT_THAT(fault_of("1.obj", "v 0 0\n"), HasSubstr("line 1"));
  EXPECT_THAT(fault_of("2.obj", "v 0 0 0\nf 1 2 3\n"), HasSubstr("vertex 1 in face 0"));
  EXPECT_THAT(fault_of("3.obj", "v 0 0 0\nf 1 x 3\n"), HasSubstr("line 2"));
  EXPECT_THAT(fault_of("4.obj", "v 0 0 0\nf 0 1 1\n"), HasSubstr("line 2"));
  EXPECT_THAT(fault_of("5.obj", "hello\n"), HasSubstr("no vertex"));
  EXPECT_THAT(fault_of("6.obj", "v 0 0 0\nf 1 1\n"), HasSubstr("2 corners"));
  EXPECT_THAT(fault_of("1.stl", "solid x\nvertex 0 0\n"), HasSubstr("line 2"));
  EXPECT_THAT(fault_of("2.stl", "solid x\nvertex 0 0 0\n"), HasSubstr("no whole faces"));
  EXPECT_THAT(fault_of("3.stl", std::string(80, ' ') + std::string("\xff\xff\xff\x7f", 4)), HasSubstr("ends before"));
  EXPECT_THAT(fault_of("1.xyz", "0 0 0\n"), HasSubstr("no mesh"));
  EXPECT_THROW(read_mesh(file("nowhere.ply")), Error);
}

// A page with a pattern, and a second one; the last face is made up.
Texture two_pages(const Mesh& mesh) {
  Texture texture;
  for (int p = 0; p < 2; ++p) {
    ImageU8 page(64, 48, 3);
    for (int y = 0; y < 48; ++y)
      for (int x = 0; x < 64; ++x)
        for (int c = 0; c < 3; ++c) page.at(x, y, c) = static_cast<std::uint8_t>(2 * x + y + 30 * c * p);
    texture.pages.push_back(page);
    texture.origins.emplace_back(64, 48, 1, std::uint8_t{1});
  }
  texture.origins[1].at(3, 4) = 2, texture.origins[0].at(5, 6) = 0;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const auto k = static_cast<float>(f);
    texture.page.push_back(f < 4 ? 0 : 1);
    texture.corners.push_back({Vector2f(8 * k, 4), Vector2f(8 * k + 6, 5), Vector2f(8 * k + 1, 20.5f)});
  }
  return texture;
}
// Faces as places and places on pages, in an order of their own.
std::vector<std::vector<float>> painted_faces(const Mesh& mesh, const Texture& texture) {
  std::vector<std::vector<float>> rows;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    std::vector<float> row{static_cast<float>(texture.page[f])};
    for (std::size_t k = 0; k < 3; ++k) {
      const Vector3d p = mesh.position(mesh.faces[f][k]);
      for (int c = 0; c < 3; ++c) row.push_back(static_cast<float>(p[c]));
      for (int c = 0; c < 2; ++c) row.push_back(std::round(100 * texture.corners[f][k][c]) / 100);
    }
    rows.push_back(row);
  }
  std::sort(rows.begin(), rows.end());
  return rows;
}

TEST(MeshFile, TexturesComeBackFromObjAndGltf) {
  Mesh mesh = pyramid();
  mesh.colours.clear(), mesh.kinds.clear(), mesh.support.clear(), mesh.errors.clear();
  const Texture texture = two_pages(mesh);
  for (const bool png : {true, false})
    for (const char* name : {"t.obj", "t.glb"}) {
      MeshFileOptions options;
      options.png_pages = png, options.jpeg_quality = 98;
      write_mesh(file(name), mesh, mesh_format_of(name), options, &texture);
      const TexturedMesh back = read_textured_mesh(file(name));
      EXPECT_EQ(back.mesh.positions.size(), 5u) << name;
      ASSERT_EQ(back.texture.pages.size(), 2u);
      EXPECT_EQ(painted_faces(back.mesh, back.texture), painted_faces(mesh, texture)) << name;
      for (std::size_t p = 0; p < 2; ++p)
        for (int y = 0; y < 48; ++y)
          for (int x = 0; x < 64; ++x)
            for (int c = 0; c < 3; ++c)
              ASSERT_NEAR(back.texture.pages[p].at(x, y, c), texture.pages[p].at(x, y, c), png ? 0 : 12);
      if (std::string_view(name) == "t.glb") {
        EXPECT_TRUE(back.texture.origins[0].values() == texture.origins[0].values());
        EXPECT_TRUE(back.texture.origins[1].values() == texture.origins[1].values());
      } else {
        EXPECT_TRUE(fs::exists(file("t_2_origin.png")));
      }
      EXPECT_EQ(check_mesh(read_mesh(file(name))).open_edges, 0u);  // without its picture
    }
  EXPECT_THROW(write_mesh(file("t.ply"), mesh, MeshFormat::ply, {}, &texture), Error);
  Texture wrong = texture;
  wrong.page[2] = 7;
  EXPECT_THROW(write_mesh(file("w.glb"), mesh, MeshFormat::glb, {}, &wrong), Error);
  // A mesh in a grid keeps its place and its CRS.
  mesh.origin = {600000, 5200000, 2300};
  mesh.datum.crs = "EPSG:25832";
  write_mesh(file("g.glb"), mesh, MeshFormat::glb, {}, &texture);
  const Mesh placed = read_mesh(file("g.glb"));
  EXPECT_EQ(placed.origin, mesh.origin);
  EXPECT_EQ(placed.datum.crs, "EPSG:25832");
  EXPECT_EQ(placed.position(placed.faces[0][0]), mesh.position(mesh.faces[0][0]));
}

TEST(MeshFile, ObjOpensNothingOutsideItsFolder) {
  const fs::path outside = test::scratch_folder() / "outside.png", folder = file("hostile");
  fs::create_directories(folder / "below");
  Mesh mesh = pyramid();
  const Texture texture = two_pages(mesh);
  MeshFileOptions options;
  options.png_pages = true;
  write_mesh(folder / "m.obj", mesh, MeshFormat::obj, options, &texture);
  fs::copy_file(folder / "m_1.png", outside, fs::copy_options::overwrite_existing);
  fs::copy_file(folder / "m_1.png", folder / "below/p q.png", fs::copy_options::overwrite_existing);
  const auto pages_with = [&](const std::string& material, const std::string& library) {
    write_file(folder / "x.mtl", material);
    write_file(folder / "x.obj", "mtllib " + library +
                                     "\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\n"
                                     "usemtl a\nf 1/1 2/2 3/3\n");
    return read_textured_mesh(folder / "x.obj").texture.pages.size();
  };
  EXPECT_EQ(pages_with("newmtl a\nmap_Kd m_1.png\n", "x.mtl"), 1u);
  EXPECT_EQ(pages_with("newmtl a\nmap_Kd -s 1 1 1 m_1.png\n", "x.mtl"), 1u);
  EXPECT_EQ(pages_with("newmtl a\nmap_Kd below/p q.png\n", "x.mtl"), 1u);
  for (const std::string& name :
       {std::string("../outside.png"), outside.string(), std::string("below/../../outside.png"),
        std::string("/etc/passwd"), std::string("none.png"), std::string("")})
    EXPECT_EQ(pages_with("newmtl a\nmap_Kd " + name + "\n", "x.mtl"), 0u) << name;
  EXPECT_EQ(pages_with("newmtl a\nmap_Kd m_1.png\n", "../hostile.mtl"), 0u);
  fs::create_symlink(outside, folder / "link.png");
  EXPECT_EQ(pages_with("newmtl a\nmap_Kd link.png\n", "x.mtl"), 0u);
  // A picture that is none, and one that says it is huge.
  write_file(folder / "no.png", "no picture");
  EXPECT_THROW(pages_with("newmtl a\nmap_Kd no.png\n", "x.mtl"), Error);
  std::string huge = read_file(folder / "m_1.png");
  for (const std::size_t at : {17u, 21u}) huge[at] = 1;  // 65,584 pixels and more each way
  std::uint32_t check = 0xffffffffu;                     // of the head, as PNG has it
  for (std::size_t i = 12; i < 29; ++i) {
    check ^= static_cast<std::uint8_t>(huge[i]);
    for (int bit = 0; bit < 8; ++bit) check = check >> 1 ^ (check & 1 ? 0xedb88320u : 0u);
  }
  for (std::size_t k = 0; k < 4; ++k) huge[29 + k] = static_cast<char>(~check >> (24 - 8 * k) & 255);
  write_file(folder / "huge.png", huge);
  try {
    pages_with("newmtl a\nmap_Kd huge.png\n", "x.mtl");
    ADD_FAILURE();
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::input);
    EXPECT_THAT(e.what(), HasSubstr("megapixels"));
  }
}

// A glTF of a JSON part and data.
std::string glb_of(const std::string& json, const std::string& data) {
  const auto word = [](std::size_t value) {
    std::string bytes(4, '\0');
    for (std::size_t k = 0; k < 4; ++k) bytes[k] = static_cast<char>(value >> (8 * k) & 255);
    return bytes;
  };
  std::string text = json, rest = data;
  text.resize((text.size() + 3) / 4 * 4, ' ');
  rest.resize((rest.size() + 3) / 4 * 4, '\0');
  return "glTF" + word(2) + word(28 + text.size() + rest.size()) + word(text.size()) + "JSON" + text +
         word(rest.size()) + std::string("BIN\0", 4) + rest;
}

TEST(MeshFile, GltfFromElsewhereAndItsFaults) {
  // One triangle under two nodes, moved and turned; whole numbers as corners.
  std::string data(48, '\0');
  const float places[] = {0, 0, 0, 1, 0, 0, 0, 1, 0};
  std::memcpy(data.data(), places, sizeof places);
  const std::uint16_t corners[] = {0, 1, 2};
  std::memcpy(data.data() + 36, corners, sizeof corners);
  const nlohmann::json good = {{"asset", {{"version", "2.0"}}},
                               {"scene", 0},
                               {"scenes", {{{"nodes", {0}}}}},
                               {"nodes",
                                {{{"children", {1}}, {"translation", {10, 0, 0}}},
                                 {{"mesh", 0}, {"scale", {2, 2, 2}}, {"rotation", {0, 0, 0, 1}}}}},
                               {"meshes", {{{"primitives", {{{"attributes", {{"POSITION", 0}}}, {"indices", 1}}}}}}},
                               {"accessors",
                                {{{"bufferView", 0}, {"componentType", 5126}, {"count", 3}, {"type", "VEC3"}},
                                 {{"bufferView", 1}, {"componentType", 5123}, {"count", 3}, {"type", "SCALAR"}}}},
                               {"bufferViews",
                                {{{"buffer", 0}, {"byteOffset", 0}, {"byteLength", 36}},
                                 {{"buffer", 0}, {"byteOffset", 36}, {"byteLength", 6}}}},
                               {"buffers", {{{"byteLength", 42}}}}};
  const auto fault = [&](const nlohmann::json& json) { return fault_of("f.glb", glb_of(json.dump(), data)); };
  EXPECT_EQ(fault(good), "nothing");
  const Mesh mesh = read_mesh(file("f.glb"));
  ASSERT_EQ(mesh.faces.size(), 1u);
  // x, y, z of the file are x, z, -y of ours.
  EXPECT_EQ(mesh.position(mesh.faces[0][1]), Vector3d(12, 0, 0));
  EXPECT_EQ(mesh.position(mesh.faces[0][2]), Vector3d(10, 0, 2));

  const auto spoilt = [&](const char* pointer, const nlohmann::json& value) {
    nlohmann::json json = good;
    json[nlohmann::json::json_pointer(pointer)] = value;
    return fault(json);
  };
  EXPECT_THAT(spoilt("/accessors/0/count", 4), HasSubstr("past the end"));
  EXPECT_THAT(spoilt("/accessors/0/count", 4000000000000000000), HasSubstr("past the end"));
  EXPECT_THAT(spoilt("/accessors/0/byteOffset", 1000), HasSubstr("past the end"));
  EXPECT_THAT(spoilt("/bufferViews/0/byteLength", 100), HasSubstr("past the end"));
  EXPECT_THAT(spoilt("/bufferViews/0/byteOffset", 4294967295), HasSubstr("past the end"));
  EXPECT_THAT(spoilt("/bufferViews/0/buffer", 1), HasSubstr("another file"));
  EXPECT_THAT(spoilt("/accessors/0/type", "VEC2"), HasSubstr("VEC2"));
  EXPECT_THAT(spoilt("/accessors/1/componentType", 5126), HasSubstr("no counts"));
  EXPECT_THAT(spoilt("/accessors/0/sparse", nlohmann::json::object()), HasSubstr("sparse"));
  EXPECT_THAT(spoilt("/nodes/1/mesh", 3), HasSubstr("entry 3"));
  EXPECT_THAT(spoilt("/nodes/1/children", {0}), HasSubstr("twice"));
  EXPECT_THAT(spoilt("/nodes/0/children", {9}), HasSubstr("node 9"));
  EXPECT_THAT(spoilt("/nodes/1/scale", {1, 2}), HasSubstr("scale"));
  EXPECT_THAT(spoilt("/meshes/0/primitives/0/mode", 1), HasSubstr("no triangle"));
  EXPECT_THAT(spoilt("/scenes", "none"), HasSubstr("scenes"));
  EXPECT_THAT(spoilt("/accessors/0/bufferView", -1), HasSubstr("bufferViews"));
  EXPECT_THAT(fault_of("f.glb", "glTF"), HasSubstr("no glTF"));
  EXPECT_THAT(fault_of("f.glb", glb_of("{", data)), HasSubstr("JSON"));
  const std::string whole = glb_of(good.dump(), data);
  EXPECT_THAT(fault_of("f.glb", whole.substr(0, whole.size() - 20)), HasSubstr("too early"));
  std::string many = whole;
  const std::uint16_t wrong = 7;
  std::memcpy(many.data() + many.size() - 12, &wrong, sizeof wrong);
  EXPECT_THAT(fault_of("f.glb", many), HasSubstr("vertex 7"));
}

}  // namespace
}  // namespace icefield
