// What the step `mesh` does with a cloud.
#pragma once
#include "icefield/survey/survey.h"

namespace icefield {

// What a mesh is sharpened with: photos with their poses in a frame that touches the earth.
struct PosedSource {
  const Block& block;
  PhotoSource& photos;
  const WorldFrame& frame;
  // Depth maps in the frame, by photo of the block, for the open way; may be empty.
  std::function<std::optional<DepthMap>(std::size_t)> maps{};
  std::optional<Bounds> bounds{};  // in the frame, of what the open way makes
};

// Of a file (PLY) the points that a mesh is made of: all of them, or of a cloud with more than `most_points` evenly so
// many (one for each cell of a grid as fine as that allows), read piece by piece. Notes in the report how many the
// cloud has. Throws Error(input) for a file that is no cloud.
PointCloud cloud_for_mesh(const std::filesystem::path& file, const MeshSettings& settings, MeshReport& report);

// Fitted, trimmed, sharpened where photos are given (as many faces as the cloud has points), and lightened by the
// settings, then checked; the open way needs the depth maps. Of the report all but `block`, `file` and `fresh` is
// filled. Coordinates are those of the cloud. Empty where the cloud has no surface: the report says why. Throws
// Error(interrupted), Error(usage) for the open way without depth maps.
Mesh make_mesh(const PointCloud& cloud, const MeshSettings& settings, const PosedSource* photos, MeshReport& report,
               const Executor& executor, Monitor& monitor);

// `sharpen` of a mesh in the coordinates of files.
SharpenSummary sharpen_in_frame(Mesh& mesh, const PosedSource& photos, const SharpenOptions& options,
                                const Executor& executor, Monitor& monitor);

// From the coordinates of files to a frame, as textures need it.
Mesh mesh_in_frame(Mesh mesh, const WorldFrame& frame);

}  // namespace icefield
