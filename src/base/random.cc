#include "icefield/base/random.h"

#include <cmath>

namespace icefield {

double CounterRandom::normal() {
  // Box and Muller, "A note on the generation of random normal deviates", 1958.
  const double radius = std::sqrt(-2.0 * std::log(1.0 - uniform()));
  return radius * std::cos(6.283185307179586 * uniform());
}

}  // namespace icefield
