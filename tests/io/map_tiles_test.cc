#include "icefield/io/map_tiles.h"

#include <gtest/gtest.h>

#include <cmath>
#include <fstream>
#include <nlohmann/json.hpp>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/raster_file.h"
#include "icefield/io/text_file.h"
#include "icefield/world/crs.h"
#include "tests/tools/programs.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using Eigen::Vector2d;

// 300 x 400 cells of half a metre whose colours say where they are, empty at the south-eastern corner.
fs::path picture(bool on_earth) {
  const fs::path file = test::scratch_folder() / (on_earth ? "picture.tif" : "bare.tif");
  RasterContent content;
  content.frame.corner = {612000, 5195000};
  content.frame.cell = 0.5, content.frame.columns = 300, content.frame.rows = 400;
  content.values = RasterValues::picture;
  if (on_earth) content.datum = {"EPSG:25832", "", "m", Axes::east_north_up};
  ImageU8 image(300, 400, 4);
  for (int y = 0; y < 400; ++y)
    for (int x = 0; x < 300; ++x) {
      if (x > 250 && y > 350) continue;
      image.at(x, y, 0) = static_cast<std::uint8_t>(x * 200 / 300),
                     image.at(x, y, 1) = static_cast<std::uint8_t>(y / 2);
      image.at(x, y, 2) = 90, image.at(x, y, 3) = 255;
    }
  RasterWriter out(file, content);
  out.write(0, 0, image);
  out.finish();
  return file;
}

// What a net's place shows, at a level.
std::optional<std::array<int, 3>> shown(const fs::path& folder, int level, const Vector2d& from_corner, double square) {
  const double size = square / std::ldexp(1.0, level);
  const Vector2d tile = from_corner / size;
  const fs::path file = folder / std::to_string(level) / std::to_string(static_cast<int>(tile.x())) /
                        (std::to_string(static_cast<int>(tile.y())) + ".png");
  if (!fs::exists(file)) return std::nullopt;
  const ImageU8 image = read_photo(file);
  EXPECT_EQ(image.width(), 256);
  EXPECT_EQ(image.channels(), 4);
  const int x = static_cast<int>(256 * (tile.x() - std::floor(tile.x()))),
            y = static_cast<int>(256 * (tile.y() - std::floor(tile.y())));
  if (image.at(x, y, 3) == 0) return std::nullopt;
  return std::array<int, 3>{image.at(x, y, 0), image.at(x, y, 1), image.at(x, y, 2)};
}

TEST(MapTiles, ShowEachPlaceWhereItIs) {
  for (const bool on_earth : {true, false}) {
    const fs::path folder = test::scratch_folder() / (on_earth ? "tiles" : "bare_tiles");
    const MapTiles made = write_map_tiles(picture(on_earth), folder, "a <place>", Executor(2));
    EXPECT_EQ(made.on_earth, on_earth);
    EXPECT_GE(made.tiles, 4u);
    const auto about = nlohmann::json::parse(read_file(folder / "tiles.json"));
    EXPECT_EQ(about["minzoom"], made.lowest);
    EXPECT_EQ(about["maxzoom"], made.highest);
    EXPECT_EQ(about["scheme"], "xyz");
    const CrsTransform to_net("EPSG:25832", "EPSG:3857");
    for (int level = made.lowest; level <= made.highest; ++level)
      for (const auto& [x, y] : {std::pair(20, 30), {150, 200}, {280, 20}, {30, 380}, {280, 380}}) {
        const Vector2d place(612000 + 0.5 * (x + 0.5), 5195000 - 0.5 * (y + 0.5));
        Vector2d from_corner = Vector2d(place.x() - 612000, 5195000 - place.y());
        double square = 256;
        if (on_earth) {
          square = 2 * std::numbers::pi * 6378137;
          const auto net = to_net({place.x(), place.y(), 0});
          ASSERT_TRUE(net);
          from_corner = Vector2d(net->x() + 0.5 * square, 0.5 * square - net->y());
        }
        const auto colour = shown(folder, level, from_corner, square);
        ASSERT_EQ(colour.has_value(), !(x > 250 && y > 350)) << level << " " << x << " " << y;
        if (!colour) continue;
        // A pixel of a level is so many cells.
        const double far = 2 + std::ldexp(1.5, made.highest - level);
        EXPECT_NEAR((*colour)[0], x * 200.0 / 300, far);
        EXPECT_NEAR((*colour)[1], y / 2.0, far);
        EXPECT_NEAR((*colour)[2], 90, 1);
      }
    // The page names the place and fetches nothing.
    const std::string page = read_file(folder / "index.html");
    EXPECT_NE(page.find("a &lt;place&gt;"), std::string::npos);
    EXPECT_EQ(page.find("http"), std::string::npos);
    // The same for any threads, over what was there.
    std::map<std::string, std::string> before;
    for (const auto& entry : fs::recursive_directory_iterator(folder))
      if (entry.is_regular_file()) before[fs::relative(entry.path(), folder).string()] = read_file(entry.path());
    write_map_tiles(picture(on_earth), folder, "a <place>", Executor(7));
    std::size_t same = 0;
    for (const auto& entry : fs::recursive_directory_iterator(folder))
      if (entry.is_regular_file())
        same += before[fs::relative(entry.path(), folder).string()] == read_file(entry.path());
    EXPECT_EQ(same, before.size());
    EXPECT_EQ(before.size(), made.tiles + 2);
  }
}

TEST(MapTiles, LeaveWhatIsNotTheirs) {
  const fs::path folder = test::scratch_folder() / "not_tiles";
  fs::create_directories(folder);
  std::ofstream(folder / "letter.txt") << "dear";
  EXPECT_THROW(write_map_tiles(picture(true), folder, "x"), Error);
  EXPECT_EQ(read_file(folder / "letter.txt"), "dear");
  // Nor where tiles are: what lies among them is someone's.
  const fs::path mixed = test::scratch_folder() / "mixed_tiles";
  write_map_tiles(picture(true), mixed, "x");
  std::ofstream(mixed / "notes.txt") << "mine";
  EXPECT_THROW(write_map_tiles(picture(true), mixed, "x"), Error);
  EXPECT_TRUE(fs::exists(mixed / "notes.txt"));
  // A raster that is no picture.
  const fs::path heights = test::scratch_folder() / "heights.tif";
  RasterContent content;
  content.frame.columns = content.frame.rows = 4, content.bands = {"height"};
  RasterWriter out(heights, content);
  out.write(0, 0, ImageF(4, 4));
  out.finish();
  EXPECT_THROW(write_map_tiles(heights, test::scratch_folder() / "none", "x"), Error);
  EXPECT_FALSE(fs::exists(test::scratch_folder() / "none"));
}

TEST(WorldPicture, HasItsPlaceBesideIt) {
  for (const char* name : {"out.png", "out.jpg"}) {
    const fs::path file = test::scratch_folder() / name;
    const auto files = write_world_picture(picture(true), file);
    ASSERT_EQ(files.size(), 3u);
    const ImageU8 image = read_photo(file);
    EXPECT_EQ(image.width(), 300);
    EXPECT_EQ(image.channels(), std::string(name) == "out.png" ? 4 : 3);
    EXPECT_NEAR(image.at(150, 100, 0), 100, 6);
    std::istringstream world(read_file(files[1]));
    double a, b, c, d, e, f;
    ASSERT_TRUE(world >> a >> b >> c >> d >> e >> f);
    EXPECT_EQ(a, 0.5);
    EXPECT_EQ(d, -0.5);
    EXPECT_EQ(e, 612000.25);
    EXPECT_EQ(f, 5194999.75);
    EXPECT_NE(read_file(files[2]).find("UTM zone 32N"), std::string::npos);
    // Another program finds it at the same place.
    const auto info = test::run({"/usr/bin/gdalinfo", file.string()});
    EXPECT_EQ(info.status, 0);
    EXPECT_NE(info.out.find("612000.000000000000000,5195000.000000000000000"), std::string::npos) << info.out;
    EXPECT_FALSE(fs::exists(file.string() + ".aux.xml"));
  }
  EXPECT_EQ(write_world_picture(picture(false), test::scratch_folder() / "bare.png").size(), 2u);
  EXPECT_THROW(write_world_picture(picture(true), test::scratch_folder() / "out.bmp"), Error);
}

}  // namespace
}  // namespace icefield
