#include "src/orient/distribute.h"

#include <cmath>

#include "src/orient/rotation_log.h"
#include "src/orient/sparse_solver.h"

namespace icefield {
namespace {

using Eigen::Quaterniond;
using Eigen::Vector3d;

// Differences over the steps: x_second - x_first = d, least squares, the first photo of the first step held.
class Differences {
 public:
  Differences(std::size_t photos, const std::vector<RelativeStep>& steps)
      : photos_(static_cast<Eigen::Index>(photos)), steps_(steps), solver_(photos) {
    std::vector<Eigen::Triplet<double>> entries;
    std::vector<double> diagonal(photos, 1e-12);
    for (const RelativeStep& s : steps) {
      entries.emplace_back(std::max(s.first, s.second), std::min(s.first, s.second), -s.weight);
      diagonal[s.first] += s.weight, diagonal[s.second] += s.weight;
    }
    if (!steps.empty()) diagonal[steps.front().first] += 1e3;
    for (std::uint32_t i = 0; i < photos; ++i) entries.emplace_back(i, i, diagonal[i]);
    sound_ = solver_.factorise(entries);
  }
  bool sound() const { return sound_; }
  Eigen::MatrixXd solve(const std::vector<Vector3d>& differences) const {
    Eigen::MatrixXd right = Eigen::MatrixXd::Zero(photos_, 3);
    for (std::size_t k = 0; k < steps_.size(); ++k) {
      right.row(steps_[k].second) += steps_[k].weight * differences[k].transpose();
      right.row(steps_[k].first) -= steps_[k].weight * differences[k].transpose();
    }
    return solver_.solve(right);
  }

 private:
  Eigen::Index photos_;
  const std::vector<RelativeStep>& steps_;
  SparseSolver solver_;
  bool sound_ = false;
};

}  // namespace

std::vector<Pose> distribute(const std::vector<Pose>& poses, const std::vector<RelativeStep>& steps) {
  std::vector<Pose> result = poses;
  const Differences differences(poses.size(), steps);
  if (steps.empty() || !differences.sound()) return result;
  std::vector<std::uint8_t> touched(poses.size(), 0);
  for (const RelativeStep& s : steps) touched[s.first] = touched[s.second] = 1;
  std::vector<Vector3d> d(steps.size());
  for (int round = 0; round < 20; ++round) {
    for (std::size_t k = 0; k < steps.size(); ++k)
      d[k] = rotation_vector(result[steps[k].second].orientation.conjugate() * steps[k].turn *
                             result[steps[k].first].orientation);
    const Eigen::MatrixXd change = differences.solve(d);
    for (std::size_t i = 0; i < poses.size(); ++i)
      if (touched[i])
        result[i].orientation =
            (result[i].orientation * rotation_from_vector(change.row(static_cast<Eigen::Index>(i)).transpose()))
                .normalized();
    if (change.cwiseAbs().maxCoeff() < 1e-9) break;
  }
  for (std::size_t k = 0; k < steps.size(); ++k) d[k] = Vector3d(steps[k].log_scale, 0, 0);
  const Eigen::MatrixXd scale = differences.solve(d);
  for (std::size_t k = 0; k < steps.size(); ++k)
    d[k] = std::exp(scale(steps[k].first, 0)) * (result[steps[k].first].orientation.conjugate() * steps[k].shift);
  const Eigen::MatrixXd centre = differences.solve(d);
  for (std::size_t i = 0; i < poses.size(); ++i)
    if (touched[i]) result[i].centre = centre.row(static_cast<Eigen::Index>(i)).transpose();
  return result;
}

}  // namespace icefield
