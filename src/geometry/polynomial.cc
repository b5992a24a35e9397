#include "icefield/geometry/polynomial.h"

#include <algorithm>
#include <cmath>

namespace icefield {
namespace {

double evaluate(const double* c, int degree, double x) {
  double v = c[degree];
  for (int i = degree - 1; i >= 0; --i) v = v * x + c[i];
  return v;
}

double refine(const double* c, const double* derivative, int degree, double low, double high, double f_low) {
  // Newton's steps where they halve the bracket at least as fast as bisection would, bisection otherwise.
  double x = 0.5 * (low + high), before = high - low;
  for (int i = 0; i < 300; ++i) {
    const double f = evaluate(c, degree, x);
    if (f == 0) return x;
    if ((f < 0) == (f_low < 0))
      low = x;
    else
      high = x;
    const double step = f / evaluate(derivative, degree - 1, x);
    double next = x - step;
    if (!(next > low && next < high) || std::abs(step) > 0.5 * before) next = 0.5 * (low + high);
    before = std::abs(next - x);
    if (before <= 1e-15 * std::abs(x) + 1e-300) return next;
    x = next;
  }
  return x;
}

}  // namespace

std::vector<double> real_roots(std::span<const double> coefficients) {
  int degree = static_cast<int>(coefficients.size()) - 1;
  double largest = 0;
  for (double c : coefficients) largest = std::max(largest, std::abs(c));
  if (!(largest > 0) || !std::isfinite(largest)) return {};
  while (degree > 0 && std::abs(coefficients[degree]) < 1e-14 * largest) --degree;
  if (degree == 0) return {};

  // Derivatives: row k is the k-th one.
  std::vector<std::vector<double>> rows{{coefficients.begin(), coefficients.begin() + degree + 1}};
  for (int k = 1; k < degree; ++k) {
    const auto& above = rows.back();
    std::vector<double> row(above.size() - 1);
    for (std::size_t i = 1; i < above.size(); ++i) row[i - 1] = above[i] * static_cast<double>(i);
    rows.push_back(std::move(row));
  }
  // Cauchy's bound.
  double bound = 0;
  for (int i = 0; i < degree; ++i) bound = std::max(bound, std::abs(coefficients[i] / coefficients[degree]));
  bound += 1;

  std::vector<double> roots{-rows.back()[0] / rows.back()[1]};
  for (int k = degree - 2; k >= 0; --k) {
    const double* c = rows[k].data();
    const int n = degree - k;
    std::vector<double> found;
    double low = -bound, f_low = evaluate(c, n, low);
    for (std::size_t i = 0; i <= roots.size(); ++i) {
      const double high = i < roots.size() ? roots[i] : bound;
      const double f_high = evaluate(c, n, high);
      if (f_high == 0 && i < roots.size())
        found.push_back(high);
      else if (f_low != 0 && (f_low < 0) != (f_high < 0))
        found.push_back(refine(c, rows[k + 1].data(), n, low, high, f_low));
      low = high;
      f_low = f_high;
    }
    roots = std::move(found);
  }
  return roots;
}

}  // namespace icefield
