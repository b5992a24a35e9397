// Where the photos of a made-up survey are taken, and the files that come of it.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "icefield/surface/mesh.h"
#include "icefield/io/overlap_file.h"
#include "icefield/photo/metadata.h"
#include "simulate/render.h"

namespace icefield::simulate {

struct PlanOptions {
  SceneOptions scene;
  int photos = 28;
  int width = 1200, height = 800;
  std::uint64_t lens_seed = 1;       // focal length within 10 percent, distortion
  std::uint64_t shot_seed = 1;       // wobble of the hand or the aircraft, exposure jitter
  double exposure_ev = 0;            // of all photos
  double exposure_jitter_ev = 0.12;  // standard deviation from photo to photo
  double extent = 1;                 // share of the ring, or of the flown area along each axis
  double flying_height = 58;         // of the forefield's flight, metres over its middle
  double blur_share = 0;             // share of photos that are blurred by motion or defocus
};

struct PlannedPhoto {
  std::string name;
  std::string folder;  // below photos/, of a round of its own; mostly empty
  int position = 0;    // of the subject, where it is moved between rounds (SceneOptions); poses count from it
  Shot shot;
  PhotoMetadata metadata;
};

// A ring at three heights for the cairn; strips with a tenth of oblique photos for the forefield; two rings each for
// the lantern standing and turned over. All photos share a camera. Poses are in the frame of Scene(options.scene).
std::vector<PlannedPhoto> plan_photos(const PlanOptions& options);

// Renders the photos to FOLDER/photos and writes FOLDER/truth/cameras.json and FOLDER/truth/scene.json, from which the
// rest of the truth is made again. `quality` is that of the JPEG files.
void write_survey(const std::filesystem::path& folder, const PlanOptions& options, const RenderOptions& render_options,
                  int quality, const Executor& executor, Monitor& monitor);

PlanOptions read_plan(const std::filesystem::path& folder);

// The visible surface: points at a spacing of at most 0.7 of the local GSD within the bounds (world), each with normal,
// local GSD (that of the third-best photo that sees it, the best where fewer do), the number of photos that see it at
// under 70 degrees from its normal (`views`), and whether completeness counts it (three do).
PointCloud true_surface(const Scene& scene, const std::vector<PlannedPhoto>& photos, const Bounds& bounds,
                        const Executor& executor, Monitor& monitor);

// All within the bounds that air does not reach from above, as a solid: closed, with flat sides where the bounds cut it
// off, vertices on the surface within a grid of `step` metres (what is thinner than that is lost), colours as photos
// have them. Throws Error(usage) for more than 200 million cells.
icefield::Mesh true_solid(const Scene& scene, const Bounds& bounds, double step, const Executor& executor,
                          Monitor& monitor);

// Pairs of photos that see common surface, with the smaller of the two shares of their rays (24x16 each) that the other
// sees.
std::vector<PhotoOverlap> true_overlaps(const Scene& scene, const std::vector<PlannedPhoto>& photos,
                                        const Executor& executor, Monitor& monitor);

}  // namespace icefield::simulate
