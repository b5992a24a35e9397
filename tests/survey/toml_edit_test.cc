#include "src/survey/toml_edit.h"

#include <gtest/gtest.h>

#include <functional>
#include <optional>
#include <set>
#include <toml++/toml.h>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "src/survey/toml_text.h"

namespace icefield {
namespace {

std::string set(const std::string& text, const TomlPath& path, const std::string& value) {
  return with_entry(text, path, value, "survey.toml");
}

TEST(TomlEdit, AnEntryIsReplacedWhereItStands) {
  EXPECT_EQ(set("# ours\neffort = \"draft\"  # quick\n\n[photos]\noff = []\n", {"effort"}, "\"fine\""),
            "# ours\neffort = \"fine\"  # quick\n\n[photos]\noff = []\n");
  EXPECT_EQ(set("[photos]\noff = [\n  'a.jpg', # blurred ]\n  \"b]#.jpg\",\n]\nmasks = ''\n", {"photos", "off"}, "[]"),
            "[photos]\noff = []\nmasks = ''\n");
  EXPECT_EQ(set("photos.off = ['''a\n]''']\r\n", {"photos", "off"}, "[]"), "photos.off = []\r\n");
  EXPECT_EQ(set("[cameras.\"FL-2 \\\"Hand\\\"\"]\nfocal_px = 1\n", {"cameras", "FL-2 \"Hand\"", "focal_px"}, "2"),
            "[cameras.\"FL-2 \\\"Hand\\\"\"]\nfocal_px = 2\n");
}

TEST(TomlEdit, AnEntryIsAddedToItsTable) {
  EXPECT_EQ(set("", {"dense", "shrink"}, "2"), "\n[dense]\nshrink = 2\n");
  EXPECT_EQ(set("[dense]\n# rounds\n\n[fuse]\nmin_views = 2", {"dense", "shrink"}, "2"),
            "[dense]\nshrink = 2\n# rounds\n\n[fuse]\nmin_views = 2");
  EXPECT_EQ(set("[fuse]\nmin_views = 2", {"fuse", "keep_thin"}, "true"), "[fuse]\nmin_views = 2\nkeep_thin = true\n");
  EXPECT_EQ(set("# first\n[fuse]\n", {"effort"}, "\"fine\""), "# first\neffort = \"fine\"\n\n[fuse]\n");
  EXPECT_EQ(set("a = 1\r\n", {"b", "c"}, "2"), "a = 1\r\n\r\n[b]\r\nc = 2\r\n");
}

TEST(TomlEdit, ATableIsTakenOutWithAllThatIsInIt) {
  const std::string text =
      "[bounds]\n# the cairn\ncentre = [0, 0,\n  1]\noutline = [\n  [0, 0],\n  [1, 0], # corner\n  [1, "
      "1],\n]\n\n[dense]\nshrink = 2\n";
  EXPECT_EQ(without(text, {"bounds"}, "survey.toml"), "# the cairn\n\n[dense]\nshrink = 2\n");
  EXPECT_EQ(without(text, {"photos"}, "survey.toml"), text);
  EXPECT_EQ(without("bounds.size = [1, 1, 1]\nbounds.centre = [0, 0, 0]\n", {"bounds"}, "survey.toml"), "");
  EXPECT_EQ(without("[cameras.A]\nfocal_px = 1\n[cameras.B]\nfocal_px = 2\n", {"cameras", "A"}, "survey.toml"),
            "[cameras.B]\nfocal_px = 2\n");
}

TEST(TomlEdit, WhatCannotBeChangedSafelyStaysAndSaysWhatToWrite) {
  for (const std::string text :
       {"photos = { off = [], sources = ['x'] }\n", "photos = 3\n", "[[photos]]\noff = []\n"}) {
    try {
      set(text, {"photos", "off"}, "[\"a.jpg\"]");
      ADD_FAILURE() << text;
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::input);
      EXPECT_EQ(e.subject(), "survey.toml");
      EXPECT_NE(e.remedy().find("photos.off = [\"a.jpg\"]"), std::string::npos) << e.remedy();
    }
  }
  EXPECT_THROW(without("bounds = { centre = [0, 0, 0] }\nx = { bounds = 1 }\n[[bounds.more]]\n", {"bounds"}, "f"),
               Error);
  EXPECT_THROW(set("off = [\n", {"photos", "off"}, "[]"), Error);
  EXPECT_THROW(set("a = 1\n", {"b"}, "[1, "), Error);
}

TEST(TomlEdit, NamesOfAllKindsAreQuoted) {
  for (const std::string name : {"plain.jpg", "with \"quotes\" and \\", "tab\tand\nline", "\x01\x7f", "Gletscher é"}) {
    const toml::table read = toml::parse("x = " + toml_list({name, name}));
    EXPECT_EQ(read["x"][1].value_or(std::string()), name);
    const std::string text = set("[cameras]\n", {"cameras", name, "focal_px"}, "3");
    EXPECT_EQ(toml::parse(text)["cameras"][name]["focal_px"].value_or(0), 3) << text;
  }
}

TEST(TomlText, LettersBeyondAsciiBelongIntoQuotes) {
  for (const std::string good : {"a = 'Gletscher é'  # é\n",
                                 "\xef\xbb\xbf"
                                 "'é' = \"\\\"é\"\n",
                                 "a = \"\"\"é\n\"\"é\"\"\"\"\nb = '''é'''\n"})
    EXPECT_FALSE(parsed_toml(good, "f").empty()) << good;
  // A key, a blank that only looks like one, and the letter for which the parser has no case.
  for (const std::string bad : {"a = 1\né = 2\n", "a = 1\nb\xc2\xa0= 2\n", "a = 1\nhe\xcb\x80ht = 2\n"}) {
    try {
      parsed_toml(bad, "survey.toml");
      ADD_FAILURE() << bad;
    } catch (const Error& e) {
      EXPECT_EQ(e.subject(), "survey.toml, line 2");
      EXPECT_NE(e.remedy().find("quotes"), std::string::npos);
    }
  }
  EXPECT_THROW(parsed_toml("a = 'é\nb = é'\n", "f"), Error);
}

// Valid texts in many layouts.
class Layouts {
 public:
  explicit Layouts(std::uint64_t seed) : random_(seed) {}

  std::string text() {
    std::string out = chance(4) ? "\xef\xbb\xbf" : "";
    if (chance(2)) out += comment();
    used_.clear();
    if (chance(2)) out += "effort = \"draft\"" + ending();
    for (const char* table : {"photos", "bounds", "dense", "cameras"}) {
      if (chance(4)) continue;
      switch (random_.below(5)) {
        case 0:
          out = dotted(table) + out_of_bom(out);
          break;  // before any header
        case 1:
          tail_ += "[" + blank() + table + blank() + "]" + ending() + entries(table);
          break;
        case 2:
          tail_ += std::string("[ '") + table + "' ]" + ending() + entries(table);
          break;
        case 3:
          tail_ += std::string("[") + table + ".\"FL #1 [a]\"]" + ending() + entries(table) + comment();
          break;
        default:
          out += std::string(table) + " = {" + blank() + "shrink = 1, centre = [0, 1]" + blank() + "}" + ending();
      }
      if (chance(3)) tail_ += comment();
    }
    out += std::exchange(tail_, "");
    if (chance(5) && !out.empty() && out.back() == '\n') out.pop_back();
    if (chance(4)) {
      std::string with_returns;
      for (const char c : out) with_returns += c == '\n' ? "\r\n" : std::string(1, c);
      return with_returns;
    }
    return out;
  }
  std::string value() {
    static const char* kValues[] = {"1",
                                    "-2.5e3",
                                    "true",
                                    "\"a # b ] \\\" c\"",
                                    "'x]y'",
                                    "[1, 2, 3]",
                                    "[\n  [0, 0],  # first ]\n  [1.5, 0],\n\n  [0.5, 1.25],\n]",
                                    "[ \"a\", 'b',\n\t\"c\" ]",
                                    "\"\"\"two\nlines ]\"\"\"",
                                    "'''\n[not = a table]\n'''",
                                    "{ a = 1, b = [ { c = ']' } ] }",
                                    "2026-11-28",
                                    "[]"};
    return kValues[random_.below(std::size(kValues))];
  }
  bool chance(std::uint32_t n) { return random_.below(n) == 0; }
  std::size_t below(std::size_t n) { return random_.below(static_cast<std::uint32_t>(n)); }

 private:
  static std::string out_of_bom(const std::string& text) {
    return text.starts_with("\xef\xbb\xbf") ? text.substr(3) : text;
  }
  std::string blank() { return std::string(random_.below(3), ' '); }
  std::string comment() { return chance(2) ? "# a note: [dense] shrink = 9 \"\n" : "\n"; }
  std::string ending() { return (chance(3) ? "  # why, \"really\" [x]" : "") + std::string("\n"); }
  std::string entries(const std::string&) {
    std::string out;
    std::set<std::string> used;
    for (int k = static_cast<int>(random_.below(4)); k > 0; --k) {
      static const char* kKeys[] = {"shrink", "centre", "outline", "off", "\"a b\"", "'c.d'"};
      const std::string key = kKeys[random_.below(std::size(kKeys))];
      if (!used.insert(key).second) continue;
      out += blank() + key + blank() + "=" + blank() + value() + ending();
      if (chance(4)) out += comment();
    }
    return out;
  }
  std::string dotted(const std::string& table) {
    return table + " . shrink = " + value() + ending() + table + ".\"a b\" = " + value() + ending();
  }
  CounterRandom random_;
  std::set<std::string> used_;
  std::string tail_;
};

// The meaning of a text without one place in it, and that place.
std::pair<std::string, std::string> parted(const std::string& text, const TomlPath& path) {
  toml::table root = toml::parse(text);
  std::ostringstream at, rest;
  const std::function<void(toml::table&, std::size_t)> take = [&](toml::table& table, std::size_t depth) {
    if (depth + 1 == path.size()) {
      if (const toml::node* node = table.get(path[depth])) {
        toml::table alone;
        alone.insert_or_assign("value", *node);
        at << alone;
      }
      table.erase(path[depth]);
    } else if (toml::table* next = table[path[depth]].as_table()) {
      take(*next, depth + 1);
      if (next->empty()) table.erase(path[depth]);
    }
  };
  take(root, 0);
  rest << root;
  return {at.str(), rest.str()};
}

TEST(TomlEdit, RandomLayoutsKeepTheirMeaning) {
  Layouts layouts(11);
  std::size_t changed = 0, refused = 0, removed = 0;
  for (int round = 0; round < 4000; ++round) {
    const std::string text = layouts.text();
    ASSERT_NO_THROW(toml::parse(text)) << text;
    static const std::vector<TomlPath> kPaths = {{"effort"},
                                                 {"photos", "off"},
                                                 {"bounds", "outline"},
                                                 {"dense", "shrink"},
                                                 {"dense", "a b"},
                                                 {"cameras", "FL #1 [a]", "centre"},
                                                 {"cameras", "new one", "focal_px"}};
    const TomlPath path = kPaths[layouts.below(kPaths.size())];
    std::string value = layouts.value();
    const auto before = parted(text, path);
    try {
      const std::string after = set(text, path, value);
      const auto now = parted(after, path);
      EXPECT_EQ(now.second, before.second) << text << "\n---\n" << after;
      std::ostringstream wanted;
      wanted << toml::parse("value = " + value);
      EXPECT_EQ(now.first, wanted.str()) << text << "\n---\n" << after;
      // Set again to the same it is the same text; every comment is still there.
      EXPECT_EQ(set(after, path, value), after);
      ++changed;
    } catch (const Error&) {
      ++refused;
    }
    const TomlPath table = {path[0]};
    const auto with_table = parted(text, table);
    try {
      const std::string after = without(text, table, "survey.toml");
      const auto now = parted(after, table);
      EXPECT_EQ(now.first, "");
      EXPECT_EQ(now.second, with_table.second) << text << "\n---\n" << after;
      ++removed;
    } catch (const Error&) {
      ++refused;
    }
  }
  EXPECT_GT(changed, 2500u);
  EXPECT_GT(removed, 3500u);
  EXPECT_GT(refused, 10u);  // inline tables
}

}  // namespace
}  // namespace icefield
