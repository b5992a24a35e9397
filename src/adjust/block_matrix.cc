#include "src/adjust/block_matrix.h"

#include <algorithm>

namespace icefield {

BlockMatrix::BlockMatrix(const BlockGraph& graph) {
  sizes = graph.sizes;
  offsets.push_back(0);
  starts.push_back(0);
  std::uint64_t place = 0;
  for (const int size : sizes) {
    padded.push_back((size + 3) / 4 * 4);
    offsets.push_back(offsets.back() + size);
  }
  const auto add = [&](std::size_t a, std::uint32_t b) {
    columns.push_back(b);
    places.push_back(place);
    place += static_cast<std::uint64_t>(sizes[a]) * static_cast<std::uint64_t>(padded[b]);
  };
  for (std::size_t a = 0; a < graph.size(); ++a) {
    add(a, static_cast<std::uint32_t>(a));
    for (const std::uint32_t b : graph.neighbours[a])
      if (b > a) add(a, b);
    starts.push_back(columns.size());
  }
  places.push_back(place);
  values.assign(place, 0.0);
}

std::uint64_t BlockMatrix::place_of(std::size_t first, std::size_t second) const {
  const auto begin = columns.begin() + static_cast<std::ptrdiff_t>(starts[first]),
             end = columns.begin() + static_cast<std::ptrdiff_t>(starts[first + 1]);
  return places[static_cast<std::size_t>(std::lower_bound(begin, end, static_cast<std::uint32_t>(second)) -
                                         columns.begin())];
}

void BlockMatrix::prepare_multiply() {
  lower_starts_.assign(nodes() + 1, 0);
  for (std::size_t a = 0; a < nodes(); ++a)
    for (std::uint64_t k = starts[a] + 1; k < starts[a + 1]; ++k) ++lower_starts_[columns[k] + 1];
  for (std::size_t a = 0; a < nodes(); ++a) lower_starts_[a + 1] += lower_starts_[a];
  lower_rows_.resize(lower_starts_.back());
  lower_places_.resize(lower_starts_.back());
  auto next = lower_starts_;
  for (std::size_t a = 0; a < nodes(); ++a)
    for (std::uint64_t k = starts[a] + 1; k < starts[a + 1]; ++k) {
      const std::uint64_t at = next[columns[k]]++;
      lower_rows_[at] = static_cast<std::uint32_t>(a);
      lower_places_[at] = places[k];
    }
}

void BlockMatrix::multiply(const Eigen::VectorXd& x, Eigen::VectorXd& y, const Executor& executor) const {
  y.resize(unknowns());
  executor.blocks(nodes(), 32, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t a = begin; a < end; ++a) {
      const int size = sizes[a];
      auto out = y.segment(offsets[a], size);
      out.setZero();
      for (std::uint64_t k = lower_starts_[a]; k < lower_starts_[a + 1]; ++k) {
        const std::uint32_t b = lower_rows_[k];
        out.noalias() +=
            BlockRows(values.data() + lower_places_[k], sizes[b], size, Eigen::OuterStride<>(padded[a])).transpose() *
            x.segment(offsets[b], sizes[b]);
      }
      for (std::uint64_t k = starts[a]; k < starts[a + 1]; ++k) {
        const std::uint32_t b = columns[k];
        out.noalias() += BlockRows(values.data() + places[k], size, sizes[b], Eigen::OuterStride<>(padded[b])) *
                         x.segment(offsets[b], sizes[b]);
      }
    }
  });
}

}  // namespace icefield
