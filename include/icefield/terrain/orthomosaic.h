// A picture in plan, made of the photos: each cell where it truly lies.
#pragma once
#include <Eigen/Core>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/photo/photo_source.h"
#include "icefield/terrain/grid.h"
#include "icefield/terrain/height_model.h"

namespace icefield {

struct OrthomosaicOptions {
  double max_angle_deg = 65;  // between straight up and the way from a cell to a photo
  // What a seam costs beside detail: more makes fewer and longer patches of one photo.
  double seam_cost = 1;
  // A photo takes no part at a place where its colour is farther from what most others say than this, of 255, and than
  // three times their spread.
  double colour_gap = 20;
  bool level = true;  // exposure of the photos, and loss of light towards their corners
  // Height above the ground from which seams keep off what stands there, units of the heights; 0: 15 cells.
  double raised = 0;
  // Steps of colour at seams are spread over 2 to the power of this many cells, each size of detail over its own width;
  // 0: not at all.
  int blend = 4;
};

// What it is made over.
struct OrthomosaicScene {
  GridFrame frame;  // of the cells, and of the heights
  // Heights of a window, NaN where there is none: of the surface with all that stands on it (every cell where it truly
  // lies) or of the ground alone (what stands on it leans).
  std::function<ImageF(const Window&)> heights;
  // Of the ground below, to tell what stands on it; may be empty.
  std::function<ImageF(const Window&)> ground;
  // From the raster's coordinates into the block's frame, in place, each by itself; empty: they are the same.
  std::function<void(std::span<Eigen::Vector3d>)> to_block;
  // By photo of the block its projection centre in the raster's coordinates; empty: as the poses have it.
  std::vector<Eigen::Vector3d> eyes;
};

struct OrthomosaicSummary {
  std::string outcome = "nothing done yet";
  std::size_t photos = 0;                   // that colours come from
  std::vector<std::string> photos_missing;  // that could not be read: which, and why
  double seam_cell = 0;                     // side of the cells that photos are chosen for, units of the coordinates
  std::size_t views = 0, views_apart = 0;   // pairs of such a cell and a photo; of these, left out: others agree on
                                            // another colour
  // Steps of brightness between photos where they see the same place, percent: before and after levelling.
  double exposure_before_percent = 0, exposure_after_percent = 0;
  double corner_loss_percent = 0;  // of light in the photos' corners, found on the way; the middle camera
  std::size_t seams = 0;           // lines
  double seam_length = 0, seam_length_raised = 0;  // in plan; of it over what stands on the ground
};

// Where two photos meet.
struct SeamLine {
  std::uint32_t left = 0, right = 0;  // photos of the block
  bool closed = false;
  std::vector<Eigen::Vector2d> places;
};

// Of a window: red, green, blue and alpha (0 where no photo sees the place), and by cell the number of its photo in the
// block, from 1; 0: none.
struct OrthomosaicPart {
  ImageU8 picture;
  Image<std::uint16_t> photo;
};

// For each cell a photo is chosen by resolution, sharpness, slant and agreement with the others, with seams where
// photos agree and off what stands on the ground (alpha expansion: Boykov, Veksler and Zabih, "Fast approximate energy
// minimization via graph cuts", 2001); what the heights hide from a photo is taken from another. Exposures and the loss
// of light towards the corners are levelled in one adjustment; seams are blended by bands (Burt and Adelson, "A
// multiresolution spline with application to image mosaics", 1983). Photos are read several times: the source may want
// to keep some, and those of a window are held whole. The same for any number of threads, memory and windows.
class OrthomosaicMaker {
 public:
  // What is referred to must outlive it. Throws Error(usage) for options out of range, a block without photos or with
  // more than 65,535, Error(computation) where no photo can be read or none sees a cell, Error(interrupted).
  OrthomosaicMaker(const OrthomosaicScene& scene, const Block& block, PhotoSource& photos,
                   const OrthomosaicOptions& options, const Executor& executor, Monitor& monitor = silent_monitor());
  ~OrthomosaicMaker();

  OrthomosaicPart part(const Window& window, Monitor& monitor = silent_monitor()) const;
  const std::vector<SeamLine>& seams() const;
  const OrthomosaicSummary& summary() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace icefield
