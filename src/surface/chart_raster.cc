#include "src/surface/chart_raster.h"

#include "src/surface/fill_pages.h"

namespace icefield {

void put_on_page(const Chart& chart, const ChartRaster& raster, const Image<std::uint32_t>& faces,
                 const ImageF& colours, TexelOrigin origin, Texture& texture) {
  ImageU8& page = texture.pages[static_cast<std::size_t>(chart.page)];
  ImageU8& origins = texture.origins[static_cast<std::size_t>(chart.page)];
  for (int y = 0; y < chart.height; ++y)
    for (int x = 0; x < chart.width; ++x) {
      if (raster.owner().at(x, y) == ChartRaster::kNoFace) continue;
      const Eigen::Vector2d at = chart.on_page(Eigen::Vector2d(x + 0.5, y + 0.5));
      const int u = static_cast<int>(at.x()), v = static_cast<int>(at.y());
      for (int k = 0; k < 3; ++k)
        page.at(u, v, k) = static_cast<std::uint8_t>(std::lround(std::clamp(colours.at(x, y, k), 0.0f, 255.0f)));
      // The gutter is marked for the time being, so that filling up starts from it.
      origins.at(u, v) = faces.at(x, y) != ChartRaster::kNoFace ? static_cast<std::uint8_t>(origin) : kGutterMark;
    }
}

}  // namespace icefield
