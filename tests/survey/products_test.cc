#include "src/survey/products.h"

#include <gtest/gtest.h>

#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

struct Place {
  fs::path folder;
  Monitor monitor;
  Store store;
  Products products;
  explicit Place(const std::string& name)
      : folder(test::scratch_folder() / name),
        store((fs::create_directories(folder), folder / "records.sqlite"), monitor),
        products(folder, store) {}
  void write(const std::string& file, const Fingerprint& key, const std::string& body) {
    write_file(folder / file, "ply\ncomment fingerprint " + key.hex() + "\n" + body);
  }
};

Fingerprint key(int n) {
  return Fingerprinter().add(n).result();
}

TEST(Products, AFileIsCurrentForWhatItWasWrittenFor) {
  Place place("current");
  EXPECT_EQ(place.products.state_of("a.ply", key(1)), FileState::missing);
  place.write("a.ply", key(1), "one");
  EXPECT_EQ(place.products.state_of("a.ply", key(1)), FileState::other) << "without its record";
  place.products.written("a.ply", key(1));
  EXPECT_EQ(place.products.state_of("a.ply", key(1)), FileState::current);
  EXPECT_EQ(place.products.state_of("a.ply", key(2)), FileState::other);
  // Touched it is the same, of the same size and another content it is not.
  fs::last_write_time(place.folder / "a.ply", fs::last_write_time(place.folder / "a.ply") + std::chrono::seconds(9));
  EXPECT_EQ(place.products.state_of("a.ply", key(1)), FileState::current);
  place.write("a.ply", key(1), "ene");
  fs::last_write_time(place.folder / "a.ply", fs::last_write_time(place.folder / "a.ply") + std::chrono::seconds(19));
  EXPECT_EQ(place.products.state_of("a.ply", key(1)), FileState::changed);
}

TEST(Products, ARunThatDiedBetweenFileAndRecordIsNoticed) {
  Place place("died");
  place.write("a.ply", key(1), "one");
  place.products.written("a.ply", key(1));
  place.write("a.ply", key(2), "two, and its record did not come to be");
  EXPECT_EQ(place.products.state_of("a.ply", key(1)), FileState::other);
  EXPECT_EQ(place.products.state_of("a.ply", key(2)), FileState::other);
  EXPECT_FALSE(place.products.make_room("a.ply")) << "it is Icefield's own: it may be written over";
}

TEST(Products, WorkOfOthersIsPutAside) {
  Place place("aside");
  place.write("a.ply", key(1), "one");
  place.products.written("a.ply", key(1));
  EXPECT_FALSE(place.products.make_room("a.ply"));
  write_file(place.folder / "a.ply", "cleaned by hand");
  EXPECT_EQ(place.products.make_room("a.ply"), place.folder / "a.changed.ply");
  write_file(place.folder / "a.ply", "and again");
  place.products.remove("a.ply");
  EXPECT_TRUE(fs::exists(place.folder / "a.ply")) << "not Icefield's to remove";
  EXPECT_EQ(place.products.make_room("a.ply"), place.folder / "a.changed-2.ply");
  EXPECT_EQ(read_file(place.folder / "a.changed.ply"), "cleaned by hand");
}

TEST(Products, NoFileCanBeWhatIsWanted) {
  Place place("none");
  place.write("a.ply", key(1), "one");
  place.products.written("a.ply", key(1));
  place.products.absent("a.ply", key(2));
  EXPECT_FALSE(fs::exists(place.folder / "a.ply"));
  EXPECT_EQ(place.products.state_of("a.ply", key(2)), FileState::current);
  EXPECT_EQ(place.products.state_of("a.ply", key(1)), FileState::missing);
}

}  // namespace
}  // namespace icefield
