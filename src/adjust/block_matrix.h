// A sparse symmetric matrix of dense blocks.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <vector>

#include "icefield/base/parallel.h"
#include "src/adjust/elimination_order.h"

namespace icefield {

// A block as it stands in a BlockMatrix.
using BlockRows =
    Eigen::Map<const Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>, 0, Eigen::OuterStride<>>;

// Upper triangle by rows of blocks: the row of node a holds its own block first and then those of later neighbours,
// ascending. A block of s rows stands row by row with `padded` columns each, a multiple of 4; what stands in the
// padding is not looked at.
struct BlockMatrix {
  std::vector<int> sizes, padded;     // by node
  std::vector<int> offsets;           // first unknown of each node; one more entry: all unknowns
  std::vector<std::uint64_t> starts;  // of each row in `columns`; one more entry
  std::vector<std::uint32_t> columns;
  std::vector<std::uint64_t> places;  // of each block in `values`; one more entry
  std::vector<double> values;

  BlockMatrix() = default;
  explicit BlockMatrix(const BlockGraph& graph);

  std::size_t nodes() const { return sizes.size(); }
  int unknowns() const { return offsets.empty() ? 0 : offsets.back(); }
  double* row(std::size_t node) { return values.data() + places[starts[node]]; }
  std::size_t row_values(std::size_t node) const { return places[starts[node + 1]] - places[starts[node]]; }
  double* diagonal(std::size_t node) { return values.data() + places[starts[node]]; }
  const double* diagonal(std::size_t node) const { return values.data() + places[starts[node]]; }
  // Where the block of two nodes that meet stands in `values`; first <= second.
  std::uint64_t place_of(std::size_t first, std::size_t second) const;
  BlockRows block(std::size_t first, std::size_t second) const {
    return BlockRows(values.data() + place_of(first, second), sizes[first], sizes[second],
                     Eigen::OuterStride<>(padded[second]));
  }

  // y = this x. The same bytes for any number of threads.
  void multiply(const Eigen::VectorXd& x, Eigen::VectorXd& y, const Executor& executor) const;
  void prepare_multiply();  // before the first product

 private:
  // Blocks below the diagonal by row, so that rows of a product are independent.
  std::vector<std::uint64_t> lower_starts_;
  std::vector<std::uint32_t> lower_rows_;  // the row that holds the block
  std::vector<std::uint64_t> lower_places_;
};

}  // namespace icefield
