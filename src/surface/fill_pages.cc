#include "src/surface/fill_pages.h"

#include <algorithm>

namespace icefield {

void fill_page(ImageU8& page, const ImageU8& origins) {
  // Each level has the means of what counts in four texels of the level before.
  struct Level {
    ImageU8 colours, known;
  };
  std::vector<Level> levels;
  const auto colour = [&](std::size_t level) -> ImageU8& { return level == 0 ? page : levels[level - 1].colours; };
  const auto known = [&](std::size_t level, int x, int y) {
    return level == 0 ? origins.at(x, y) != 0 : levels[level - 1].known.at(x, y) != 0;
  };
  while (colour(levels.size()).width() > 1) {
    const std::size_t below = levels.size();
    const int side = (colour(below).width() + 1) / 2, most = colour(below).width() - 1;
    Level level{ImageU8(side, side, 3), ImageU8(side, side)};
    for (int y = 0; y < side; ++y)
      for (int x = 0; x < side; ++x) {
        int count = 0;
        std::array<int, 3> sum{};
        for (int dy = 0; dy < 2; ++dy)
          for (int dx = 0; dx < 2; ++dx) {
            const int u = std::min(2 * x + dx, most), v = std::min(2 * y + dy, most);
            if (!known(below, u, v)) continue;
            ++count;
            for (int c = 0; c < 3; ++c) sum[static_cast<std::size_t>(c)] += colour(below).at(u, v, c);
          }
        if (count == 0) continue;
        level.known.at(x, y) = 1;
        for (int c = 0; c < 3; ++c)
          level.colours.at(x, y, c) = static_cast<std::uint8_t>((sum[static_cast<std::size_t>(c)] + count / 2) / count);
      }
    levels.push_back(std::move(level));
  }
  for (std::size_t level = levels.size(); level-- > 0;) {
    ImageU8& fine = colour(level);
    const ImageU8& coarse = levels[level].colours;
    for (int y = 0; y < fine.height(); ++y)
      for (int x = 0; x < fine.width(); ++x)
        if (!known(level, x, y))
          for (int c = 0; c < 3; ++c) fine.at(x, y, c) = coarse.at(x / 2, y / 2, c);
  }
}

double fill_pages(Texture& texture) {
  std::size_t used = 0, whole = 0;
  for (std::size_t p = 0; p < texture.pages.size(); ++p) {
    ImageU8& origins = texture.origins[p];
    fill_page(texture.pages[p], origins);
    for (std::uint8_t& o : origins.values()) {
      if (o == kGutterMark) o = static_cast<std::uint8_t>(TexelOrigin::none);
      used += o != static_cast<std::uint8_t>(TexelOrigin::none);
    }
    whole += origins.pixels();
  }
  return whole > 0 ? 100.0 * static_cast<double>(used) / static_cast<double>(whole) : 0;
}

}  // namespace icefield
