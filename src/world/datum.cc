#include "icefield/world/datum.h"

namespace icefield {

const char* describe(Axes axes) {
  switch (axes) {
    case Axes::level:
      return "z up";
    case Axes::east_north_up:
      return "x east, y north, z up";
    case Axes::guessed:
      break;
  }
  return "z up as far as the photos tell";
}

}  // namespace icefield
