// The linear solvers behind the adjustment, against dense ones.
#include <gtest/gtest.h>

#include <Eigen/Cholesky>
#include <Eigen/LU>
#include <numeric>
#include <set>
#include <tuple>

#include "icefield/base/random.h"
#include "icefield/adjust/adjust.h"
#include "src/adjust/block_cholesky.h"
#include "src/adjust/conjugate_gradients.h"
#include "src/adjust/dense_kernels.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

// A grid of nodes that meet their neighbours two steps away, with two more that meet all; sizes of 1 to 9.
BlockGraph grid(int width, int height, std::uint64_t seed) {
  CounterRandom random(seed);
  BlockGraph graph;
  const int n = width * height;
  graph.neighbours.resize(static_cast<std::size_t>(n + 2));
  for (int i = 0; i < n + 2; ++i) graph.sizes.push_back(1 + static_cast<int>(random.below(9)));
  const auto join = [&](int a, int b) {
    graph.neighbours[static_cast<std::size_t>(a)].push_back(static_cast<std::uint32_t>(b));
    graph.neighbours[static_cast<std::size_t>(b)].push_back(static_cast<std::uint32_t>(a));
  };
  for (int a = 0; a < n + 2; ++a)
    for (int b = a + 1; b < n + 2; ++b)
      if (b >= n || (std::abs(a % width - b % width) <= 2 && std::abs(a / width - b / width) <= 1)) join(a, b);
  for (auto& around : graph.neighbours) std::sort(around.begin(), around.end());
  return graph;
}

// Random values, positive definite by a heavy diagonal; and the same as a dense matrix.
Eigen::MatrixXd fill(BlockMatrix& matrix, std::uint64_t seed) {
  CounterRandom random(seed);
  Eigen::MatrixXd dense = Eigen::MatrixXd::Zero(matrix.unknowns(), matrix.unknowns());
  for (std::size_t a = 0; a < matrix.nodes(); ++a)
    for (std::uint64_t k = matrix.starts[a]; k < matrix.starts[a + 1]; ++k) {
      const std::uint32_t b = matrix.columns[k];
      for (int r = 0; r < matrix.sizes[a]; ++r)
        for (int c = 0; c < matrix.padded[b]; ++c) {
          double& value = matrix.values[matrix.places[k] + static_cast<std::uint64_t>(r * matrix.padded[b] + c)];
          value = random.normal();
          if (c >= matrix.sizes[b]) continue;  // padding: rubbish that must not matter
          if (a == b && c < r) value = dense(matrix.offsets[a] + r, matrix.offsets[b] + c);
          if (a == b && c == r) value = 80 + random.uniform();
          dense(matrix.offsets[a] + r, matrix.offsets[b] + c) = dense(matrix.offsets[b] + c, matrix.offsets[a] + r) =
              value;
        }
    }
  return dense;
}

std::vector<bool> last_two(const BlockGraph& graph) {
  std::vector<bool> last(graph.size(), false);
  last[graph.size() - 1] = last[graph.size() - 2] = true;
  return last;
}

TEST(EliminationOrder, IsAnOrderThatKeepsTheLastLastAndFillsInLittle) {
  const BlockGraph graph = grid(30, 12, 1);
  const auto order = elimination_order(graph, last_two(graph));
  EXPECT_EQ(std::set<std::uint32_t>(order.begin(), order.end()).size(), graph.size());
  EXPECT_GE(order[order.size() - 1], graph.size() - 2);
  EXPECT_GE(order[order.size() - 2], graph.size() - 2);
  std::vector<std::uint32_t> natural(graph.size());
  std::iota(natural.begin(), natural.end(), 0u);
  // Row by row the band is 30 nodes wide; across, 12 x 2. A good order costs a quarter of the first at most.
  EXPECT_LT(elimination_cost(elimination_fronts(reordered(graph, order))),
            0.25 * elimination_cost(elimination_fronts(graph)));
}

TEST(EliminationFronts, HoldEachNodeOnceAndPassOnUpwards) {
  const BlockGraph graph = grid(9, 7, 2);
  const auto fronts = elimination_fronts(graph);
  std::set<std::uint32_t> pivots;
  for (std::size_t f = 0; f < fronts.size(); ++f) {
    for (const std::uint32_t n : fronts[f].pivots) EXPECT_TRUE(pivots.insert(n).second);
    if (fronts[f].rest.empty()) continue;
    ASSERT_GT(fronts[f].parent, static_cast<std::int32_t>(f));
    const Front& parent = fronts[static_cast<std::size_t>(fronts[f].parent)];
    for (const std::uint32_t n : fronts[f].rest)
      EXPECT_TRUE(std::binary_search(parent.pivots.begin(), parent.pivots.end(), n) ||
                  std::binary_search(parent.rest.begin(), parent.rest.end(), n));
  }
  EXPECT_EQ(pivots.size(), graph.size());
}

TEST(DenseKernels, AgreeWithTheirPlainTwin) {
  CounterRandom random(12);
  for (const DenseKernels& kernels : {best_dense_kernels(), plain_dense_kernels()})
    for (const auto& [rows, columns, depth] :
         {std::tuple{1, 1, 1}, {24, 8, 5}, {25, 9, 16}, {100, 37, 64}, {61, 61, 3}}) {
      const Eigen::MatrixXd a = Eigen::MatrixXd::NullaryExpr(rows, depth, [&] { return random.normal(); });
      const Eigen::MatrixXd b = Eigen::MatrixXd::NullaryExpr(columns, depth, [&] { return random.normal(); });
      std::vector<double> left(packed_size(rows, depth, kernels.row_strip)),
          right(packed_size(columns, depth, kernels.column_strip));
      pack_strips(a.data(), rows, rows, depth, kernels.row_strip, left.data());
      pack_strips(b.data(), columns, columns, depth, kernels.column_strip, right.data());
      // A frame of other values around the target must stay.
      const int stride = rows + 3;
      Eigen::MatrixXd c = Eigen::MatrixXd::Ones(stride, columns + 2), expected = c;
      expected.block(1, 1, rows, columns) -= a * b.transpose();
      kernels.subtract_product(left.data(), right.data(), depth, rows, columns, false, &c(1, 1), stride);
      EXPECT_LT((c - expected).cwiseAbs().maxCoeff(), 1e-12) << rows << " x " << columns << " x " << depth;
      if (rows < columns) continue;
      c.setOnes();
      kernels.subtract_product(left.data(), right.data(), depth, rows, columns, true, &c(1, 1), stride);
      for (int j = 0; j < columns; ++j)
        for (int i = j; i < rows; ++i) EXPECT_NEAR(c(1 + i, 1 + j), expected(1 + i, 1 + j), 1e-12);
    }
}

TEST(BlockCholesky, SolvesAsADenseFactorDoes) {
  for (const auto& [width, height] : {std::pair{1, 1}, {6, 5}, {40, 9}}) {
    const BlockGraph plain = grid(width, height, 3);
    const BlockGraph graph = reordered(plain, elimination_order(plain, last_two(plain)));
    BlockMatrix matrix(graph);
    const Eigen::MatrixXd dense = fill(matrix, 4);
    const Eigen::VectorXd right = Eigen::VectorXd::LinSpaced(matrix.unknowns(), -1, 2);
    BlockCholesky factor(graph);
    ASSERT_TRUE(factor.factorise(matrix, Executor(2)));
    Eigen::VectorXd x = right;
    factor.solve(x);
    EXPECT_LT((dense * x - right).norm(), 1e-10 * right.norm());
    Eigen::VectorXd again = right;
    ASSERT_TRUE(factor.factorise(matrix, Executor(7)));
    factor.solve(again);
    EXPECT_EQ(x, again);
  }
}

TEST(BlockCholesky, SolvesWhereUpdatesHaveSeveralStrips) {
  // Rows of 26 nodes of 9 divide the grid: updates of 234 and more unknowns, in more than one stage.
  constexpr int kSide = 26, kSize = 9;
  BlockGraph plain;
  for (int a = 0; a < kSide * kSide; ++a) {
    plain.sizes.push_back(kSize);
    plain.neighbours.emplace_back();
    for (int b = 0; b < kSide * kSide; ++b)
      if (a != b && std::abs(a % kSide - b % kSide) <= 1 && std::abs(a / kSide - b / kSide) <= 1)
        plain.neighbours.back().push_back(static_cast<std::uint32_t>(b));
  }
  const BlockGraph graph = reordered(plain, elimination_order(plain, std::vector<bool>(plain.size(), false)));
  int largest = 0;
  for (const Front& front : elimination_fronts(graph)) largest = std::max(largest, front.rest_unknowns);
  ASSERT_GT(largest, 200);
  BlockMatrix matrix(graph);
  CounterRandom random(2);
  for (double& v : matrix.values) v = random.normal();
  for (std::size_t a = 0; a < matrix.nodes(); ++a)
    for (int r = 0; r < kSize; ++r)
      for (int c = 0; c <= r; ++c) {
        double* const block = matrix.diagonal(a);
        block[r * matrix.padded[a] + c] = c == r ? 80 : block[c * matrix.padded[a] + r];
      }
  matrix.prepare_multiply();
  const Eigen::VectorXd right = Eigen::VectorXd::LinSpaced(matrix.unknowns(), -1, 2);
  BlockCholesky factor(graph);
  std::vector<Eigen::VectorXd> found;
  for (const int threads : {1, 3}) {
    ASSERT_TRUE(factor.factorise(matrix, Executor(threads)));
    found.push_back(right);
    factor.solve(found.back());
    Eigen::VectorXd product;
    matrix.multiply(found.back(), product, Executor(2));
    EXPECT_LT((product - right).norm(), 1e-10 * right.norm());
  }
  EXPECT_EQ(found[0], found[1]);
}

TEST(BlockCholesky, SaysWhenAMatrixIsNotPositiveDefinite) {
  const BlockGraph graph = grid(8, 8, 5);
  BlockMatrix matrix(graph);
  fill(matrix, 6);
  BlockCholesky factor(graph);
  EXPECT_TRUE(factor.factorise(matrix, Executor(1)));
  matrix.diagonal(30)[0] = -1;
  EXPECT_FALSE(factor.factorise(matrix, Executor(2)));
}

TEST(BlockCholesky, BlocksOfTheInverse) {
  const BlockGraph plain = grid(14, 6, 7);
  const BlockGraph graph = reordered(plain, elimination_order(plain, last_two(plain)));
  BlockMatrix matrix(graph);
  const Eigen::MatrixXd inverse = fill(matrix, 8).inverse();
  BlockCholesky factor(graph);
  ASSERT_TRUE(factor.factorise(matrix, Executor(2)));
  const BlockMatrix blocks = factor.inverse_blocks(matrix, Executor(2));
  double largest = 0;
  for (std::size_t a = 0; a < matrix.nodes(); ++a)
    for (std::uint64_t k = matrix.starts[a]; k < matrix.starts[a + 1]; ++k) {
      const std::uint32_t b = matrix.columns[k];
      for (int r = 0; r < matrix.sizes[a]; ++r)
        for (int c = 0; c < matrix.sizes[b]; ++c)
          largest = std::max(
              largest, std::abs(blocks.values[blocks.places[k] + static_cast<std::uint64_t>(r * blocks.padded[b] + c)] -
                                inverse(matrix.offsets[a] + r, matrix.offsets[b] + c)));
    }
  EXPECT_LT(largest, 1e-12);
  EXPECT_EQ(blocks.values, factor.inverse_blocks(matrix, Executor(5)).values);
}

TEST(GraphDepth, CountsTheStepsAcross) {
  BlockGraph chain;
  for (std::uint32_t i = 0; i < 10; ++i) {
    chain.sizes.push_back(6);
    chain.neighbours.emplace_back();
    if (i > 0) chain.neighbours[i].push_back(i - 1);
    if (i < 9) chain.neighbours[i].push_back(i + 1);
  }
  EXPECT_EQ(graph_depth(chain, std::vector<bool>(10, false)), 9u);
  std::vector<bool> cut(10, false);
  cut[3] = true;
  EXPECT_EQ(graph_depth(chain, cut), 5u);  // pieces of 3 and 6
}

TEST(ConjugateGradients, AreTakenWherePhotosShareAtRandomAndNotAlongARow) {
  // Each point is seen by photos from anywhere: a full matrix, in which everything is near to everything.
  Block block;
  CounterRandom random(8);
  const Camera camera = make_camera(CameraModel::pinhole, 1000, 1000, 1000);
  block.cameras = {camera};
  constexpr int kPhotos = 420;
  for (int i = 0; i < kPhotos; ++i) {
    const Eigen::Vector3d centre = 10 * Eigen::Vector3d(random.normal(), random.normal(), random.normal()).normalized();
    block.photos.push_back({PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(0),
                            look_at(centre, Eigen::Vector3d::Zero(), Eigen::Vector3d(0.3, 0.5, 0.8))});
  }
  for (int p = 0; p < 9000; ++p) {
    const Eigen::Vector3d place(random.normal(), random.normal(), random.normal());
    std::vector<Observation> seen;
    for (int k = 0; k < 5; ++k) {
      const auto photo = static_cast<std::uint32_t>((k * 84) + static_cast<int>(random.uniform(0, 84)));
      const auto pixel = project(camera, block.photos[photo].pose.to_camera(place));
      if (pixel)
        seen.push_back(
            {PosedIndex(photo), FeatureIndex(), *pixel + 0.3 * Eigen::Vector2d(random.normal(), random.normal())});
    }
    if (seen.size() >= 2) block.add_point(place, seen);
  }
  Monitor monitor;
  int inner = 0;
  AdjustOptions options;
  options.free_parameters.clear();
  options.on_iteration = [&](const AdjustIteration& it) { inner += it.inner_iterations; };
  const AdjustResult own = adjust(block, options, Executor(2), monitor);
  EXPECT_GT(inner, 0);
  options.elimination = Elimination::direct;
  inner = 0;
  const AdjustResult direct = adjust(block, options, Executor(2), monitor);
  EXPECT_EQ(inner, 0);
  EXPECT_NEAR(own.summary.cost_after, direct.summary.cost_after, 1e-4 * direct.summary.cost_after);
  options.elimination = Elimination::automatic;
  adjust(test::ring_block(30, 300, 0.5), options, Executor(2), monitor);
  EXPECT_EQ(inner, 0);
}

TEST(ConjugateGradients, ComeToTheSameSolution) {
  const BlockGraph graph = grid(20, 8, 9);
  BlockMatrix matrix(graph);
  const Eigen::MatrixXd dense = fill(matrix, 10);
  matrix.prepare_multiply();
  const Eigen::VectorXd right = Eigen::VectorXd::LinSpaced(matrix.unknowns(), -1, 2);
  Eigen::VectorXd product;
  matrix.multiply(right, product, Executor(3));
  EXPECT_LT((product - dense * right).norm(), 1e-9 * product.norm());
  Eigen::VectorXd x;
  const ConjugateGradients exact = conjugate_gradients(matrix, right, 1e-14, 500, Executor(2), x);
  EXPECT_TRUE(exact.definite);
  EXPECT_LT((dense * x - right).norm(), 1e-5 * right.norm());
  Eigen::VectorXd rough;
  EXPECT_LT(conjugate_gradients(matrix, right, 0.1, 500, Executor(2), rough).iterations, exact.iterations);
  matrix.diagonal(3)[0] = -1;
  EXPECT_FALSE(conjugate_gradients(matrix, right, 0.1, 500, Executor(2), rough).definite);
}

}  // namespace
}  // namespace icefield
