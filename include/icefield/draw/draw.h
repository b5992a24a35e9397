// Pictures of results, as pixels.
#pragma once
#include <array>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/block/block.h"
#include "icefield/cloud/cloud.h"
#include "icefield/control/control.h"
#include "icefield/dense/dense.h"
#include "icefield/feature/feature.h"
#include "icefield/judge/point_quality.h"
#include "icefield/match/choose_pairs.h"
#include "icefield/match/match.h"
#include "icefield/photo/image.h"

namespace icefield {

struct DrawOptions {
  int width = 1280, height = 800;
  double azimuth_deg = 35;    // the eye's direction around the vertical, from x towards y
  double elevation_deg = 28;  // and above the horizontal
  std::string title;          // a line below the picture says what is shown
};

// From where: outside in perspective, or straight along an axis (front: along y, side: along x).
enum class Side { perspective, above, front, side };

// A cloud, each point as large as the spacing around it, with photos as small pyramids. `focus` is the part that fills
// the picture (default: the middle 98 percent of the points).
struct DrawCloudOptions {
  Side from = Side::perspective;
  std::vector<double> values;  // as in DrawBlockOptions
  bool logarithmic = false;
  std::string meaning;
};
ImageU8 draw_cloud(const PointCloud& cloud, const std::vector<PosedPhoto>& photos, const std::optional<Bounds>& focus,
                   const DrawOptions& options, const DrawCloudOptions& cloud_options = {});

// Two clouds side by side from the same place, and below them how far the points of each are from the other cloud, in
// one scale of colours. `distances`: of the first and of the second, as `distances` in cloud.h gives them; empty clouds
// stay empty.
struct NamedCloud {
  const PointCloud& cloud;
  std::string name;
  std::vector<double> distances;
};
ImageU8 draw_two_clouds(const NamedCloud& first, const NamedCloud& second, Side from, const DrawOptions& options);

// The colour that stands for a direction, for clouds and maps of normals alike.
std::array<std::uint8_t, 3> normal_colour(const Eigen::Vector3f& normal);

// A block: its tie points and its photos as pyramids with their names.
struct DrawBlockOptions {
  Side from = Side::perspective;
  bool names = true;
  // A number for each point, drawn in colour from the 2nd to the 98th percentile of those in focus; empty: in the
  // cloud's colours.
  std::vector<double> values;
  bool logarithmic = false;
  std::string meaning;               // of the numbers, with their unit
  std::vector<std::uint8_t> marked;  // by photo: drawn in another colour (doubtful ones)
};
ImageU8 draw_block(const PointCloud& points, std::span<const PosedPhoto> photos, std::span<const std::string> names,
                   const std::optional<Bounds>& focus, const DrawBlockOptions& block_options,
                   const DrawOptions& options);

// What became of a feature.
enum class FeatureUse : std::uint8_t { used, left_out, no_point, not_matched };
const char* describe(FeatureUse use);
// Residuals of a photo, `enlarged` times (0: so that they can be seen), over the photo; features by their use.
ImageU8 draw_residuals(const ImageU8& photo, std::span<const PhotoResidual> residuals,
                       std::span<const Keypoint> keypoints, std::span<const FeatureUse> uses, double enlarged,
                       const DrawOptions& options);

// Residuals of all photos of a camera, averaged over the cells of its image plane: arrows much longer than the rest of
// chance (shown as circles) are a pattern, and a pattern is a lens that the model does not describe.
ImageU8 draw_lens(const Block& block, CameraIndex camera, double enlarged, const DrawOptions& options);

// A photo, and beside it the points as its pose sees them.
ImageU8 draw_through(const ImageU8& photo, const PointCloud& points, const Camera& camera, const Pose& pose,
                     const DrawOptions& options);

// A depth map in colour with a scale: depth near to far, normals (seen from the photo), confidence (1 - cost), or the
// number of photos that support each pixel. Pixels without depth, or with a cost over `max_cost`, are dark.
enum class MapLayer { depth, normals, confidence, support };
ImageU8 draw_depth(const DepthMap& map, const DrawOptions& options, float max_cost = 2,
                   MapLayer layer = MapLayer::depth);

// Surveyed points from above over the tie points of a block, with their errors enlarged: an arrow in plan, a bar beside
// it for the height, and the circle that is expected of both. Control and check points, spots and what was left out
// differ in shape.
struct DrawnControl {
  std::string name;
  ControlUse use = ControlUse::control;
  bool left_out = false, with_error = false;
  Eigen::Vector3d position = Eigen::Vector3d::Zero();  // in the block's frame
  Eigen::Vector3d error = Eigen::Vector3d::Zero(), expected = Eigen::Vector3d::Zero();
};
// `enlarged`: 0: so that they can be seen.
ImageU8 draw_control(const Block& block, std::span<const DrawnControl> points, const std::string& units,
                     double enlarged, const DrawOptions& options);

// Photos side by side, in the order given, each with its parts by how many others they are matched against.
struct CoveredPhoto {
  ImageU8 photo;  // may be small
  std::string name;
  PhotoCoverage coverage;
};
ImageU8 draw_coverage(std::span<const CoveredPhoto> photos, const DrawOptions& options);

// The features of a photo: circles of twice their scale, with their direction. Colour by scale, fine to coarse.
ImageU8 draw_features(const ImageU8& photo, std::span<const Keypoint> keypoints, const DrawOptions& options);

// The matches of a pair side by side: verified ones as lines, at most `max_lines` of them evenly chosen, features of
// verified matches as dots; `rejected` ones thin and dark. The photos may differ in size.
struct DrawnPhoto {
  const ImageU8& photo;
  std::span<const Keypoint> keypoints;
};
ImageU8 draw_matches(const DrawnPhoto& first, const DrawnPhoto& second, std::span<const Match> verified,
                     std::span<const Match> rejected, const DrawOptions& options, std::size_t max_lines = 150);

// Photo by photo, how many verified matches each pair has (colour, logarithmic) and what kind of geometry; pairs that
// were tried in vain are marked, pairs not tried are left empty.
ImageU8 draw_pair_table(std::span<const std::string> names, std::span<const PairMatches> pairs,
                        const DrawOptions& options);

}  // namespace icefield
