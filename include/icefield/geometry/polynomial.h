// Real roots of polynomials.
#pragma once
#include <span>
#include <vector>

namespace icefield {

// All real roots, ascending, of sum coefficients[i] x^i; double roots may be found once or not at all. Roots are
// bracketed by those of the derivative, level by level, and refined by safeguarded Newton steps to working precision.
std::vector<double> real_roots(std::span<const double> coefficients);

}  // namespace icefield
