#include "icefield/io/raster_file.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <csignal>
#include <fstream>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "icefield/io/vector_file.h"
#include "icefield/world/crs.h"
#include "tests/tools/programs.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using testing::HasSubstr;

fs::path folder_of(const char* name) {
  const fs::path folder = test::scratch_folder() / "rasters" / name;
  fs::remove_all(folder);
  fs::create_directories(folder);
  return folder;
}
std::size_t files_in(const fs::path& folder) {
  return static_cast<std::size_t>(std::distance(fs::directory_iterator(folder), fs::directory_iterator()));
}
RasterContent content_of(int columns, int rows) {
  RasterContent content;
  content.frame.corner = {612000.5, 5195000.25};
  content.frame.cell = 0.25, content.frame.columns = columns, content.frame.rows = rows;
  content.datum.crs = "EPSG:25832", content.datum.vertical_crs = "EPSG:7837", content.datum.units = "m";
  content.datum.axes = Axes::east_north_up;
  content.bands = {"height"};
  content.fingerprint = "0123456789abcdef0123456789abcdef";
  content.notes["MADE_FOR"] = "a test";
  return content;
}
ImageF waves(int columns, int rows, int from_column = 0, int from_row = 0) {
  ImageF values(columns, rows);
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < columns; ++x)
      values.at(x, y) = (x + from_column) % 50 == 7
                            ? std::numeric_limits<float>::quiet_NaN()
                            : static_cast<float>(2000 + std::sin(0.1 * (x + from_column)) + 0.01 * (y + from_row));
  return values;
}

TEST(RasterFile, IsReadBackAndSoByAnotherReader) {
  const fs::path folder = folder_of("back"), file = folder / "heights.tif";
  const RasterContent content = content_of(700, 600);
  {
    RasterWriter out(file, content);
    for (int row = 0; row < 600; row += 256)
      for (int column = 0; column < 700; column += 256)
        out.write(column, row, waves(std::min(256, 700 - column), std::min(256, 600 - row), column, row));
    EXPECT_FALSE(fs::exists(file)) << "not before it is whole";
    out.finish();
  }
  EXPECT_EQ(files_in(folder), 1u);
  const RasterReader in(file);
  EXPECT_EQ(in.content().frame.columns, 700);
  EXPECT_EQ(in.content().frame.corner, content.frame.corner);
  EXPECT_EQ(in.content().frame.cell, 0.25);
  EXPECT_EQ(in.content().datum.crs, "EPSG:25832");
  EXPECT_EQ(in.content().datum.vertical_crs, "EPSG:7837");
  EXPECT_EQ(in.content().fingerprint, content.fingerprint);
  EXPECT_EQ(raster_fingerprint(file), content.fingerprint);
  EXPECT_EQ(in.content().notes.at("MADE_FOR"), "a test");
  EXPECT_EQ(in.content().bands.at(0), "height");
  const ImageF expected = waves(700, 600), got = in.read();
  for (std::size_t i = 0; i < got.data().size(); ++i) {
    const float a = got.data()[i], b = expected.data()[i];
    ASSERT_TRUE(a == b || (std::isnan(a) && std::isnan(b))) << i;
  }
  const ImageF part = in.read(100, 50, 20, 10);
  EXPECT_EQ(part.at(3, 4), expected.at(103, 54));
  EXPECT_THROW(in.read(690, 0, 20, 10), Error);
  const ImageF small = in.overview(100);
  EXPECT_EQ(small.width(), 100);
  EXPECT_NEAR(small.at(50, 43), 2003 + std::sin(35.3), 0.2);
  // By GDAL's own tool: place, system, no data, overviews.
  const auto info = test::run({"/usr/bin/gdalinfo", "-json", file.string()});
  ASSERT_EQ(info.status, 0);
  EXPECT_THAT(info.out, HasSubstr("\"noDataValue\":-9999"));
  EXPECT_THAT(info.out, HasSubstr("ETRS89 / UTM zone 32N"));
  EXPECT_THAT(info.out, HasSubstr("\"LAYOUT\":\"COG\""));
  EXPECT_THAT(info.out, HasSubstr("\"overviews\""));
  const auto at =
      test::run({"/usr/bin/gdallocationinfo", "-valonly", "-geoloc", file.string(), "612025.625", "5194990.125"});
  ASSERT_EQ(at.status, 0);
  EXPECT_NEAR(std::stod(at.out), expected.at(100, 40), 1e-3);
}

TEST(RasterFile, CarriesNumbersAndPictures) {
  const fs::path folder = folder_of("kinds");
  RasterContent content = content_of(64, 48);
  content.values = RasterValues::numbers;
  Image<std::uint16_t> numbers(64, 48);
  for (std::size_t i = 0; i < numbers.data().size(); ++i) numbers.values()[i] = static_cast<std::uint16_t>(i * 17);
  {
    RasterWriter out(folder / "numbers.tif", content);
    out.write(0, 0, numbers);
    out.finish();
  }
  const ImageF back = RasterReader(folder / "numbers.tif").read();
  for (std::size_t i = 0; i < back.data().size(); ++i) {
    const float expected = numbers.data()[i];
    ASSERT_TRUE(expected == 0 ? std::isnan(back.data()[i]) : back.data()[i] == expected) << i;
  }
  content.values = RasterValues::picture, content.bands.clear();
  ImageU8 picture(64, 48, 4);
  for (int y = 0; y < 48; ++y)
    for (int x = 0; x < 64; ++x)
      for (int c = 0; c < 4; ++c)
        picture.at(x, y, c) = static_cast<std::uint8_t>(c == 3 ? (x < 16 ? 0 : 255) : 3 * x + 20 * c);
  for (const RasterPacking packing : {RasterPacking::whole, RasterPacking::lossy}) {
    const fs::path file = folder / (packing == RasterPacking::whole ? "whole.tif" : "lossy.tif");
    RasterWriter out(file, content, packing);
    out.write(0, 0, picture);
    out.finish();
    const RasterReader in(file);
    EXPECT_EQ(in.content().values, RasterValues::picture);
    const ImageU8 got = in.read_picture(0, 0, 64, 48);
    for (int x = 20; x < 64; ++x)
      EXPECT_NEAR(got.at(x, 20, 1), picture.at(x, 20, 1), packing == RasterPacking::whole ? 0 : 12);
  }
}

TEST(RasterFile, OfBlockUnitsSaysSo) {
  const fs::path file = folder_of("units") / "h.tif";
  RasterContent content = content_of(20, 10);
  content.datum = Datum();
  RasterWriter out(file, content);
  out.write(0, 0, waves(20, 10));
  out.finish();
  const RasterReader in(file);
  EXPECT_TRUE(in.content().datum.crs.empty());
  EXPECT_EQ(in.content().datum.units_name(), "block units");
}

TEST(RasterFile, StaysWhatItWasWhenTheDiskIsFull) {
  const fs::path folder = folder_of("full"), file = folder / "h.tif";
  {
    RasterWriter out(file, content_of(40, 40));
    out.write(0, 0, waves(40, 40));
    out.finish();
  }
  const std::string before = test::content_of(file);
  // A child whose files may not grow beyond 200 kB.
  const pid_t child = fork();
  if (child == 0) {
    std::signal(SIGXFSZ, SIG_IGN);
    const rlimit limit{200'000, 200'000};
    setrlimit(RLIMIT_FSIZE, &limit);
    int status = 1;
    try {
      RasterWriter out(file, content_of(1500, 1500));
      ImageF noise(1500, 1500);
      for (std::size_t i = 0; i < noise.data().size(); ++i)
        noise.values()[i] = std::sin(static_cast<float>(i * i % 9973));
      out.write(0, 0, noise);
      out.finish();
    } catch (const Error& error) {
      status = error.kind() == ErrorKind::resource && error.subject() == file.string() ? 0 : 2;
    }
    _exit(status);
  }
  int status = -1;
  waitpid(child, &status, 0);
  EXPECT_TRUE(WIFEXITED(status));
  EXPECT_EQ(WEXITSTATUS(status), 0);
  EXPECT_EQ(test::content_of(file), before);
  EXPECT_EQ(files_in(folder), 1u);
}

TEST(RasterFile, TellsWhatIsNone) {
  const fs::path folder = folder_of("bad");
  EXPECT_THROW(RasterReader(folder / "none.tif"), Error);
  std::ofstream(folder / "text.tif") << "II*\0 this is no raster";
  EXPECT_THROW(RasterReader(folder / "text.tif"), Error);
  EXPECT_EQ(raster_fingerprint(folder / "text.tif"), "");
  RasterContent content = content_of(10, 10);
  EXPECT_THROW(RasterWriter(folder / "none" / "x.tif", content), Error);
  content.frame.columns = 0;
  EXPECT_THROW(RasterWriter(folder / "x.tif", content), Error);
  {
    RasterWriter out(folder / "x.tif", content_of(10, 10));
    EXPECT_THROW(out.write(5, 5, waves(10, 10)), Error);
  }
  EXPECT_EQ(files_in(folder), 1u);  // text.tif
  // Truncated.
  {
    RasterWriter out(folder / "whole.tif", content_of(800, 800));
    out.write(0, 0, waves(800, 800));
    out.finish();
  }
  const std::string all = test::content_of(folder / "whole.tif");
  for (const double share : {0.01, 0.3, 0.9}) {
    std::ofstream(folder / "cut.tif", std::ios::binary) << all.substr(0, static_cast<std::size_t>(share * all.size()));
    try {
      RasterReader(folder / "cut.tif").read();
      ADD_FAILURE() << share;
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::input);
    }
  }
}

TEST(ShapeFile, GoThereAndBack) {
  const fs::path folder = folder_of("shapes");
  ShapeLayer layer;
  layer.datum.crs = "EPSG:25832", layer.datum.units = "m", layer.datum.axes = Axes::east_north_up;
  for (int k = 0; k < 3; ++k) {
    Shape line;
    line.places = {{612000 + k, 5195000}, {612010 + k, 5195003.25}, {612020, 5195010 + k}};
    line.closed = k == 1;
    line.numbers["height"] = 2000 + 0.5 * k;
    line.texts["label"] = "line";
    layer.shapes.push_back(line);
  }
  for (const char* name : {"lines.gpkg", "lines.geojson"}) {
    write_shapes(folder / name, layer);
    const ShapeLayer back = read_shapes(folder / name, layer.datum);
    ASSERT_EQ(back.shapes.size(), 3u) << name;
    for (std::size_t k = 0; k < 3; ++k) {
      EXPECT_EQ(back.shapes[k].closed, layer.shapes[k].closed);
      EXPECT_EQ(back.shapes[k].numbers.at("height"), 2000 + 0.5 * static_cast<double>(k));
      ASSERT_EQ(back.shapes[k].places.size(), 3u);
      for (std::size_t i = 0; i < 3; ++i)
        EXPECT_LT((back.shapes[k].places[i] - layer.shapes[k].places[i]).norm(), 0.02)
            << name;  // seven digits of a degree
    }
    const std::string first = test::content_of(folder / name);
    write_shapes(folder / name, layer);
    EXPECT_EQ(test::content_of(folder / name), first) << name << ": the same bytes again";
  }
  EXPECT_EQ(files_in(folder), 2u);
  // By the standard in degrees.
  EXPECT_THAT(test::content_of(folder / "lines.geojson"), HasSubstr("10.4"));
  EXPECT_THROW(write_shapes(folder / "lines.doc", layer), Error);
  std::ofstream(folder / "bad.geojson") << "{\"type\": \"FeatureCollection\", \"features\": [{";
  EXPECT_THROW(read_shapes(folder / "bad.geojson"), Error);
  EXPECT_THROW(read_shapes(folder / "none.geojson"), Error);
  // Areas, one of them of two parts.
  std::ofstream(folder / "areas.geojson")
      << R"({"type":"FeatureCollection","features":[{"type":"Feature","properties":{"name":"heap"},"geometry":
         {"type":"MultiPolygon","coordinates":[[[[0,0],[4,0],[4,4],[0,0]]],[[[9,9],[12,9],[12,12],[9,9]]]]}}]})";
  const ShapeLayer areas = read_shapes(folder / "areas.geojson");
  EXPECT_EQ(areas.kind, ShapeKind::areas);
  ASSERT_EQ(areas.shapes.size(), 2u);
  EXPECT_EQ(areas.shapes[1].places.size(), 3u);
  EXPECT_EQ(areas.shapes[1].texts.at("name"), "heap");
}

}  // namespace
}  // namespace icefield
