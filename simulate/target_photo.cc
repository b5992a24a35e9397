#include "simulate/target_photo.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

#include "icefield/base/random.h"
#include "icefield/control/targets.h"
#include "icefield/photo/filter.h"
#include "simulate/noise.h"

namespace icefield::simulate {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

bool within(const std::vector<Vector2d>& outline, const Vector2d& p) {
  bool inside = false;
  for (std::size_t i = 0, j = outline.size() - 1; i < outline.size(); j = i++) {
    const Vector2d &a = outline[i], &b = outline[j];
    if ((a.y() > p.y()) != (b.y() > p.y()) && p.x() < (b.x() - a.x()) * (p.y() - a.y()) / (b.y() - a.y()) + a.x())
      inside = !inside;
  }
  return inside;
}

// One board: from the target's plane to the photo, by a pinhole camera.
struct Board {
  Matrix3d to_photo, to_target;
  std::vector<Vector2d> outline;
  PlacedTarget placed;
};

Board place_board(const TargetPhotoPlan& plan, const Vector2d& at, CounterRandom& random) {
  Board board;
  board.placed.number = 1 + static_cast<int>(random.below(static_cast<std::uint32_t>(target_count())));
  board.outline = target_outline(board.placed.number);
  const double turn = random.uniform(0, 6.2831853), axis = random.uniform(0, 6.2831853);
  const Vector2d middle(0.5 * plan.width, 0.5 * plan.height);
  const Vector3d ray((at - middle).x() / plan.focal_px, (at - middle).y() / plan.focal_px, 1);
  // Slanted against the line of sight, and as far away as makes it this large.
  const Matrix3d turned =
      (Eigen::Quaterniond::FromTwoVectors(Vector3d::UnitZ(), ray) *
       Eigen::AngleAxisd(plan.tilt_deg * 0.017453292519943295, Vector3d(std::cos(axis), std::sin(axis), 0)) *
       Eigen::AngleAxisd(turn, Vector3d::UnitZ()))
          .toRotationMatrix();
  const Vector3d place = ray * plan.focal_px / (0.5 * plan.diameter_px);  // by the target's size
  Matrix3d camera;
  camera << plan.focal_px, 0, middle.x(), 0, plan.focal_px, middle.y(), 0, 0, 1;
  Matrix3d plane;
  plane << turned.col(0), turned.col(1), place;
  board.to_photo = camera * plane;
  board.to_target = board.to_photo.inverse();
  board.placed.pixel = (board.to_photo * Vector3d(0, 0, 1)).hnormalized();
  return board;
}

}  // namespace

TargetPhoto make_target_photo(const TargetPhotoPlan& plan) {
  CounterRandom random(combine_keys(plan.seed, 81));
  const double reach = 0.5 * plan.diameter_px * kTargetPaper * 1.12, cell = 2.2 * reach;
  const int columns = std::max(1, static_cast<int>(plan.width / cell)),
            rows = std::max(1, static_cast<int>(plan.height / cell));
  std::vector<Board> boards;
  const int count = std::min(plan.targets, columns * rows);
  for (int k = 0; k < count; ++k) {
    // Spread over the photo, however many there are.
    const int at = static_cast<int>(static_cast<std::int64_t>(k) * columns * rows / count);
    const Vector2d jitter(random.uniform(-0.5, 0.5), random.uniform(-0.5, 0.5));
    boards.push_back(place_board(
        plan, Vector2d((at % columns + 0.5) * plan.width / columns, (at / columns + 0.5) * plan.height / rows) + jitter,
        random));
  }
  ImageF light(plan.width, plan.height);
  const auto seed = static_cast<std::uint32_t>(mix_bits(plan.seed));
  for (int y = 0; y < plan.height; ++y)
    for (int x = 0; x < plan.width; ++x)
      light.at(x, y) =
          std::clamp(0.4f + 0.35f * fractal({0.01f * static_cast<float>(x), 0.01f * static_cast<float>(y), 0.5f}, 1.0f,
                                            8, 0.75f, 0, seed),
                     0.02f, 1.0f);
  constexpr int kSub = 5;
  for (const Board& board : boards) {
    const int span = static_cast<int>(reach * 1.3) + 2;
    const Vector2d& c = board.placed.pixel;
    for (int y = std::max(0, static_cast<int>(c.y()) - span); y < std::min(plan.height, static_cast<int>(c.y()) + span);
         ++y)
      for (int x = std::max(0, static_cast<int>(c.x()) - span);
           x < std::min(plan.width, static_cast<int>(c.x()) + span); ++x) {
        double sum = 0;
        for (int j = 0; j < kSub; ++j)
          for (int i = 0; i < kSub; ++i) {
            const Vector3d h = board.to_target * Vector3d(x + (i + 0.5) / kSub, y + (j + 0.5) / kSub, 1);
            const Vector2d q = h.hnormalized();
            if (!(h.z() > 0) || q.cwiseAbs().maxCoeff() > kTargetPaper)
              sum += light.at(x, y);
            else
              sum += q.norm() < kTargetDisc || !within(board.outline, q) ? plan.white : plan.black;
          }
        light.at(x, y) = static_cast<float>(sum / (kSub * kSub));
      }
  }
  if (plan.blur_px > 0) light = gaussian_blur(light, static_cast<float>(plan.blur_px));
  TargetPhoto result{ImageU8(plan.width, plan.height, 3), {}};
  for (int y = 0; y < plan.height; ++y)
    for (int x = 0; x < plan.width; ++x) {
      const double fall = 1 - 0.35 * x / plan.width;
      for (int c = 0; c < 3; ++c)
        result.photo.at(x, y, c) = static_cast<std::uint8_t>(
            std::clamp(255 * fall * light.at(x, y) + plan.noise * random.normal() + 0.5, 0.0, 255.0));
    }
  for (const Board& board : boards) result.targets.push_back(board.placed);
  return result;
}

}  // namespace icefield::simulate
