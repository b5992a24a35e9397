#include "icefield/adjust/adjust.h"

#include <Eigen/Cholesky>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace icefield {
namespace {

using Matrix6 = Eigen::Matrix<double, 6, 6>;
using Vector6 = Eigen::Matrix<double, 6, 1>;
using Matrix2x6 = Eigen::Matrix<double, 2, 6>;
using Matrix6x3 = Eigen::Matrix<double, 6, 3>;

constexpr std::size_t kPointGrain = 256;

double loss_value(Loss loss, double width2, double e2) {  // of a squared residual
  switch (loss) {
    case Loss::squared: return e2;
    case Loss::huber: return e2 <= width2 ? e2 : 2 * std::sqrt(width2 * e2) - width2;
    case Loss::cauchy: break;
  }
  return width2 * std::log1p(e2 / width2);
}

double loss_weight(Loss loss, double width2, double e2) {  // its derivative
  switch (loss) {
    case Loss::squared: return 1;
    case Loss::huber: return e2 <= width2 ? 1 : std::sqrt(width2 / e2);
    case Loss::cauchy: break;
  }
  return 1 / (1 + e2 / width2);
}

// The linearised contribution of one observation, already scaled by the root of its loss weight.
struct Linearised {
  Matrix2x6 pose;
  Matrix2xParameters camera;  // the free parameters first
  Matrix2x3 point;
  Eigen::Vector2d residual;   // observed minus projected
};

// One adjustment in progress.
class Adjustment {
 public:
  Adjustment(const Block& block, const AdjustOptions& options, const Executor& executor)
      : block_(block), options_(options), executor_(executor), width2_(options.loss_width_px * options.loss_width_px) {
    // Unknowns: 6 for each free pose, then the free parameters of each camera in use.
    pose_at_.assign(block.photos.size(), -1);
    std::vector<bool> fixed(block.photos.size(), options.fix_poses);
    for (const std::uint32_t i : options.fixed_photos) fixed[i] = true;
    for (std::size_t i = 0; i < block.photos.size(); ++i)
      if (!fixed[i]) pose_at_[i] = unknowns_, unknowns_ += 6;
    camera_at_.assign(block.cameras.size(), -1);
    free_.resize(block.cameras.size());
    std::vector<bool> used(block.cameras.size(), false);
    for (const PosedPhoto& photo : block.photos) used[photo.camera.value] = true;
    for (std::size_t c = 0; c < block.cameras.size(); ++c) {
      if (!used[c]) continue;
      const std::size_t count = camera_parameters(block.cameras[c].model).size();
      for (std::size_t p = 0; p < std::min(count, options.free_parameters.size()); ++p)
        if (options.free_parameters[p]) free_[c].push_back(static_cast<int>(p));
      if (!free_[c].empty()) camera_at_[c] = unknowns_, unknowns_ += static_cast<int>(free_[c].size());
    }
    by_photo_.resize(block.photos.size());
    point_of_.resize(block.observations.size());
    for (std::size_t i = 0; i < block.points.size(); ++i)
      for (std::uint64_t o = block.starts[i]; o < block.starts[i + 1]; ++o) {
        point_of_[o] = static_cast<std::uint32_t>(i);
        by_photo_[block.observations[o].photo].push_back(o);
      }
  }

  std::size_t parameter_count() const { return static_cast<std::size_t>(unknowns_) + (options_.fix_points ? 0 : 3 * block_.points.size()); }

  // Half the robust cost and the plain sum of squares of a block.
  std::pair<double, double> cost(const Block& block) const {
    const std::size_t blocks = block_count(block.points.size(), kPointGrain);
    std::vector<std::pair<double, double>> parts(blocks);
    executor_.blocks(block.points.size(), kPointGrain, [&](std::size_t part, std::size_t begin, std::size_t end) {
      double robust = 0, plain = 0;
      for (std::size_t i = begin; i < end; ++i)
        for (const Observation& o : block.of_point(i)) {
          const auto r = residual_px(block, block.points[i], o);
          // A point that went behind a photo costs more than any that it could gain.
          const double e2 = r ? r->squaredNorm() : 1e8;
          robust += loss_value(options_.loss, width2_, e2);
          plain += e2;
        }
      parts[part] = {robust, plain};
    });
    double robust = 0, plain = 0;
    for (const auto& [a, b] : parts) robust += a, plain += b;
    for (const CameraPriorTerm& prior : options_.priors) {
      const double d = (block.cameras[prior.camera.value].parameters[prior.parameter] - prior.value) / prior.sigma;
      robust += d * d * options_.observation_sigma_px * options_.observation_sigma_px;
    }
    return {0.5 * robust, plain};
  }

  // Derivatives at the present block. Points are independent; each writes its own slots.
  void linearise() {
    terms_.resize(block_.observations.size());
    point_hessian_.resize(block_.points.size());
    point_gradient_.resize(block_.points.size());
    executor_.blocks(block_.points.size(), kPointGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) {
        Eigen::Matrix3d hessian = Eigen::Matrix3d::Zero();
        Eigen::Vector3d gradient = Eigen::Vector3d::Zero();
        for (std::uint64_t o = block_.starts[i]; o < block_.starts[i + 1]; ++o) {
          Linearised& term = terms_[o];
          linearise_observation(block_.points[i], block_.observations[o], term);
          hessian += term.point.transpose() * term.point;
          gradient += term.point.transpose() * term.residual;
        }
        point_hessian_[i] = hessian;
        point_gradient_[i] = gradient;
      }
    });
  }

  // Solves the damped normal equations; false when they are not positive definite.
  bool solve(double damping) {
    invert_points(damping);
    assemble(damping);
    if (unknowns_ > 0) {
      const Eigen::LLT<Eigen::MatrixXd, Eigen::Upper> factor(reduced_);
      if (factor.info() != Eigen::Success) return false;
      step_ = factor.solve(right_);
      if (!step_.allFinite()) return false;
    }
    back_substitute();
    return true;
  }

  Block stepped() const {
    Block next = block_;
    for (std::size_t i = 0; i < next.photos.size(); ++i) {
      if (pose_at_[i] < 0) continue;
      const Vector6 d = step_.segment<6>(pose_at_[i]);
      Pose& pose = next.photos[i].pose;
      pose.orientation = (rotation_from_vector(d.head<3>()) * pose.orientation).normalized();
      pose.centre += d.tail<3>();
    }
    for (std::size_t c = 0; c < next.cameras.size(); ++c)
      for (std::size_t k = 0; camera_at_[c] >= 0 && k < free_[c].size(); ++k) next.cameras[c].parameters[free_[c][k]] += step_[camera_at_[c] + static_cast<int>(k)];
    if (!options_.fix_points)
      for (std::size_t i = 0; i < next.points.size(); ++i) next.points[i] += point_step_[i];
    return next;
  }

  // Decrease of the linear model's cost for the present step.
  double predicted_decrease(double damping) const {
    double sum = 0;
    if (unknowns_ > 0) sum += step_.dot(gradient_) + damping * step_.dot(diagonal_.cwiseProduct(step_));
    if (!options_.fix_points)
      for (std::size_t i = 0; i < block_.points.size(); ++i)
        sum += point_step_[i].dot(point_gradient_[i]) + damping * point_step_[i].dot(point_diagonal(i).cwiseProduct(point_step_[i]));
    return 0.5 * sum;
  }

  const Block& block() const { return block_; }
  void accept(Block&& next) { block_ = std::move(next); }

 private:
  void linearise_observation(const Eigen::Vector3d& point, const Observation& o, Linearised& term) const {
    const PosedPhoto& photo = block_.photos[o.photo];
    const Camera& camera = block_.camera_of(photo);
    const Eigen::Matrix3d rotation = photo.pose.rotation();
    const Eigen::Vector3d p = rotation * (point - photo.pose.centre);
    Matrix2x3 d_point;
    Matrix2xParameters d_camera;
    const auto projected = project(camera, p, d_point, d_camera);
    if (!projected) {
      term.pose.setZero();
      term.camera.setZero();
      term.point.setZero();
      term.residual.setZero();
      return;
    }
    term.residual = o.pixel - *projected;
    const double weight = std::sqrt(loss_weight(options_.loss, width2_, term.residual.squaredNorm()));
    term.residual *= weight;
    term.point = weight * d_point * rotation;
    term.pose.leftCols<3>() = -weight * d_point * skew(p);
    term.pose.rightCols<3>() = -term.point;
    const auto& free = free_[photo.camera.value];
    for (std::size_t k = 0; k < free.size(); ++k) term.camera.col(k) = weight * d_camera.col(free[k]);
  }

  Eigen::Vector3d point_diagonal(std::size_t i) const {
    const Eigen::Vector3d d = point_hessian_[i].diagonal();
    return d.cwiseMax(1e-12 * d.maxCoeff() + 1e-30);
  }

  void invert_points(double damping) {
    point_inverse_.resize(block_.points.size());
    executor_.blocks(block_.points.size(), kPointGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) {
        Eigen::Matrix3d h = point_hessian_[i];
        h.diagonal() += damping * point_diagonal(i);
        point_inverse_[i] = options_.fix_points || block_.starts[i + 1] - block_.starts[i] < 2 ? Eigen::Matrix3d::Zero() : Eigen::Matrix3d(h.inverse());
        if (!point_inverse_[i].allFinite()) point_inverse_[i].setZero();
      }
    });
  }

  // Sum over a point's observations by one camera of (free camera parameters)^T (point).
  Eigen::Matrix<double, kMaxCameraParameters, 3> camera_coupling(std::size_t point, std::uint32_t camera) const {
    Eigen::Matrix<double, kMaxCameraParameters, 3> w = Eigen::Matrix<double, kMaxCameraParameters, 3>::Zero();
    for (std::uint64_t o = block_.starts[point]; o < block_.starts[point + 1]; ++o)
      if (block_.photos[block_.observations[o].photo].camera.value == camera) {
        const int n = static_cast<int>(free_[camera].size());
        w.topRows(n) += terms_[o].camera.leftCols(n).transpose() * terms_[o].point;
      }
    return w;
  }

  // The reduced camera system, upper triangle. A row of blocks belongs to one photo, so that rows are independent and
  // sums are in the order of the photo's observations; the rows of the cameras follow.
  void assemble(double damping) {
    reduced_.setZero(unknowns_, unknowns_);
    right_.setZero(unknowns_);
    gradient_.setZero(unknowns_);
    diagonal_.setZero(unknowns_);
    Monitor silent;
    executor_.run("", block_.photos.size(), silent, [&](std::size_t i) {
      if (pose_at_[i] < 0) return;
      const int at = pose_at_[i];
      const std::uint32_t camera = block_.photos[i].camera.value;
      const int camera_at = camera_at_[camera], n = static_cast<int>(free_[camera].size());
      Matrix6 own = Matrix6::Zero();
      Vector6 gradient = Vector6::Zero();
      for (const std::uint64_t o : by_photo_[i]) {
        const Linearised& term = terms_[o];
        own += term.pose.transpose() * term.pose;
        gradient += term.pose.transpose() * term.residual;
        if (camera_at >= 0) reduced_.block(at, camera_at, 6, n) += term.pose.transpose() * term.camera.leftCols(n);
      }
      gradient_.segment<6>(at) = gradient;
      diagonal_.segment<6>(at) = own.diagonal();
      own.diagonal() += damping * own.diagonal();
      reduced_.block<6, 6>(at, at) = own;
      right_.segment<6>(at) = gradient;
      for (const std::uint64_t o : by_photo_[i]) {
        const std::size_t point = point_of_[o];
        const Matrix6x3 y = (terms_[o].pose.transpose() * terms_[o].point) * point_inverse_[point];
        right_.segment<6>(at) -= y * point_gradient_[point];
        std::uint32_t last_camera = Index<void>::kNone;
        for (std::uint64_t other = block_.starts[point]; other < block_.starts[point + 1]; ++other) {
          const std::uint32_t photo = block_.observations[other].photo;
          if (pose_at_[photo] >= at)
            reduced_.block<6, 6>(at, pose_at_[photo]).noalias() -= y * (terms_[other].pose.transpose() * terms_[other].point).transpose();
          const std::uint32_t c = block_.photos[photo].camera.value;
          if (camera_at_[c] >= 0 && c != last_camera && first_by_camera(point, other, c)) {
            const int m = static_cast<int>(free_[c].size());
            reduced_.block(at, camera_at_[c], 6, m).noalias() -= y * camera_coupling(point, c).topRows(m).transpose();
          }
          last_camera = c;
        }
      }
    });
    assemble_cameras(damping);
  }

  // Whether no earlier observation of the point is by the same camera.
  bool first_by_camera(std::size_t point, std::uint64_t observation, std::uint32_t camera) const {
    for (std::uint64_t o = block_.starts[point]; o < observation; ++o)
      if (block_.photos[block_.observations[o].photo].camera.value == camera) return false;
    return true;
  }

  void assemble_cameras(double damping) {
    if (std::all_of(camera_at_.begin(), camera_at_.end(), [](int at) { return at < 0; })) return;
    // Blocks of points add to matrices of their own, which are then summed in order.
    const int first = *std::min_element(camera_at_.begin(), camera_at_.end(), [](int a, int b) { return (a < 0 ? 1 << 30 : a) < (b < 0 ? 1 << 30 : b); });
    const int size = unknowns_ - first;
    constexpr std::size_t kGrain = 4096;
    struct Part {
      Eigen::MatrixXd direct, indirect;
      Eigen::VectorXd gradient, right;
    };
    std::vector<Part> parts(block_count(block_.points.size(), kGrain));
    executor_.blocks(block_.points.size(), kGrain, [&](std::size_t index, std::size_t begin, std::size_t end) {
      Part part{Eigen::MatrixXd::Zero(size, size), Eigen::MatrixXd::Zero(size, size), Eigen::VectorXd::Zero(size), Eigen::VectorXd::Zero(size)};
      std::vector<std::uint32_t> seen;
      for (std::size_t i = begin; i < end; ++i) {
        seen.clear();
        for (std::uint64_t o = block_.starts[i]; o < block_.starts[i + 1]; ++o) {
          const std::uint32_t c = block_.photos[block_.observations[o].photo].camera.value;
          if (camera_at_[c] < 0) continue;
          const int at = camera_at_[c] - first, n = static_cast<int>(free_[c].size());
          part.direct.block(at, at, n, n) += terms_[o].camera.leftCols(n).transpose() * terms_[o].camera.leftCols(n);
          part.gradient.segment(at, n) += terms_[o].camera.leftCols(n).transpose() * terms_[o].residual;
          if (std::find(seen.begin(), seen.end(), c) == seen.end()) seen.push_back(c);
        }
        for (const std::uint32_t c : seen) {
          const int n = static_cast<int>(free_[c].size());
          const Eigen::Matrix<double, kMaxCameraParameters, 3> y = camera_coupling(i, c) * point_inverse_[i];
          part.right.segment(camera_at_[c] - first, n) -= y.topRows(n) * point_gradient_[i];
          for (const std::uint32_t d : seen)
            if (camera_at_[d] >= camera_at_[c])
              part.indirect.block(camera_at_[c] - first, camera_at_[d] - first, n, static_cast<int>(free_[d].size())) -=
                  y.topRows(n) * camera_coupling(i, d).topRows(static_cast<int>(free_[d].size())).transpose();
        }
      }
      parts[index] = std::move(part);
    });
    Eigen::MatrixXd direct = Eigen::MatrixXd::Zero(size, size), indirect = direct;
    Eigen::VectorXd gradient = Eigen::VectorXd::Zero(size), right = gradient;
    for (const Part& part : parts) direct += part.direct, indirect += part.indirect, gradient += part.gradient, right += part.right;
    for (const CameraPriorTerm& prior : options_.priors) {
      const auto& free = free_[prior.camera.value];
      const auto found = std::find(free.begin(), free.end(), prior.parameter);
      if (camera_at_[prior.camera.value] < 0 || found == free.end()) continue;
      const int at = camera_at_[prior.camera.value] - first + static_cast<int>(found - free.begin());
      const double weight = options_.observation_sigma_px * options_.observation_sigma_px / (prior.sigma * prior.sigma);
      direct(at, at) += weight;
      gradient[at] += weight * (prior.value - block_.cameras[prior.camera.value].parameters[prior.parameter]);
    }
    gradient_.tail(size) = gradient;
    diagonal_.tail(size) = direct.diagonal().cwiseMax(1e-30);
    direct.diagonal() += damping * diagonal_.tail(size);
    reduced_.bottomRightCorner(size, size) += direct + indirect;
    right_.tail(size) += gradient + right;
  }

  void back_substitute() {
    point_step_.assign(block_.points.size(), Eigen::Vector3d::Zero());
    if (options_.fix_points) return;
    executor_.blocks(block_.points.size(), kPointGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) {
        Eigen::Vector3d right = point_gradient_[i];
        for (std::uint64_t o = block_.starts[i]; o < block_.starts[i + 1]; ++o) {
          const std::uint32_t photo = block_.observations[o].photo, c = block_.photos[photo].camera.value;
          Eigen::Vector2d moved = Eigen::Vector2d::Zero();
          if (pose_at_[photo] >= 0) moved += terms_[o].pose * step_.segment<6>(pose_at_[photo]);
          if (camera_at_[c] >= 0) moved += terms_[o].camera.leftCols(free_[c].size()) * step_.segment(camera_at_[c], static_cast<int>(free_[c].size()));
          right -= terms_[o].point.transpose() * moved;
        }
        point_step_[i] = point_inverse_[i] * right;
      }
    });
  }

  Block block_;
  const AdjustOptions& options_;
  const Executor& executor_;
  double width2_;
  int unknowns_ = 0;
  std::vector<int> pose_at_, camera_at_;             // first unknown, -1 where fixed
  std::vector<std::vector<int>> free_;               // free parameters by camera
  std::vector<std::vector<std::uint64_t>> by_photo_; // observations
  std::vector<std::uint32_t> point_of_;              // of each observation
  std::vector<Linearised> terms_;
  std::vector<Eigen::Matrix3d> point_hessian_, point_inverse_;
  std::vector<Eigen::Vector3d> point_gradient_, point_step_;
  Eigen::MatrixXd reduced_;
  Eigen::VectorXd right_, gradient_, diagonal_, step_;
};

}  // namespace

std::string AdjustSummary::brief() const {
  return fmt::format("{}: {} observations, {} parameters, {} iterations, RMS {:.3f} -> {:.3f} px", outcome, observations, parameters, iterations,
                     initial_rms_px, final_rms_px);
}

AdjustResult adjust(const Block& block, const AdjustOptions& options, const Executor& executor, Monitor& monitor) {
  AdjustSummary summary;
  summary.observations = block.observations.size();
  if (block.observations.empty()) {
    summary.outcome = "nothing to adjust";
    return {block, summary};
  }
  Adjustment adjustment(block, options, executor);
  summary.parameters = adjustment.parameter_count();
  auto [cost, squares] = adjustment.cost(block);
  const auto rms = [&](double sum) { return std::sqrt(sum / static_cast<double>(summary.observations)); };
  summary.initial_cost = summary.final_cost = cost;
  summary.initial_rms_px = rms(squares);
  summary.outcome = "reached the limit of iterations";

  // Damping after Nielsen, "Damping parameter in Marquardt's method", 1999.
  double damping = 1e-4, growth = 2;
  bool fresh = false;
  while (summary.iterations < options.max_iterations) {
    monitor.check();
    if (!fresh) adjustment.linearise();
    fresh = true;
    ++summary.iterations;
    bool accepted = false;
    if (adjustment.solve(damping)) {
      Block next = adjustment.stepped();
      const auto [next_cost, next_squares] = adjustment.cost(next);
      const double predicted = adjustment.predicted_decrease(damping), actual = cost - next_cost;
      if (actual > 0 && predicted > 0) {
        accepted = true;
        const double quality = actual / predicted;
        damping *= std::max(1.0 / 3.0, 1 - std::pow(2 * quality - 1, 3));
        damping = std::max(damping, 1e-10);
        growth = 2;
        const bool converged = actual <= options.cost_tolerance * cost;
        cost = next_cost;
        squares = next_squares;
        adjustment.accept(std::move(next));
        fresh = false;
        if (converged) {
          summary.outcome = "converged";
          break;
        }
      } else if (predicted <= std::max(options.cost_tolerance * cost, 1e-16 * summary.initial_cost)) {
        summary.outcome = "converged";
        break;
      }
    }
    if (!accepted) {
      ++summary.rejected_steps;
      damping *= growth;
      growth *= 2;
      if (damping > 1e12) {
        summary.outcome = "stalled";
        break;
      }
    }
  }
  summary.final_cost = cost;
  summary.final_rms_px = rms(squares);
  summary.usable = std::isfinite(cost);
  return {adjustment.block(), summary};
}

}  // namespace icefield
