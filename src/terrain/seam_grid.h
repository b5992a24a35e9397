// Photos that see the cells of a coarse grid, what they say of them, and which is taken.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/terrain/orthomosaic.h"

namespace icefield {

inline constexpr std::uint32_t kNoPhoto = 0xffffffffu;

struct CellView {
  std::uint32_t photo = kNoPhoto;  // of the block
  float worth = 0;                 // pixels to a unit of area, by sharpness
  float slant = 0;                 // tangent of the angle between straight up and the way to the photo
  float radius = 0;                // of its pixel from the photo's middle, by half its diagonal
  Eigen::Vector3f colour = Eigen::Vector3f::Zero();  // 0 to 255, as the photo has it
  bool apart = false;                                // others agree on another
};

struct SeamGrid {
  GridFrame frame;
  int factor = 1;  // cells of the picture along a side of one of these
  std::vector<std::size_t> starts;
  std::vector<CellView> views;        // by cell; of one cell by photo
  ImageU8 raised;                     // cells whose middle lies on what stands on the ground
  std::vector<std::uint32_t> choice;  // by cell

  std::span<const CellView> of(std::size_t cell) const {
    return {views.data() + starts[cell], views.data() + starts[cell + 1]};
  }
};

// Gains of photos and channels, and what a lens loses of the light away from its middle.
struct PhotoLevels {
  std::vector<Eigen::Vector3f> gains;  // by photo of the block
  std::vector<Eigen::Vector3d> loss;   // by camera: logarithms of what r^2, r^4 and r^6 take to be multiplied by
  Eigen::Vector3f factor(std::uint32_t photo, std::uint32_t camera, double radius) const {
    const double r2 = radius * radius;
    return gains[photo] * static_cast<float>(std::exp(loss[camera].dot(Eigen::Vector3d(r2, r2 * r2, r2 * r2 * r2))));
  }
};
PhotoLevels no_levels(const Block& block);
// From what photos say of the same cells: one adjustment by least squares of logarithms, differences that are far from
// the usual weigh little (Huber, "Robust estimation of a location parameter", 1964, with Cauchy's weights). Fills the
// summary's figures of exposure.
PhotoLevels level_photos(const SeamGrid& grid, const Block& block, OrthomosaicSummary& summary);

// Marks views whose levelled colour is far from what the others of their cell say.
void find_views_apart(SeamGrid& grid, const PhotoLevels& levels, const Block& block, double gap,
                      OrthomosaicSummary& summary, const Executor& executor);

// Fills `choice`.
void choose_photos(SeamGrid& grid, const PhotoLevels& levels, const Block& block, const OrthomosaicOptions& options,
                   Monitor& monitor);

// Borders between the choices, and their lengths in the summary.
std::vector<SeamLine> seam_lines(const SeamGrid& grid, OrthomosaicSummary& summary);

}  // namespace icefield
