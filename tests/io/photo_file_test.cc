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

TEST(PhotoFile, MetadataSurvivesJpeg) {
  const fs::path file = test::scratch_folder() / "meta.jpg";
  PhotoMetadata m;
  m.make = "Firnlicht", m.model = "FL-2 Hand", m.lens = "Firnlicht 18-35";
  m.focal_mm = 22.5, m.focal_35mm = 34;
  m.time = "2026:08:19 10:11:12";
  m.display_rotation = 6;
  m.gps = GpsPosition{-46.812345, 10.754321, 2310.5};
  write_photo(file, gradient(120, 80, 3), m, 90);
  const PhotoMetadata back = read_photo_metadata(file);
  EXPECT_EQ(back.width, 120);   // the rotation is kept as metadata and never applied
  EXPECT_EQ(back.height, 80);
  EXPECT_EQ(back.display_rotation, 6);
  EXPECT_EQ(back.make, m.make);
  EXPECT_EQ(back.model, m.model);
  EXPECT_NEAR(back.focal_mm, 22.5, 1e-4);
  EXPECT_EQ(back.focal_35mm, 34);
  EXPECT_EQ(back.time, m.time);
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
  for (const std::size_t at : {frame + 5, frame + 7}) huge[at] = static_cast<char>(30000 >> 8), huge[at + 1] = static_cast<char>(30000 & 255);
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
  for (const char* name : {"img10.jpg", "img2.JPG", "img1.png", "notes.txt", "b/img3.tif"}) std::ofstream(folder / name) << "x";
  std::vector<std::string> names;
  for (const auto& f : find_photo_files({folder, folder / "img2.JPG"})) names.push_back(f.lexically_relative(folder).string());
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
