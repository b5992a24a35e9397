// Nearest points in space.
#pragma once
#include <Eigen/Core>
#include <memory>
#include <span>
#include <vector>

namespace icefield {

// A k-d tree over points that it does not copy; they must outlive it. Queries may come from any thread.
class NearestPoints {
 public:
  explicit NearestPoints(std::span<const Eigen::Vector3f> points);
  ~NearestPoints();
  NearestPoints(const NearestPoints&) = delete;
  NearestPoints& operator=(const NearestPoints&) = delete;

  struct Found {
    std::size_t index;
    float distance2;
  };
  Found nearest(const Eigen::Vector3f& query) const;  // needs at least one point
  // The k nearest, nearest first; fewer when there are fewer points.
  std::vector<Found> nearest(const Eigen::Vector3f& query, std::size_t k) const;

 private:
  struct Tree;
  std::unique_ptr<Tree> tree_;
};

}  // namespace icefield
