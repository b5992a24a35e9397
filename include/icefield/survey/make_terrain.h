// What the step `terrain` does with a cloud.
#pragma once
#include "icefield/io/tiled_cloud.h"
#include "icefield/survey/survey.h"

namespace icefield {

// Where its results go.
struct TerrainFiles {
  std::filesystem::path classes;                   // the cloud with the class of each point, PLY
  std::filesystem::path surface, surface_quality;  // DSM: heights; expected error, points, distance filled over
  std::filesystem::path ground, ground_quality;    // DTM, the same
};

// Ground found under the cloud (terrain/ground.h), points classed, and both height models, tile by tile: memory follows
// `executor.memory_bytes()`, not the size of the cloud. `gsd`: of the photos, which cells have by default; 0: the
// spacing of the points. z is up. Throws Error(usage) for a cloud in degrees and for cells that are too small,
// Error(computation) where the cloud has no points, Error(resource) when the disk is full, Error(interrupted); a file
// that is not finished leaves what was there.
TerrainReport make_terrain(const TiledCloud& cloud, double gsd, const TerrainSettings& settings,
                           const TerrainFiles& files, const std::string& fingerprint, const Executor& executor,
                           Monitor& monitor);

}  // namespace icefield
