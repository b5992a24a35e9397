// Which unknowns an adjustment has and in which order they stand in its camera system.
#pragma once
#include <cstdint>
#include <vector>

#include "icefield/adjust/adjust.h"
#include "src/adjust/elimination_order.h"

namespace icefield {

inline constexpr int kMaxNodeUnknowns = 6 + kMaxCameraParameters;

// A node of the camera system is a pose (rotation vector, centre), the free parameters of a camera that several photos
// share, or both in one for a photo whose camera no other photo has, or the place of a point at the end of a scale bar.
// Numbers are those of the order of elimination.
struct Unknowns {
  std::vector<std::vector<int>> free;     // parameters of each camera that are unknown
  std::vector<std::int32_t> photo_node;   // -1: the pose is known
  std::vector<std::int32_t> camera_node;  // -1: nothing unknown, or part of a photo's node
  std::vector<std::uint8_t> own_camera;   // by photo: its node ends with its camera's parameters
  std::vector<std::int32_t>
      point_node;  // by point of the block: -1 for those that are eliminated; empty without scale bars
  enum class Kind : std::uint8_t { photo, camera, point };
  std::vector<std::uint32_t> node_item;  // photo, camera or point of each node
  std::vector<Kind> node_kind;
  BlockGraph graph;           // which nodes meet in a point
  std::size_t count() const;  // all unknowns of the camera system
};

Unknowns number_unknowns(const Block& block, const AdjustOptions& options);

}  // namespace icefield
