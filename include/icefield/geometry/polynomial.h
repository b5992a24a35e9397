// Real roots of polynomials.
#pragma once
#include <span>
#include <vector>

namespace icefield {

// All real roots, ascending, of sum coefficients[i] x^i up to degree 32; double roots may be found once, twice or not
// at all. Isolated by Sturm's theorem within [-1, 1], those beyond it as inverses of the roots of the reversed
// polynomial; refined by safeguarded Newton steps to working precision.
std::vector<double> real_roots(std::span<const double> coefficients);

}  // namespace icefield
