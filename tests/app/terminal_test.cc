// What a person sees who runs the tool in a terminal.
#include "tests/tools/terminal.h"

#include <algorithm>

#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using test::Terminal;

// A survey whose features are still to be found, without a run of its own.
std::string begun(const std::string& name) {
  const fs::path made = test::rendered("cairn", test::small_cairn()), folder = test::scratch_folder() / name;
  const test::Ran ran = test::icefield({"begin", folder.string(), (made / "photos").string()});
  EXPECT_EQ(ran.status, 0) << ran.error;
  return folder.string();
}

bool has(const std::vector<std::string>& lines, const std::string& text) {
  return std::any_of(lines.begin(), lines.end(),
                     [&](const std::string& line) { return line.find(text) != std::string::npos; });
}

TEST(Terminal, BarsComeWithTimeLeftAndGoWithoutATrace) {
  Terminal terminal({ICEFIELD_TOOL, "match", begun("bars")});
  ASSERT_EQ(terminal.wait(), 0) << terminal.written();
  const std::string& written = terminal.written();
  EXPECT_NE(written.find("find features"), std::string::npos);
  EXPECT_NE(written.find("match pairs"), std::string::npos);
  EXPECT_NE(written.find("[==="), std::string::npos);
  EXPECT_NE(written.find(" left"), std::string::npos);
  // In the end the table and the hint stand there, and nothing of a bar.
  const std::vector<std::string> lines = terminal.lines();
  EXPECT_TRUE(has(lines, "pairs"));
  EXPECT_TRUE(has(lines, "icefield pose"));
  EXPECT_FALSE(has(lines, "[="));
  EXPECT_FALSE(has(lines, "find features"));
}

TEST(Terminal, NoBarsWhereNobodyLooksOrNobodyWantsThem) {
  const std::string survey = begun("quiet");
  EXPECT_EQ(test::icefield({"match", survey}).error.find('\r'), std::string::npos) << "standard error is a file";
  Terminal terminal({ICEFIELD_TOOL, "match", survey, "--set", "feature.max_features=900", "--quiet"});
  ASSERT_EQ(terminal.wait(), 0) << terminal.written();
  EXPECT_EQ(terminal.written().find("[="), std::string::npos);
  EXPECT_TRUE(has(terminal.lines(), "pairs"));
}

TEST(Terminal, ControlCStopsInOrderAndTheLineIsClean) {
  const std::string survey = begun("stopped");
  Terminal terminal({ICEFIELD_TOOL, "run", survey});
  ASSERT_TRUE(terminal.wait_for("depth maps")) << terminal.written();
  terminal.type("\x03");
  EXPECT_EQ(terminal.wait(), 130) << terminal.written();
  const std::vector<std::string> lines = terminal.lines();
  EXPECT_TRUE(has(lines, "run the same command again")) << terminal.written();
  EXPECT_FALSE(has(lines, "[="));
}

}  // namespace
}  // namespace icefield
