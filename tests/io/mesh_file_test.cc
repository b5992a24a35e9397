#include "icefield/io/mesh_file.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cstring>
#include <nlohmann/json.hpp>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "icefield/surface/check_mesh.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

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

}  // namespace
}  // namespace icefield
