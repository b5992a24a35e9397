// Bundle adjustment.
#pragma once
#include <functional>
#include <string>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/block/block.h"

namespace icefield {

// Tukey's gives outliers no weight at all: for the last rounds, when all good residuals are small.
enum class Loss { squared, huber, cauchy, tukey };

// How the camera system is solved; `automatic` takes the cheaper by the predicted number of operations.
enum class Elimination { automatic, direct, iterative };

// A parameter of a camera that is known with some uncertainty beforehand.
struct CameraPriorTerm {
  CameraIndex camera;
  int parameter = 0;  // in the order of camera_parameters(model)
  double value = 0, sigma = 0;
};

// A projection centre that is known with some uncertainty beforehand, in the block's frame and units.
struct PositionPrior {
  PosedIndex photo;
  Eigen::Vector3d position = Eigen::Vector3d::Zero();
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Identity();
};

// A tie point whose place is known with some uncertainty: a control point.
struct PointPrior {
  PointIndex point;
  Eigen::Vector3d position = Eigen::Vector3d::Zero();
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Identity();
};

// The distance between two tie points, known with some uncertainty: a scale bar.
struct ScaleBar {
  PointIndex first, second;
  double length = 1, sigma = 1e-3;  // in the block's units
};

// A direction of the block's frame as a photo has it: up by a level in the camera, north by a compass.
struct DirectionPrior {
  PosedIndex photo;
  Eigen::Vector3d seen = -Eigen::Vector3d::UnitY();      // unit, in the camera frame
  double sigma = 0.02;                                   // radians
  Eigen::Vector3d direction = Eigen::Vector3d::UnitZ();  // unit, in the block's frame
};

struct AdjustIteration {
  int number = 0;   // 0: the start
  double cost = 0;  // after it
  double damping = 0;
  bool accepted = true;
  int inner_iterations = 0;  // of conjugate gradients
};

struct AdjustOptions {
  Loss loss = Loss::huber;
  // Residuals beyond this count less, px: twice the usual precision of a keypoint, so that good ones keep full weight.
  double loss_width_px = 1.0;
  // Above 0: the width is this many standard deviations of a coordinate, taken from the middle of the residuals at the
  // start.
  double loss_width_sigmas = 0;
  // Parameters of all cameras that are free, in the order of camera_parameters. The principal point stays: it is poorly
  // determined in small blocks.
  std::vector<bool> free_parameters = {true, false, false, true, true};
  // The same for each camera of the block; replaces the above where it is not empty.
  std::vector<std::vector<bool>> free_by_camera;
  bool fix_poses = false;
  bool fix_points = false;
  std::vector<PosedIndex> fixed_photos;  // whose poses stay
  std::vector<CameraPriorTerm> priors;
  std::vector<PositionPrior> position_priors;
  std::vector<PointPrior> point_priors;  // at most one for a point
  std::vector<ScaleBar> scale_bars;      // some tens: their ends are solved together with the photos
  std::vector<DirectionPrior> direction_priors;
  // Standard deviation of an observation that has none of its own, px: what those that have one, and priors, are
  // weighed against.
  double observation_sigma_px = 0.5;
  // False: the bare formula of the camera, for published problems; points behind a photo are then mirrored through its
  // centre. True: they, and those beyond the fold of a lens, cost more than any outlier.
  bool check_depth = true;
  Elimination elimination = Elimination::automatic;
  int max_iterations = 50;
  double cost_tolerance = 1e-7;                              // relative decrease at which the adjustment has converged
  std::function<void(const AdjustIteration&)> on_iteration;  // told of each, in the calling thread
};

struct AdjustSummary {
  std::string outcome = "nothing done yet";
  bool valid = false;  // the block's cost is finite and not above what it was
  int iterations = 0, rejected_steps = 0;
  double cost_before = 0, cost_after = 0;      // half the sum of losses, px^2
  double rms_before_px = 0, rms_after_px = 0;  // over observations, without loss
  std::size_t parameters = 0, observations = 0;
  std::string in_a_line() const;
};

struct AdjustResult {
  Block block;
  AdjustSummary summary;
};

// Standard deviation of a coordinate of the residuals of features, from their median, so that outliers do not count; 0
// without observations.
double residual_sigma(const Block& block);

// Levenberg-Marquardt on the Schur complement of the points (Triggs et al., "Bundle adjustment - a modern synthesis",
// 2000) with analytic derivatives, over poses, the free parameters of cameras (shared, or of one photo) and points.
// Nothing is anchored: the gauge is held by the damping alone. Points with fewer than two observations stay. The camera
// system is sparse and is factorised in an order that fills in little, or solved by conjugate gradients where that
// costs less. The same bytes for any number of threads. Memory: 300 bytes an observation; 8 s^2 bytes for each two
// photos that share a point, of s unknowns each (6, and those of a camera of its own); the factor, which for a flight
// or a ring of N photos has some N log N such blocks, for photos that all see each other N^2 / 2; and a third of it
// again while it is made. Throws Error(interrupted) when the monitor cancels, Error(usage) for scale bars and known
// points that the block does not have; the block passed in is untouched.
AdjustResult adjust(const Block& block, const AdjustOptions& options = {}, const Executor& executor = Executor(),
                    Monitor& monitor = silent_monitor());

}  // namespace icefield
