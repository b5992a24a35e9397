// Loss functions of a squared residual and their derivatives.
#pragma once
#include <cmath>

#include "icefield/adjust/adjust.h"

namespace icefield {

inline double loss_value(Loss loss, double width2, double e2) {
  switch (loss) {
    case Loss::squared:
      return e2;
    case Loss::huber:
      return e2 <= width2 ? e2 : 2 * std::sqrt(width2 * e2) - width2;
    case Loss::cauchy:
      return width2 * std::log1p(e2 / width2);
    case Loss::tukey:
      break;
  }
  if (e2 >= width2) return width2 / 3;
  const double u = 1 - e2 / width2;
  return width2 / 3 * (1 - u * u * u);
}

inline double loss_weight(Loss loss, double width2, double e2) {
  switch (loss) {
    case Loss::squared:
      return 1;
    case Loss::huber:
      return e2 <= width2 ? 1 : std::sqrt(width2 / e2);
    case Loss::cauchy:
      return 1 / (1 + e2 / width2);
    case Loss::tukey:
      break;
  }
  if (e2 >= width2) return 0;
  const double u = 1 - e2 / width2;
  return u * u;
}

}  // namespace icefield
