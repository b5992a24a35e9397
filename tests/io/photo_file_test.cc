#include "icefield/io/photo_file.h"

#include <gtest/gtest.h>

#include <cmath>
#include <fstream>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "tests/tools/programs.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

ImageU8 gradient(int width, int height, int channels) {
  ImageU8 image(width, height, channels);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      for (int c = 0; c < channels; ++c) image.at(x, y, c) = static_cast<std::uint8_t>((2 * x + 3 * y + 40 * c) & 255);
  return image;
}

void expect_rejected(const fs::path& file, const std::string& fault) {
  try {
    read_photo(file);
    FAIL() << file << " was read";
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::input);
    EXPECT_EQ(e.subject(), file.string());
    EXPECT_NE(e.fault().find(fault), std::string::npos) << e.what();
    EXPECT_FALSE(e.remedy().empty());
  }
}

TEST(PhotoFile, LosslessFormatsRoundTrip) {
  for (const char* name : {"a.png", "a.tif"})
    for (const int channels : {1, 3}) {
      const fs::path file = test::scratch_folder() / name;
      const ImageU8 image = gradient(61, 43, channels);
      write_photo(file, image);
      const ImageU8 back = read_photo(file);
      ASSERT_EQ(back.channels(), channels);
      EXPECT_EQ(back.values(), image.values()) << name;
    }
}

TEST(PhotoFile, SixteenBitAndFloatAreScaled) {
  const fs::path file = test::scratch_folder() / "float.tif";
  ImageF image(4, 1);
  image.at(1, 0) = 0.5f, image.at(2, 0) = 1.0f, image.at(3, 0) = 2.0f;
  write_float_image(file, image);
  const ImageU8 back = read_photo(file);
  EXPECT_EQ(back.at(0, 0), 0);
  EXPECT_NEAR(back.at(1, 0), 128, 1);
  EXPECT_EQ(back.at(2, 0), 255);
  EXPECT_EQ(back.at(3, 0), 255);
  EXPECT_EQ(read_float_image(file).values(), image.values());
}

// Files written here byte by byte, by the published formats and not by the library under test.
std::string big(std::uint32_t value, int bytes) {
  std::string out;
  for (int b = bytes - 1; b >= 0; --b) out += static_cast<char>(value >> (8 * b));
  return out;
}

std::string tiff16(int width, int height, int channels, bool big_endian, int orientation) {
  const auto put = [&](std::uint32_t value, int bytes) {
    std::string text = big(value, bytes);
    return big_endian ? text : std::string(text.rbegin(), text.rend());
  };
  std::string pixels;
  for (int i = 0; i < width * height; ++i)
    for (int c = 0; c < channels; ++c) pixels += put(static_cast<std::uint32_t>((257 * i + 9000 * c) & 0xffff), 2);
  const std::uint32_t data = 8, bits = data + static_cast<std::uint32_t>(pixels.size()), directory = bits + 8;
  std::string out = (big_endian ? "MM" : "II") + put(42, 2) + put(directory, 4) + pixels + put(16, 2) + put(16, 2) +
                    put(16, 2) + put(0, 2);
  const auto entry = [&](std::uint32_t tag, std::uint32_t type, std::uint32_t count, std::uint32_t value) {
    // A short stands in the first two of the four bytes.
    out += put(tag, 2) + put(type, 2) + put(count, 4) +
           (type == 3 && count == 1 ? put(value, 2) + put(0, 2) : put(value, 4));
  };
  out += put(10, 2);
  entry(256, 3, 1, static_cast<std::uint32_t>(width));
  entry(257, 3, 1, static_cast<std::uint32_t>(height));
  if (channels == 1)
    entry(258, 3, 1, 16);
  else
    entry(258, 3, 3, bits);
  entry(259, 3, 1, 1);
  entry(262, 3, 1, channels == 1 ? 1 : 2);
  entry(273, 4, 1, data);
  entry(274, 3, 1, static_cast<std::uint32_t>(orientation));
  entry(277, 3, 1, static_cast<std::uint32_t>(channels));
  entry(278, 3, 1, static_cast<std::uint32_t>(height));
  entry(279, 4, 1, static_cast<std::uint32_t>(pixels.size()));
  return out + put(0, 4);
}

std::string png16(int width, int height, int channels) {
  std::string rows;
  for (int y = 0, i = 0; y < height; ++y) {
    rows += '\0';
    for (int x = 0; x < width; ++x, ++i)
      for (int c = 0; c < channels; ++c) rows += big(static_cast<std::uint32_t>((257 * i + 9000 * c) & 0xffff), 2);
  }
  const auto chunk = [](const std::string& name, const std::string& content) {
    std::uint32_t crc = ~0u;
    for (const char ch : name + content) {
      crc ^= static_cast<std::uint8_t>(ch);
      for (int k = 0; k < 8; ++k) crc = (crc >> 1) ^ (crc & 1 ? 0xedb88320u : 0);
    }
    return big(static_cast<std::uint32_t>(content.size()), 4) + name + content + big(~crc, 4);
  };
  std::uint32_t a = 1, b = 0;
  for (const char ch : rows) a = (a + static_cast<std::uint8_t>(ch)) % 65521, b = (b + a) % 65521;
  const auto size = static_cast<std::uint32_t>(rows.size());
  // One stored block: no compression.
  const std::string stored = std::string("\x78\x01\x01") + static_cast<char>(size) + static_cast<char>(size >> 8) +
                             static_cast<char>(~size) + static_cast<char>(~size >> 8) + rows + big(b << 16 | a, 4);
  return "\x89PNG\r\n\x1a\n" +
         chunk("IHDR", big(static_cast<std::uint32_t>(width), 4) + big(static_cast<std::uint32_t>(height), 4) + "\x10" +
                           (channels == 1 ? '\0' : '\2') + std::string(3, '\0')) +
         chunk("IDAT", stored) + chunk("IEND", "");
}

TEST(PhotoFile, SixteenBitFilesOfOthersAreRead) {
  for (const int channels : {1, 3})
    for (const char* name : {"little.tif", "big.tif", "deep.png"}) {
      const fs::path file = test::scratch_folder() / name;
      std::ofstream(file, std::ios::binary)
          << (name[0] == 'd' ? png16(16, 12, channels) : tiff16(16, 12, channels, name[0] == 'b', 8));
      const ImageU8 image = read_photo(file);
      ASSERT_EQ(image.width(), 16) << name;
      ASSERT_EQ(image.height(), 12);
      ASSERT_EQ(image.channels(), channels);
      for (int i = 0; i < 16 * 12; ++i)
        for (int c = 0; c < channels; ++c)
          ASSERT_NEAR(image.at(i % 16, i / 16, c), ((257 * i + 9000 * c) & 0xffff) / 257.0, 1.0) << name << " " << i;
      const PhotoMetadata m = read_photo_metadata(file);
      EXPECT_EQ(m.width, 16);
      EXPECT_EQ(m.display_rotation, name[0] == 'd' ? 1 : 8);
    }
}

TEST(PhotoFile, MetadataSurvivesJpeg) {
  const fs::path file = test::scratch_folder() / "meta.jpg";
  PhotoMetadata m;
  m.make = "Firnlicht", m.model = "FL-2 Hand", m.lens = "Firnlicht 18-35";
  m.focal_mm = 22.5, m.focal_35mm = 34;
  m.time = "2026:08:19 10:11:12";
  m.display_rotation = 6;
  m.gps = GpsPosition{-46.812345, 10.754321, 2310.5};
  m.view_azimuth_deg = 211.5;
  m.view_elevation_deg = -62.25;
  write_photo(file, gradient(120, 80, 3), m, 90);
  const PhotoMetadata back = read_photo_metadata(file);
  EXPECT_EQ(back.width, 120);  // the rotation is kept as metadata and never applied
  EXPECT_EQ(back.height, 80);
  EXPECT_EQ(back.display_rotation, 6);
  EXPECT_EQ(back.make, m.make);
  EXPECT_EQ(back.model, m.model);
  EXPECT_NEAR(back.focal_mm, 22.5, 1e-4);
  EXPECT_EQ(back.focal_35mm, 34);
  EXPECT_EQ(back.time, m.time);
  ASSERT_TRUE(back.view_azimuth_deg && back.view_elevation_deg);
  EXPECT_NEAR(*back.view_azimuth_deg, 211.5, 0.01);
  EXPECT_NEAR(*back.view_elevation_deg, -62.25, 0.01);
  ASSERT_TRUE(back.gps);
  EXPECT_NEAR(back.gps->latitude_deg, m.gps->latitude_deg, 2e-6);
  EXPECT_NEAR(back.gps->longitude_deg, m.gps->longitude_deg, 2e-6);
  EXPECT_NEAR(back.gps->altitude_m, 2310.5, 0.1);
  EXPECT_EQ(read_photo(file).width(), 120);
}

TEST(PhotoFile, BadFilesAreNamedWithFaultAndRemedy) {
  const fs::path folder = test::scratch_folder();
  write_photo(folder / "good.jpg", gradient(200, 150, 3));
  const std::string good = test::content_of(folder / "good.jpg");
  std::ofstream(folder / "empty.jpg");
  expect_rejected(folder / "empty.jpg", "is empty");
  std::ofstream(folder / "text.jpg") << "notes on the moraine";
  expect_rejected(folder / "text.jpg", "no photo");
  std::ofstream(folder / "cut.jpg", std::ios::binary) << good.substr(0, good.size() / 2);
  expect_rejected(folder / "cut.jpg", "");
  expect_rejected(folder / "none.jpg", "does not exist");
  expect_rejected(folder, "folder");
  // A header of 30,000 x 30,000 with nothing behind it: refused by size, before anything is allocated.
  std::string huge = good;
  const std::size_t frame = huge.find("\xff\xc0");
  ASSERT_NE(frame, std::string::npos);
  for (const std::size_t at : {frame + 5, frame + 7})
    huge[at] = static_cast<char>(30000 >> 8), huge[at + 1] = static_cast<char>(30000 & 255);
  std::ofstream(folder / "huge.jpg", std::ios::binary) << huge.substr(0, huge.find("\xff\xda") + 14);
  expect_rejected(folder / "huge.jpg", "megapixels");
}

TEST(PhotoFile, WritingWhereItCannotIsAnError) {
  try {
    write_photo("/proc/none/a.png", gradient(4, 4, 3));
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::resource);
  }
}

TEST(FindPhotoFiles, NaturalOrderAndEachOnce) {
  const fs::path folder = test::scratch_folder() / "listing";
  fs::create_directories(folder / "b");
  for (const char* name : {"img10.jpg", "img2.JPG", "img1.png", "notes.txt", "b/img3.tif"})
    std::ofstream(folder / name) << "x";
  std::vector<std::string> names;
  for (const auto& f : find_photo_files({folder, folder / "img2.JPG"}))
    names.push_back(f.lexically_relative(folder).string());
  EXPECT_EQ(names, (std::vector<std::string>{"b/img3.tif", "img1.png", "img2.JPG", "img10.jpg"}));
  EXPECT_THROW(find_photo_files({folder / "none"}), Error);
}

TEST(NaturalLess, IsAnOrder) {
  EXPECT_TRUE(natural_less("img2", "img10"));
  EXPECT_FALSE(natural_less("img10", "img2"));
  EXPECT_TRUE(natural_less("a007b", "a7c"));
  EXPECT_FALSE(natural_less("same", "same"));
  EXPECT_NE(natural_less("Img", "img"), natural_less("img", "Img"));
}

TEST(WriteFile, IsThereWholeOrNotAtAll) {
  const fs::path file = test::scratch_folder() / "whole.txt";
  write_file(file, "before");
  EXPECT_THROW(write_file("/dev/full", std::string(100000, 'x')), Error);
  EXPECT_EQ(read_file(file), "before");
  write_file(file, "after");
  EXPECT_EQ(read_file(file), "after");
  EXPECT_FALSE(fs::exists(file.string() + ".part"));
  EXPECT_THROW(read_file(file, 2), Error);
}

}  // namespace
}  // namespace icefield
