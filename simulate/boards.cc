// Boards with coded targets in a scene.
#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/control/targets.h"
#include "simulate/scene.h"

namespace icefield::simulate {
namespace {

using Eigen::Vector3f;

// The lowest and the highest beneath a board, and how the ground lies there.
struct Beneath {
  float low = 1e9f, high = -1e9f;
  Vector3f up = Vector3f::UnitZ();
};
Beneath look_beneath(const std::function<float(double, double)>& height, double x, double y, double reach) {
  Beneath beneath;
  constexpr int kSide = 7;
  float east = 0, north = 0, squares = 0;
  for (int j = -kSide / 2; j <= kSide / 2; ++j)
    for (int i = -kSide / 2; i <= kSide / 2; ++i) {
      const double dx = reach * i / (kSide / 2), dy = reach * j / (kSide / 2);
      const float z = height(x + dx, y + dy);
      beneath.low = std::min(beneath.low, z), beneath.high = std::max(beneath.high, z);
      east += static_cast<float>(dx) * z, north += static_cast<float>(dy) * z;
      squares += static_cast<float>(dx * dx);
    }
  beneath.up = Vector3f(-east / squares, -north / squares, 1).normalized();
  return beneath;
}

}  // namespace

std::vector<Board> place_boards(const SceneOptions& options, const Bounds& subject,
                                const std::function<float(double x, double y)>& height) {
  if (options.targets > target_count())
    throw Error(ErrorKind::usage, "so many targets", "do not exist", "ask for no more than there are numbers");
  const bool flight = options.kind == "forefield";
  const double size = options.target_size > 0 ? options.target_size
                      : flight                ? 2.4
                                              : 0.16,
               radius = 0.5 * size, paper = radius * kTargetPaper;
  const double inner = flight ? 0.1 : 0.68, outer = flight ? 0.85 : 0.95;  // shares of the subject
  CounterRandom random(combine_keys(options.seed, 91));
  std::vector<Board> boards;
  double angle = random.uniform(0, 6.2831853);
  for (int k = 0; k < options.targets; ++k) {
    Board board;
    board.number = k + 1;
    board.radius = static_cast<float>(radius);
    const double share = std::sqrt(inner * inner + (outer * outer - inner * inner) * (k + 0.5) / options.targets);
    double flattest = 1e9;
    // The flattest of some spots, so that it does not stand on a boulder or in the stream's bank.
    for (int spot = 0; spot < 16; ++spot) {
      const double turn = angle + 0.15 * random.normal(), far = share * (1 + 0.05 * random.normal());
      const double x = subject.centre.x() + far * subject.half_size.x() * std::cos(turn),
                   y = subject.centre.y() + far * subject.half_size.y() * std::sin(turn);
      const Beneath beneath = look_beneath(height, x, y, paper);
      const bool apart = std::all_of(boards.begin(), boards.end(), [&](const Board& b) {
        return (b.middle.head<2>().cast<double>() - Eigen::Vector2d(x, y)).norm() > 3.2 * paper;
      });
      if (!apart || !(beneath.high - beneath.low < flattest)) continue;
      flattest = beneath.high - beneath.low;
      board.up = beneath.up;
      board.middle = Vector3f(static_cast<float>(x), static_cast<float>(y), beneath.high + 0.02f * board.radius);
    }
    angle += 2.399963;  // the golden angle: no two are near each other
    if (flattest > 1e8) continue;
    if (!flight) {
      // Leaning against stones, so that those who walk around the subject see it.
      constexpr float kLean = 0.7f;  // radians
      const Vector3f out = Vector3f(board.middle.x() - static_cast<float>(subject.centre.x()),
                                    board.middle.y() - static_cast<float>(subject.centre.y()), 0)
                               .normalized();
      board.up = std::cos(kLean) * Vector3f::UnitZ() + std::sin(kLean) * out;
      board.middle.z() += std::sin(kLean) * static_cast<float>(paper);
    }
    const float heading = static_cast<float>(random.uniform(0, 6.2831853));
    board.along = Vector3f(std::cos(heading), std::sin(heading), 0);
    board.along = (board.along - board.up * board.up.dot(board.along)).normalized();
    board.across = board.along.cross(board.up);  // seen from above x goes to y as on paper, clockwise
    boards.push_back(board);
  }
  return boards;
}

void add_boards(const std::vector<Board>& boards, Mesh& mesh) {
  for (std::size_t k = 0; k < boards.size(); ++k) {
    const Board& board = boards[k];
    const float paper = board.radius * static_cast<float>(kTargetPaper);
    const auto base = static_cast<std::uint32_t>(mesh.vertices.size());
    for (const auto& [x, y] : {std::pair{-1.0f, -1.0f}, {1.0f, -1.0f}, {1.0f, 1.0f}, {-1.0f, 1.0f}}) {
      mesh.vertices.push_back(board.middle + paper * (x * board.along + y * board.across));
      mesh.normals.push_back(board.up);
      mesh.materials.push_back(Material::board);
      mesh.objects.push_back(static_cast<std::uint16_t>(kFirstBoard + k));
    }
    for (const std::uint32_t i : {0u, 2u, 1u, 0u, 3u, 2u}) mesh.triangles.push_back(base + i);
  }
}

}  // namespace icefield::simulate
