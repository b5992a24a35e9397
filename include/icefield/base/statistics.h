// Middle values, and sets that are joined.
#pragma once
#include <algorithm>
#include <cstdint>
#include <numeric>
#include <span>
#include <utility>
#include <vector>

namespace icefield {

// The value that `part` of `whole` of the values lie below: that at place n * part / whole of the sorted ones, the last
// at the most; 0 where there is none. Leaves the values in another order.
template <class Value>
Value quantile_in_place(std::span<Value> values, std::size_t part, std::size_t whole) {
  if (values.empty()) return Value{};
  const auto at =
      values.begin() + static_cast<std::ptrdiff_t>(std::min(values.size() - 1, values.size() * part / whole));
  std::nth_element(values.begin(), at, values.end());
  return *at;
}
// The same of values that stay as they are, or are handed over.
template <class Value>
Value quantile(std::vector<Value> values, std::size_t part, std::size_t whole) {
  return quantile_in_place(std::span<Value>(values), part, whole);
}
// Of an even number of values the upper one of the two in the middle.
template <class Value>
Value median(std::vector<Value> values) {
  return quantile(std::move(values), 1, 2);
}

// The value that a standard normal variable stays below with this probability (0 to 1, both excluded); to 1e-9 of it.
double normal_quantile(double probability);
// With what probability one lies farther from 0 than `deviations`, to either side; its natural logarithm, so that the
// smallest can still be told apart.
double log_two_sided_tail(double deviations);
// The same for a sum of `freedoms` squares of standard normal variables (1 to 3) above `sum`.
double log_chi_square_tail(double sum, int freedoms);

// Sets of things by their index; each is named by the least index in it.
class UnionFind {
 public:
  explicit UnionFind(std::size_t count) : parent_(count) { std::iota(parent_.begin(), parent_.end(), 0u); }
  std::uint32_t find(std::uint32_t i) {
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  // False where they are one set already.
  bool join(std::uint32_t a, std::uint32_t b) {
    a = find(a), b = find(b);
    if (a == b) return false;
    parent_[std::max(a, b)] = std::min(a, b);
    return true;
  }
  std::size_t size() const { return parent_.size(); }

 private:
  std::vector<std::uint32_t> parent_;
};

}  // namespace icefield
