// Pictures on meshes, of a ball whose colours are known everywhere.
#include "icefield/surface/texture.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <limits>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/surface/mesh_masks.h"
#include "icefield/surface/photograph_mesh.h"
#include "src/surface/max_flow.h"
#include "src/surface/pack_shapes.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;
using testing::HasSubstr;

// A ball of radius 1, corners on it.
Mesh ball_mesh(int rings) {
  Mesh mesh;
  const int columns = 2 * rings;
  mesh.positions.emplace_back(0, 0, 1);
  for (int r = 1; r < rings; ++r)
    for (int c = 0; c < columns; ++c) {
      const double polar = std::numbers::pi * r / rings, around = 2 * std::numbers::pi * c / columns;
      mesh.positions.emplace_back(static_cast<float>(std::sin(polar) * std::cos(around)),
                                  static_cast<float>(std::sin(polar) * std::sin(around)),
                                  static_cast<float>(std::cos(polar)));
    }
  mesh.positions.emplace_back(0, 0, -1);
  const auto at = [&](int r, int c) { return static_cast<std::uint32_t>(1 + (r - 1) * columns + c % columns); };
  const auto last = static_cast<std::uint32_t>(mesh.positions.size() - 1);
  for (int c = 0; c < columns; ++c) {
    mesh.faces.push_back({0, at(1, c), at(1, c + 1)});
    for (int r = 1; r + 1 < rings; ++r) {
      mesh.faces.push_back({at(r, c), at(r + 1, c), at(r + 1, c + 1)});
      mesh.faces.push_back({at(r, c), at(r + 1, c + 1), at(r, c + 1)});
    }
    mesh.faces.push_back({at(rings - 1, c), last, at(rings - 1, c + 1)});
  }
  return mesh;
}

Vector3f colour_of(const Vector3d& p) {
  return {static_cast<float>(130 + 60 * std::sin(9 * p.x() + 2 * p.z())),
          static_cast<float>(120 + 50 * std::sin(8 * p.y() + 1)), static_cast<float>(110 + 60 * std::cos(7 * p.z()))};
}

// Ten photos around the ball, none from below; each with an exposure of its own.
class BallPhotos : public PhotoSource {
 public:
  Block block;
  std::vector<Vector3f> exposures;
  int disc_in = -1;  // a photo with a disc in front of the ball
  std::vector<int> gone;

  explicit BallPhotos(double spread = 0) {
    block.cameras.push_back(make_camera(CameraModel::radial, 240, 180, 260));
    block.cameras.back().parameters[3] = -0.08;
    CounterRandom random(5);
    for (int i = 0; i < 10; ++i) {
      const double around = 2 * std::numbers::pi * i / 9;
      const Vector3d centre =
          i == 9 ? Vector3d(0.3, 0, 3.4) : Vector3d(3 * std::cos(around), 3 * std::sin(around), i % 2 ? 0.3 : 1.5);
      block.photos.push_back(
          {PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(0),
           look_at(centre, Vector3d::Zero(), i == 9 ? Vector3d(Vector3d::UnitX()) : Vector3d(Vector3d::UnitZ()))});
      Vector3f exposure;
      for (int c = 0; c < 3; ++c) exposure[c] = static_cast<float>(std::exp(spread * random.normal()));
      exposures.push_back(exposure);
    }
  }
  ImageU8 load(PhotoIndex photo) override {
    if (std::find(gone.begin(), gone.end(), static_cast<int>(photo.value)) != gone.end())
      throw Error(ErrorKind::input, "ball.jpg", "is not there", "bring it back");
    const Camera& camera = block.cameras[0];
    const Pose& pose = block.photos[photo.value].pose;
    ImageU8 image(camera.width, camera.height, 3);
    for (int y = 0; y < camera.height; ++y)
      for (int x = 0; x < camera.width; ++x) {
        const auto way = unproject(camera, {x + 0.5, y + 0.5});
        const Vector3d d = (pose.orientation.conjugate() * way->homogeneous()).normalized();
        const double b = pose.centre.dot(d), c = pose.centre.squaredNorm() - 1, root = b * b - c;
        Vector3f colour(30, 60, 200);  // the sky
        if (root > 0) colour = colour_of(pose.centre + (-b - std::sqrt(root)) * d);
        if (static_cast<int>(photo.value) == disc_in && std::hypot(x - 120.0, y - 90.0) < 25) colour = {250, 0, 250};
        for (int k = 0; k < 3; ++k)
          image.at(x, y, k) =
              static_cast<std::uint8_t>(std::clamp(colour[k] * exposures[photo.value][k], 0.0f, 255.0f));
      }
    return image;
  }
};

struct Off {
  double mean = 0, most = 0;
  std::size_t places = 0;
  Vector3d brightness = Vector3d::Zero();  // against the truth
};
// Where photos gave the colours, in the middle of each face.
Off off_truth(const Mesh& mesh, const Texture& texture) {
  Off off;
  Vector3d sums[2] = {Vector3d::Zero(), Vector3d::Zero()};
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const Vector2f at = (texture.corners[f][0] + texture.corners[f][1] + texture.corners[f][2]) / 3;
    const int x = static_cast<int>(at.x()), y = static_cast<int>(at.y());
    if (texture.origins[texture.page[f]].at(x, y) != static_cast<std::uint8_t>(TexelOrigin::photo)) continue;
    Vector3d middle = Vector3d::Zero();
    for (const std::uint32_t v : mesh.faces[f]) middle += mesh.position(v) / 3;
    const Vector3f truth = colour_of(middle.normalized());
    for (int c = 0; c < 3; ++c) {
      const double d = std::abs(texture.pages[texture.page[f]].at(x, y, c) - static_cast<double>(truth[c]));
      off.mean += d / 3, off.most = std::max(off.most, d);
      sums[0][c] += texture.pages[texture.page[f]].at(x, y, c), sums[1][c] += static_cast<double>(truth[c]);
    }
    ++off.places;
  }
  off.mean /= static_cast<double>(off.places);
  off.brightness = sums[0].cwiseQuotient(sums[1]);
  return off;
}
TextureOptions small_page() {
  TextureOptions options;
  options.page_size = 1024;
  return options;
}

TEST(Texture, HasTheColoursOfThePhotos) {
  const Mesh mesh = ball_mesh(40);
  BallPhotos photos;
  const TextureResult made = make_texture(mesh, photos.block, photos, small_page(), Executor(2));
  const TextureSummary& s = made.summary;
  EXPECT_EQ(s.outcome, "painted");
  EXPECT_EQ(s.photos, 10u);
  EXPECT_EQ(s.faces, mesh.faces.size());
  EXPECT_LE(s.page_size, 1024);
  // Of a photo 3 away with a focal length of 260 px a pixel at the ball is about 2 / 260.
  EXPECT_NEAR(s.texel, 2.0 / 260, 0.6 / 260);
  const Off off = off_truth(apply_split(mesh, made.split), made.texture);
  EXPECT_LT(off.mean, 1.5);
  EXPECT_LT(off.most, 12);
  EXPECT_EQ(off.places, s.faces - s.faces_filled);
  // Nobody looked from below.
  EXPECT_GT(s.filled_percent, 2);
  EXPECT_LT(s.filled_percent, 20);
  const TextureSteps steps = measure_steps(mesh, made.texture, s.texel);
  EXPECT_GT(steps.across, 100u);
  EXPECT_GT(steps.inside, 1000u);
  EXPECT_LT(steps.across_mean, 1.3 * steps.inside_mean);
}

TEST(Texture, LevelsExposuresAndSeams) {
  const Mesh mesh = ball_mesh(40);
  BallPhotos photos(0.12);
  TextureOptions options = small_page();
  const TextureResult levelled = make_texture(mesh, photos.block, photos, options, Executor(2));
  options.level = false;
  const TextureResult raw = make_texture(mesh, photos.block, photos, options, Executor(2));
  EXPECT_GT(levelled.summary.exposure_before_percent, 5);
  EXPECT_LT(levelled.summary.exposure_after_percent, 1.5);
  EXPECT_LT(levelled.summary.seam_after, levelled.summary.seam_before);
  EXPECT_LT(levelled.summary.seam_after, 0.5);  // of 255: what is left by exposures
  const TextureSteps before = measure_steps(mesh, raw.texture, raw.summary.texel),
                     after = measure_steps(mesh, levelled.texture, levelled.summary.texel);
  EXPECT_GT(before.across_mean, 3 * before.inside_mean);
  EXPECT_LT(after.across_mean, 1.3 * after.inside_mean);
  // In the mean as bright as the photos are.
  Vector3d mean = Vector3d::Zero();
  for (const Vector3f& e : photos.exposures) mean += e.cast<double>().array().log().matrix() / 10;
  const Vector3d bright = off_truth(apply_split(mesh, levelled.split), levelled.texture).brightness;
  for (int c = 0; c < 3; ++c) EXPECT_NEAR(bright[c] / std::exp(mean[c]), 1, 0.02);
}

TEST(Texture, LeavesOutWhatOtherPhotosDoNotShow) {
  const Mesh mesh = ball_mesh(40);
  BallPhotos photos;
  photos.disc_in = 2;
  const TextureResult made = make_texture(mesh, photos.block, photos, small_page(), Executor(2));
  EXPECT_GT(made.summary.views_apart, 50u);
  EXPECT_LT(off_truth(apply_split(mesh, made.split), made.texture).most, 25);
}

TEST(Texture, HiddenFacesAreFilledFromAround) {
  // A plate over the ball hides it from above; its rim is beyond the ball.
  Mesh mesh = ball_mesh(30);
  const auto first = static_cast<std::uint32_t>(mesh.positions.size());
  for (const Vector2f& corner : {Vector2f(-1, -1), Vector2f(1, -1), Vector2f(1, 1), Vector2f(-1, 1)})
    mesh.positions.emplace_back(0.78f * corner.x() + 0.08f, 0.78f * corner.y(), 1.1f);
  mesh.faces.push_back({first, first + 1, first + 2});
  mesh.faces.push_back({first, first + 2, first + 3});
  BallPhotos photos;
  photos.block.photos = {photos.block.photos[9]};
  const TextureResult made = make_texture(mesh, photos.block, photos, small_page(), Executor(2));
  EXPECT_EQ(made.summary.faces_filled, mesh.faces.size() - 2);
  // Closing patches take no colours from photos, wherever they are.
  mesh = ball_mesh(30);
  mesh.kinds.assign(mesh.faces.size(), FaceKind::measured);
  for (std::size_t f = 200; f < 260; ++f) mesh.kinds[f] = FaceKind::closed;
  BallPhotos all;
  const TextureResult patched = make_texture(mesh, all.block, all, small_page(), Executor(2));
  for (std::size_t f = 200; f < 260; ++f) {
    const Vector2f at =
        (patched.texture.corners[f][0] + patched.texture.corners[f][1] + patched.texture.corners[f][2]) / 3;
    EXPECT_EQ(patched.texture.origins[patched.texture.page[f]].at(static_cast<int>(at.x()), static_cast<int>(at.y())),
              static_cast<std::uint8_t>(TexelOrigin::filled));
    // Smooth between what is around: near the truth, which is smooth too.
    Vector3d middle = Vector3d::Zero();
    for (const std::uint32_t v : mesh.faces[f]) middle += mesh.position(v) / 3;
    if (middle.z() < -0.4) continue;  // nobody looked from below
    const Vector3f truth = colour_of(middle.normalized());
    for (int c = 0; c < 3; ++c)
      EXPECT_NEAR(
          patched.texture.pages[patched.texture.page[f]].at(static_cast<int>(at.x()), static_cast<int>(at.y()), c),
          truth[c], 15);
  }
}

TEST(Texture, IsTheSameForAnyNumberOfThreads) {
  const Mesh mesh = ball_mesh(24);
  BallPhotos photos(0.1);
  const TextureResult one = make_texture(mesh, photos.block, photos, small_page(), Executor(1));
  for (const int threads : {2, 7}) {
    const TextureResult other =
        make_texture(mesh, photos.block, photos, small_page(), Executor(threads, std::uint64_t{1} << 30));
    ASSERT_EQ(one.texture.pages.size(), other.texture.pages.size());
    for (std::size_t p = 0; p < one.texture.pages.size(); ++p) {
      EXPECT_TRUE(one.texture.pages[p].values() == other.texture.pages[p].values());
      EXPECT_TRUE(one.texture.origins[p].values() == other.texture.origins[p].values());
    }
    EXPECT_EQ(one.texture.page, other.texture.page);
  }
}

TEST(Texture, FitsItsPagesWhateverTheirSize) {
  const Mesh mesh = ball_mesh(24);
  BallPhotos photos;
  TextureOptions options = small_page();
  options.page_size = 128;
  const TextureResult small = make_texture(mesh, photos.block, photos, options, Executor(2));
  EXPECT_EQ(small.summary.page_size, 128);
  EXPECT_EQ(small.summary.pages, 1u);
  EXPECT_GT(small.summary.texel, 2.0 * 2 / 260);
  options.max_pages = 4;
  const TextureResult several = make_texture(mesh, photos.block, photos, options, Executor(2));
  EXPECT_EQ(several.summary.pages, 4u);
  EXPECT_LT(several.summary.texel, 0.7 * small.summary.texel);
  for (const auto& corners : several.texture.corners)
    for (const Vector2f& p : corners) {
      EXPECT_GE(p.minCoeff(), 0);
      EXPECT_LE(p.maxCoeff(), 128);
    }
  EXPECT_LT(off_truth(apply_split(mesh, several.split), several.texture).mean, 4);
  // Texels of a size that was asked for.
  options = small_page();
  options.texel = 0.02;
  EXPECT_NEAR(make_texture(mesh, photos.block, photos, options, Executor(2)).summary.texel, 0.02, 0.002);
}

TEST(Texture, PhotosThatAreGoneAreNamed) {
  const Mesh mesh = ball_mesh(24);
  BallPhotos photos;
  photos.gone = {0, 4};
  const TextureResult made = make_texture(mesh, photos.block, photos, small_page(), Executor(2));
  ASSERT_EQ(made.summary.photos_missing.size(), 2u);
  EXPECT_THAT(made.summary.photos_missing[0], HasSubstr("ball.jpg"));
  EXPECT_EQ(made.summary.photos, 8u);
  EXPECT_LT(off_truth(apply_split(mesh, made.split), made.texture).mean, 2);
  photos.gone = {0, 1, 2, 3, 4, 5, 6, 7, 8, 9};
  try {
    make_texture(mesh, photos.block, photos, small_page(), Executor(2));
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::computation);
    EXPECT_THAT(e.what(), HasSubstr("ball.jpg"));
  }
}

TEST(Texture, RefusesWhatMakesNoSense) {
  const Mesh mesh = ball_mesh(8);
  BallPhotos photos;
  const auto kind_of = [&](const Mesh& m, const Block& block, const TextureOptions& options) {
    try {
      make_texture(m, block, photos, options, Executor(1));
    } catch (const Error& e) {
      return e.kind();
    }
    return ErrorKind::interrupted;
  };
  EXPECT_EQ(kind_of(Mesh(), photos.block, {}), ErrorKind::usage);
  EXPECT_EQ(kind_of(mesh, Block(), {}), ErrorKind::usage);
  for (void (*spoil)(TextureOptions&) :
       {+[](TextureOptions& o) { o.page_size = 63; }, +[](TextureOptions& o) { o.page_size = 20000; },
        +[](TextureOptions& o) { o.max_pages = 0; }, +[](TextureOptions& o) { o.texel = -1; },
        +[](TextureOptions& o) { o.max_angle = 2; }, +[](TextureOptions& o) { o.gutter = 0; },
        +[](TextureOptions& o) { o.colour_gap = 0; }}) {
    TextureOptions options = small_page();
    spoil(options);
    EXPECT_EQ(kind_of(mesh, photos.block, options), ErrorKind::usage);
  }
  // Places that are no numbers, and more pieces than a page has room for.
  Mesh broken = mesh;
  broken.positions[5].x() = std::numeric_limits<float>::quiet_NaN();
  EXPECT_EQ(kind_of(broken, photos.block, small_page()), ErrorKind::usage);
  Mesh crumbs;
  for (std::uint32_t k = 0; k < 2000; ++k) {
    const auto x = 0.001f * static_cast<float>(k);
    crumbs.positions.insert(crumbs.positions.end(), {{x, 0, 0}, {x + 0.0001f, 0, 0}, {x, 0.0001f, 0}});
    crumbs.faces.push_back({3 * k, 3 * k + 1, 3 * k + 2});
  }
  TextureOptions tiny = small_page();
  tiny.page_size = 64;
  EXPECT_EQ(kind_of(crumbs, photos.block, tiny), ErrorKind::usage);
  // Photos of another place see nothing; all is filled.
  Block away = photos.block;
  for (PosedPhoto& photo : away.photos) photo.pose.centre += Vector3d(100, 0, 0);
  const TextureResult nothing = make_texture(mesh, away, photos, small_page(), Executor(1));
  EXPECT_EQ(nothing.summary.outcome, "no photo sees the mesh");
  EXPECT_EQ(nothing.summary.faces_filled, mesh.faces.size());
}

TEST(Texture, LargeFacesArePartedUntilPhotosSeeThem) {
  // A box of twelve faces; no photo has one of its sides in view whole from corner to corner with nothing cut off.
  Mesh box;
  for (int i = 0; i < 8; ++i)
    box.positions.emplace_back(i & 1 ? 1.5f : -1.5f, i & 2 ? 1.5f : -1.5f, i & 4 ? 1.5f : -1.5f);
  for (const std::array<std::uint32_t, 4>& q : {std::array<std::uint32_t, 4>{0, 2, 3, 1},
                                                {4, 5, 7, 6},
                                                {0, 1, 5, 4},
                                                {2, 6, 7, 3},
                                                {0, 4, 6, 2},
                                                {1, 3, 7, 5}}) {
    box.faces.push_back({q[0], q[1], q[2]});
    box.faces.push_back({q[0], q[2], q[3]});
  }
  box.kinds.assign(12, FaceKind::measured);
  class BoxPhotos : public PhotoSource {
   public:
    Block block;
    BoxPhotos() {
      block.cameras.push_back(make_camera(CameraModel::pinhole, 240, 180, 260));
      for (int i = 0; i < 40; ++i) {
        const double around = 2 * std::numbers::pi * i / 20;
        const Vector3d centre(4.5 * std::cos(around), 4.5 * std::sin(around), i < 20 ? 0.6 : -0.6);
        block.photos.push_back({PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(0),
                                look_at(centre, {0, 0, centre.z()}, Vector3d::UnitZ())});
      }
    }
    ImageU8 load(PhotoIndex photo) override {
      const Pose& pose = block.photos[photo.value].pose;
      ImageU8 image(240, 180, 3);
      for (int y = 0; y < 180; ++y)
        for (int x = 0; x < 240; ++x) {
          const Vector3d d =
              pose.orientation.conjugate() * unproject(block.cameras[0], {x + 0.5, y + 0.5})->homogeneous();
          double near = 0, far = 1e9;
          for (int c = 0; c < 3; ++c) {
            const double a = (-1.5 - pose.centre[c]) / d[c], b = (1.5 - pose.centre[c]) / d[c];
            near = std::max(near, std::min(a, b)), far = std::min(far, std::max(a, b));
          }
          const Vector3f colour = near < far ? colour_of(0.6 * (pose.centre + near * d)) : Vector3f(0, 0, 0);
          for (int k = 0; k < 3; ++k) image.at(x, y, k) = static_cast<std::uint8_t>(colour[k]);
        }
      return image;
    }
  } photos;
  const TextureResult made = make_texture(box, photos.block, photos, small_page(), Executor(2));
  ASSERT_FALSE(made.split.empty());
  const Mesh parted = apply_split(box, made.split);
  EXPECT_EQ(parted.faces.size(), made.summary.faces);
  EXPECT_NEAR(area(parted), area(box), 1e-4);
  EXPECT_NEAR(volume(parted), 27, 1e-4);
  for (const MeshEdges::Edge& e : edges_of(parted).edges) EXPECT_EQ(e.count, 2u);
  check_texture(parted, made.texture);
  // Top and bottom are not seen, and the sides but for their rims.
  EXPECT_LT(made.summary.filled_percent, 45);
  double off = 0;
  std::size_t places = 0;
  for (std::size_t f = 0; f < parted.faces.size(); ++f) {
    const Vector2f at = (made.texture.corners[f][0] + made.texture.corners[f][1] + made.texture.corners[f][2]) / 3;
    const std::size_t page = made.texture.page[f];
    const int x = static_cast<int>(at.x()), y = static_cast<int>(at.y());
    if (made.texture.origins[page].at(x, y) != static_cast<std::uint8_t>(TexelOrigin::photo)) continue;
    Vector3d middle = Vector3d::Zero();
    for (const std::uint32_t v : parted.faces[f]) middle += parted.position(v) / 3;
    const Vector3f truth = colour_of(0.6 * middle);
    for (int c = 0; c < 3; ++c)
      off += std::abs(made.texture.pages[page].at(x, y, c) - static_cast<double>(truth[c])) / 3;
    ++places;
  }
  EXPECT_GT(places, 100u);
  EXPECT_LT(off / static_cast<double>(places), 3);
  // Small faces stay as they are.
  BallPhotos others;
  EXPECT_TRUE(make_texture(ball_mesh(40), others.block, others, small_page(), Executor(2)).split.empty());
}

TEST(PhotographMesh, SeesWhatACameraWouldSee) {
  const Mesh mesh = ball_mesh(60);
  BallPhotos photos;
  const TextureResult made = make_texture(mesh, photos.block, photos, small_page(), Executor(2));
  const Camera camera = make_camera(CameraModel::brown, 160, 120, 200);
  const Pose pose = look_at({2.2, 1.4, 1.2}, Vector3d(0, 0, 0.1), Vector3d::UnitZ());
  const MeshPhotograph shown = photograph_mesh(mesh, &made.texture, camera, pose, 2, Executor(2));
  double off = 0;
  std::size_t inside = 0, outside = 0;
  for (int y = 0; y < camera.height; ++y)
    for (int x = 0; x < camera.width; ++x) {
      const Vector3d way = unproject(camera, {x + 0.5, y + 0.5})->homogeneous();
      const Vector3d d = (pose.orientation.conjugate() * way).normalized();
      const double b = pose.centre.dot(d), root = b * b - pose.centre.squaredNorm() + 1;
      if (root > 0.1) {
        const Vector3d p = pose.centre + (-b - std::sqrt(root)) * d;
        ASSERT_NEAR(shown.depth.at(x, y), pose.to_camera(p).z(), 0.01);
        if (shown.filled.at(x, y)) continue;
        const Vector3f truth = colour_of(p);
        for (int c = 0; c < 3; ++c) off += std::abs(shown.colour.at(x, y, c) - static_cast<double>(truth[c])) / 3;
        ++inside;
      } else if (root < 0) {
        EXPECT_EQ(shown.depth.at(x, y), 0);
        ++outside;
      }
    }
  EXPECT_GT(inside, 2000u);
  EXPECT_GT(outside, 2000u);
  EXPECT_LT(off / static_cast<double>(inside), 2);
  // From within only backs are seen.
  const Pose within = look_at(Vector3d::Zero(), Vector3d::UnitX(), Vector3d::UnitZ());
  const MeshPhotograph backs = photograph_mesh(mesh, nullptr, camera, within, 1, Executor(2));
  EXPECT_TRUE(std::all_of(backs.depth.data().begin(), backs.depth.data().end(), [](float d) { return d == 0; }));
}

TEST(MeshMasks, ShowTheMeshAndCloseItsGaps) {
  Mesh mesh = ball_mesh(40);
  BallPhotos photos;
  MeshMaskOptions options;
  options.close_px = options.grow_px = 0;
  const auto lit = [](const ImageU8& mask) {
    return static_cast<double>(std::count(mask.values().begin(), mask.values().end(), std::uint8_t{255}));
  };
  const auto masks_of = [&](const Mesh& m, int threads) {
    std::vector<ImageU8> masks;
    mesh_masks(
        m, photos.block, options,
        [&](std::size_t i, const ImageU8& mask) {
          EXPECT_EQ(i, masks.size());
          masks.push_back(mask);
        },
        Executor(threads));
    return masks;
  };
  const std::vector<ImageU8> whole = masks_of(mesh, 2);
  ASSERT_EQ(whole.size(), 10u);
  for (std::size_t i = 0; i < 10; ++i) {
    const ImageU8 photo = photos.load(PhotoIndex(i));
    std::size_t wrong = 0;
    for (int y = 0; y < photo.height(); ++y)
      for (int x = 0; x < photo.width(); ++x) {
        const bool sky = photo.at(x, y, 0) == 30 && photo.at(x, y, 1) == 60 && photo.at(x, y, 2) == 200;
        wrong += sky == (whole[i].at(x, y) == 255);
      }
    EXPECT_LT(wrong, 200u) << i;  // at the rim, where the ball is round and the mesh is not
  }
  // Growing by 5 px makes a ring of that width more.
  options.grow_px = 5;
  const std::vector<ImageU8> wide = masks_of(mesh, 7);
  const double radius = std::sqrt(lit(whole[0]) / std::numbers::pi);
  EXPECT_NEAR(std::sqrt(lit(wide[0]) / std::numbers::pi), radius + 5, 1.0);
  // Scattered holes close, the rim stays.
  options.grow_px = 0;
  std::vector<std::uint8_t> keep(mesh.faces.size());
  for (std::size_t f = 0; f < keep.size(); ++f) keep[f] = f % 7 != 3;
  // Of a ball with holes rays meet the far side: a shell of one side only.
  for (std::size_t f = 0; f < keep.size(); ++f) {
    Vector3f middle = Vector3f::Zero();
    for (const std::uint32_t v : mesh.faces[f]) middle += mesh.positions[v] / 3;
    if (middle.dot(photos.block.photos[0].pose.centre.cast<float>()) < 0) keep[f] = 0;
  }
  const Mesh holes = pick_faces(mesh, keep);
  const double open = lit(masks_of(holes, 2)[0]);
  options.close_px = 8;
  const double closed = lit(masks_of(holes, 2)[0]);
  EXPECT_LT(open, 0.92 * lit(whole[0]));
  EXPECT_NEAR(closed / lit(whole[0]), 1, 0.03);
  options.grow_px = -1;
  EXPECT_THROW(masks_of(mesh, 1), Error);
  options.grow_px = 0;
  EXPECT_THROW(masks_of(Mesh(), 1), Error);
}

TEST(MaxFlow, IsThatOfTheCheapestCutOfAll) {
  for (std::uint64_t seed = 0; seed < 300; ++seed) {
    CounterRandom random(seed);
    const std::uint32_t n = 2 + random.below(9);
    struct Arc {
      std::uint32_t a, b;
      std::int64_t forth, back;
    };
    std::vector<std::int64_t> source(n), sink(n);
    std::vector<Arc> arcs;
    MaxFlow flow(n);
    for (std::uint32_t i = 0; i < n; ++i) {
      source[i] = random.below(3) == 0 ? 0 : random.below(40), sink[i] = random.below(3) == 0 ? 0 : random.below(40);
      flow.add_terminals(i, source[i], sink[i]);
    }
    for (std::uint32_t k = random.below(4 * n); k > 0; --k) {
      const std::uint32_t a = random.below(n), b = random.below(n);
      if (a == b) continue;
      arcs.push_back({a, b, random.below(20), random.below(20)});
      flow.add_edge(a, b, arcs.back().forth, arcs.back().back);
    }
    const auto cost = [&](std::uint32_t with_sink) {
      std::int64_t sum = 0;
      for (std::uint32_t i = 0; i < n; ++i) sum += with_sink >> i & 1 ? source[i] : sink[i];
      for (const Arc& arc : arcs) {
        const bool a = with_sink >> arc.a & 1, b = with_sink >> arc.b & 1;
        if (!a && b) sum += arc.forth;
        if (a && !b) sum += arc.back;
      }
      return sum;
    };
    std::int64_t least = cost(0);
    for (std::uint32_t cut = 1; cut < 1u << n; ++cut) least = std::min(least, cost(cut));
    EXPECT_EQ(flow.solve(), least) << seed;
    std::uint32_t cut = 0;
    for (std::uint32_t i = 0; i < n; ++i) cut |= static_cast<std::uint32_t>(flow.with_sink(i)) << i;
    EXPECT_EQ(cost(cut), least) << seed;
  }
}

TEST(PackShapes, PutsNoTwoOnOneCell) {
  CounterRandom random(3);
  std::vector<CellShape> shapes;
  for (int i = 0; i < 300; ++i) {
    const int w = 1 + static_cast<int>(random.below(i < 10 ? 70 : 14)), h = 1 + static_cast<int>(random.below(14));
    CellShape shape(w, h);
    for (int y = 0; y < h; ++y)
      for (int x = 0; x < w; ++x)
        if (random.below(5) > 0 || (x == 0 && y == 0)) shape.set(x, y);
    shapes.push_back(shape);
  }
  const int side = 150;
  const auto places = pack_shapes(shapes, side, 2);
  ASSERT_EQ(places.size(), shapes.size());
  std::vector<CellShape> pages(2, CellShape(side, side));
  std::size_t cells = 0;
  for (std::size_t i = 0; i < shapes.size(); ++i) {
    CellShape shape = shapes[i];
    for (int t = 0; t < places[i].turns; ++t) shape = shape.turned();
    ASSERT_GE(places[i].x, 0);
    ASSERT_LE(places[i].x + shape.width, side);
    ASSERT_LE(places[i].y + shape.height, side);
    for (int y = 0; y < shape.height; ++y)
      for (int x = 0; x < shape.width; ++x) {
        if (!shape.at(x, y)) continue;
        CellShape& page = pages[static_cast<std::size_t>(places[i].page)];
        EXPECT_FALSE(page.at(places[i].x + x, places[i].y + y));
        page.set(places[i].x + x, places[i].y + y);
        ++cells;
      }
  }
  std::size_t whole = 0;
  for (const CellShape& shape : shapes) whole += shape.count();
  EXPECT_EQ(cells, whole);
  // Squares fill a page to the last cell; one more has no room.
  std::vector<CellShape> squares(16, CellShape(16, 16));
  for (CellShape& square : squares)
    for (int y = 0; y < 16; ++y)
      for (int x = 0; x < 16; ++x) square.set(x, y);
  EXPECT_EQ(pack_shapes(squares, 64, 1).size(), 16u);
  squares.push_back(squares.front());
  EXPECT_TRUE(pack_shapes(squares, 64, 1).empty());
  EXPECT_EQ(pack_shapes(squares, 64, 2).size(), 17u);
  EXPECT_TRUE(pack_shapes({CellShape(65, 1)}, 64, 4).empty());
}

}  // namespace
}  // namespace icefield
