// A raster, window by window.
#pragma once
#include <algorithm>

#include "icefield/base/monitor.h"
#include "icefield/terrain/height_model.h"

namespace icefield {

// Side of square windows of which each cell takes so many bytes while it is worked on: a power of two from `least` to
// 2048, the largest that keeps within `room` bytes.
inline int window_side(double bytes_a_cell, double room, int least) {
  int side = 2048;
  while (side > least && bytes_a_cell * side * side > room) side /= 2;
  return side;
}

// Calls visit(window) for all of them, row after row; progress under `what`.
template <class Visit>
void each_window(const GridFrame& frame, int side, const char* what, Monitor& monitor, const Visit& visit) {
  const int across = (frame.columns + side - 1) / side, down = (frame.rows + side - 1) / side;
  const std::size_t windows = static_cast<std::size_t>(across) * static_cast<std::size_t>(down);
  for (std::size_t w = 0; w < windows; ++w) {
    monitor.progress(what, w, windows);
    monitor.check();
    Window window;
    window.column = static_cast<int>(w % static_cast<std::size_t>(across)) * side;
    window.row = static_cast<int>(w / static_cast<std::size_t>(across)) * side;
    window.width = std::min(side, frame.columns - window.column);
    window.height = std::min(side, frame.rows - window.row);
    visit(window);
  }
  monitor.progress(what, windows, windows);
}

}  // namespace icefield
