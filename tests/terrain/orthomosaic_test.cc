// Orthomosaics of a made-up square with a hut, whose pictures are worked out line by line.
#include "icefield/terrain/orthomosaic.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <set>

#include "icefield/base/random.h"
#include "src/terrain/blend.h"
#include "src/terrain/sight.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kCell = 0.1, kHalf = 12, kRoof = 3;

// A hut of 4 x 3 metres, 3 high, with a grey patterned roof and red walls on grey patterned ground.
bool in_hut(double x, double y) {
  return std::abs(x - 1) < 2 && std::abs(y + 0.5) < 1.5;
}
double pattern(double x, double y, bool roof) {
  return (roof ? 150 : 110) + 30 * std::sin(2.1 * x + 0.4 * y) * std::cos(1.7 * y) +
         14 * std::sin(5 * x) * std::sin(4 * y);
}

// What a ray from above meets.
Vector3d colour_along(const Vector3d& from, const Vector3d& way) {
  const auto grey = [](double v) { return Vector3d(v, v, v); };
  // The roof, then the walls, then the ground.
  const Vector3d on_roof = from + (kRoof - from.z()) / way.z() * way;
  if (in_hut(on_roof.x(), on_roof.y())) return grey(pattern(on_roof.x(), on_roof.y(), true));
  const Vector3d on_ground = from - from.z() / way.z() * way;
  constexpr int kSteps = 400;
  for (int k = 1; k < kSteps; ++k) {
    const Vector3d p = on_roof + (on_ground - on_roof) * k / kSteps;
    if (in_hut(p.x(), p.y())) return {200, 30, 30};
  }
  return grey(pattern(on_ground.x(), on_ground.y(), false));
}

struct Faults {
  std::vector<double> gains;                  // by photo
  double corner_loss = 0;                     // share of the light that a corner gets less
  int car = -1;                               // the photo that has one
  int missing = -1, masked = -1, small = -1;  // photos
};

class MadeUpPhotos : public PhotoSource {
 public:
  MadeUpPhotos(const Block& block, const Faults& faults) : block_(block), faults_(faults) {
    for (std::size_t i = 0; i < block.photos.size(); ++i) pictures_.push_back(make(i));
  }
  ImageU8 load(PhotoIndex photo) override {
    if (static_cast<int>(photo.value) == faults_.missing || faults_.missing == -2)
      throw Error(ErrorKind::input, "photo", "is gone", "look for it");
    return static_cast<int>(photo.value) == faults_.small ? shrink(pictures_[photo.value], 2) : pictures_[photo.value];
  }
  ImageU8 mask(PhotoIndex photo) override {
    if (static_cast<int>(photo.value) != faults_.masked) return {};
    return ImageU8(pictures_[0].width(), pictures_[0].height(), 1, 0);
  }

 private:
  ImageU8 make(std::size_t i) const {
    const Camera& camera = block_.cameras[0];
    const Pose& pose = block_.photos[i].pose;
    ImageU8 picture(camera.width, camera.height, 3);
    const double gain = faults_.gains.empty() ? 1 : faults_.gains[i];
    for (int y = 0; y < camera.height; ++y)
      for (int x = 0; x < camera.width; ++x) {
        const auto ray = unproject(camera, {x + 0.5, y + 0.5});
        const Vector3d way = pose.orientation.conjugate() * Vector3d(ray->x(), ray->y(), 1);
        Vector3d colour = colour_along(pose.centre, way);
        const Vector3d ground = pose.centre - pose.centre.z() / way.z() * way;
        if (static_cast<int>(i) == faults_.car && std::abs(ground.x() + 5) < 1.2 && std::abs(ground.y() - 5) < 0.7)
          colour = {20, 60, 220};
        const double r2 = (Vector2d(x + 0.5, y + 0.5) - 0.5 * Vector2d(camera.width, camera.height)).squaredNorm() /
                          (0.25 * Vector2d(camera.width, camera.height).squaredNorm());
        for (int c = 0; c < 3; ++c)
          picture.at(x, y, c) = static_cast<std::uint8_t>(
              std::clamp(gain * (1 - faults_.corner_loss * r2) * colour[c] + 0.5, 0.0, 255.0));
      }
    return picture;
  }
  const Block& block_;
  Faults faults_;
  std::vector<ImageU8> pictures_;
};

Block flight() {
  Block block;
  block.cameras.push_back(make_camera(CameraModel::pinhole, 150, 120, 140));
  CounterRandom random(3);
  for (int row = -1; row <= 1; ++row)
    for (int column = -2; column <= 2; ++column) {
      Pose pose;
      // Looking down, north above, and shaking a little.
      const Eigen::AngleAxisd down(std::numbers::pi, Vector3d::UnitX());
      const Eigen::AngleAxisd shake(0.02 * random.normal(),
                                    Vector3d(random.normal(), random.normal(), 0.5).normalized());
      pose.orientation = Eigen::Quaterniond(shake * down);
      pose.centre = {4.5 * column + 0.3 * random.normal(), 5 * row + 0.3 * random.normal(), 14 + 0.2 * random.normal()};
      block.photos.push_back({PhotoIndex(block.photos.size()), CameraIndex(0), pose});
    }
  return block;
}

OrthomosaicScene square(bool with_ground = true) {
  OrthomosaicScene scene;
  scene.frame = grid_over(Vector2d::Constant(-kHalf), Vector2d::Constant(kHalf), kCell);
  const GridFrame frame = scene.frame;
  scene.heights = [frame](const Window& w) {
    ImageF heights(w.width, w.height);
    for (int y = 0; y < w.height; ++y)
      for (int x = 0; x < w.width; ++x) {
        const Vector2d p = frame.middle(w.column + x, w.row + y);
        heights.at(x, y) = in_hut(p.x(), p.y()) ? static_cast<float>(kRoof) : 0.0f;
      }
    return heights;
  };
  if (with_ground) scene.ground = [](const Window& w) { return ImageF(w.width, w.height); };
  return scene;
}

OrthomosaicPart whole(const OrthomosaicMaker& maker, const GridFrame& frame) {
  return maker.part({0, 0, frame.columns, frame.rows});
}

// Greys against the pattern: root of the mean square and the mean, of cells at least so far from the hut's border.
std::pair<double, double> off_pattern(const OrthomosaicPart& part, const GridFrame& frame) {
  double squares = 0, sum = 0, count = 0;
  for (int y = 0; y < frame.rows; ++y)
    for (int x = 0; x < frame.columns; ++x) {
      if (part.picture.at(x, y, 3) == 0) continue;
      const Vector2d p = frame.middle(x, y);
      const double off = part.picture.at(x, y, 1) - pattern(p.x(), p.y(), in_hut(p.x(), p.y()));
      squares += off * off, sum += off, ++count;
    }
  return {std::sqrt(squares / count), sum / count};
}

TEST(Orthomosaic, EachCellIsWhereItLies) {
  const Block block = flight();
  const OrthomosaicScene scene = square();
  MadeUpPhotos photos(block, {});
  const OrthomosaicMaker maker(scene, block, photos, {}, Executor(2));
  const OrthomosaicPart part = whole(maker, scene.frame);
  const auto [rms, mean] = off_pattern(part, scene.frame);
  EXPECT_LT(rms, 4) << "roof and ground have their patterns in place";
  EXPECT_NEAR(mean, 0, 0.5);
  std::set<std::uint16_t> on_roof, all;
  std::size_t red = 0, seen = 0;
  for (int y = 0; y < scene.frame.rows; ++y)
    for (int x = 0; x < scene.frame.columns; ++x) {
      const std::uint16_t p = part.photo.at(x, y);
      EXPECT_EQ(p == 0, part.picture.at(x, y, 3) == 0);
      if (p == 0) continue;
      all.insert(p), ++seen;
      const Vector2d at = scene.frame.middle(x, y);
      const Vector2d beside = (at - Vector2d(1, -0.5)).cwiseAbs() - Vector2d(2, 1.5);  // of the hut's border
      const bool rim = std::abs(beside.maxCoeff()) < 1.5 * kCell;  // where a pixel has some of the wall
      red += !rim && part.picture.at(x, y, 0) > part.picture.at(x, y, 1) + 40;
      if (std::abs(at.x() - 1) < 1.7 && std::abs(at.y() + 0.5) < 1.2) on_roof.insert(p);
    }
  EXPECT_LT(red, 3u) << "walls do not show: nothing leans";
  EXPECT_EQ(on_roof.size(), 1u) << "no seam over the roof";
  EXPECT_GT(all.size(), 4u);
  EXPECT_GT(seen, scene.frame.cells() * 7 / 10);
  EXPECT_EQ(maker.summary().outcome, "made");
  EXPECT_EQ(maker.summary().seam_length_raised, 0);
  ASSERT_FALSE(maker.seams().empty());
  double length = 0;
  for (const SeamLine& seam : maker.seams()) {
    EXPECT_NE(seam.left, seam.right);
    EXPECT_GE(seam.places.size(), 2u);
    for (std::size_t i = 1; i < seam.places.size(); ++i) length += (seam.places[i] - seam.places[i - 1]).norm();
  }
  EXPECT_LT(length, 1.01 * maker.summary().seam_length);
  EXPECT_GT(length, 0.6 * maker.summary().seam_length);
}

TEST(Orthomosaic, OverTheGroundTheHutLeans) {
  const Block block = flight();
  OrthomosaicScene scene = square();
  scene.heights = [](const Window& w) { return ImageF(w.width, w.height); };
  MadeUpPhotos photos(block, {});
  const OrthomosaicMaker maker(scene, block, photos, {}, Executor(2));
  const OrthomosaicPart part = whole(maker, scene.frame);
  std::size_t red = 0;
  for (int y = 0; y < scene.frame.rows; ++y)
    for (int x = 0; x < scene.frame.columns; ++x) red += part.picture.at(x, y, 0) > part.picture.at(x, y, 1) + 40;
  EXPECT_GT(red, 20u);
  EXPECT_GT(off_pattern(part, scene.frame).first, 4);
}

TEST(Orthomosaic, LevelsExposuresAndCorners) {
  const Block block = flight();
  const OrthomosaicScene scene = square();
  Faults faults;
  CounterRandom random(8);
  for (std::size_t i = 0; i < block.photos.size(); ++i) faults.gains.push_back(std::exp(0.15 * random.normal()));
  double mean = 0;
  for (const double g : faults.gains) mean += std::log(g) / static_cast<double>(faults.gains.size());
  for (double& g : faults.gains) g /= std::exp(mean);
  faults.corner_loss = 0.2;
  MadeUpPhotos photos(block, faults);
  const OrthomosaicMaker maker(scene, block, photos, {}, Executor(2));
  OrthomosaicOptions plain;
  plain.level = false;
  const OrthomosaicMaker as_they_are(scene, block, photos, plain, Executor(2));
  const auto [rms, off] = off_pattern(whole(maker, scene.frame), scene.frame);
  EXPECT_LT(rms, 5);
  EXPECT_NEAR(off, 0, 2.5) << "of some 115: two percent";
  EXPECT_GT(off_pattern(whole(as_they_are, scene.frame), scene.frame).first, 8);
  EXPECT_GT(maker.summary().exposure_before_percent, 8);
  EXPECT_LT(maker.summary().exposure_after_percent, 1.5);
  EXPECT_NEAR(maker.summary().corner_loss_percent, 20, 4);
}

TEST(Orthomosaic, LeavesOutWhatStoodThereForAMoment) {
  const Block block = flight();
  const OrthomosaicScene scene = square();
  // The photo that is nearest above the car.
  int nearest = 0;
  const auto away = [&](int i) {
    return (block.photos[static_cast<std::size_t>(i)].pose.centre.head<2>() - Vector2d(-5, 5)).norm();
  };
  for (int i = 1; i < static_cast<int>(block.photos.size()); ++i)
    if (away(i) < away(nearest)) nearest = i;
  Faults faults;
  faults.car = nearest;
  MadeUpPhotos photos(block, faults);
  const OrthomosaicMaker maker(scene, block, photos, {}, Executor(2));
  const OrthomosaicPart part = whole(maker, scene.frame);
  std::size_t blue = 0;
  for (int y = 0; y < scene.frame.rows; ++y)
    for (int x = 0; x < scene.frame.columns; ++x) blue += part.picture.at(x, y, 2) > part.picture.at(x, y, 0) + 40;
  EXPECT_LT(blue, 10u) << "of some 330 cells";
  EXPECT_GT(maker.summary().views_apart, 5u);
}

TEST(Orthomosaic, IsTheSameForAnyWindowsThreadsAndMemory) {
  const Block block = flight();
  OrthomosaicScene scene = square();
  Faults faults;
  faults.corner_loss = 0.1;
  MadeUpPhotos photos(block, faults);
  const OrthomosaicMaker maker(scene, block, photos, {}, Executor(1));
  const OrthomosaicPart one = whole(maker, scene.frame);
  const OrthomosaicMaker other(scene, block, photos, {}, Executor(7, std::uint64_t{1} << 20));
  for (const int side : {37, 100, 160}) {
    for (int y = 0; y < scene.frame.rows; y += side)
      for (int x = 0; x < scene.frame.columns; x += side) {
        const Window w{x, y, std::min(side, scene.frame.columns - x), std::min(side, scene.frame.rows - y)};
        const OrthomosaicPart part = other.part(w);
        for (int v = 0; v < w.height; ++v) {
          ASSERT_TRUE(
              std::equal(part.picture.row(v), part.picture.row(v) + 4 * w.width, one.picture.row(y + v) + 4 * x))
              << side << " " << x << " " << y + v;
          ASSERT_TRUE(std::equal(part.photo.row(v), part.photo.row(v) + w.width, one.photo.row(y + v) + x));
        }
      }
  }
}

TEST(Orthomosaic, GoesOnWithoutPhotosThatCannotBeRead) {
  const Block block = flight();
  const OrthomosaicScene scene = square();
  Faults faults;
  faults.missing = 7;
  faults.masked = 6;
  faults.small = 8;
  MadeUpPhotos photos(block, faults);
  const OrthomosaicMaker maker(scene, block, photos, {}, Executor(2));
  ASSERT_EQ(maker.summary().photos_missing.size(), 2u);
  EXPECT_THAT(maker.summary().photos_missing[1], testing::HasSubstr("75 x 60")) << "of another size than its camera";
  const OrthomosaicPart part = whole(maker, scene.frame);
  for (const std::uint16_t p : part.photo.data()) ASSERT_TRUE(p != 8 && p != 7 && p != 9);
  EXPECT_LT(off_pattern(part, scene.frame).first, 4);
  faults.missing = -2;
  MadeUpPhotos none(block, faults);
  EXPECT_THROW(OrthomosaicMaker(scene, block, none, {}, Executor(2)), Error);
}

TEST(Orthomosaic, OfOnePhotoHasWhatItSees) {
  Block block = flight();
  const OrthomosaicScene scene = square();
  MadeUpPhotos photos(block, {});
  block.photos = {block.photos[9]};
  OrthomosaicOptions plain;
  plain.level = false;
  const OrthomosaicMaker maker(scene, block, photos, plain, Executor(2));
  const OrthomosaicPart part = whole(maker, scene.frame);
  std::size_t seen = 0, hidden = 0;
  for (int y = 0; y < scene.frame.rows; ++y)
    for (int x = 0; x < scene.frame.columns; ++x) {
      seen += part.photo.at(x, y) == 1;
      const Vector2d p = scene.frame.middle(x, y);
      hidden += std::abs(p.y() + 0.5) < 1.2 && p.x() < -1.05 && p.x() > -1.6 && part.photo.at(x, y) == 0;
    }
  EXPECT_GT(seen, 5000u);
  EXPECT_LT(off_pattern(part, scene.frame).first, 4);
  EXPECT_GT(hidden, 40u) << "the photo stands to the east: the ground behind the hut is hidden";
  EXPECT_TRUE(maker.seams().empty());
}

TEST(Orthomosaic, RefusesWhatItCannotDo) {
  const Block block = flight();
  const OrthomosaicScene scene = square();
  MadeUpPhotos photos(block, {});
  const auto make = [&](const OrthomosaicOptions& options, const OrthomosaicScene& over, const Block& of) {
    return OrthomosaicMaker(over, of, photos, options, Executor(1));
  };
  OrthomosaicOptions bad;
  bad.max_angle_deg = 90;
  EXPECT_THROW(make(bad, scene, block), Error);
  bad = {}, bad.blend = 20;
  EXPECT_THROW(make(bad, scene, block), Error);
  EXPECT_THROW(make({}, scene, block.without_points().photos.empty() ? block : Block()), Error);
  OrthomosaicScene empty = scene;
  empty.heights = [](const Window& w) { return ImageF(w.width, w.height, 1, NAN); };
  EXPECT_THROW(make({}, empty, block), Error) << "no cell that a photo sees";
  OrthomosaicScene away = scene;
  away.frame.corner += Vector2d(1000, 0);
  EXPECT_THROW(make({}, away, block), Error);
  const OrthomosaicMaker maker(scene, block, photos, {}, Executor(1));
  EXPECT_THROW(maker.part({0, 0, scene.frame.columns + 1, 5}), Error);
  EXPECT_THROW(maker.part({-1, 0, 5, 5}), Error);
}

TEST(Sight, IsThatOfRaysInSmallSteps) {
  CounterRandom random(4);
  GridFrame frame;
  frame.cell = 0.5, frame.columns = 61, frame.rows = 47, frame.corner = {100, 200};
  ImageF heights(frame.columns, frame.rows);
  for (int y = 0; y < frame.rows; ++y)
    for (int x = 0; x < frame.columns; ++x)
      heights.at(x, y) = static_cast<float>(std::sin(0.2 * x) + (x % 13 == 5 && y % 11 < 4 ? 4 : 0));
  heights.at(30, 20) = NAN;
  const Sight sight(heights, frame, Executor(2));
  std::size_t open = 0, differ = 0;
  constexpr int kRays = 4000;
  for (int k = 0; k < kRays; ++k) {
    const int x = static_cast<int>(random.uniform() * frame.columns),
              y = static_cast<int>(random.uniform() * frame.rows);
    if (!std::isfinite(heights.at(x, y))) continue;
    const Vector2d p = frame.middle(x, y);
    const Vector3d place(p.x(), p.y(), static_cast<double>(heights.at(x, y)));
    const Vector3d eye(100 + 40 * random.uniform() - 5, 190 + 30 * random.uniform(), 3 + 12 * random.uniform());
    bool clear = true, nearly = false;
    const double length = (eye - place).head<2>().norm() / frame.cell;
    for (double t = 1.5; t < length; t += 0.02) {
      const Vector3d at = place + (eye - place) * t / length;
      const Vector2d in = frame.at(at.head<2>());
      if (in.x() < 0 || in.y() < 0 || in.x() >= frame.columns || in.y() >= frame.rows) break;
      const double over =
          at.z() + frame.cell - static_cast<double>(heights.at(static_cast<int>(in.x()), static_cast<int>(in.y())));
      if (over < 0) clear = false;
      if (std::abs(over) < 0.4) nearly = true;  // within a cell heights are one: its middle counts
    }
    const bool found = sight.open_way(place, eye);
    open += found;
    differ += !nearly && found != clear;
  }
  EXPECT_EQ(differ, 0u);
  EXPECT_GT(open, kRays / 5u);
  EXPECT_LT(open, kRays * 19 / 20u);
}

TEST(Blend, SpreadsAStepOverItsReachAlone) {
  constexpr int kSide = 256, kLevels = 3;
  ImageF differs(kSide, 64, 3), mask(kSide, 64, 1);
  for (int y = 0; y < 64; ++y)
    for (int x = 0; x < kSide; ++x) {
      mask.at(x, y) = x < 128 ? 1.0f : 0.0f;
      for (int c = 0; c < 3; ++c) differs.at(x, y, c) = x < 128 ? 0.0f : 10.0f;
    }
  const ImageF added = blend_in(differs, mask, kLevels, Executor(2));
  const int reach = blend_reach(kLevels);
  EXPECT_EQ(added.at(128 + reach, 32, 0), 0);
  EXPECT_EQ(added.at(127 - reach, 32, 0), 0);
  EXPECT_GT(added.at(129, 32, 1), 1);
  EXPECT_LT(added.at(129, 32, 1), 8);
  EXPECT_LT(added.at(140, 32, 1), added.at(129, 32, 1));
  // No bands: what the mask shows is as it is, and nothing is added.
  const ImageF none = blend_in(differs, mask, 0, Executor(1));
  for (const float v : none.data()) ASSERT_EQ(v, 0);
}

}  // namespace
}  // namespace icefield
