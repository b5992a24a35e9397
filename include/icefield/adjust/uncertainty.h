// How exact an adjusted block is.
#pragma once
#include <Eigen/Core>
#include <string>
#include <vector>

#include "icefield/adjust/adjust.h"

namespace icefield {

using Matrix6 = Eigen::Matrix<double, 6, 6>;

// The free parameters of a camera with their covariance.
struct CameraUncertainty {
  std::vector<int> parameters;  // in the order of camera_parameters(model); empty for a camera that is held
  Eigen::MatrixXd covariance;   // of these
  double deviation(std::size_t i) const {
    return std::sqrt(covariance(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(i)));
  }
  double correlation(std::size_t i, std::size_t k) const {
    return covariance(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(k)) / (deviation(i) * deviation(k));
  }
};

struct UncertaintyOptions {
  // Standard deviation of an observation's coordinate, px. 0: from the residuals themselves.
  double observation_sigma_px = 0;
  bool residuals = false;  // also the standardised residuals and redundancy numbers
  bool groups = false;     // also by how much errors that neighbours have in common raise the deviations of poses
};

struct Uncertainty {
  std::string outcome = "nothing done yet";
  bool valid = false;   // false: the photos, with what is held, leave something undetermined
  double sigma_px = 0;  // the standard deviation of an observation's coordinate that was used
  // Where asked for: standard deviations of poses and cameras that hold for errors which neighbouring points have in
  // common, over those for independent ones; in the middle over the photos.
  double group_factor = 1;
  std::size_t redundancy = 0;  // measurements beyond those that the unknowns need
  bool free_network = false;   // nothing fixes the frame but, at most, scale bars its scale
  // By photo of the block: rotation vector (in the camera frame, radians), projection centre (block units). 0 for a
  // fixed pose.
  std::vector<Matrix6> poses;
  std::vector<CameraUncertainty> cameras;  // by camera of the block
  std::vector<Eigen::Matrix3d> points;     // block units squared; not finite for a point that its rays do not hold
  // By observation, where asked for: the largest of the residual's two coordinates divided by the standard deviation
  // that it has in this block (Baarda, "A testing procedure for use in geodetic networks", 1968); 0 where the
  // observation is not checked by others.
  std::vector<double> standardised_residuals;
  // By observation, where asked for: its redundancy number, 0 to 2; the part of an error in its two coordinates that
  // would show in its own residual. They sum to `redundancy`.
  std::vector<double> redundancy_numbers;
};

// Covariances to first order from the normal equations of the block as it stands, with the freedoms, priors and loss of
// `options`. Where nothing fixes the frame (no fixed poses, no positions), they are those of a free network: of all
// choices of frame the one in which the projection centres are most exact on the whole (Meissl, "Die innere Genauigkeit
// eines Punkthaufens", 1962), as they show after the block is fitted to true centres; by a shift and a turn alone where
// scale bars give the scale. Only the blocks of the inverse that are needed are computed; memory as for `adjust`, and
// once more the camera system.
Uncertainty uncertainty(const Block& block, const AdjustOptions& options,
                        const UncertaintyOptions& uncertainty_options = {}, const Executor& executor = Executor(),
                        Monitor& monitor = silent_monitor());

}  // namespace icefield
