// The linearised adjustment: derivatives, elimination of the points, the camera system, and the way back.
#pragma once
#include <Eigen/Core>
#include <memory>
#include <vector>

#include "src/adjust/block_matrix.h"
#include "src/adjust/unknowns.h"

namespace icefield {

// What an adjustment moves. Points stand in an order of the equations' own.
struct AdjustState {
  std::vector<Camera> cameras;
  std::vector<Pose> poses;
  std::vector<Eigen::Vector3d> points;
};

// What follows for points and observations from the covariance of the camera system, for observations of unit variance.
struct Propagated {
  std::vector<Eigen::Matrix3d> points;
  struct OfObservation {
    Eigen::Matrix2d cofactor = Eigen::Matrix2d::Zero();  // of the adjusted observation, weighted
    Eigen::Vector2d residual = Eigen::Vector2d::Zero();  // weighted
  };
  std::vector<OfObservation> observations;
};

// With A the derivatives by the camera unknowns and B those by a point, weighted by the loss, and V = B^T B (damped) =
// L L^T, each observation keeps M = B L^-T. The camera system is then A^T A less the sum over pairs of observations of
// one point of A_i^T (M_i M_j^T) A_j: rank two a pair, without the 3-columns of the usual form. Rows of the system are
// independent and summed in the order of the photo's observations: the same bytes for any number of threads.
class NormalEquations {
 public:
  NormalEquations(const Block& block, const AdjustOptions& options, const Executor& executor);

  AdjustState start() const;
  Block block_at(const AdjustState& state) const;
  const Unknowns& unknowns() const { return unknowns_; }
  std::pair<double, double> cost(const AdjustState& state) const;  // half the robust cost; the plain sum of squares
  void linearise(const AdjustState& state);                        // derivatives at a state
  void reduce(double damping);                                     // eliminates the points, fills the camera system
  const BlockMatrix& matrix() const { return matrix_; }
  BlockMatrix& matrix() { return matrix_; }
  const Eigen::VectorXd& right() const { return right_; }

  AdjustState stepped(const AdjustState& state, const Eigen::VectorXd& step);  // also remembers the step of the points
  double predicted_decrease(const Eigen::VectorXd& step, double damping) const;  // of the last step

  // Points at the ends of scale bars, in the equations' order, and the node of a point; -1 for those that are
  // eliminated.
  const std::vector<std::uint32_t>& kept_points() const { return kept_points_; }
  std::int32_t point_node(std::size_t i) const {
    return unknowns_.point_node.empty() ? -1 : unknowns_.point_node[place_of_point_[i]];
  }

  // `gauge_rows`, `gauge_core`: see uncertainty.cc, for what the frame is free to do; none for a block with a datum.
  Propagated propagate(const BlockMatrix& covariance, const AdjustState& state, const Eigen::MatrixXd* gauge_rows,
                       const Eigen::MatrixXd* gauge_core, bool observations) const;
  // What the residuals of each point ask of the camera system, once the point itself has moved as it wants to, each
  // point's with a sign, summed: a column for each column of signs. Rows of `signs` by point in the equations' order.
  using Signs = Eigen::Matrix<float, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
  Eigen::MatrixXd signed_gradients(const Signs& signs) const;

  template <class T>
  std::vector<T> in_block_order(const std::vector<T>& of_points) const {
    std::vector<T> result(of_points.size());
    for (std::size_t i = 0; i < of_points.size(); ++i) result[place_of_point_[i]] = of_points[i];
    return result;
  }
  template <class T>
  std::vector<T> observations_in_block_order(const std::vector<T>& of_observations) const {
    std::vector<T> result(of_observations.size());
    for (std::size_t i = 0; i < place_of_point_.size(); ++i)
      for (std::uint64_t o = starts_[i]; o < starts_[i + 1]; ++o)
        result[block_.starts[place_of_point_[i]] + (o - starts_[i])] = of_observations[o];
    return result;
  }

 private:
  struct PhotoView;
  struct OfPoint;
  void lay_out_records();
  void order_points();
  void list_observations_by_photo();
  void list_shared_cameras();
  void find_what_is_known();
  void gather(std::size_t point, const BlockMatrix& covariance, OfPoint& of) const;
  Eigen::Matrix3d cofactor_of_point(std::size_t point, const OfPoint& of, const AdjustState& state,
                                    const Eigen::MatrixXd* gauge_rows, const Eigen::MatrixXd* gauge_core) const;
  void cofactors_of_observations(std::size_t point, const OfPoint& of,
                                 std::vector<Propagated::OfObservation>& observations) const;
  std::vector<PhotoView> views(const AdjustState& state) const;
  double* record(std::uint64_t o) { return records_.get() + o * stride_; }
  const double* record(std::uint64_t o) const { return records_.get() + o * stride_; }
  void eliminate_points(double damping);
  void fill_photo_row(std::size_t photo, double damping, std::vector<std::int64_t>& slots);
  void fill_camera_rows(double damping);
  void add_priors(const AdjustState& state);
  void fill_bar_rows(double damping);
  const PointPrior* known_point(std::size_t i) const {
    return known_points_.empty() || known_points_[i] < 0
               ? nullptr
               : &options_.point_priors[static_cast<std::size_t>(known_points_[i])];
  }

  const Block& block_;
  const AdjustOptions& options_;
  const Executor& executor_;
  double width2_;
  std::vector<std::int32_t> known_points_;  // by point in the equations' order: its prior, -1; empty without any
  Unknowns unknowns_;

  // Of each observation, doubles: M (2 x 3), residual (2), B (2 x 3), A by its photo's node (2 x its size), A by its
  // shared camera.
  std::size_t stride_ = 0;
  static constexpr std::size_t kM = 0, kResidual = 6, kB = 8, kA = 14;
  std::unique_ptr<double[]> records_;               // written by those who linearise, so that pages come up in parallel
  std::vector<std::size_t> camera_at_;              // by photo: where its shared camera's part stands in a record
  std::vector<std::uint32_t> place_of_point_;       // of each point in the block
  std::vector<std::uint64_t> starts_;               // observations by point
  std::vector<std::uint32_t> photo_of_, point_of_;  // of each observation
  std::vector<Eigen::Vector2d> pixel_of_;
  std::vector<double> weight_of_;  // what an observation's residual counts for against a feature's; empty: 1 for all
  std::vector<std::uint64_t> photo_starts_, photo_observations_;  // observations by photo
  std::vector<std::uint32_t> photos_in_order_;                    // those with unknowns, in the order of elimination

  struct PointSystem {
    Eigen::Matrix3d hessian, inverse;   // V, L^-1
    Eigen::Vector3d gradient, reduced;  // B^T r, L^-1 B^T r
  };
  std::vector<PointSystem> points_;
  std::vector<Eigen::Vector3d> point_steps_;

  // Shared cameras by point: M^T A of its observations by the camera, 3 rows of `padded` columns.
  std::vector<std::uint64_t> point_camera_starts_;
  std::vector<std::uint32_t> point_cameras_;  // node
  std::vector<std::uint64_t> point_camera_places_;
  std::vector<double> point_camera_values_;
  std::vector<std::vector<std::uint64_t>> by_camera_;  // by camera: indices into point_cameras_
  std::vector<std::uint32_t> camera_point_;            // the point of each of those

  BlockMatrix matrix_;
  Eigen::VectorXd right_, gradient_, diagonal_;
  struct PriorTerm {
    std::uint32_t node;
    int row, column;  // in the node's block
    double value;
  };
  std::vector<PriorTerm> prior_terms_, prior_gradient_;
  std::vector<std::uint32_t> kept_points_;
  std::vector<std::pair<std::uint32_t, std::uint32_t>> bar_ends_;  // in the equations' order
  std::vector<Eigen::Matrix3d> bar_couplings_;  // of each scale bar: what its ends have in common, less than nothing
};

}  // namespace icefield
