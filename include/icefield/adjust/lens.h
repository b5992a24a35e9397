// What the photos of a block tell of its cameras.
#pragma once
#include "icefield/adjust/adjust.h"

namespace icefield {

// What is known of the parameters of any lens before its photos are looked at: standard deviations, generous for lenses
// as they are sold. They keep parameters that a block tells little of from running away.
struct LensPriors {
  double focal_percent = 10;           // where nothing better is known
  double principal_point_percent = 1;  // of the longer side
  double radial = 0.15;                // each radial term; of fisheyes as well
  double tangential = 0.003;
};
// Prior terms of one camera around the given values. `focal_percent` of 0: that of the priors.
std::vector<CameraPriorTerm> lens_priors(CameraIndex index, const Camera& around, double focal_percent,
                                         const LensPriors& priors = {});

// The same lens as `brown`: for `pinhole` and `radial`; others stay.
Camera with_tangential_terms(const Camera& camera);

// A parameter that the photos do not determine: it stays at what was known before.
struct HeldParameter {
  CameraIndex camera;
  int parameter = 0;
  double value = 0;                   // at which it is held
  double sigma = 0, prior_sigma = 0;  // it would have; it had before
};

struct LensResult {
  AdjustResult adjusted;
  std::vector<HeldParameter> held;
};

// Adjusts with all parameters free that `options` frees, under its priors; then holds those whose standard deviation
// the photos did not at least halve and adjusts again. Parameters without a prior term stay free.
LensResult adjust_lenses(const Block& block, const AdjustOptions& options, const Executor& executor = Executor(),
                         Monitor& monitor = silent_monitor());

}  // namespace icefield
