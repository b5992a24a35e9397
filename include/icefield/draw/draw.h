// Pictures of results, as pixels.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "icefield/block/block.h"
#include "icefield/cloud/cloud.h"
#include "icefield/dense/dense.h"
#include "icefield/photo/image.h"

namespace icefield {

struct DrawOptions {
  int width = 1280, height = 800;
  double azimuth_deg = 35;       // the eye's direction around the vertical, from x towards y
  double elevation_deg = 28;     // and above the horizontal
  std::string title;             // a line below the picture says what is shown
};

// A cloud in perspective from outside, each point as large as the spacing around it, with photos as small pyramids.
// `focus` is the part that fills the picture (default: the middle 98 percent of the points).
ImageU8 draw_cloud(const PointCloud& cloud, const std::vector<PosedPhoto>& photos, const std::optional<Bounds>& focus, const DrawOptions& options);

// A depth map in colour, near to far, with a scale; pixels without depth, or with a cost over `max_cost`, are dark.
ImageU8 draw_depth(const DepthMap& map, const DrawOptions& options, float max_cost = 2);

}  // namespace icefield
