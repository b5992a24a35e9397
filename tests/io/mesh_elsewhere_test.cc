// Mesh files as a library that others use reads them.
#include <assimp/material.h>
#include <assimp/mesh.h>
#include <assimp/postprocess.h>
#include <assimp/scene.h>
#include <gtest/gtest.h>

#include <assimp/Importer.hpp>
#include <filesystem>
#include <set>

#include "icefield/io/gltf_scene.h"
#include "icefield/io/mesh_file.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using Eigen::Vector2f;
using Eigen::Vector3f;

Mesh tent() {
  Mesh mesh;
  mesh.positions = {{0, 0, 0}, {2, 0, 0}, {2, 3, 0}, {0, 3, 0}, {1, 1, 1.5f}};
  mesh.faces = {{0, 1, 4}, {1, 2, 4}, {2, 3, 4}, {3, 0, 4}, {0, 2, 1}, {0, 3, 2}};
  for (std::uint8_t v = 0; v < 5; ++v) mesh.colours.push_back({static_cast<std::uint8_t>(50 * v), 100, 200});
  set_normals(mesh);
  return mesh;
}
Texture page_of(const Mesh& mesh) {
  Texture texture;
  texture.pages.emplace_back(32, 32, 3, std::uint8_t{120});
  texture.origins.emplace_back(32, 32, 1, std::uint8_t{1});
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const auto x = static_cast<float>(5 * f);
    texture.page.push_back(0);
    texture.corners.push_back({Vector2f(x, 1), Vector2f(x + 4, 2), Vector2f(x + 1, 30)});
  }
  return texture;
}

// All corners of all faces, in an order of their own; y up undone.
std::vector<std::array<float, 3>> corners(const aiScene& scene, bool y_up) {
  std::vector<std::array<float, 3>> all;
  for (unsigned m = 0; m < scene.mNumMeshes; ++m)
    for (unsigned f = 0; f < scene.mMeshes[m]->mNumFaces; ++f) {
      EXPECT_EQ(scene.mMeshes[m]->mFaces[f].mNumIndices, 3u);
      for (unsigned k = 0; k < scene.mMeshes[m]->mFaces[f].mNumIndices; ++k) {
        const aiVector3D& p = scene.mMeshes[m]->mVertices[scene.mMeshes[m]->mFaces[f].mIndices[k]];
        all.push_back(y_up ? std::array<float, 3>{p.x, -p.z, p.y} : std::array<float, 3>{p.x, p.y, p.z});
      }
    }
  std::sort(all.begin(), all.end());
  return all;
}
std::vector<std::array<float, 3>> corners(const Mesh& mesh) {
  std::vector<std::array<float, 3>> all;
  for (const Face& f : mesh.faces)
    for (const std::uint32_t v : f) {
      const Vector3f& p = mesh.positions[v];
      all.push_back({p.x(), p.y(), p.z()});
    }
  std::sort(all.begin(), all.end());
  return all;
}

TEST(MeshElsewhere, EveryFormatIsReadWithItsPlacesAndAxes) {
  const Mesh mesh = tent();
  for (const char* name : {"e.ply", "e.obj", "e.stl", "e.glb"}) {
    const fs::path file = test::scratch_folder() / name;
    write_mesh(file, mesh, mesh_format_of(file));
    Assimp::Importer importer;
    const aiScene* scene = importer.ReadFile(file.string(), aiProcess_ValidateDataStructure);
    ASSERT_TRUE(scene) << name << ": " << importer.GetErrorString();
    EXPECT_EQ(corners(*scene, mesh_format_of(file) == MeshFormat::glb), corners(mesh)) << name;
    if (mesh_format_of(file) != MeshFormat::stl) {
      EXPECT_TRUE(scene->mMeshes[0]->HasVertexColors(0)) << name;
      EXPECT_TRUE(scene->mMeshes[0]->HasNormals()) << name;
    }
  }
}

TEST(MeshElsewhere, TexturesAndWhatIsBakedAreFound) {
  const Mesh mesh = tent();
  const Texture texture = page_of(mesh);
  for (const char* name : {"p.obj", "p.glb"}) {
    const fs::path file = test::scratch_folder() / name;
    write_mesh(file, mesh, mesh_format_of(file), {}, &texture);
    Assimp::Importer importer;
    const aiScene* scene = importer.ReadFile(file.string(), aiProcess_ValidateDataStructure);
    ASSERT_TRUE(scene) << name << ": " << importer.GetErrorString();
    const aiMesh& read = *scene->mMeshes[0];
    ASSERT_TRUE(read.HasTextureCoords(0)) << name;
    aiString picture;
    ASSERT_EQ(scene->mMaterials[read.mMaterialIndex]->GetTexture(aiTextureType_DIFFUSE, 0, &picture), aiReturn_SUCCESS);
    if (std::string_view(name) == "p.obj") {
      EXPECT_TRUE(fs::exists(test::scratch_folder() / picture.C_Str())) << picture.C_Str();
    } else {
      EXPECT_TRUE(scene->GetEmbeddedTexture(picture.C_Str()));
    }
    // Places on the page, y up as that library has it.
    std::set<std::pair<int, int>> wanted, found;
    for (const auto& face : texture.corners)
      for (const Vector2f& p : face)
        wanted.insert({static_cast<int>(std::lround(100 * p.x())), static_cast<int>(std::lround(100 * p.y()))});
    for (unsigned v = 0; v < read.mNumVertices; ++v)
      found.insert({static_cast<int>(std::lround(3200 * read.mTextureCoords[0][v].x)),
                    static_cast<int>(std::lround(3200 * (1 - read.mTextureCoords[0][v].y)))});
    EXPECT_EQ(found, wanted) << name;
  }
  BakeOptions options;
  options.page_size = 64;
  const Baked baked = bake(mesh, mesh, nullptr, options);
  const fs::path file = test::scratch_folder() / "baked.glb";
  write_baked_mesh(file, mesh, MeshFormat::glb, {}, baked);
  Assimp::Importer importer;
  const aiScene* scene = importer.ReadFile(file.string(), aiProcess_ValidateDataStructure);
  ASSERT_TRUE(scene) << importer.GetErrorString();
  const aiMaterial& material = *scene->mMaterials[scene->mMeshes[0]->mMaterialIndex];
  aiString picture;
  EXPECT_EQ(material.GetTexture(aiTextureType_NORMALS, 0, &picture), aiReturn_SUCCESS);
  EXPECT_EQ(material.GetTexture(aiTextureType_LIGHTMAP, 0, &picture), aiReturn_SUCCESS);
  EXPECT_TRUE(scene->mMeshes[0]->HasTangentsAndBitangents());
  EXPECT_EQ(read_textured_mesh(file).texture.pages.size(), 1u);
  EXPECT_THROW(write_baked_mesh(test::scratch_folder() / "baked.stl", mesh, MeshFormat::stl, {}, baked), Error);
}

// Cameras are where they stand and look where they look; points are points.
TEST(SceneElsewhere, CamerasAndPointsAreFound) {
  CameraFile cameras;
  cameras.origin = {500, 600, 70};
  cameras.cameras = {make_camera(CameraModel::pinhole, 640, 480, 500)};
  cameras.camera_names = {"a lens"};
  cameras.photos = {{"north.jpg", 0, look_at({1, 2, 3}, {1, 9, 3}, Eigen::Vector3d::UnitZ()), 0},
                    {"down.jpg", 0, look_at({4, 5, 30}, {4, 5, 0}, Eigen::Vector3d::UnitY()), 0}};
  PointCloud points;
  points.origin = cameras.origin;
  points.positions = {{1, 0, 0}, {0, 2, 0}, {0, 0, 3}};
  points.colours = {{255, 0, 0}, {0, 255, 0}, {0, 0, 255}};
  const fs::path file = test::scratch_folder() / "scene.glb";
  write_scene_glb(file, cameras, points);
  Assimp::Importer importer;
  const aiScene* scene = importer.ReadFile(file.string(), 0);
  ASSERT_NE(scene, nullptr) << importer.GetErrorString();
  ASSERT_EQ(scene->mNumCameras, 2u);
  const auto transform_of = [&](const char* name) {
    const aiNode* node = scene->mRootNode->FindNode(name);
    EXPECT_NE(node, nullptr);
    return node->mTransformation;
  };
  // In a world with y up, x, y, z of ours are x, -z, y; cameras look along their -z.
  const auto looks = [](const aiMatrix4x4& m) { return -aiVector3D(m.a3, m.b3, m.c3); };
  const aiMatrix4x4 north = transform_of("north.jpg"), down = transform_of("down.jpg");
  EXPECT_NEAR((aiVector3D(north.a4, north.b4, north.c4) - aiVector3D(1, 3, -2)).Length(), 0, 1e-5);
  EXPECT_NEAR((looks(north) - aiVector3D(0, 0, -1)).Length(), 0, 1e-5);
  EXPECT_NEAR((aiVector3D(down.a4, down.b4, down.c4) - aiVector3D(4, 30, -5)).Length(), 0, 1e-5);
  EXPECT_NEAR((looks(down) - aiVector3D(0, -1, 0)).Length(), 0, 1e-5);
  ASSERT_EQ(scene->mNumMeshes, 1u);
  const aiMesh& mesh = *scene->mMeshes[0];
  EXPECT_EQ(mesh.mPrimitiveTypes, static_cast<unsigned>(aiPrimitiveType_POINT));
  ASSERT_EQ(mesh.mNumVertices, 3u);
  EXPECT_NEAR((mesh.mVertices[1] - aiVector3D(0, 0, -2)).Length(), 0, 1e-5);
  EXPECT_NEAR((mesh.mVertices[2] - aiVector3D(0, 3, 0)).Length(), 0, 1e-5);
  ASSERT_TRUE(mesh.HasVertexColors(0));
  EXPECT_NEAR(mesh.mColors[0][1].g, 1, 1e-3);
}

}  // namespace
}  // namespace icefield
