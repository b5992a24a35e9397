#include "icefield/judge/point_quality.h"

#include <cmath>

namespace icefield {

std::vector<double> point_views(const Block& block) {
  std::vector<double> views;
  for (std::size_t p = 0; p < block.points.size(); ++p) views.push_back(static_cast<double>(block.of_point(p).size()));
  return views;
}

std::vector<double> point_rms_px(const Block& block) {
  std::vector<double> rms;
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    const auto seen = block.of_point(p);
    double sum2 = 0;
    for (const Observation& o : seen)
      sum2 += residual_px(block, block.points[p], o).value_or(Eigen::Vector2d::Zero()).squaredNorm();
    rms.push_back(seen.empty() ? 0 : std::sqrt(sum2 / static_cast<double>(seen.size())));
  }
  return rms;
}

std::vector<double> point_sigma_gsd(const Block& block, const Uncertainty& uncertain) {
  std::vector<double> sigma;
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    double gsd = 1e300;
    for (const Observation& o : block.of_point(p)) {
      const PosedPhoto& photo = block.photos[o.photo];
      gsd = std::min(gsd, (photo.pose.centre - block.points[p]).norm() / block.camera_of(photo).focal());
    }
    sigma.push_back(std::sqrt(uncertain.points[p].trace()) / gsd);
  }
  return sigma;
}

std::vector<PhotoResidual> residuals_of_photo(const Block& block, std::size_t photo) {
  std::vector<PhotoResidual> residuals;
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (const Observation& o : block.of_point(p))
      if (o.photo == photo)
        if (const auto r = residual_px(block, block.points[p], o)) residuals.push_back({o.pixel, *r});
  return residuals;
}

}  // namespace icefield
