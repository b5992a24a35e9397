// A page that shows a folder of tiles from disk.
#pragma once
#include <Eigen/Core>
#include <string>

namespace icefield {

struct TilePage {
  std::string title, units;
  bool on_earth = false;
  int lowest = 0, highest = 0, side = 256;
  double square = 1;                                 // side of level 0's tile, units of the net
  Eigen::Vector2d origin = Eigen::Vector2d::Zero();  // its north-western corner
  Eigen::Vector2d low = Eigen::Vector2d::Zero(), high = Eigen::Vector2d::Zero();  // of what is shown
};

// Without scripts it says where the tiles are; nothing is fetched but they.
std::string tile_page(const TilePage& page);

}  // namespace icefield
