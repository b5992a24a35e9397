// What the parts of georeferencing share.
#pragma once
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/control/georeference.h"
#include "icefield/control/locate.h"
#include "src/control/fit_to_control.h"

namespace icefield {

inline constexpr std::uint32_t kNowhere = 0xffffffffu;
inline constexpr double kShiftSigmas = 4;  // beyond which a shift that all fixes share is no chance
inline constexpr double kVague = 1e4;      // metres: the deviation of a coordinate that is not known

// One run of it. What takes part is told by `used` of each report and `fault` says why something does not.
struct Georeferencing {
  const Control& control;
  const GeoreferenceOptions& options;
  const Executor& executor;
  Monitor& monitor;
  Georeferenced result;

  Block block;                                       // as far as it is brought to its place, without marked points
  double gsd = 0;                                    // of the block as it came
  double sigma_px = 0.5;                             // of its features
  std::vector<std::uint32_t> posed;                  // place in the block, by photo of the job
  std::vector<std::vector<std::uint32_t>> marks_of;  // by point: its marks in photos of the block
  std::vector<PhotoFix> fixes;                       // shifted, with the accuracies that hold
  // By point: where the last adjustment, in which it took part, has it.
  std::vector<std::optional<Eigen::Vector3d>> adjusted_places;
  bool covariances = false;      // of the block as it is: without them nothing can be tested
  std::vector<bool> taken_back;  // by point: left out once and taken in again
  std::vector<std::string> frame_remarks, remarks_of_views;
  std::vector<bool> ties;      // by point: its marks hold parts of the block together, whatever its coordinates say
  bool holds_a_frame = false;  // control points or positions say where the block is
  std::vector<bool> view_used;
  Eigen::Quaterniond first_turn = Eigen::Quaterniond::Identity();  // of the block as it came, before it was fitted

  // The block with marked points behind its own, and where they stand in it.
  struct Extended {
    Block block;
    std::vector<std::uint32_t> place;        // by point of the control; kNowhere
    std::vector<std::uint32_t> observation;  // by mark; kNowhere
  };
  enum class Which { taking_part, all };

  bool has_coordinates(std::uint32_t point) const {
    return control.points[point].use != ControlUse::spot && control.points[point].sigma.allFinite();
  }
  Eigen::Vector3d vague(const Eigen::Vector3d& sigma) const { return sigma.cwiseMin(kVague); }
  PosedIndex photo_of(const Mark& mark) const { return PosedIndex(posed[mark.photo.value]); }

  LocatedSpot locate(std::uint32_t point) const;  // by its used marks, in the block as it is
  void take_marks();                              // those that agree with the others of their point
  bool fit();                                     // and moves the block
  bool fit_by_lengths();
  bool fit_by_frame();  // again after each adjustment, which may have changed the scale
  void move_all(const Similarity& by);
  void shift_fixes_to(std::span<const std::uint32_t> points);
  void accuse_what_does_not_fit(std::span<const std::uint32_t> points, const ControlFit& fitted);
  Extended extended(Which which) const;
  AdjustOptions adjust_options(const Extended& with, bool with_fixes) const;
  // False: it failed, and the outcome says why. `tolerance`: at which decrease of the cost it has converged.
  bool adjust_with(bool with_fixes, double tolerance);
  Eigen::Vector3d difference_of_fix(std::size_t fix) const;  // the antenna by the block, less the fix
  std::optional<std::uint32_t> place_of(const PhotoView& view) const;
  void turn_by_views();  // before anything is fitted
  void check_views();    // against what the block was fitted to
  void add_views(AdjustOptions& adjusting) const;
  bool find_shift_of_fixes();  // by an adjustment without them; false: that failed, and the outcome says why
  void guess_accuracy_of_fixes();

  // Everything against everything else, in the finished block.
  void measure(const Extended& with, const Uncertainty& uncertain);
  bool leave_worst_out();  // false: nothing deviates beyond chance
  bool take_back();        // false: nothing that was left out fits
  void measure_lengths(const Extended& with);
  void group_errors(const Uncertainty& uncertain);
  void remark();
};

}  // namespace icefield
