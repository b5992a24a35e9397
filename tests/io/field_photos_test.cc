// Photo files as they come from the field: other formats, RAW, what is hung on behind a JPEG, what flying cameras
// write.
#include <gtest/gtest.h>

#include <cmath>
#include <fstream>

#include "icefield/base/error.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "icefield/photo/filter.h"
#include "src/io/photo_bytes.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

ImageU8 smooth(int width, int height) {
  ImageU8 image(width, height, 3);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      for (int c = 0; c < 3; ++c)
        image.at(x, y, c) = static_cast<std::uint8_t>(128 + 90 * std::sin(0.05 * x + c) * std::cos(0.07 * y));
  return image;
}

double mean_difference(const ImageU8& a, const ImageU8& b) {
  double sum = 0;
  for (std::size_t i = 0; i < a.data().size(); ++i) sum += std::abs(a.data()[i] - b.data()[i]);
  return sum / static_cast<double>(a.data().size());
}

fs::path place(const std::string& name) {
  const fs::path folder = test::scratch_folder() / "field";
  fs::create_directories(folder);
  return folder / name;
}

void put(const fs::path& file, const std::string& bytes) {
  std::ofstream(file, std::ios::binary) << bytes;
}

std::string jpeg_bytes(const ImageU8& image, const PhotoMetadata& metadata = {}) {
  const fs::path file = place("source.jpg");
  write_photo(file, image, metadata, 95);
  return read_file(file);
}

TEST(FieldPhotos, OtherFormatsAreRead) {
  const ImageU8 image = smooth(120, 80);
  PhotoMetadata metadata;
  metadata.make = "Firnlicht", metadata.model = "FL-2 Hand", metadata.focal_mm = 22.5;
  for (const char* name : {"a.heic", "a.webp", "a.jp2"}) {
    const fs::path file = place(name);
    write_photo(file, image, metadata, 95);
    const ImageU8 back = read_photo(file);
    ASSERT_EQ(back.width(), 120) << name;
    ASSERT_EQ(back.channels(), 3) << name;
    EXPECT_LT(mean_difference(back, image), 4) << name;
    EXPECT_EQ(find_photo_files({file}).size(), 1u);
  }
  EXPECT_EQ(read_photo_metadata(place("a.heic")).model, "FL-2 Hand");
  EXPECT_NEAR(read_photo_metadata(place("a.heic")).focal_mm, 22.5, 1e-3);
}

TEST(FieldPhotos, LinearLightGetsTheCurveOfPhotos) {
  const fs::path file = place("light.exr");
  ImageF light(4, 1);
  light.at(1, 0) = 0.2140f, light.at(2, 0) = 1, light.at(3, 0) = 7;
  write_float_image(file, light);
  const ImageU8 image = read_photo(file);
  EXPECT_EQ(image.at(0, 0), 0);
  EXPECT_NEAR(image.at(1, 0), 127.5, 1);  // middle grey of sRGB
  EXPECT_EQ(image.at(2, 0), 255);
  EXPECT_EQ(image.at(3, 0), 255);
  const ImageF grey = read_photo_grey(file);
  EXPECT_NEAR(grey.at(1, 0), 0.5f, 2e-3);
  EXPECT_EQ(read_float_image(file).at(3, 0), 7);  // a depth map stays what it is
}

// TIFF by its published format (Adobe, TIFF revision 6, 1992), little-endian, one strip.
class Tiff {
 public:
  void add(std::uint16_t tag, std::uint16_t type, std::uint32_t count, const std::string& value) {
    entries_.push_back({tag, type, count, value});
  }
  void shorts(std::uint16_t tag, std::vector<std::uint16_t> v) {
    add(tag, 3, static_cast<std::uint32_t>(v.size()), raw(v.data(), 2 * v.size()));
  }
  void longs(std::uint16_t tag, std::vector<std::uint32_t> v) {
    add(tag, 4, static_cast<std::uint32_t>(v.size()), raw(v.data(), 4 * v.size()));
  }
  void text(std::uint16_t tag, const std::string& v) {
    add(tag, 2, static_cast<std::uint32_t>(v.size() + 1), v + '\0');
  }
  void rationals(std::uint16_t tag, std::uint16_t type, std::vector<std::int32_t> v) {
    add(tag, type, static_cast<std::uint32_t>(v.size() / 2), raw(v.data(), 4 * v.size()));
  }
  std::string bytes(const std::string& pixels) {
    longs(273, {8});
    longs(279, {static_cast<std::uint32_t>(pixels.size())});
    std::sort(entries_.begin(), entries_.end(), [](const Entry& a, const Entry& b) { return a.tag < b.tag; });
    std::string data = pixels;
    while (data.size() % 4 != 0) data += '\0';
    std::string directory = number(static_cast<std::uint32_t>(entries_.size()), 2);
    for (const Entry& e : entries_) {
      std::string field = e.value;
      field.resize(std::max<std::size_t>(field.size(), 4), '\0');
      if (field.size() > 4) {
        const std::uint32_t at = 8 + static_cast<std::uint32_t>(data.size());
        data += field;
        while (data.size() % 4 != 0) data += '\0';
        field = number(at, 4);
      }
      directory += number(e.tag, 2) + number(e.type, 2) + number(e.count, 4) + field;
    }
    return "II" + number(42, 2) + number(8 + static_cast<std::uint32_t>(data.size()), 4) + data + directory +
           number(0, 4);
  }
  static std::string number(std::uint32_t value, int size) { return raw(&value, static_cast<std::size_t>(size)); }

 private:
  struct Entry {
    std::uint16_t tag, type;
    std::uint32_t count;
    std::string value;
  };
  static std::string raw(const void* data, std::size_t size) { return {static_cast<const char*>(data), size}; }
  std::vector<Entry> entries_;
};

// A RAW in the open DNG format (Adobe, DNG 1.4, 2012): 12 bits of a Bayer pattern, uncompressed.
std::string dng(int width, int height, int orientation) {
  Tiff tiff;
  tiff.longs(254, {0});
  tiff.longs(256, {static_cast<std::uint32_t>(width)});
  tiff.longs(257, {static_cast<std::uint32_t>(height)});
  tiff.shorts(258, {16});
  tiff.shorts(259, {1});
  tiff.shorts(262, {32803});
  tiff.text(271, "Firnlicht");
  tiff.text(272, "FL-2 Hand");
  tiff.shorts(274, {static_cast<std::uint16_t>(orientation)});
  tiff.shorts(277, {1});
  tiff.longs(278, {static_cast<std::uint32_t>(height)});
  tiff.shorts(284, {1});
  tiff.shorts(33421, {2, 2});
  tiff.add(33422, 1, 4, std::string("\0\1\1\2", 4));
  tiff.add(50706, 1, 4, std::string("\1\4\0\0", 4));
  tiff.add(50707, 1, 4, std::string("\1\1\0\0", 4));
  tiff.text(50708, "Firnlicht FL-2 Hand");
  tiff.shorts(50714, {0});
  tiff.longs(50717, {4095});
  tiff.rationals(50721, 10, {1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1});
  tiff.rationals(50728, 5, {1, 1, 1, 1, 1, 1});
  tiff.shorts(50778, {21});
  std::string pixels;
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) pixels += Tiff::number(static_cast<std::uint32_t>(200 + 3600 * x / width), 2);
  return tiff.bytes(pixels);
}

TEST(FieldPhotos, RawIsDevelopedAsStored) {
  const fs::path file = place("a.dng");
  put(file, dng(240, 160, 6));
  EXPECT_TRUE(is_raw_photo(file));
  const ImageU8 image = read_photo(file);
  EXPECT_EQ(image.channels(), 3);
  EXPECT_NEAR(image.width(), 240, 8);  // not turned upright; demosaicing may cost a margin
  EXPECT_NEAR(image.height(), 160, 8);
  EXPECT_LT(image.at(10, 80, 1) + 40, image.at(image.width() - 10, 80, 1));
  const PhotoMetadata metadata = read_photo_metadata(file);
  EXPECT_EQ(metadata.make, "Firnlicht");
  EXPECT_EQ(metadata.model, "FL-2 Hand");
  EXPECT_EQ(metadata.remark, "");
  // More than eight bits reach the features.
  const ImageF grey = read_photo_grey(file);
  std::size_t between = 0;
  for (const float v : grey.data()) between += std::abs(255 * v - std::round(255 * v)) > 0.05;
  EXPECT_GT(between, grey.data().size() / 2);
}

TEST(FieldPhotos, OfAnUnknownRawThePreviewIsTakenAndSaidSo) {
  PhotoMetadata metadata;
  metadata.make = "Firnlicht", metadata.model = "FL-9 Roh", metadata.focal_mm = 35;
  const std::string large = jpeg_bytes(smooth(160, 120), metadata), small = jpeg_bytes(smooth(40, 30));
  const fs::path file = place("b.nef");
  put(file, "RAW!" + std::string(999, '\x81') + small + std::string(77, '\xff') + large + std::string(5000, '\x42'));
  const PhotoMetadata read = read_photo_metadata(file);
  EXPECT_EQ(read.width, 160);
  EXPECT_EQ(read.model, "FL-9 Roh");
  EXPECT_NE(read.remark.find("preview of 160x120"), std::string::npos) << read.remark;
  EXPECT_EQ(read_photo(file).height(), 120);
  put(place("c.nef"), std::string(5000, '\x42'));
  EXPECT_THROW(read_photo(place("c.nef")), Error);
}

TEST(FieldPhotos, WhatHangsBehindAJpegDoesNoHarm) {
  const std::string jpeg = jpeg_bytes(smooth(200, 150));
  EXPECT_EQ(jpeg_end(jpeg), jpeg.size());
  // A film of 300 KB, with bytes in it that look like an end.
  std::string film;
  for (int i = 0; i < 300000; ++i) film += static_cast<char>(i % 251);
  film[1000] = '\xff', film[1001] = '\xd9';
  put(place("film.jpg"), jpeg + film);
  put(place("bare.jpg"), jpeg);
  EXPECT_EQ(read_photo(place("film.jpg")).values(), read_photo(place("bare.jpg")).values());
  EXPECT_EQ(jpeg_end(jpeg + film), jpeg.size());
  // A preview behind it, and one in front that is whole where the photo is not.
  const std::string preview = jpeg_bytes(smooth(32, 24));
  put(place("preview.jpg"), jpeg + preview);
  EXPECT_EQ(read_photo(place("preview.jpg")).width(), 200);
  // Cut anywhere, it is cut: in the last bytes, in the coded data, with a film behind the cut.
  for (const std::size_t keep :
       {jpeg.size() - 1, jpeg.size() - 2, jpeg.size() / 2, jpeg.size() / 3, std::size_t{200}}) {
    EXPECT_FALSE(jpeg_end(std::string_view(jpeg).substr(0, keep))) << keep;
    put(place("cut.jpg"), jpeg.substr(0, keep));
    EXPECT_THROW(read_photo(place("cut.jpg")), Error) << keep;
  }
  put(place("zeros.jpg"), jpeg.substr(0, jpeg.size() / 2) + std::string(100000, '\0'));
  EXPECT_THROW(read_photo(place("zeros.jpg")), Error);
}

TEST(FieldPhotos, PalettesAndPrintersColoursBecomeRgb) {
  Tiff cmyk;
  cmyk.longs(256, {8});
  cmyk.longs(257, {4});
  cmyk.shorts(258, {8, 8, 8, 8});
  cmyk.shorts(259, {1});
  cmyk.shorts(262, {5});
  cmyk.shorts(277, {4});
  cmyk.longs(278, {4});
  std::string pixels;
  for (int i = 0; i < 32; ++i) pixels += std::string("\xff\x00\x00\x00", 4);  // cyan
  put(place("cmyk.tif"), cmyk.bytes(pixels));
  const ImageU8 cyan = read_photo(place("cmyk.tif"));
  ASSERT_GE(cyan.channels(), 3);
  EXPECT_LT(cyan.at(2, 2, 0), 60);
  EXPECT_GT(cyan.at(2, 2, 1), 200);
  EXPECT_GT(cyan.at(2, 2, 2), 200);

  Tiff palette;
  palette.longs(256, {8});
  palette.longs(257, {4});
  palette.shorts(258, {8});
  palette.shorts(259, {1});
  palette.shorts(262, {3});
  palette.shorts(277, {1});
  palette.longs(278, {4});
  std::vector<std::uint16_t> colours(768, 0);
  colours[5] = 0xffff, colours[256 + 5] = 0x8000;  // number 5: orange
  palette.shorts(320, colours);
  put(place("palette.tif"), palette.bytes(std::string(32, '\5')));
  const ImageU8 orange = read_photo(place("palette.tif"));
  ASSERT_GE(orange.channels(), 3);
  EXPECT_EQ(orange.at(3, 1, 0), 255);
  EXPECT_NEAR(orange.at(3, 1, 1), 128, 1);
  EXPECT_EQ(orange.at(3, 1, 2), 0);
}

TEST(FieldPhotos, DimSixteenBitPhotosKeepTheirDetail) {
  ImageF dim(64, 64);
  for (int y = 0; y < 64; ++y)
    for (int x = 0; x < 64; ++x) dim.at(x, y) = 0.004f + 0.0002f * static_cast<float>((x * 7 + y * 13) % 8);
  write_float_image(place("dim.tif"), dim);
  const ImageF grey = read_photo_grey(place("dim.tif"));
  EXPECT_NEAR(grey.at(5, 9), dim.at(5, 9), 1e-6);
  jpeg_bytes(smooth(60, 40));
  EXPECT_EQ(read_photo_grey(place("source.jpg")).values(), to_grey(read_photo(place("source.jpg"))).values());
}

TEST(FieldPhotos, SerialNumberFocalPlaneAndSeaLevel) {
  PhotoMetadata m;
  m.body = "B-0042", m.pixel_mm = 0.0041;
  m.gps = GpsPosition{46.8, 10.75, -12.5};
  const fs::path file = place("sea.jpg");
  write_photo(file, smooth(60, 40), m);
  const PhotoMetadata read = read_photo_metadata(file);
  EXPECT_EQ(read.body, "B-0042");
  EXPECT_NEAR(read.pixel_mm, 0.0041, 1e-7);
  ASSERT_TRUE(read.gps);
  EXPECT_NEAR(read.gps->altitude_m, -12.5, 1e-3);
}

TEST(FieldPhotos, WhatFlyingCamerasWriteIsReadByItsMeaning) {
  PhotoMetadata m;
  m.gps = GpsPosition{46.8, 10.75, 2400};
  const std::string jpeg = jpeg_bytes(smooth(60, 40), m);
  const std::string packet =
      "http://ns.adobe.com/xap/1.0/" + std::string(1, '\0') +
      "<x:xmpmeta xmlns:x=\"adobe:ns:meta/\"><rdf:RDF><rdf:Description craft:RelativeAltitude=\"+63.50\" "
      "craft:GimbalYawDegree = '-12.5' craft:FlightYawDegree=\"99\" craft:RtkStdLon=\"0.012\" "
      "craft:RtkStdLat=\"0.016\">"
      "<craft:GimbalPitchDegree>-89.90</craft:GimbalPitchDegree><craft:RtkStdHgt>0.03</craft:RtkStdHgt>"
      "</rdf:Description></rdf:RDF></x:xmpmeta>";
  const std::size_t length = packet.size() + 2;
  const std::string segment =
      std::string("\xff\xe1") + static_cast<char>(length >> 8) + static_cast<char>(length & 255) + packet;
  const fs::path file = place("flown.jpg");
  put(file, jpeg.substr(0, 2) + segment + jpeg.substr(2));
  const PhotoMetadata read = read_photo_metadata(file);
  EXPECT_NEAR(read.height_above_start_m.value_or(0), 63.5, 1e-9);
  EXPECT_NEAR(read.view_azimuth_deg.value_or(0), 347.5, 1e-9);
  EXPECT_NEAR(read.view_elevation_deg.value_or(0), -89.9, 1e-9);
  ASSERT_TRUE(read.gps);
  EXPECT_NEAR(read.gps->horizontal_sigma_m, std::sqrt(0.5 * (0.012 * 0.012 + 0.016 * 0.016)), 1e-9);
  EXPECT_NEAR(read.gps->vertical_sigma_m, 0.03, 1e-9);
  EXPECT_TRUE(xmp_values("<x:xmpmeta a:b=\"").empty());
  EXPECT_TRUE(xmp_values("").empty());
}

TEST(FieldPhotos, SurveysOnTheWayAreNotLookedInto) {
  const fs::path folder = test::scratch_folder() / "card";
  for (const char* name : {"a.jpg", "job/results/cloud.png", "job/photos/b.jpg", "job/deeper/c.jpg", "d/e.cr2"}) {
    fs::create_directories((folder / name).parent_path());
    std::ofstream(folder / name) << "x";
  }
  EXPECT_EQ(find_photo_files({folder}).size(), 5u);
  std::ofstream(folder / "job" / "survey.toml") << "";
  std::vector<std::string> names;
  for (const auto& f : find_photo_files({folder})) names.push_back(f.lexically_relative(folder).string());
  EXPECT_EQ(names, (std::vector<std::string>{"a.jpg", "d/e.cr2"}));
  // Named itself, it is looked into but for what Icefield keeps there.
  names.clear();
  for (const auto& f : find_photo_files({folder / "job"})) names.push_back(f.lexically_relative(folder).string());
  EXPECT_EQ(names, (std::vector<std::string>{"job/deeper/c.jpg", "job/photos/b.jpg"}));
}

}  // namespace
}  // namespace icefield
