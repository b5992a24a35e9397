// Texels outside of all charts.
#pragma once
#include "icefield/surface/texture.h"

namespace icefield {

inline constexpr std::uint8_t kGutterMark = 255;

// Texels whose origin is `none` get colours from around, from shrunk copies of the page in which only the others count
// ("pull-push": Gortler, Grzeszczuk, Szeliski and Cohen, "The lumigraph", 1996): no shrunk page darkens at a border.
void fill_page(ImageU8& page, const ImageU8& origins);

// The same for all pages; gutters become `none`. Share of texels on faces, percent.
double fill_pages(Texture& texture);

}  // namespace icefield
