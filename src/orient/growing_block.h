// A block while it grows.
#pragma once
#include <span>
#include <string>
#include <vector>

#include "icefield/orient/orient.h"

namespace icefield {

// Everything that does not change while a block grows.
struct OrientInput {
  std::span<const OrientPhoto> photos;
  std::span<const CameraPrior> priors;
  std::span<const PairMatches> pairs;
  const Tracks& tracks;
  const OrientOptions& options;
  const Executor& executor;
  Monitor& monitor;
  std::vector<std::vector<std::uint32_t>> photo_tracks;    // tracks by photo, ascending
  std::vector<std::vector<FeatureIndex>> photo_features;   // the feature of each of them
};
OrientInput prepare_input(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors, std::span<const PairMatches> pairs,
                          const Tracks& tracks, const OrientOptions& options, const Executor& executor, Monitor& monitor);

class GrowingBlock {
 public:
  GrowingBlock(const OrientInput& input, std::vector<Camera> cameras);

  // Starts from a pair; false when it does not hold.
  bool start(PhotoIndex first, PhotoIndex second, const Pose& second_in_first);
  // Adds photos until none is left that can be. `allowed` marks the photos that may be taken. At most `max_photos`.
  // Calls save() now and then.
  void grow(const std::vector<bool>& allowed, std::size_t max_photos, const std::function<void()>& save);
  // Last rounds of triangulation, adjustment and removal with the final thresholds.
  void finish();

  bool posed(PhotoIndex photo) const { return posed_[photo.value]; }
  std::size_t posed_count() const { return order_.size(); }
  std::size_t point_count() const;
  std::size_t observation_count() const;
  const std::vector<Camera>& cameras() const { return cameras_; }
  const std::string& failure(PhotoIndex photo) const { return failure_[photo.value]; }
  int adjustments() const { return adjustments_; }
  double robust_score() const;   // observations kept, weighted by how well they fit
  Block to_block() const;

  void write(ByteWriter& out) const;
  void read(ByteReader& in);

 private:
  std::size_t points_in_view(PhotoIndex photo) const;
  double view_score(PhotoIndex photo) const;
  bool resect_photo(PhotoIndex photo);
  double ray_angle(std::uint32_t track) const;   // largest between the rays of a tie point, radians
  Eigen::Vector2d pixel(PhotoIndex photo, FeatureIndex feature) const;
  std::optional<Eigen::Vector2d> direction(PhotoIndex photo, FeatureIndex feature) const;
  void triangulate_tracks(std::span<const std::uint32_t> tracks);
  void triangulate_photo(PhotoIndex photo) { triangulate_tracks(input_.photo_tracks[photo.value]); }
  void triangulate_all();
  void adjust_all(bool final_round);
  std::size_t remove_outliers(double max_residual_px);

  const OrientInput& input_;
  std::vector<Camera> cameras_;
  std::vector<std::uint8_t> posed_;
  std::vector<Pose> poses_;
  std::vector<std::uint32_t> order_;            // photos in the order in which they were posed
  std::vector<std::uint8_t> has_point_;         // by track
  std::vector<Eigen::Vector3d> points_;         // by track
  std::vector<std::uint8_t> used_;              // by track element: an observation of the block
  std::vector<std::string> failure_;
  std::vector<std::uint32_t> failed_at_;        // points in view when resection failed
  std::size_t adjusted_observations_ = 0;
  int adjustments_ = 0;
  double min_angle_;                            // of a point's rays, radians; lower once the block is finished
};

}  // namespace icefield
