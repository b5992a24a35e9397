// From tracks to blocks.
#pragma once
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/adjust/adjust.h"
#include "icefield/adjust/lens.h"
#include "icefield/adjust/uncertainty.h"
#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/match/match.h"

namespace icefield {

// What orientation needs to know of a photo.
struct OrientPhoto {
  std::string name;  // for reasons and the log
  CameraIndex camera;
  std::vector<Keypoint> keypoints;
};

// How a block comes about.
enum class OrientWay : std::uint8_t {
  automatic,    // growing; see docs/orientation.md for the measurement behind it
  growing,      // from a seed pair, photo by photo and in batches
  all_at_once,  // orientations averaged, positions and points found together, then adjusted; what is left over is grown
};

const char* name_of(OrientWay way);

struct OrientOptions {
  OrientWay way = OrientWay::automatic;
  // Seed pair: the angle at which its rays meet must allow depth (degrees, median of its points).
  double min_seed_angle_deg = 3.0;
  int min_seed_points = 40;
  // Resection: fewer tie points in view leave a pose that can be wrong without notice.
  int min_resection_points = 20;
  double min_resection_share = 0.2;     // of the tie points in view must agree
  double max_resection_error_px = 6.0;  // poses and points are still rough at that time
  // A sample of three is drawn until one without a wrong point has come up with this probability, or so many have been
  // drawn.
  double resection_confidence = 0.999;
  int max_resection_samples = 2000;
  // Tie points: smallest angle of their rays, degrees. While a block grows their depth must be good enough to resect
  // from; in the finished block a far point whose depth is vague still fixes the directions of its photos, and the
  // bound only keeps out those without any depth (0.1 degrees is a few pixels).
  double min_growing_angle_deg = 2.0, min_point_angle_deg = 0.1;
  // Photos that only come in with points of smaller angles need this many at min_growing_angle_deg all the same, or
  // their places would be left to chance.
  int min_sure_points = 8;
  // Largest residual of an observation while growing and in the finished block.
  double max_growing_residual_px = 5.0;
  double max_residual_px = 2.0;
  // And in the finished block by its own noise: so many standard deviations of a coordinate; residuals beyond
  // loss_width_sigmas of them weigh less.
  double max_residual_sigmas = 12;
  double loss_width_sigmas = 2;
  // The whole block is adjusted after its observations have grown by this share.
  double adjust_growth_share = 0.2;
  int min_block_photos = 3;  // fewer are no block of their own when there is another
  // Pairs whose photos stand side by side in the block and yet share far fewer points than others that stand so show
  // two places that look alike: they are cut and the block is made again.
  bool check_twins = true;
  // Photos that hang on the rest by fewer common points than this are doubtful, and those that hang on one pair.
  int doubtful_below = 30;
  // And those whose place has a larger standard deviation than this, in pixels on the subject (GSD).
  double doubtful_sigma_gsd = 3;
  bool leave_out_doubtful = false;
  bool free_focal = true, free_distortion = true;
  // In the finished block also the principal point, a third radial term and the tangential terms, as far as the photos
  // determine them (the camera is `brown` then). Left out, a lens that has them bends the block.
  bool free_whole_lens = true;
  // Standard deviations of the radial terms before anything is known.
  double radial_sigma = 0.15;
  // Fields of view tried along the longer side where nothing is known of the focal length, degrees.
  std::vector<double> searched_fields_of_view_deg = {40, 47, 55, 64, 74, 85};
  int search_photos = 8;  // size of the trial blocks
};

// Why a photo has no pose.
struct UnposedPhoto {
  PhotoIndex photo;
  std::string reason;
};

// A photo in a block whose pose may be wrong all the same.
struct DoubtfulPhoto {
  PhotoIndex photo;
  std::string reason;
};

struct OrientSummary {
  std::string outcome = "nothing done yet";
  std::size_t photos = 0, posed = 0, blocks = 0;
  int adjustments = 0;
  std::size_t pairs = 0;                                                // verified
  std::size_t cut_by_turn = 0, cut_by_direction = 0, cut_as_twins = 0;  // of them, before and after blocks were made
  int loops_closed = 0, blocks_joined = 0;
  std::vector<HeldParameter> held;        // of the largest block's cameras: what its photos do not determine
  std::vector<std::string> focal_search;  // one line for each field of view tried
};

// How exact a block is, from its covariances; by photo and by camera of the block.
struct BlockPrecision {
  bool known = false;
  std::string outcome;
  double sigma_px = 0;              // of an observation's coordinate
  std::vector<double> place_sigma;  // of projection centres: root of the sum over three coordinates, block units
  std::vector<double> turn_sigma;   // of orientations, the same over three angles, radians
  std::vector<CameraUncertainty> cameras;
};
BlockPrecision precision_of(const Block& block, const AdjustOptions& options, const Executor& executor = Executor(),
                            Monitor& monitor = silent_monitor());

// The freedoms and priors of a block's final adjustment: what `options` frees of the camera models that the block has,
// less what is held.
AdjustOptions final_adjust_options(const Block& block, std::span<const CameraPrior> priors,
                                   const OrientOptions& options, std::span<const HeldParameter> held);

struct OrientResult {
  std::vector<Block> blocks;  // the largest first
  std::vector<UnposedPhoto> unposed;
  std::vector<DoubtfulPhoto> doubtful;
  std::vector<BlockPrecision> precision;  // by block
  OrientSummary summary;
};

// Keeps the state of a growing block between runs. Losing it costs time only: the result is the same.
class OrientCheckpoint {
 public:
  virtual ~OrientCheckpoint() = default;
  virtual std::optional<Bytes> load() = 0;
  virtual void save(const Bytes& state) = 0;
};

// Makes blocks of photos: pairs are checked against each other; a block grows from a seed pair by resection,
// triangulation and adjustment until no photo can be added, or is found all at once; then the next is made of those
// that are left; blocks with common tracks are joined. `priors` by camera; `pairs` over `photos`; tracks are made of
// the pairs that stand the check. Each photo is in one block or in `unposed`. The frame of a block is level as far as
// the photos tell (z up), its origin in the middle of the tie points, its scale such that the median distance from
// photo to tie point is 1. Same input, same bytes. Throws Error(interrupted); the checkpoint then holds what is needed
// to go on.
OrientResult orient(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors,
                    std::span<const PairMatches> pairs, const OrientOptions& options = {},
                    const Executor& executor = Executor(), Monitor& monitor = silent_monitor(),
                    OrientCheckpoint* checkpoint = nullptr);

}  // namespace icefield
