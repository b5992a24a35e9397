// A tree of boxes over the faces of a mesh, which finds the nearest place on it and what a ray meets.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <optional>
#include <vector>

#include "icefield/surface/mesh.h"

namespace icefield {

// The mesh must outlive it, and have places that are numbers: else Error(usage). Queries may come from any thread.
class FaceTree {
 public:
  explicit FaceTree(const Mesh& mesh);

  struct Nearest {
    std::uint32_t face = 0;
    float distance2 = 0;
    Eigen::Vector3f place = Eigen::Vector3f::Zero();
  };
  Nearest nearest(const Eigen::Vector3f& query) const;  // needs one face at least

  // Rays start at `from`; `along` need not be of unit length, and distances count in it. Coordinates as in the mesh,
  // its origin left out.
  struct Ray {
    Eigen::Vector3f from, along;
    float least = 0, most = 1;  // what is nearer or farther is passed over
  };
  struct Hit {
    std::uint32_t face = 0;
    float distance = 0;
    std::array<float, 3> weights{};  // shares of the corners
  };
  std::optional<Hit> first_hit(const Ray& ray) const;  // from either side
  bool blocked(const Ray& ray) const;                  // by anything

 private:
  struct Node {
    Eigen::Vector3f low, high;
    std::uint32_t first = 0;  // of its faces in order_, or its two children
    std::uint32_t count = 0;  // 0: not a leaf
  };
  std::uint32_t build(std::uint32_t begin, std::uint32_t end);
  // Takes each hit; stops where `take` says so. `most` of the ray may be lowered meanwhile.
  template <class Take>
  void trace(Ray& ray, const Take& take) const;

  const Mesh& mesh_;
  std::vector<std::uint32_t> order_;
  std::vector<Eigen::Vector3f> middles_;  // while it is built
  std::vector<Node> nodes_;
};

}  // namespace icefield
