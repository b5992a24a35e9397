#include "icefield/control/targets.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <bit>
#include <cmath>
#include <set>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/target_sheet.h"
#include "icefield/io/text_file.h"
#include "icefield/photo/filter.h"
#include "simulate/target_photo.h"
#include "src/control/target_design.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using testing::HasSubstr;

std::uint32_t turned(std::uint32_t teeth, int sides) {
  return ((teeth << (3 * sides)) | (teeth >> (kTargetTeeth - 3 * sides))) & ((1u << kTargetTeeth) - 1);
}
std::uint32_t mirrored_code(std::uint32_t teeth) {
  std::uint32_t mirror = 0;
  for (int k = 0; k < kTargetTeeth; ++k) mirror |= (teeth >> k & 1) << (kTargetTeeth - 1 - k);
  return mirror;
}

TEST(Targets, CodesAreAsFarFromEachOtherAsSaid) {
  ASSERT_EQ(target_count(), 180);
  for (int a = 1; a <= target_count(); ++a)
    for (int b = a; b <= target_count(); ++b)
      for (int turn = 0; turn < 6; ++turn) {
        const std::uint32_t other = turned(target_teeth(b), turn);
        const int least = b <= 33 ? 6 : b <= 58 ? 5 : 4;
        if (a != b || turn != 0) {
          EXPECT_GE(std::popcount(target_teeth(a) ^ other), least) << a << " " << b;
        }
        EXPECT_GE(std::popcount(target_teeth(a) ^ mirrored_code(other)), 3) << a << " " << b;
      }
  EXPECT_THROW(target_teeth(0), Error);
  EXPECT_THROW(target_teeth(181), Error);
}

// The figure that is printed and the one that is looked for are the same.
TEST(Targets, OutlineIsWhatIsDark) {
  for (const int number : {1, 17, 180}) {
    const std::vector<Vector2d> outline = target_outline(number);
    const auto inside = [&](const Vector2d& p) {
      bool in = false;
      for (std::size_t i = 0, j = outline.size() - 1; i < outline.size(); j = i++) {
        const Vector2d &a = outline[i], &b = outline[j];
        if ((a.y() > p.y()) != (b.y() > p.y()) && p.x() < (b.x() - a.x()) * (p.y() - a.y()) / (b.y() - a.y()) + a.x())
          in = !in;
      }
      return in;
    };
    CounterRandom random(static_cast<std::uint64_t>(number));
    for (int k = 0; k < 4000; ++k) {
      const Vector2d p(random.uniform(-1.2, 1.2), random.uniform(-1.2, 1.2));
      EXPECT_EQ(is_dark(target_teeth(number), p), inside(p) && p.norm() >= kTargetDisc) << p.transpose();
    }
  }
}

struct Score {
  std::size_t placed = 0, found = 0, wrong = 0;
  double rms = 0, scaled = 0;
};
Score score(const simulate::TargetPhotoPlan& first, int seeds, int quality = 85) {
  Score score;
  const auto file = test::scratch_folder() / "targets.jpg";
  for (int k = 0; k < seeds; ++k) {
    simulate::TargetPhotoPlan plan = first;
    plan.width = 900, plan.height = 600, plan.seed = 100 + static_cast<std::uint64_t>(k);
    const simulate::TargetPhoto made = simulate::make_target_photo(plan);
    write_photo(file, made.photo, {}, quality);
    const std::vector<FoundTarget> found = find_targets(read_photo(file));
    score.placed += made.targets.size();
    for (const FoundTarget& target : found) {
      bool right = false;
      for (const simulate::PlacedTarget& placed : made.targets) {
        if (placed.number != target.number || (placed.pixel - target.pixel).norm() > 3) continue;
        right = true;
        const double off2 = (placed.pixel - target.pixel).squaredNorm() / 2;
        score.rms += off2, score.scaled += off2 / (target.sigma_px * target.sigma_px);
      }
      score.found += right, score.wrong += !right;
    }
  }
  const double n = std::max(1.0, static_cast<double>(score.found));
  score.rms = std::sqrt(score.rms / n), score.scaled = std::sqrt(score.scaled / n);
  return score;
}

TEST(Targets, SmallOnesAreFoundUpToThirtyDegrees) {
  for (const double tilt : {0.0, 30.0}) {
    simulate::TargetPhotoPlan plan;
    plan.diameter_px = 20, plan.tilt_deg = tilt, plan.targets = 24;
    const Score s = score(plan, 2);
    EXPECT_EQ(s.found, s.placed) << tilt;
    EXPECT_EQ(s.wrong, 0u) << tilt;
    EXPECT_LT(s.rms, 0.05) << tilt;
    EXPECT_GT(s.scaled, 0.4) << tilt;
    EXPECT_LT(s.scaled, 1.6) << tilt;
  }
}

TEST(Targets, LargerOnesAreFoundUpToSixtyDegrees) {
  for (const double size : {40.0, 100.0}) {
    simulate::TargetPhotoPlan plan;
    plan.diameter_px = size, plan.tilt_deg = 60, plan.targets = 12;
    const Score s = score(plan, 2);
    EXPECT_EQ(s.found, s.placed) << size;
    EXPECT_EQ(s.wrong, 0u) << size;
    EXPECT_LT(s.rms, 0.05) << size;
  }
}

// A circle's middle is not where its ellipse's is: near by that would be pixels.
TEST(Targets, LargeOnesInPerspectiveAreExact) {
  simulate::TargetPhotoPlan plan;
  plan.diameter_px = 260, plan.tilt_deg = 45, plan.focal_px = 800, plan.targets = 2;
  const Score s = score(plan, 2);
  EXPECT_EQ(s.found, s.placed);
  EXPECT_EQ(s.wrong, 0u);
  EXPECT_LT(s.rms, 0.1);
}

TEST(Targets, BlurredNoisyAndPaleOnesAreFoundOrLeftButNeverTakenForOthers) {
  simulate::TargetPhotoPlan plan;
  plan.diameter_px = 30, plan.tilt_deg = 30, plan.targets = 20;
  simulate::TargetPhotoPlan noisy = plan, blurred = plan, pale = plan;
  noisy.noise = 9;
  blurred.blur_px = 1.3;
  pale.white = 0.5, pale.black = 0.2;
  for (const auto& p : {noisy, blurred, pale}) {
    const Score s = score(p, 2, 70);
    EXPECT_GE(s.found, s.placed * 9 / 10);
    EXPECT_EQ(s.wrong, 0u);
    EXPECT_LT(s.rms, 0.1);
  }
  blurred.blur_px = 2;
  EXPECT_EQ(score(blurred, 2).wrong, 0u);
}

TEST(Targets, NothingIsFoundWhereThereIsNone) {
  // Discs in rings, hexagons and mirrored targets are no targets.
  ImageU8 photo(600, 400, 1, 200);
  for (int y = 0; y < 400; ++y)
    for (int x = 0; x < 600; ++x)
      for (int k = 0; k < 12; ++k) {
        const Vector2d p((x + 0.5 - (60 + 95 * (k % 6))) / 30, (y + 0.5 - (100 + 180 * (k / 6))) / 30);
        const double reach = hexagon_reach(p);
        if ((k < 6 && p.norm() < 0.5 + 0.08 * k) || (k >= 6 && reach < 0.7 + 0.06 * (k - 6)))
          photo.at(x, y) = p.norm() < kTargetDisc ? 200 : 30;
      }
  EXPECT_TRUE(find_targets(photo).empty());
  simulate::TargetPhotoPlan plan;
  plan.diameter_px = 60;
  const simulate::TargetPhoto made = simulate::make_target_photo(plan);
  ImageU8 mirrored(made.photo.width(), made.photo.height(), 3);
  for (int y = 0; y < mirrored.height(); ++y)
    for (int x = 0; x < mirrored.width(); ++x)
      for (int c = 0; c < 3; ++c) mirrored.at(x, y, c) = made.photo.at(mirrored.width() - 1 - x, y, c);
  EXPECT_EQ(find_targets(made.photo).size(), made.targets.size());
  EXPECT_TRUE(find_targets(mirrored).empty());
  EXPECT_TRUE(find_targets(ImageU8(10, 10)).empty());
  EXPECT_TRUE(find_targets(ImageU8(300, 200, 1, 128)).empty());
}

// What is printed is what is found: the page, drawn by another program, as a photo.
TEST(TargetSheet, IsTrueToSizeAndItsLengthsAreThoseBetweenMiddles) {
  TargetSheetOptions options;
  options.first = 3, options.count = 7;
  const TargetSheet sheet = plan_target_sheet(options);
  EXPECT_EQ(sheet.pages, 2u);
  EXPECT_EQ(sheet.ruler_mm, 100);
  std::set<std::pair<std::size_t, int>> seen;
  for (const TargetSheet::Placed& placed : sheet.targets) {
    EXPECT_TRUE(seen.insert({placed.page, placed.number}).second);
    const double reach = kTargetPaper * 25;
    EXPECT_GE(placed.middle_mm.x(), options.margin_mm + reach - 0.6);
    EXPECT_LE(placed.middle_mm.x(), options.width_mm - options.margin_mm - reach + 0.6);
    EXPECT_LE(placed.middle_mm.y(), options.height_mm - options.margin_mm - reach - 20);
  }
  for (const LengthRow& row : lengths_of_sheet(sheet)) {
    const auto at = [&](const std::string& name) {
      for (const TargetSheet::Placed& p : sheet.targets)
        if (target_name(p.number) == name) return p;
      ADD_FAILURE() << name;
      return sheet.targets[0];
    };
    EXPECT_EQ(at(row.from).page, at(row.to).page);
    EXPECT_NEAR(row.length, (at(row.from).middle_mm - at(row.to).middle_mm).norm() / 1000, 1e-9);
  }
  EXPECT_GE(lengths_of_sheet(sheet).size(), 6u);
}

TEST(TargetSheet, FilesAreWrittenAndTheSameEachTime) {
  const auto folder = test::scratch_folder();
  const TargetSheet sheet = plan_target_sheet(TargetSheetOptions());
  const auto pdf = write_target_sheet(folder / "sheet.pdf", sheet),
             svg = write_target_sheet(folder / "sheet.svg", sheet);
  ASSERT_EQ(pdf.size(), 1u);
  ASSERT_EQ(svg.size(), 1u);
  EXPECT_EQ(read_file(pdf[0]).substr(0, 5), "%PDF-");
  const std::string text = read_file(svg[0]);
  EXPECT_THAT(text, HasSubstr("width=\"210mm\" height=\"297mm\""));
  EXPECT_THAT(text, HasSubstr("T6, 50 mm from corner to corner"));
  EXPECT_THAT(text, HasSubstr("100 mm on a true print"));
  const std::string before = read_file(pdf[0]);
  write_target_sheet(folder / "sheet.pdf", sheet);
  EXPECT_EQ(read_file(pdf[0]), before);
}

TEST(TargetSheet, WhatDoesNotFitIsNamed) {
  const auto fault = [](TargetSheetOptions options) -> std::string {
    try {
      plan_target_sheet(options);
    } catch (const Error& e) {
      return e.what();
    }
    return "";
  };
  TargetSheetOptions options;
  options.diameter_mm = 400;
  EXPECT_THAT(fault(options), HasSubstr("the largest that does has 137 mm"));
  options = {};
  options.first = 178;
  EXPECT_THAT(fault(options), HasSubstr("numbers are 1 to 180"));
  options = {};
  options.diameter_mm = 1;
  EXPECT_THAT(fault(options), HasSubstr("too small"));
  EXPECT_EQ(paper_size("A4"), Vector2d(210, 297));
  EXPECT_EQ(paper_size("500x700"), Vector2d(500, 700));
  EXPECT_THROW(paper_size("a9"), Error);
  EXPECT_THROW(paper_size("10x"), Error);
  EXPECT_THROW(write_target_sheet("sheet.txt", plan_target_sheet(TargetSheetOptions())), Error);
}

}  // namespace
}  // namespace icefield
