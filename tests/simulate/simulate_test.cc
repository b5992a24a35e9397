#include <gtest/gtest.h>

#include <cmath>

#include "icefield/io/mesh_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/surface/check_mesh.h"
#include "icefield/match/choose_pairs.h"
#include "icefield/photo/filter.h"
#include "icefield/world/local_frame.h"
#include "simulate/plan.h"
#include "tests/tools/programs.h"
#include "tests/tools/scenes.h"

namespace icefield::simulate {
namespace {

class Scenes : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(Kinds, Scenes, testing::Values("cairn", "forefield", "station", "lantern"));

PlanOptions tiny(const std::string& kind) {
  PlanOptions plan = test::small_cairn();
  plan.scene.kind = kind;
  plan.width = 160;
  plan.height = 107;
  return plan;
}

TEST_P(Scenes, SameSeedSameBits) {
  const PlanOptions plan = tiny(GetParam());
  const auto photos = plan_photos(plan);
  const Scene a(plan.scene), b(plan.scene);
  EXPECT_EQ(render(a, photos[1].shot, {}, Executor(1)).values(), render(b, photos[1].shot, {}, Executor(7)).values());
  PlanOptions other = plan;
  other.scene.seed += 1;
  EXPECT_NE(render(a, photos[1].shot, {}, Executor(2)).values(),
            render(Scene(other.scene), photos[1].shot, {}, Executor(2)).values());
}

TEST_P(Scenes, PhotosAreNeitherFlatNorBurnt) {
  const PlanOptions plan = tiny(GetParam());
  const Scene scene(plan.scene);
  for (const std::size_t i : {0u, 5u, 12u}) {
    const PhotoScores s = score_photo(to_grey(render(scene, plan_photos(plan)[i].shot, {}, Executor(2))));
    EXPECT_GT(s.mean_brightness, 0.2f);
    EXPECT_LT(s.mean_brightness, 0.8f);
    EXPECT_LT(s.bright_share, 0.1f);
    EXPECT_GT(s.sharpness, 0.3f);
  }
}

TEST_P(Scenes, TrueDepthIsWhereTheSurfaceIs) {
  const PlanOptions plan = tiny(GetParam());
  const Scene scene(plan.scene);
  const auto photos = plan_photos(plan);
  const TrueMaps maps = true_maps(scene, photos[2].shot.camera, photos[2].shot.pose, Executor(2));
  int found = 0;
  for (int y = 10; y < 100; y += 9)
    for (int x = 10; x < 150; x += 9) {
      const float depth = maps.depth.at(x, y);
      if (!(depth > 0) || depth > 100) continue;
      // The point at that depth is seen from the photo, and there is surface right behind it.
      const Eigen::Vector3d d = unproject(photos[2].shot.camera, {x + 0.5, y + 0.5})->homogeneous();
      const Eigen::Vector3f p = photos[2].shot.pose.to_world(depth * d).cast<float>();
      const Eigen::Vector3f centre = photos[2].shot.pose.centre.cast<float>();
      EXPECT_FALSE(scene.blocked(centre, p - centre, 0.995f));
      EXPECT_TRUE(scene.blocked(centre, p - centre, 1.005f));
      ++found;
    }
  EXPECT_GT(found, std::string(GetParam()) == "lantern" ? 20 : 40);  // nothing is around the lantern
}

TEST_P(Scenes, TrueSurfaceCountsWhatThreePhotosSee) {
  PlanOptions plan = tiny(GetParam());
  const Scene scene(plan.scene);
  const auto photos = plan_photos(plan);
  Monitor monitor;
  const PointCloud surface = true_surface(scene, photos, scene.subject(), Executor(2), monitor);
  ASSERT_GT(surface.size(), 1000u);
  std::size_t counted = 0;
  for (std::size_t i = 0; i < surface.size(); ++i) {
    counted += surface.counted[i];
    ASSERT_GT(surface.gsd[i], 0);
    ASSERT_TRUE(scene.subject().contains(surface.position(i)));
  }
  EXPECT_GT(counted, surface.size() / 3);
  EXPECT_LE(counted, surface.size());
}

TEST(Lantern, TurnedOverTheSamePlacesLookTheSame) {
  PlanOptions plan = tiny("lantern");
  const auto photos = plan_photos(plan);
  ASSERT_EQ(photos.size(), 14u);
  EXPECT_EQ(photos[6].folder, "standing");
  EXPECT_EQ(photos[7].folder, "turned");
  // From the same place of the lantern's own frame, in the lantern's own light: its colours are those of paint, and
  // move with it.
  SceneOptions standing = plan.scene, turned = plan.scene;
  standing.position = 1, turned.position = 2;
  const Scene a(standing), b(turned);
  const Eigen::Isometry3f place = lantern_place(2);
  std::size_t met = 0;
  for (int k = 0; k < 200; ++k) {
    const float angle = 0.11f * static_cast<float>(k) + 0.037f, height = 0.02f + 0.0019f * static_cast<float>(k);
    const Eigen::Vector3f from(0.4f * std::cos(angle), 0.4f * std::sin(angle), height),
        way = Eigen::Vector3f(0, 0, height) - from;
    const auto hit = a.trace(from, way), other = b.trace(place * from, place.linear() * way);
    ASSERT_TRUE(hit && other);
    if (hit->object < kFirstOfSubject || other->object < kFirstOfSubject) continue;
    ++met;
    EXPECT_EQ(hit->object, other->object);
    EXPECT_NEAR((place * hit->position - other->position).norm(), 0, 2e-6);
    const Surface one = a.surface_of(*hit, 1e-3f, 1, 5), two = b.surface_of(*other, 1e-3f, 1, 5);
    EXPECT_LT((one.albedo - two.albedo).norm(), 0.02);
    EXPECT_LT((place.linear() * one.normal - two.normal).norm(), 0.05);
  }
  EXPECT_GT(met, 150u);
  // What lies around stays where it was.
  EXPECT_EQ(a.height_at(0.5, 0.2), b.height_at(0.5, 0.2));
}

TEST(Simulate, TheProgramWritesPhotosAndTruth) {
  const auto folder = test::scratch_folder() / "made";
  const auto made = test::run({ICEFIELD_SIMULATE_TOOL, "photos", folder.string(), "--scene", "forefield", "--photos",
                               "6", "--width", "160", "--height", "107", "--detail", "0.2", "--samples", "1"});
  ASSERT_EQ(made.status, 0) << made.error;
  const auto files = find_photo_files({folder / "photos"});
  ASSERT_EQ(files.size(), 6u);
  const PhotoMetadata m = read_photo_metadata(files[0]);
  EXPECT_EQ(m.make, "Gletscherblick");
  EXPECT_TRUE(m.gps);
  const CameraFile truth = read_camera_file(folder / "truth" / "cameras.json");
  EXPECT_EQ(truth.photos.size(), 6u);
  // The focal length in the metadata is right to a few percent, not exactly.
  const double guess = guess_focal(m, SensorTable::built_in()).focal_px;
  EXPECT_NEAR(guess / truth.cameras[0].focal(), 1, 0.03);
  ASSERT_EQ(
      test::run({ICEFIELD_SIMULATE_TOOL, "maps", folder.string(), "flight_002.jpg", (folder / "f2").string()}).status,
      0);
  EXPECT_EQ(read_float_image(folder / "f2_depth.tif").width(), 160);
  EXPECT_EQ(read_float_image(folder / "f2_normal.tif").channels(), 3);
  ASSERT_EQ(test::run({ICEFIELD_SIMULATE_TOOL, "dsm", folder.string(), (folder / "dsm.tif").string(), "--spacing", "2"})
                .status,
            0);
  const ImageF dsm = read_float_image(folder / "dsm.tif");
  EXPECT_EQ(dsm.width(), 60);
  for (const float h : dsm.data()) EXPECT_TRUE(std::isfinite(h));
  EXPECT_EQ(test::run({ICEFIELD_SIMULATE_TOOL, "maps", folder.string(), "none.jpg", "x"}).status, 3);
  // The solid beneath what is seen: closed, and as high as the DSM.
  const auto solid = folder / "solid.ply";
  ASSERT_EQ(test::run({ICEFIELD_SIMULATE_TOOL, "solid", folder.string(), solid.string(), "--step", "0.8"}).status, 0);
  const icefield::Mesh mesh = read_mesh(solid);
  const MeshCheck check = check_mesh(mesh, true);
  EXPECT_TRUE(check.closed() && check.manifold() && check.oriented());
  EXPECT_EQ(check.self_intersections, 0u);
  EXPECT_EQ(mesh.colours.size(), mesh.positions.size());
  const Scene scene(read_plan(folder).scene);
  std::size_t tops = 0, off = 0;
  for (std::size_t v = 0; v < mesh.positions.size(); v += 7) {
    const Eigen::Vector3d p = mesh.position(v);
    if (mesh.normals[v].z() < 0.9f ||
        ((p - scene.subject().centre).cwiseAbs() - scene.subject().half_size).maxCoeff() > -1)
      continue;
    ++tops;
    off += std::abs(scene.height_at(p.x(), p.y()) - p.z()) > 0.05;
  }
  EXPECT_GT(tops, 200u);
  EXPECT_LT(off, tops / 20);
  EXPECT_NE(test::run({ICEFIELD_SIMULATE_TOOL, "photos", folder.string(), "--scene", "beach"}).status, 0);
}

TEST(Simulate, BlurIsSeenInTheScores) {
  const PlanOptions plan = tiny("forefield");
  const Scene scene(plan.scene);
  Shot shot = plan_photos(plan)[3].shot;
  RenderOptions options;
  options.samples = 36;
  options.noise = 0;  // pixel noise is as sharp as can be
  const float sharp = score_photo(to_grey(render(scene, shot, options, Executor(2)))).sharpness;
  shot.defocus_px = 3;
  EXPECT_LT(score_photo(to_grey(render(scene, shot, options, Executor(2)))).sharpness, 0.8f * sharp);
  shot.defocus_px = 0;
  shot.motion = {3, 0, 0};  // 5 px over the whole photo
  EXPECT_LT(score_photo(to_grey(render(scene, shot, options, Executor(2)))).sharpness, 0.9f * sharp);
}

TEST(Simulate, AFlightsMetadataSayWhereItsPhotosLook) {
  PlanOptions plan;
  plan.scene.kind = "forefield";
  plan.photos = 40;
  const auto photos = plan_photos(plan);
  std::vector<ChoicePhoto> choice;
  const LocalFrame frame(*photos[0].metadata.gps);
  for (const PlannedPhoto& photo : photos) {
    ChoicePhoto c;
    c.position = frame.to_local(*photo.metadata.gps);
    c.direction = view_direction(photo.metadata);
    ASSERT_TRUE(c.direction);
    EXPECT_LT(
        std::acos(std::clamp(c.direction->dot(photo.shot.pose.viewing_direction()), -1.0, 1.0)) * 180 / 3.14159265, 5)
        << photo.name;
    choice.push_back(c);
  }
  // From these and a receiver that is off by metres the ground is found: the scene's middle lies at height 0.
  const double ground = photos[0].metadata.gps->altitude_m - 2310;
  const auto places = places_looked_at(choice);
  for (std::size_t i = 0; i < places.size(); ++i) {
    ASSERT_TRUE(places[i]) << photos[i].name;
    EXPECT_NEAR(places[i]->z() + ground, 0, 12) << photos[i].name;
  }
  PhotoMetadata metadata;
  EXPECT_FALSE(view_direction(metadata));
  metadata.view_elevation_deg = -30;
  EXPECT_FALSE(view_direction(metadata));  // it may look anywhere
  metadata.view_elevation_deg = -89;
  ASSERT_TRUE(view_direction(metadata));
  EXPECT_LT(view_direction(metadata)->z(), -0.99);
}

}  // namespace
}  // namespace icefield::simulate
