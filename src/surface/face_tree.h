// A tree of boxes over the faces of a mesh, which finds the nearest place on it.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <vector>

#include "icefield/surface/mesh.h"

namespace icefield {

// The mesh must outlive it. Queries may come from any thread.
class FaceTree {
 public:
  explicit FaceTree(const Mesh& mesh);

  struct Nearest {
    std::uint32_t face = 0;
    float distance2 = 0;
    Eigen::Vector3f place = Eigen::Vector3f::Zero();
  };
  Nearest nearest(const Eigen::Vector3f& query) const;  // needs one face at least

 private:
  struct Node {
    Eigen::Vector3f low, high;
    std::uint32_t first = 0;  // of its faces in order_, or its two children
    std::uint32_t count = 0;  // 0: not a leaf
  };
  std::uint32_t build(std::uint32_t begin, std::uint32_t end);

  const Mesh& mesh_;
  std::vector<std::uint32_t> order_;
  std::vector<Eigen::Vector3f> middles_;  // while it is built
  std::vector<Node> nodes_;
};

}  // namespace icefield
