// How well the tie points of a block are measured, a number for each.
#pragma once
#include <span>
#include <vector>

#include "icefield/adjust/uncertainty.h"
#include "icefield/block/block.h"

namespace icefield {

std::vector<double> point_views(const Block& block);  // photos that see it
// Root mean square of the lengths of its residuals, px; 0 for a point behind all of its photos.
std::vector<double> point_rms_px(const Block& block);
// Standard deviation (root of the sum over three coordinates) in pixels on the subject, of the photo that resolves it
// best. `uncertain` as it belongs to the block.
std::vector<double> point_sigma_gsd(const Block& block, const Uncertainty& uncertain);

// Where a photo (index into the block's) has a tie point, and observed minus projected there, px.
struct PhotoResidual {
  Eigen::Vector2d pixel = Eigen::Vector2d::Zero(), residual = Eigen::Vector2d::Zero();
};
std::vector<PhotoResidual> residuals_of_photo(const Block& block, std::size_t photo);

}  // namespace icefield
