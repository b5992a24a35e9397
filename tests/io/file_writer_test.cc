// A file that is written piece by piece: whole in its place, or what was there before.
#include "src/io/file_writer.h"

#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include "icefield/base/error.h"
#include "tests/tools/programs.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

fs::path folder_of(const char* name) {
  const fs::path folder = test::scratch_folder() / "file_writer" / name;
  fs::remove_all(folder);
  fs::create_directories(folder);
  return folder;
}

std::size_t files_in(const fs::path& folder) {
  return static_cast<std::size_t>(std::distance(fs::directory_iterator(folder), fs::directory_iterator()));
}

TEST(FileWriter, PutsWhatWasWrittenInPlaceAndNothingElse) {
  const fs::path folder = folder_of("whole");
  FileWriter out(folder / "cloud.ply");
  std::string expected;
  for (int i = 0; i < 300; ++i) {  // some buffers' worth
    const std::string piece(static_cast<std::size_t>(1 + 97 * i), static_cast<char>('a' + i % 26));
    out.append(piece);
    expected += piece;
    ASSERT_EQ(out.size(), expected.size());
  }
  // A header whose counts are known last: within what is written, and within what is still in the buffer.
  for (const std::size_t at : {std::size_t{3}, expected.size() - 9}) {
    out.overwrite(at, "COUNTED");
    expected.replace(at, 7, "COUNTED");
  }
  out.append("end");
  expected += "end";
  EXPECT_FALSE(fs::exists(folder / "cloud.ply")) << "not before it is whole";
  out.finish();
  EXPECT_EQ(test::content_of(folder / "cloud.ply"), expected);
  EXPECT_EQ(files_in(folder), 1u);
}

TEST(FileWriter, WithoutFinishTheOldFileStays) {
  const fs::path folder = folder_of("old");
  {
    FileWriter out(folder / "cloud.ply");
    out.append("first");
    out.finish();
  }
  {
    FileWriter out(folder / "cloud.ply");
    out.append(std::string(3u << 20, 'x'));
    EXPECT_EQ(test::content_of(folder / "cloud.ply"), "first");
  }
  EXPECT_EQ(test::content_of(folder / "cloud.ply"), "first");
  EXPECT_EQ(files_in(folder), 1u);
}

TEST(FileWriter, FailuresNameTheFileAndLeaveNothing) {
  const fs::path folder = folder_of("failures");
  const auto subject_of = [](auto write) {
    try {
      write();
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::resource);
      return e.subject();
    }
    return std::string("no error");
  };
  EXPECT_EQ(subject_of([&] { FileWriter(folder / "not there" / "a.ply"); }), (folder / "not there" / "a.ply").string());
  EXPECT_EQ(subject_of([&] {
              FileWriter out("/dev/full");
              out.append("something");
              out.finish();
            }),
            "/dev/full");
  EXPECT_EQ(subject_of([&] {
              FileWriter out("/dev/full");
              out.append(std::string(5u << 20, 'x'));  // more than is held back
            }),
            "/dev/full");
  // A folder stands where the file should go.
  fs::create_directories(folder / "taken" / "by a folder");
  EXPECT_NE(subject_of([&] {
              FileWriter out(folder / "taken");
              out.append("x");
              out.finish();
            }),
            "no error");
  EXPECT_TRUE(fs::is_directory(folder / "taken" / "by a folder"));
  EXPECT_EQ(files_in(folder), 1u);
}

TEST(FileWriter, WritesIntoADeviceOrAPipeAsItIs) {
  const fs::path folder = folder_of("pipe");
  const fs::path pipe = folder / "pipe";
  ASSERT_EQ(::mkfifo(pipe.c_str(), 0600), 0);
  test::Running reader({"/bin/cat", pipe.string()});
  FileWriter out(pipe);  // waits for the reader
  out.append("into the pipe");
  out.finish();
  EXPECT_EQ(reader.wait().out, "into the pipe");
  EXPECT_TRUE(fs::is_fifo(pipe));
}

}  // namespace
}  // namespace icefield
