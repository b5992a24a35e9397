#include "icefield/geometry/resection.h"

#include <Eigen/Dense>
#include <array>
#include <cmath>
#include <limits>

#include "icefield/geometry/polynomial.h"
#include "src/geometry/decompositions.h"
#include "src/geometry/robust.h"

namespace icefield {
namespace {

constexpr double kUsualError = 0.003;  // where none is asked for

using Eigen::Matrix3d;
using Eigen::Vector3d;

// |l_i y_i - l_j y_j|^2 as a quadratic form in the distances l.
Matrix3d distance_form(const std::array<Vector3d, 3>& y, int i, int j) {
  Matrix3d m = Matrix3d::Zero();
  m(i, i) = m(j, j) = 1;
  m(i, j) = m(j, i) = -y[i].dot(y[j]);
  return m;
}

struct ResectionProblem {
  using Model = Pose;
  static constexpr std::size_t kSample = 3;
  std::span<const PointView> views;
  double width;

  std::size_t size() const { return views.size(); }
  double error2(const Pose& pose, std::size_t i) const {
    const Vector3d p = pose.to_camera(views[i].point);
    if (!(p.z() > 0)) return std::numeric_limits<double>::infinity();
    return (p.hnormalized() - views[i].direction).squaredNorm();
  }
  void solve(const std::uint32_t* sample, std::vector<Pose>& models) const {
    const std::array<PointView, 3> three = {views[sample[0]], views[sample[1]], views[sample[2]]};
    models = poses_from_three(three);
  }
  Pose polish(const Pose& pose, const std::vector<std::uint32_t>& inliers, const std::vector<double>&) const {
    std::vector<PointView> chosen;
    for (const std::uint32_t i : inliers) chosen.push_back(views[i]);
    return refine_pose(pose, chosen, width, 3);
  }
};

FocalPose refine_focal_pose(const FocalPose& start, std::span<const PointView> views, double huber_width,
                            int iterations) {
  FocalPose result = start;
  for (int iteration = 0; iteration < iterations; ++iteration) {
    Eigen::Matrix<double, 7, 7> normal = Eigen::Matrix<double, 7, 7>::Zero();
    Eigen::Matrix<double, 7, 1> right = Eigen::Matrix<double, 7, 1>::Zero();
    const Matrix3d rotation = result.pose.rotation();
    for (const PointView& view : views) {
      const Vector3d p = rotation * (view.point - result.pose.centre);
      if (!(p.z() > 1e-12)) continue;
      const double scale = result.focal / p.z();
      Eigen::Matrix<double, 2, 3> d;
      d << scale, 0, -scale * p.x() / p.z(), 0, scale, -scale * p.y() / p.z();
      Eigen::Matrix<double, 2, 7> j;
      j.leftCols<3>() = -d * skew(p);
      j.middleCols<3>(3) = -d * rotation;
      j.col(6) = p.hnormalized() * result.focal;  // by the logarithm of the focal length
      const Eigen::Vector2d r = view.direction - result.focal * p.hnormalized();
      const double size = r.norm(), weight = size <= huber_width ? 1 : huber_width / size;
      normal += weight * j.transpose() * j;
      right += weight * j.transpose() * r;
    }
    normal.diagonal() *= 1 + 1e-9;
    const Eigen::Matrix<double, 7, 1> step = normal.ldlt().solve(right);
    if (!step.allFinite()) break;
    result.pose.orientation = (rotation_from_vector(step.head<3>()) * result.pose.orientation).normalized();
    result.pose.centre += step.segment<3>(3);
    result.focal *= std::exp(std::clamp(step[6], -0.5, 0.5));
    if (step.norm() < 1e-12 * (1 + result.pose.centre.norm())) break;
  }
  return result;
}

struct FocalProblem {
  using Model = FocalPose;
  static constexpr std::size_t kSample = 4;
  std::span<const PointView> views;
  double width, least, largest;

  std::size_t size() const { return views.size(); }
  double error2(const FocalPose& model, std::size_t i) const {
    const Vector3d p = model.pose.to_camera(views[i].point);
    return p.z() > 0 ? (model.focal * p.hnormalized() - views[i].direction).squaredNorm()
                     : std::numeric_limits<double>::infinity();
  }
  void solve(const std::uint32_t* sample, std::vector<FocalPose>& models) const {
    const PointView four[] = {views[sample[0]], views[sample[1]], views[sample[2]], views[sample[3]]};
    models = poses_from_four(four, least, largest);
  }
  FocalPose polish(const FocalPose& model, const std::vector<std::uint32_t>& inliers,
                   const std::vector<double>&) const {
    std::vector<PointView> chosen;
    for (const std::uint32_t i : inliers) chosen.push_back(views[i]);
    FocalPose refined = refine_focal_pose(model, chosen, width, 4);
    refined.focal = std::clamp(refined.focal, least, largest);
    return refined;
  }
};

}  // namespace

std::vector<Pose> poses_from_three(std::span<const PointView> views) {
  std::array<Vector3d, 3> x, y;
  for (int i = 0; i < 3; ++i) {
    x[i] = views[i].point;
    y[i] = views[i].direction.homogeneous().normalized();
  }
  const double a01 = (x[0] - x[1]).squaredNorm(), a02 = (x[0] - x[2]).squaredNorm(), a12 = (x[1] - x[2]).squaredNorm();
  const Vector3d across = (x[1] - x[0]).cross(x[2] - x[0]);
  if (!(across.squaredNorm() > 1e-20 * a01 * a02)) return {};  // one line
  const Matrix3d m01 = distance_form(y, 0, 1), m02 = distance_form(y, 0, 2), m12 = distance_form(y, 1, 2);
  const Matrix3d d1 = m01 * a12 - m12 * a01, d2 = m02 * a12 - m12 * a02;
  const auto mixed = [](const Matrix3d& a, const Matrix3d& b) {
    return a.col(0).dot(b.col(1).cross(b.col(2))) + a.col(1).dot(b.col(2).cross(b.col(0))) +
           a.col(2).dot(b.col(0).cross(b.col(1)));
  };
  const std::array<double, 4> cubic = {d1.determinant(), mixed(d2, d1), mixed(d1, d2), d2.determinant()};
  const std::vector<double> roots = real_roots(cubic);

  std::vector<Pose> poses;
  Matrix3d from;
  from << x[1] - x[0], x[2] - x[0], across;
  const Matrix3d from_inverse = from.inverse();
  for (const double gamma : roots) {
    // A pair of planes through the origin: sigma1 (e1 . l)^2 + sigma2 (e2 . l)^2 = 0.
    const auto [sigma, axes] = spectrum_direct(d1 + gamma * d2);
    if (!(sigma[0] < 0 && sigma[2] > 0)) continue;
    const double ratio = std::sqrt(-sigma[0] / sigma[2]);
    for (const double sign : {1.0, -1.0}) {
      const Vector3d plane = (axes.col(2) + sign * ratio * axes.col(0)).normalized();
      const Vector3d u = plane.unitOrthogonal(), v = plane.cross(u);
      // l = u cos + v sin up to scale, on one of the quadrics: a quadratic in the tangent.
      const Matrix3d& d = d2.norm() * a01 > d1.norm() * a02 ? d2 : d1;
      const double qa = v.dot(d * v), qb = 2 * u.dot(d * v), qc = u.dot(d * u);
      const double discriminant = qb * qb - 4 * qa * qc;
      if (discriminant < 0) continue;
      const double q = -0.5 * (qb + std::copysign(std::sqrt(discriminant), qb));
      for (const Vector3d& direction : {Vector3d(u * qa + v * q), Vector3d(u * q + v * qc)}) {
        const double form = direction.dot(m12 * direction);
        if (!(form > 0)) continue;
        Vector3d l = direction * std::sqrt(a12 / form);
        if (l.sum() < 0) l = -l;
        if (!(l.minCoeff() > 0)) continue;
        for (int step = 0; step < 3; ++step) {
          const Vector3d f(l.dot(m01 * l) - a01, l.dot(m02 * l) - a02, l.dot(m12 * l) - a12);
          Matrix3d j;
          j.row(0) = 2 * (m01 * l);
          j.row(1) = 2 * (m02 * l);
          j.row(2) = 2 * (m12 * l);
          const Vector3d change = j.partialPivLu().solve(f);
          if (!change.allFinite()) break;
          l -= change;
        }
        if (!(l.minCoeff() > 0)) continue;
        const Vector3d residual(l.dot(m01 * l) - a01, l.dot(m02 * l) - a02, l.dot(m12 * l) - a12);
        if (!(residual.cwiseAbs().maxCoeff() < 1e-6 * (a01 + a02 + a12))) continue;
        const Vector3d p0 = l[0] * y[0], e1 = l[1] * y[1] - p0, e2 = l[2] * y[2] - p0;
        Matrix3d to;
        to << e1, e2, e1.cross(e2);
        const Matrix3d rotation = to * from_inverse;
        Pose pose;
        pose.orientation = Eigen::Quaterniond(rotation).normalized();
        pose.centre = x[0] - pose.orientation.conjugate() * p0;
        bool fresh = pose.centre.allFinite();
        for (const Pose& other : poses)
          fresh = fresh && ((other.centre - pose.centre).norm() > 1e-9 * (1 + pose.centre.norm()) ||
                            rotation_angle(other.orientation, pose.orientation) > 1e-9);
        if (fresh) poses.push_back(pose);
      }
    }
    if (!poses.empty()) break;  // any root gives all intersections; others serve only when this one is ill-conditioned
  }
  return poses;
}

Pose refine_pose(const Pose& start, std::span<const PointView> views, double huber_width, int iterations) {
  Pose pose = start;
  for (int iteration = 0; iteration < iterations; ++iteration) {
    Eigen::Matrix<double, 6, 6> normal = Eigen::Matrix<double, 6, 6>::Zero();
    Eigen::Matrix<double, 6, 1> right = Eigen::Matrix<double, 6, 1>::Zero();
    const Matrix3d rotation = pose.rotation();
    for (const PointView& view : views) {
      const Vector3d p = rotation * (view.point - pose.centre);
      if (!(p.z() > 1e-12)) continue;
      const double inv_z = 1 / p.z();
      Eigen::Matrix<double, 2, 3> d;
      d << inv_z, 0, -p.x() * inv_z * inv_z, 0, inv_z, -p.y() * inv_z * inv_z;
      Eigen::Matrix<double, 2, 6> j;
      j.leftCols<3>() = -d * skew(p);    // rotation applied from the left
      j.rightCols<3>() = -d * rotation;  // centre
      const Eigen::Vector2d r = view.direction - p.hnormalized();
      const double size = r.norm();
      const double weight = size <= huber_width ? 1 : huber_width / size;
      normal += weight * j.transpose() * j;
      right += weight * j.transpose() * r;
    }
    const Eigen::Matrix<double, 6, 1> step = normal.ldlt().solve(right);
    if (!step.allFinite()) break;
    pose.orientation = (rotation_from_vector(step.head<3>()) * pose.orientation).normalized();
    pose.centre += step.tail<3>();
    if (step.norm() < 1e-12 * (1 + pose.centre.norm())) break;
  }
  return pose;
}

Resection resect(std::span<const PointView> views, const ResectionOptions& options, std::uint64_t seed) {
  const double max_error = options.max_error > 0 ? options.max_error : kUsualError;
  const ResectionProblem problem{views, 0.5 * max_error};
  RobustOptions robust;
  robust.max_error2 = max_error * max_error;
  robust.confidence = options.confidence;
  robust.max_samples = options.max_samples;
  robust.min_samples = 20;
  auto result = robust_fit(problem, robust, seed);
  return {result.model, std::move(result.inliers), result.samples};
}

std::vector<FocalPose> poses_from_four(std::span<const PointView> views, double least_focal, double largest_focal) {
  // By focal length: how far each pose through the first three misses the fourth. Where this is least between two
  // others, a solution is near.
  constexpr int kSteps = 16;
  std::array<FocalPose, kSteps> found;
  std::array<double, kSteps> miss;
  for (int k = 0; k < kSteps; ++k) {
    const double focal = least_focal * std::pow(largest_focal / least_focal, static_cast<double>(k) / (kSteps - 1));
    PointView three[3];
    for (int i = 0; i < 3; ++i)
      three[i] = {views[static_cast<std::size_t>(i)].point, views[static_cast<std::size_t>(i)].direction / focal};
    miss[static_cast<std::size_t>(k)] = std::numeric_limits<double>::infinity();
    for (const Pose& pose : poses_from_three(three)) {
      const Vector3d p = pose.to_camera(views[3].point);
      const double error =
          p.z() > 0 ? (focal * p.hnormalized() - views[3].direction).norm() : std::numeric_limits<double>::infinity();
      if (error < miss[static_cast<std::size_t>(k)])
        miss[static_cast<std::size_t>(k)] = error, found[static_cast<std::size_t>(k)] = {pose, focal};
    }
  }
  std::vector<FocalPose> result;
  for (int k = 0; k < kSteps; ++k) {
    const auto at = [&](int i) {
      return i < 0 || i >= kSteps ? std::numeric_limits<double>::infinity() : miss[static_cast<std::size_t>(i)];
    };
    if (!std::isfinite(at(k)) || at(k) > at(k - 1) || at(k) > at(k + 1)) continue;
    const FocalPose refined = refine_focal_pose(found[static_cast<std::size_t>(k)], views.first(4),
                                                std::numeric_limits<double>::infinity(), 8);
    if (refined.focal < least_focal || refined.focal > largest_focal || !refined.pose.centre.allFinite()) continue;
    double worst = 0;
    for (std::size_t i = 0; i < 4; ++i) {
      const Vector3d p = refined.pose.to_camera(views[i].point);
      worst = p.z() > 0 ? std::max(worst, (refined.focal * p.hnormalized() - views[i].direction).norm())
                        : std::numeric_limits<double>::infinity();
    }
    if (worst < 1e-3 * refined.focal) result.push_back(refined);
  }
  return result;
}

FocalResection resect_focal(std::span<const PointView> views, const ResectionOptions& options, double least_focal,
                            double largest_focal, std::uint64_t seed) {
  double max_error = options.max_error, farthest = 1e-12;
  for (const PointView& view : views) farthest = std::max(farthest, view.direction.norm());
  if (!(max_error > 0)) max_error = kUsualError * farthest;
  const FocalProblem problem{views, 0.5 * max_error, least_focal, largest_focal};
  RobustOptions robust;
  robust.max_error2 = max_error * max_error;
  robust.confidence = options.confidence;
  robust.max_samples = std::min(options.max_samples, 2000);
  robust.min_samples = 20;
  auto result = robust_fit(problem, robust, seed);
  return {result.model, std::move(result.inliers), result.samples};
}

}  // namespace icefield
