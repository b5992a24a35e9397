#include "icefield/base/statistics.h"

#include <gtest/gtest.h>

#include <cmath>

namespace icefield {
namespace {

TEST(Statistics, QuantilesTakeTheValueAtTheirPlace) {
  EXPECT_EQ(median(std::vector<double>{}), 0);
  EXPECT_EQ(median(std::vector<int>{3}), 3);
  EXPECT_EQ(median(std::vector<int>{4, 1, 3, 2}), 3);  // the upper one of two
  EXPECT_EQ(quantile(std::vector<int>{5, 1, 4, 2, 3}, 1, 5), 2);
  EXPECT_EQ(quantile(std::vector<int>{5, 1, 4, 2, 3}, 9, 9), 5);
}

TEST(Statistics, SetsAreNamedByTheirLeastIndex) {
  UnionFind sets(6);
  EXPECT_TRUE(sets.join(4, 2));
  EXPECT_TRUE(sets.join(5, 4));
  EXPECT_FALSE(sets.join(2, 5));
  EXPECT_EQ(sets.find(5), 2u);
  EXPECT_EQ(sets.find(0), 0u);
}

// Values of tables.
TEST(Statistics, TailsOfTheNormalAndOfSumsOfSquares) {
  EXPECT_NEAR(normal_quantile(0.975), 1.959964, 1e-6);
  EXPECT_NEAR(normal_quantile(0.5), 0, 1e-12);
  EXPECT_NEAR(normal_quantile(1e-9), -5.997807, 1e-5);
  EXPECT_NEAR(std::exp(log_two_sided_tail(1.959964)), 0.05, 1e-7);
  EXPECT_NEAR(std::exp(log_chi_square_tail(3.841459, 1)), 0.05, 1e-7);
  EXPECT_NEAR(std::exp(log_chi_square_tail(5.991465, 2)), 0.05, 1e-7);
  EXPECT_NEAR(std::exp(log_chi_square_tail(7.814728, 3)), 0.05, 1e-7);
  EXPECT_NEAR(std::exp(log_chi_square_tail(16.266236, 3)), 0.001, 1e-8);
  EXPECT_EQ(log_chi_square_tail(0, 3), 0);
  // Far out, where a double has no more room for the probability, and without a step on the way there.
  EXPECT_NEAR(log_two_sided_tail(100), -5004.831, 0.01);
  EXPECT_NEAR(log_two_sided_tail(28.2843), log_two_sided_tail(28.2842), 0.004);
  EXPECT_LT(log_chi_square_tail(1e6, 3), log_chi_square_tail(9e5, 3));
}

}  // namespace
}  // namespace icefield
