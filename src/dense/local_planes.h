// What the surface around a spot with little texture makes likely there.
#pragma once
#include <Eigen/Core>
#include <algorithm>
#include <vector>

namespace icefield {

// Planes fitted to the surface in growing windows, where all that is known in a window lies on one plane and surrounds
// its middle. A plane of space is linear in the inverse depth over a photo. The idea of a prior of planes is that of Xu
// and Tao, "Planar prior assisted PatchMatch multi-view stereo", 2020, who span them between single points; windows
// tell whether there is one plane at all.
class LocalPlanes {
 public:
  struct Plane {
    Eigen::Vector3f inverse_depth = Eigen::Vector3f::Zero();  // times (x, y, 1), the direction of a pixel
    float tolerance = 0;                                      // of the depth, relative; 0: nothing is known here
  };

  LocalPlanes() = default;
  LocalPlanes(int width, int height, float focal, float cx, float cy);

  // A pixel whose depth can be relied on. All before `fit`.
  void add(int x, int y, float depth);
  void fit();

  bool empty() const { return planes_.empty(); }
  const Plane& at(int x, int y) const {
    return planes_[static_cast<std::size_t>(std::min(y / kCell, rows_ - 1) * columns_ +
                                            std::min(x / kCell, columns_ - 1))];
  }

 private:
  static constexpr int kCell = 4;  // px
  // Sums over the reliable pixels of a cell, then over all cells above and left of it.
  struct Sums {
    double n = 0, x = 0, y = 0, xx = 0, xy = 0, yy = 0, d = 0, dx = 0, dy = 0, dd = 0;
    Sums& add(const Sums& other, double sign);
  };
  Sums in_window(int left, int top, int right, int bottom) const;

  int columns_ = 0, rows_ = 0;
  float focal_ = 1, cx_ = 0, cy_ = 0;
  double scale_ = 0;  // an inverse depth of the photo, so that the sums are about 1
  std::vector<Sums> sums_;
  std::vector<Plane> planes_;
};

}  // namespace icefield
