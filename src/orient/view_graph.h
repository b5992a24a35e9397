// Photos and what pairs say of their relative poses, checked before it is used.
#pragma once
#include <Eigen/Core>
#include <Eigen/Geometry>
#include <vector>

#include "src/orient/orient_input.h"

namespace icefield {

struct ViewEdge {
  std::uint32_t pair = 0, first = 0, second = 0;
  Eigen::Quaterniond turn = Eigen::Quaterniond::Identity();  // orientation of the second, seen from the first's frame
  Eigen::Vector3d direction =
      Eigen::Vector3d::Zero();  // from the first centre to the second, in the first's frame; 0: not known
  double angle = 0;             // median at which rays meet, radians
  std::uint32_t matches = 0;
  double agreement = 1;  // of what its photos see, see relative_shares
};

struct ViewGraph {
  std::vector<ViewEdge> edges;
  std::vector<Eigen::Quaterniond> orientations;  // averaged; world of each connected part its own
  std::vector<std::uint32_t> part;  // connected part of each photo, by what is left of the edges; the largest is 0
  std::vector<std::size_t> part_sizes;
  std::vector<double> turn_error;  // of each edge against the average, radians
  std::size_t cut_by_turn = 0, cut_by_direction = 0;
};

// Relative poses of the verified pairs under the given cameras. Cycles of three orientations must close and the centres
// of three photos must lie in a plane; edges that most cycles speak against, and those that contradict the average of
// the rest (Hartley, Trumpf, Dai and Li, "Rotation averaging", 2013; Chatterjee and Govindu, "Efficient and robust
// large-scale rotation averaging", 2013), are cut in the input and counted. The average starts from the pairs that
// share what pairs at their angle usually share, so that places that look alike do not carry it, however many pairs
// they have.
ViewGraph check_view_graph(OrientInput& input, const TrackSet& tracks, const std::vector<Camera>& cameras);

}  // namespace icefield
