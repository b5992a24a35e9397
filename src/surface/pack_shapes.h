// Shapes of cells on square pages, close together.
#pragma once
#include <cstdint>
#include <vector>

namespace icefield {

// A raster of bits.
struct CellShape {
  int width = 0, height = 0;
  std::size_t words = 0;  // in a row
  std::vector<std::uint64_t> bits;

  CellShape() = default;
  CellShape(int w, int h)
      : width(w),
        height(h),
        words((static_cast<std::size_t>(w) + 63) / 64),
        bits(words * static_cast<std::size_t>(h), 0) {}
  bool at(int x, int y) const { return bits[row(y) + static_cast<std::size_t>(x) / 64] >> (x % 64) & 1; }
  void set(int x, int y) { bits[row(y) + static_cast<std::size_t>(x) / 64] |= std::uint64_t{1} << (x % 64); }
  CellShape turned() const;  // a quarter: (x, y) comes to (height - 1 - y, x)
  std::size_t count() const;

 private:
  std::size_t row(int y) const { return words * static_cast<std::size_t>(y); }
};

struct CellPlace {
  int page = 0, x = 0, y = 0, turns = 0;
};

// Places of all shapes on at most `pages` pages of side x side cells, the largest first, each where it comes to lie
// highest of its four turns; empty where they have no room.
std::vector<CellPlace> pack_shapes(const std::vector<CellShape>& shapes, int side, int pages);

}  // namespace icefield
