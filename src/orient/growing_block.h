// A block while it grows.
#pragma once
#include <array>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "src/orient/distribute.h"
#include "src/orient/orient_input.h"

namespace icefield {

class GrowingBlock {
 public:
  GrowingBlock(const OrientInput& input, std::shared_ptr<const TrackSet> tracks, std::vector<Camera> cameras);

  // Starts from a pair; false when it does not hold.
  bool start(PhotoIndex first, PhotoIndex second, const Pose& second_in_first);
  // Takes photos with poses that were found all at once, and gives them points; photos that too few points hold are let
  // go.
  void adopt(std::span<const Pose> poses, const std::vector<std::uint8_t>& taken);
  // Takes the photos of a block as they stand, and gives them points.
  void take(const Block& block);
  // Takes the photos of a block as they stand, and gives them the points that fit them: nothing is moved.
  void hold(const Block& block);
  // Adds photos until none is left that can be. `allowed` marks the photos that may be taken. At most `max_photos`.
  // Calls save() now and then.
  void grow(const std::vector<bool>& allowed, std::size_t max_photos, const std::function<void()>& save);
  // Last rounds of triangulation, adjustment and removal with the final thresholds. Tracks are merged and split on the
  // way. `trial`: only to see how well it holds; lenses keep the parameters they grew with.
  void finish(bool trial = false);

  bool posed(PhotoIndex photo) const { return posed_[photo.value]; }
  std::size_t posed_count() const { return order_.size(); }
  std::size_t point_count() const;
  std::size_t observation_count() const;
  const std::vector<Camera>& cameras() const { return cameras_; }
  const std::string& failure(PhotoIndex photo) const { return failure_[photo.value]; }
  std::size_t points_in_view(PhotoIndex photo) const { return view_[photo.value].points; }
  int adjustments() const { return adjustments_; }
  int loops_closed() const { return loops_closed_; }
  const std::vector<HeldParameter>& held() const { return held_; }
  double robust_score() const;  // observations kept, weighted by how well they fit
  Block to_block() const;
  void from_block(const Block& block);  // poses, cameras and points; observations as they fit
  // Photos that an adjusted block leaves with fewer observations than this lose their pose.
  std::size_t drop_weak_photos(std::size_t least, const char* why);

  void write(ByteWriter& out) const;
  void read(ByteReader& in);

 private:
  // What a photo sees of the block: number of points, and of cells of a grid over the photo with a point.
  static constexpr int kCells = 16;
  struct View {
    std::uint32_t points = 0, cells = 0;
    std::array<std::uint16_t, kCells * kCells> in_cell{};
  };
  double view_score(std::size_t photo) const { return view_[photo].cells + 1e-6 * view_[photo].points; }
  void count_view(std::uint32_t track, int change);
  void set_point(std::uint32_t track, bool now) {
    if ((has_point_[track] != 0) == now) return;
    has_point_[track] = now;
    count_view(track, now ? 1 : -1);
  }

  struct Resected {
    bool done = false;
    Pose pose;
    double focal = 0;  // of a camera that was not known; 0: as it is
    std::uint32_t in_view = 0;
    std::string failure;
  };
  Resected resect_photo(PhotoIndex photo, const Camera& camera) const;
  Resected resect_with_focal(PhotoIndex photo) const;
  bool lenient() const { return stage_ >= 3; }
  void add_photo(PhotoIndex photo, const Pose& pose);
  void remove_photo(PhotoIndex photo);
  std::vector<std::size_t> candidates(const std::vector<bool>& allowed);
  bool next_stage(const std::vector<bool>& allowed);
  double ray_angle(std::uint32_t track) const;  // largest between the rays of a tie point, radians
  Eigen::Vector2d pixel(PhotoIndex photo, FeatureIndex feature) const { return input_.pixel(photo, feature); }
  std::optional<Eigen::Vector2d> direction(PhotoIndex photo, FeatureIndex feature) const;
  std::optional<double> residual(const Tracks::Element& element, const Eigen::Vector3d& point) const;  // px
  std::span<const Tracks::Element> elements(std::uint32_t track) const {
    return tracks_->tracks.track(TrackIndex(track));
  }

  void triangulate_tracks(std::span<const std::uint32_t> tracks);
  void triangulate_all();
  std::size_t remove_outliers(std::span<const std::uint32_t> tracks, double max_residual_px);
  std::size_t remove_all_outliers(double max_residual_px);
  void refine_tracks();
  void retrack(std::shared_ptr<const TrackSet> tracks);

  AdjustOptions adjust_options(bool last) const;
  void adjust_all(bool last);
  void free_lenses();
  void adjust_near(std::span<const PhotoIndex> added);
  struct Loop;
  struct LoopTie;
  Loop loop_of(std::size_t pair) const;
  void tie_up(std::span<const LoopTie> ties, PhotoIndex other, PhotoIndex photo, std::size_t pair, Loop& loop) const;
  std::optional<double> log_measure(std::uint32_t track, PhotoIndex photo, const Pose& resected) const;
  double bend(std::span<const std::uint64_t> ties, std::span<const RelativeStep> steps);
  bool close_loops();
  void settle();  // points and an adjustment for poses that are only roughly right

  const OrientInput& input_;
  std::shared_ptr<const TrackSet> tracks_;
  std::vector<Camera> cameras_;
  std::vector<std::uint8_t> posed_;
  std::vector<Pose> poses_;
  std::vector<std::uint32_t> order_;     // photos in the order in which they were posed
  std::vector<std::uint8_t> has_point_;  // by track
  std::vector<Eigen::Vector3d> points_;  // by track
  std::vector<std::uint8_t> used_;       // by track element: an observation of the block
  std::vector<View> view_;               // by photo; follows from has_point_
  std::vector<std::string> failure_;
  std::vector<std::uint32_t> failed_at_;                          // points in view when resection failed
  std::vector<std::uint32_t> camera_photos_;                      // posed photos of each camera
  std::vector<std::uint8_t> doubtful_focal_;                      // by camera: to be found with the first photo of it
  std::size_t adjusted_observations_ = 0, loop_that_failed_ = 0;  // the latter: observations of it
  std::vector<HeldParameter> held_;  // parameters that the finished block does not determine
  int adjustments_ = 0, loops_closed_ = 0;
  int stage_ = 0;     // 0: sure points only; 1, 2: with vaguer ones; 3: with wider limits; 4: done
  double min_angle_;  // of a point's rays, radians; lower once the block is finished
};

}  // namespace icefield
