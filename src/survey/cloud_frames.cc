#include "src/survey/cloud_frames.h"

namespace icefield {

using Eigen::Vector3d;

PointCloud cloud_in_world(const PointCloud& cloud, const WorldFrame& frame, const Datum& datum) {
  PointCloud moved = cloud;
  moved.datum = datum;
  if (!frame.curved()) {
    moved.origin += frame.origin();
    return moved;
  }
  std::vector<Vector3d> places;
  places.reserve(cloud.size());
  for (std::size_t i = 0; i < cloud.size(); ++i) places.push_back(cloud.position(i));
  Vector3d middle = Vector3d::Zero();
  for (const Vector3d& p : places) middle += p / static_cast<double>(places.size());
  frame.to_world(places);
  moved.origin = frame.origin();
  for (std::size_t i = 0; i < cloud.size(); ++i) moved.positions[i] = (places[i] - moved.origin).cast<float>();
  if (!cloud.normals.empty()) {
    const Eigen::Matrix3f axes = frame.axes_at(middle).cast<float>();
    for (Eigen::Vector3f& n : moved.normals) n = (axes * n).normalized();
  }
  return moved;
}

PointCloud cloud_in_block(PointCloud cloud, const WorldFrame& frame) {
  if (!frame.curved()) {
    cloud.origin -= frame.origin();
    return cloud;
  }
  Vector3d middle = Vector3d::Zero();
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const Vector3d place = frame.to_local(cloud.position(i));
    middle += place / static_cast<double>(cloud.size());
    cloud.positions[i] = place.cast<float>();
  }
  cloud.origin.setZero();
  const Eigen::Matrix3f axes = frame.axes_at(middle).transpose().cast<float>();
  for (Eigen::Vector3f& n : cloud.normals) n = (axes * n).normalized();
  return cloud;
}

}  // namespace icefield
