#include "icefield/geometry/polynomial.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace icefield {
namespace {

constexpr int kMaxDegree = 32;
using Coefficients = std::array<double, kMaxDegree + 1>;  // [i] belongs to x^i

double evaluate(const double* c, int degree, double x) {
  double v = c[degree];
  for (int i = degree - 1; i >= 0; --i) v = v * x + c[i];
  return v;
}

// Sturm's chain: the polynomial, its derivative, and the negated remainders of their division. The number of sign
// changes along it at a less that at b is the number of distinct roots in (a, b].
struct SturmChain {
  std::array<Coefficients, kMaxDegree + 1> rows;
  std::array<int, kMaxDegree + 1> degree;
  int count = 0;

  SturmChain(const Coefficients& c, int n) {
    rows[0] = c;
    degree[0] = n;
    for (int i = 1; i <= n; ++i) rows[1][i - 1] = c[i] * i;
    degree[1] = n - 1;
    count = 2;
    scale(0);
    scale(1);
    while (degree[count - 1] > 0) {
      Coefficients rest = rows[count - 2];
      const Coefficients& by = rows[count - 1];
      const int m = degree[count - 1];
      for (int k = degree[count - 2]; k >= m; --k) {
        const double factor = rest[k] / by[m];
        for (int i = 0; i < m; ++i) rest[k - m + i] -= factor * by[i];
      }
      int left = m - 1;
      while (left > 0 && std::abs(rest[left]) < 1e-15) --left;
      if (left == 0 && std::abs(rest[0]) < 1e-15) break;  // a common divisor: roots of higher order count once
      for (int i = 0; i <= left; ++i) rows[count][i] = -rest[i];
      degree[count] = left;
      scale(count++);
    }
  }
  void scale(int row) {
    double largest = 0;
    for (int i = 0; i <= degree[row]; ++i) largest = std::max(largest, std::abs(rows[row][i]));
    if (largest > 0)
      for (int i = 0; i <= degree[row]; ++i) rows[row][i] /= largest;
  }
  int changes(double x) const {
    int changed = 0;
    bool negative = false, any = false;
    for (int r = 0; r < count; ++r) {
      const double v = evaluate(rows[r].data(), degree[r], x);
      if (v == 0) continue;
      changed += any && negative != (v < 0);
      negative = v < 0;
      any = true;
    }
    return changed;
  }
};

// One root between low and high, where the signs differ: Newton's steps where they halve the bracket at least as fast
// as bisection would, bisection otherwise.
double refine(const double* c, int degree, double low, double high, double f_low) {
  double x = 0.5 * (low + high), before = high - low;
  for (int i = 0; i < 200; ++i) {
    double f = c[degree], slope = 0;
    for (int k = degree - 1; k >= 0; --k) slope = slope * x + f, f = f * x + c[k];
    if (f == 0) return x;
    ((f < 0) == (f_low < 0) ? low : high) = x;
    const double step = f / slope;
    double next = x - step;
    if (!(next > low && next < high) || std::abs(step) > 0.5 * before) next = 0.5 * (low + high);
    before = std::abs(next - x);
    if (before <= 1e-15 * std::abs(x) + 1e-300) return next;
    x = next;
  }
  return x;
}

void roots_within(const SturmChain& chain, double low, int low_changes, double high, int high_changes,
                  std::vector<double>& roots) {
  const double* c = chain.rows[0].data();
  const int n = chain.degree[0], count = low_changes - high_changes;
  if (count <= 0) return;
  const double middle = 0.5 * (low + high);
  if (count == 1) {
    const double f_low = evaluate(c, n, low), f_high = evaluate(c, n, high);
    if (f_high == 0) return roots.push_back(high);
    if (f_low != 0 && (f_low < 0) != (f_high < 0)) return roots.push_back(refine(c, n, low, high, f_low));
  }
  if (high - low < 1e-13) return roots.push_back(middle);  // roots that cannot be told apart
  const int middle_changes = chain.changes(middle);
  roots_within(chain, low, low_changes, middle, middle_changes, roots);
  roots_within(chain, middle, middle_changes, high, high_changes, roots);
}

// Roots in (-1, 1].
void roots_within_one(const Coefficients& c, int degree, std::vector<double>& roots) {
  if (degree < 1) return;
  const SturmChain chain(c, degree);
  roots_within(chain, -1, chain.changes(-1), 1, chain.changes(1), roots);
}

}  // namespace

std::vector<double> real_roots(std::span<const double> coefficients) {
  int degree = static_cast<int>(coefficients.size()) - 1;
  double largest = 0;
  for (double c : coefficients) largest = std::max(largest, std::abs(c));
  if (!(largest > 0) || !std::isfinite(largest) || degree > kMaxDegree) return {};
  while (degree > 0 && std::abs(coefficients[degree]) < 1e-14 * largest) --degree;
  if (degree == 0) return {};

  // Roots up to 1 in size from the polynomial itself, the others as the inverses of the roots of the reversed one:
  // nothing is searched beyond [-1, 1], where all powers are tame.
  Coefficients forward{}, backward{};
  for (int i = 0; i <= degree; ++i) forward[i] = coefficients[i] / largest, backward[degree - i] = forward[i];
  std::vector<double> roots, inverse;
  roots_within_one(forward, degree, roots);
  int low = degree;
  while (low > 0 && backward[low] == 0) --low;  // zero is a root of the polynomial: found above
  roots_within_one(backward, low, inverse);
  for (const double y : inverse)
    if (std::abs(y) < 1 && y != 0) roots.push_back(1 / y);
  if (evaluate(forward.data(), degree, -1) == 0) roots.push_back(-1);
  std::sort(roots.begin(), roots.end());
  roots.erase(std::unique(roots.begin(), roots.end()), roots.end());
  return roots;
}

}  // namespace icefield
