#include "src/control/target_design.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <iterator>
#include <numbers>

#include "icefield/base/error.h"

namespace icefield {
namespace {

using Eigen::Vector2d;

constexpr std::uint32_t kAll = (1u << kTargetTeeth) - 1;

// Found by trying orders at random: each word was taken that is far enough from all before it. None is near one of its
// own turns, or near a mirror image.
constexpr std::uint32_t kCodes[] = {
    0x007a6, 0x03629, 0x0b69c, 0x0a8dd, 0x1453d, 0x0f8eb, 0x0a5fe, 0x0690d, 0x0cde7, 0x17d63, 0x093ce, 0x06a91, 0x0987e,
    0x0f6f2, 0x05597, 0x1fb25, 0x03bbb, 0x01cac, 0x06c57, 0x16b6e, 0x01d4f, 0x044dc, 0x03351, 0x069f4, 0x0d72f, 0x12b96,
    0x149fb, 0x0e715, 0x023ed, 0x0557a, 0x04b23, 0x02d83, 0x01267, 0x0df76, 0x00a5c, 0x01316, 0x0792a, 0x07cd9, 0x139d5,
    0x06749, 0x02774, 0x0cd2c, 0x157db, 0x063b2, 0x04c4a, 0x072de, 0x0bf6b, 0x024bb, 0x0ab0e, 0x0ebd7, 0x06f9c, 0x03eb5,
    0x146b4, 0x07525, 0x1f9e6, 0x0dabf, 0x05f11, 0x019da, 0x0574e, 0x0078d, 0x1591d, 0x0dfd3, 0x15bd6, 0x022d5, 0x0bddc,
    0x04b8e, 0x1eb36, 0x0a37b, 0x0c9b2, 0x0e67d, 0x0ca6e, 0x1b8f7, 0x0dc9c, 0x0a5d5, 0x1daf4, 0x02d46, 0x0c7df, 0x07852,
    0x09255, 0x0cd55, 0x04d37, 0x05de1, 0x041ad, 0x015cc, 0x12daf, 0x0345d, 0x09d96, 0x03d17, 0x028bc, 0x043eb, 0x09853,
    0x04dcd, 0x136a7, 0x024ca, 0x02ae7, 0x094f4, 0x03d84, 0x14fe3, 0x05ee6, 0x00659, 0x0419b, 0x0d6a5, 0x0e6eb, 0x0c4bd,
    0x02ce4, 0x0adaa, 0x05bb4, 0x034ef, 0x078ec, 0x0327c, 0x01b7d, 0x0238b, 0x0bb37, 0x01dab, 0x0fb14, 0x16fe4, 0x03662,
    0x01aea, 0x03a57, 0x14dde, 0x0673e, 0x1ddb4, 0x04cbe, 0x05895, 0x0bea3, 0x0668f, 0x136fd, 0x0687e, 0x0665a, 0x1bd75,
    0x0c8a5, 0x24fad, 0x06d7d, 0x01fb2, 0x0ef27, 0x06463, 0x07b69, 0x15fac, 0x0e6b7, 0x15d6e, 0x04af3, 0x02927, 0x0acf2,
    0x25df6, 0x04275, 0x06d12, 0x06acb, 0x017f1, 0x03e4e, 0x00b5b, 0x0522e, 0x0fcad, 0x1bcec, 0x0c3a7, 0x0e5f3, 0x09e8d,
    0x15f2b, 0x169bd, 0x0096e, 0x025ac, 0x0415e, 0x017bc, 0x0466c, 0x0486d, 0x048df, 0x0069a, 0x0b3f4, 0x125e6, 0x0388b,
    0x12717, 0x054b1, 0x053b9, 0x0f516, 0x05dbd, 0x0a9ad, 0x14cd5, 0x0d363, 0x0172a, 0x17b74, 0x066f1,
};

std::uint32_t turned(std::uint32_t teeth, int sides) {
  const int by = 3 * sides;
  return by == 0 ? teeth : ((teeth << by) | (teeth >> (kTargetTeeth - by))) & kAll;
}

Vector2d corner(int side) {
  constexpr double kHalfRoot3 = std::numbers::sqrt3 / 2;
  constexpr double places[6][2] = {{1, 0},  {0.5, kHalfRoot3},   {-0.5, kHalfRoot3},
                                   {-1, 0}, {-0.5, -kHalfRoot3}, {0.5, -kHalfRoot3}};
  return {places[side % 6][0], places[side % 6][1]};
}

// The side that a direction goes through, and how far out a place is: 1 on the outer hexagon.
struct OnHexagon {
  int side = 0;
  double reach = 0;
};
OnHexagon on_hexagon(const Vector2d& place) {
  // Across each side, by the distance of the outer hexagon's sides.
  constexpr double kAcross = 2 / std::numbers::sqrt3;
  OnHexagon best{0, -1};
  for (int side = 0; side < 6; ++side) {
    const Vector2d middle = kAcross * kAcross * 0.5 * (corner(side) + corner(side + 1));
    const double reach = place.dot(middle);
    if (reach > best.reach) best = {side, reach};
  }
  return best;
}

int tooth_on(const OnHexagon& at, const Vector2d& place) {
  const Vector2d along = corner(at.side + 1) - corner(at.side);
  const double third = at.reach > 0 ? 3 * (place / at.reach - corner(at.side)).dot(along) : 0;
  return 3 * at.side + std::clamp(static_cast<int>(third), 0, 2);
}

}  // namespace

int target_count() {
  return static_cast<int>(std::size(kCodes));
}

std::uint32_t target_teeth(int number) {
  if (number < 1 || number > target_count())
    throw Error(ErrorKind::usage, fmt::format("target {}", number), "does not exist",
                fmt::format("numbers are 1 to {}", target_count()));
  return kCodes[number - 1];
}

std::vector<Vector2d> target_outline(int number) {
  const std::uint32_t teeth = target_teeth(number);
  std::vector<Vector2d> outline;
  const auto add = [&](const Vector2d& p) {
    if (outline.empty() || (outline.back() - p).norm() > 1e-9) outline.push_back(p);
  };
  for (int tooth = 0; tooth < kTargetTeeth; ++tooth) {
    const double reach = teeth >> tooth & 1 ? 1 : kTargetBody;
    const Vector2d from = corner(tooth / 3), to = corner(tooth / 3 + 1);
    for (const int third : {tooth % 3, tooth % 3 + 1}) add(reach * (from + (to - from) * third / 3.0));
  }
  if ((outline.front() - outline.back()).norm() < 1e-9) outline.pop_back();
  return outline;
}

double hexagon_reach(const Vector2d& place) {
  return on_hexagon(place).reach;
}

Vector2d tooth_middle(int tooth, double reach) {
  const Vector2d from = corner(tooth / 3), to = corner(tooth / 3 + 1);
  return reach * (from + (to - from) * (tooth % 3 + 0.5) / 3);
}

int part_at(const Vector2d& place) {
  if (place.squaredNorm() < kTargetDisc * kTargetDisc) return 0;
  const OnHexagon at = on_hexagon(place);
  if (at.reach < kTargetBody) return 1 + at.side;
  return 7 + (at.reach < 1 ? 0 : kTargetTeeth) + tooth_on(at, place);
}

bool is_dark(std::uint32_t teeth, const Vector2d& place) {
  if (place.squaredNorm() < kTargetDisc * kTargetDisc) return false;
  const OnHexagon at = on_hexagon(place);
  return at.reach < kTargetBody || (at.reach < 1 && (teeth >> tooth_on(at, place) & 1) != 0);
}

std::vector<ReadCode> read_code(const std::array<double, kTargetTeeth>& light, double least_score) {
  double all = 0;
  std::uint32_t read = 0;
  for (int tooth = 0; tooth < kTargetTeeth; ++tooth) {
    all += std::abs(light[static_cast<std::size_t>(tooth)]);
    if (light[static_cast<std::size_t>(tooth)] < 0) read |= 1u << tooth;
  }
  std::vector<ReadCode> codes;
  if (!(all > 0)) return codes;
  // Many wrong teeth cannot be outweighed: such words are not looked at any further.
  constexpr int kMostMended = 4;
  for (int number = 1; number <= target_count(); ++number) {
    ReadCode best{number, 0, 0, -1};
    for (int turn = 0; turn < 6; ++turn) {
      const std::uint32_t wrong = turned(kCodes[number - 1], turn) ^ read;
      const int mended = std::popcount(wrong);
      if (mended > kMostMended) continue;
      double against = 0;
      for (std::uint32_t left = wrong; left != 0; left &= left - 1)
        against += std::abs(light[static_cast<std::size_t>(std::countr_zero(left))]);
      const double score = 1 - 2 * against / all;
      if (score > best.score) best = {number, turn, mended, score};
    }
    if (best.score >= least_score) codes.push_back(best);
  }
  std::stable_sort(codes.begin(), codes.end(), [](const ReadCode& a, const ReadCode& b) { return a.score > b.score; });
  return codes;
}

}  // namespace icefield
