#include "icefield/base/statistics.h"

#include <cmath>
#include <limits>
#include <numbers>

namespace icefield {
namespace {

// ln erfc(x), x >= 0; beyond what a double can hold by its continued fraction (Abramowitz and Stegun, "Handbook of
// mathematical functions", 1964, 7.1.14).
double log_erfc(double x) {
  if (x < 20) return std::log(std::erfc(x));
  double tail = x;
  for (int k = 12; k > 0; --k) tail = x + 0.5 * k / tail;
  return -x * x - std::log(tail) - 0.5 * std::log(std::numbers::pi);
}

}  // namespace

double normal_quantile(double probability) {
  if (!(probability > 0 && probability < 1)) {
    const double far = std::numeric_limits<double>::infinity();
    return probability >= 1 ? far : -far;
  }
  // By halving: no formula to remember, and it is called a handful of times.
  double low = -40, high = 40;
  for (int i = 0; i < 100; ++i) {
    const double middle = 0.5 * (low + high);
    (0.5 * std::erfc(-middle / std::numbers::sqrt2) < probability ? low : high) = middle;
  }
  return 0.5 * (low + high);
}

double log_two_sided_tail(double deviations) {
  return log_erfc(std::abs(deviations) / std::numbers::sqrt2);
}

double log_chi_square_tail(double sum, int freedoms) {
  if (!(sum > 0)) return 0;
  if (freedoms <= 1) return log_two_sided_tail(std::sqrt(sum));
  if (freedoms == 2) return -0.5 * sum;
  // Two tails and the density of the radius between them.
  const double first = log_two_sided_tail(std::sqrt(sum)),
               second = 0.5 * std::log(2 * sum / std::numbers::pi) - 0.5 * sum;
  const double larger = std::max(first, second);
  return std::min(0.0, larger + std::log(std::exp(first - larger) + std::exp(second - larger)));
}

}  // namespace icefield
