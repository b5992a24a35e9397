#include "icefield/base/nearest.h"

#include <nanoflann.hpp>

namespace icefield {
namespace {

struct Adaptor {
  std::span<const Eigen::Vector3f> points;
  std::size_t kdtree_get_point_count() const { return points.size(); }
  float kdtree_get_pt(std::size_t i, std::size_t c) const { return points[i][static_cast<int>(c)]; }
  template <class Box>
  bool kdtree_get_bbox(Box&) const {
    return false;
  }
};

}  // namespace

struct NearestPoints::Tree {
  Adaptor adaptor;
  nanoflann::KDTreeSingleIndexAdaptor<nanoflann::L2_Simple_Adaptor<float, Adaptor>, Adaptor, 3, std::size_t> index;
  explicit Tree(std::span<const Eigen::Vector3f> points) : adaptor{points}, index(3, adaptor, {12}) {
    index.buildIndex();
  }
};

NearestPoints::NearestPoints(std::span<const Eigen::Vector3f> points) : tree_(std::make_unique<Tree>(points)) {}
NearestPoints::~NearestPoints() = default;

NearestPoints::Found NearestPoints::nearest(const Eigen::Vector3f& query) const {
  Found found{0, 0};
  tree_->index.knnSearch(query.data(), 1, &found.index, &found.distance2);
  return found;
}

std::vector<NearestPoints::Found> NearestPoints::nearest(const Eigen::Vector3f& query, std::size_t k) const {
  std::vector<std::size_t> indices(k);
  std::vector<float> distances(k);
  const std::size_t count = tree_->index.knnSearch(query.data(), k, indices.data(), distances.data());
  std::vector<Found> found(count);
  for (std::size_t i = 0; i < count; ++i) found[i] = {indices[i], distances[i]};
  return found;
}

}  // namespace icefield
