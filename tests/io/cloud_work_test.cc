#include "icefield/io/cloud_work.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <set>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "icefield/io/tiled_cloud.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

namespace fs = std::filesystem;

// Ground of about so many points, a tenth of a unit apart, in a far frame, in no order, with islands in the air and
// lonely points.
PointCloud strewn(int side, std::uint64_t seed, double left) {
  PointCloud cloud;
  cloud.origin = {642000, 5184000, 2300};
  CounterRandom random(seed);
  const auto add = [&](double x, double y, double z) {
    cloud.positions.emplace_back(static_cast<float>(left + x), static_cast<float>(y), static_cast<float>(z));
    cloud.colours.push_back({static_cast<std::uint8_t>(random.below(256)), 0, 0});
    cloud.views.push_back(3), cloud.conflicts.push_back(0);
  };
  for (int k = 0; k < side * side; ++k)
    add(0.1 * random.uniform(0, side), 0.1 * random.uniform(0, side), 0.02 * random.uniform());
  for (int island = 0; island < 24; ++island) {
    const double x = 0.1 * random.uniform(5, side - 5), y = 0.1 * random.uniform(5, side - 5);
    for (int k = 0; k < 40; ++k)
      add(x + 0.3 * random.uniform(), y + 0.3 * random.uniform(), 3 + 0.02 * random.uniform());
  }
  return cloud;
}

std::vector<fs::path> two_files() {
  const std::vector<fs::path> files = {test::scratch_folder() / "west.ply", test::scratch_folder() / "east.ply"};
  write_ply(files[0], strewn(150, 1, 0));
  PointCloud east = strewn(120, 2, 15);
  east.views = {};  // what not all carry is left out
  east.origin += Eigen::Vector3d(500, 0, 0);
  for (Eigen::Vector3f& p : east.positions) p.x() -= 500;
  write_ply(files[1], east);
  return files;
}

// Points with what they carry, in an order of their own.
std::multiset<std::array<long, 4>> places(const PointCloud& cloud) {
  std::multiset<std::array<long, 4>> all;
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const Eigen::Vector3d p = cloud.position(i);
    all.insert({std::lround(1e4 * p.x()), std::lround(1e4 * p.y()), std::lround(1e4 * p.z()), cloud.colours[i][0]});
  }
  return all;
}

CloudWorkResult work_in(std::size_t part_points, CloudWork work, const fs::path& output, int threads = 2) {
  work.part_points = part_points;
  return work_on_clouds(two_files(), output, work, Executor(threads), silent_monitor());
}

TEST(CloudWork, PartsGiveWhatTheWholeGives) {
  CloudWork work;
  work.box = Bounds{{642013, 5184006, 2300}, {11, 5, 50}, Eigen::Quaterniond::Identity()};
  work.thin = 0.15;
  const fs::path one = test::scratch_folder() / "one.ply", many = test::scratch_folder() / "many.ply";
  const CloudWorkResult whole = work_in(1'000'000, work, one), parts = work_in(2000, work, many);
  EXPECT_EQ(whole.parts, 1u);
  EXPECT_GT(parts.parts, 8u);
  EXPECT_EQ(whole.read, 22500u + 14400 + 2 * 24 * 40);
  EXPECT_EQ(parts.read, whole.read);
  EXPECT_EQ(parts.in_box, whole.in_box);
  EXPECT_LT(whole.in_box, whole.read);
  EXPECT_EQ(parts.thinned, whole.thinned);
  EXPECT_NEAR(parts.spacing, whole.spacing, 0.02);
  const PointCloud a = read_ply(one), b = read_ply(many);
  EXPECT_TRUE(places(a) == places(b));
  EXPECT_TRUE(a.views.empty() && !a.conflicts.empty());
  EXPECT_TRUE(b.views.empty() && !b.conflicts.empty());
  EXPECT_EQ(TiledCloud(many).tiles().size(), parts.parts);
  // Nothing but the results is left in the folder.
  for (const auto& entry : fs::directory_iterator(test::scratch_folder()))
    EXPECT_EQ(entry.path().string().find(".part"), std::string::npos) << entry.path();
  // The same bytes with other threads.
  const fs::path again = test::scratch_folder() / "again.ply";
  work_in(2000, work, again, 1);
  EXPECT_TRUE(read_file(again) == read_file(many));
}

TEST(CloudWork, NormalsAndCleaningKnowWhatLiesAround) {
  CloudWork work;
  work.clean = work.normals = true;
  work.cleaning.min_island_points = 60;
  work.aside = test::scratch_folder() / "aside.ply";
  const fs::path one = test::scratch_folder() / "one.ply", many = test::scratch_folder() / "many.ply";
  const CloudWorkResult whole = work_in(1'000'000, work, one);
  const PointCloud aside = read_ply(work.aside);
  const CloudWorkResult parts = work_in(2000, work, many);
  const auto island = static_cast<std::size_t>(Fault::island), lonely = static_cast<std::size_t>(Fault::lonely);
  EXPECT_EQ(whole.faults[island] + whole.faults[lonely], aside.size());
  EXPECT_GE(whole.faults[island], 24u * 2 * 30) << "those in the air";
  EXPECT_EQ(parts.faults[island], whole.faults[island]) << "across borders too";
  EXPECT_EQ(parts.faults[lonely], whole.faults[lonely]);
  EXPECT_EQ(parts.cleaned, whole.cleaned);
  EXPECT_TRUE(places(read_ply(work.aside)) == places(aside));
  const PointCloud a = read_ply(one), b = read_ply(many);
  ASSERT_TRUE(places(a) == places(b));
  std::map<std::array<float, 3>, Eigen::Vector3f> normals;
  for (std::size_t i = 0; i < a.size(); ++i)
    normals[{a.positions[i].x(), a.positions[i].y(), a.positions[i].z()}] = a.normals[i];
  const Eigen::Vector3f shift = (b.origin - a.origin).cast<float>();
  std::size_t same = 0;
  for (std::size_t i = 0; i < b.size(); ++i) {
    const Eigen::Vector3f p = b.positions[i] + shift;
    const auto found = normals.find({p.x(), p.y(), p.z()});
    same += found != normals.end() && found->second.dot(b.normals[i]) > 0.999f;
  }
  EXPECT_GT(static_cast<double>(same), 0.99 * static_cast<double>(b.size()));
}

TEST(CloudWork, TilesOfManyPartsAreThoseOfTheWhole) {
  CloudWork work;
  work.tiles = 1.5;
  const fs::path one = test::scratch_folder() / "one" / "tile.ply", many = test::scratch_folder() / "many" / "tile.ply";
  fs::create_directories(one.parent_path()), fs::create_directories(many.parent_path());
  const CloudWorkResult whole = work_in(1'000'000, work, one), parts = work_in(2000, work, many);
  EXPECT_GT(parts.parts, 8u);
  ASSERT_EQ(parts.files.size(), whole.files.size());
  EXPECT_GT(whole.files.size(), 100u);
  for (const std::string& file : whole.files)
    EXPECT_TRUE(places(read_ply(file)) == places(read_ply(many.parent_path() / fs::path(file).filename()))) << file;
}

TEST(CloudWork, AllInOnePlaceIsOnePart) {
  PointCloud spot;
  spot.positions.assign(5000, Eigen::Vector3f(1, 2, 3));
  const std::vector<fs::path> files = {test::scratch_folder() / "spot.ply"};
  write_ply(files[0], spot);
  CloudWork work;
  work.part_points = 1000;
  const auto result = work_on_clouds(files, test::scratch_folder() / "out.ply", work, Executor(1), silent_monitor());
  EXPECT_EQ(result.written, 5000u);
  EXPECT_EQ(result.parts, 1u);
}

TEST(CloudWork, AFileForNothingKeepsTheMeaningOfCoordinates) {
  PointCloud flat = strewn(40, 3, 0);
  flat.datum.crs = "EPSG:25832", flat.datum.units = "m";
  flat.positions.resize(1600), flat.colours.resize(1600), flat.views.resize(1600), flat.conflicts.resize(1600);
  const std::vector<fs::path> files = {test::scratch_folder() / "flat.ply"};
  write_ply(files[0], flat);
  CloudWork work;
  work.clean = true, work.cleaning.max_loneliness = 0;
  work.aside = test::scratch_folder() / "nothing.ply";
  const fs::path kept = test::scratch_folder() / "kept.ply", back = test::scratch_folder() / "back.ply";
  EXPECT_EQ(work_on_clouds(files, kept, work, Executor(1), silent_monitor()).cleaned, 1600u);
  EXPECT_EQ(PlyReader(work.aside).points(), 0u);
  EXPECT_EQ(PlyReader(work.aside).content().datum, flat.datum);
  const std::vector<fs::path> both = {work.aside, kept};
  EXPECT_EQ(work_on_clouds(both, back, {}, Executor(1), silent_monitor()).written, 1600u);
  EXPECT_TRUE(places(read_ply(back)) == places(flat));
}

TEST(CloudWork, FaultsLeaveNothingBehind) {
  const fs::path folder = test::scratch_folder() / "faults", output = folder / "out.ply";
  fs::create_directories(folder);
  CloudWork work;
  work.part_points = 2000;
  work.box = Bounds{{0, 0, 0}, {1, 1, 1}, Eigen::Quaterniond::Identity()};
  EXPECT_THROW(work_on_clouds(two_files(), output, work, Executor(1), silent_monitor()), Error);
  std::vector<fs::path> files = two_files();
  files.push_back(folder / "missing.ply");
  EXPECT_THROW(work_on_clouds(files, output, {}, Executor(1), silent_monitor()), Error);
  EXPECT_THROW(work_on_clouds({}, output, {}, Executor(1), silent_monitor()), Error);
  struct Cancelled : Monitor {
    bool cancelled() const override { return true; }
  } cancelled;
  work.box.reset();
  EXPECT_THROW(work_on_clouds(two_files(), output, work, Executor(1), cancelled), Error);
  EXPECT_TRUE(fs::is_empty(folder));
}

}  // namespace
}  // namespace icefield
