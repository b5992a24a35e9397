// A block brought to where surveyed points, known lengths and photo positions say that it is.
#pragma once
#include <Eigen/Core>
#include <span>
#include <string>
#include <vector>

#include "icefield/adjust/uncertainty.h"
#include "icefield/base/parallel.h"
#include "icefield/control/control.h"

namespace icefield {

struct GeoreferenceOptions {
  // Freedoms and priors of the cameras, loss; what is known of places is added to it. Its observation_sigma_px is that
  // of the block's features; 0: from their residuals.
  AdjustOptions adjust;
  // False: the block is moved, turned and scaled as a whole and keeps its shape.
  bool adjusted = true;
  // A set without any fault has something accused with this probability.
  double false_alarm = 1e-3;
  // A block's own standard deviations may be too small by this factor (what neighbouring features have in common is not
  // all in them) before something is accused.
  double allowed_excess = 1.3;
  int max_left_out = 20;  // faults looked for, one after the other
};

// Of a point, at its place in Control::points. Errors are result minus surveyed, along x, y, z of the frame.
struct PointReport {
  bool used = false;                      // its coordinates took part
  std::size_t marks = 0, marks_used = 0;  // in photos of the block
  bool located = false;                   // by its marks, in the finished block
  Eigen::Vector3d position = Eigen::Vector3d::Zero(), sigma = Eigen::Vector3d::Zero();  // as the block has it
  Eigen::Vector3d error = Eigen::Vector3d::Zero(), expected = Eigen::Vector3d::Zero();  // 0 where nothing is known
  double error_px = 0;   // root mean square over its marks of where the surveyed place would be seen
  double deviation = 0;  // how large the error is against what is expected where the others alone decide; 1 is usual
  double checked = 0;    // share of an error in its coordinates that would show; 0: nothing else would notice it
  std::string fault;     // why it was left out, or why it could not be located; empty: nothing
};

struct MarkReport {
  bool in_block = false, used = false;
  Eigen::Vector2d residual_px = Eigen::Vector2d::Zero();  // marked minus projected
  double deviation = 0;                                   // in standard deviations of the residual
  std::string fault;
};

struct LengthReport {
  bool used = false, known = false;  // known: both ends are located
  double length = 0, error = 0;      // measured; measured minus given
  double expected = 0;               // standard deviation of the error
  std::string fault;
};

struct FixReport {
  bool in_block = false, used = false;
  Eigen::Vector3d error = Eigen::Vector3d::Zero();     // adjusted minus fix, after the shift that all have in common
  Eigen::Vector3d expected = Eigen::Vector3d::Zero();  // standard deviation of it
  double deviation = 0;
  std::string fault;
};

// Errors of one kind together.
struct ControlGroup {
  std::string what;  // "control points, plan", "check points, height", "photo positions, plan", "marks" ...
  std::string units = "m";
  std::size_t count = 0;  // points, marks ...
  double rms = 0;         // for plan: of both coordinates together
  double expected = 0;    // the same of what is expected
  double redundancy = 0;  // measurements beyond those needed, that are theirs; 0 for check points
  double factor = 0;  // how many times as large errors are as was stated (root of the variance component); 0: not known
};

struct Georeferenced {
  std::string outcome = "nothing done yet";
  bool done = false;
  bool level_by_views = false;  // where neither coordinates nor points say what is up, the photos' own tilts did
  Block block;                  // in the frame of the control, without the marked points
  Similarity fitted;            // the first one, from the frame of before
  std::vector<PointReport> points;
  std::vector<MarkReport> marks;
  std::vector<LengthReport> lengths;
  std::vector<FixReport> fixes;
  Eigen::Vector3d fix_shift = Eigen::Vector3d::Zero();  // taken from all fixes: control points say that they are off
  Eigen::Vector3d fix_shift_sigma = Eigen::Vector3d::Zero();  // 0: none was looked for
  double fix_factor = 1;  // by which guessed accuracies of fixes were changed to what they show
  std::vector<ControlGroup> groups;
  std::vector<std::string> remarks;  // what a reader must know: too few points, all on a line, none that check
  std::size_t control_used = 0, fixes_used = 0, lengths_used = 0;
  Uncertainty uncertain;  // of the finished block, in its frame; its points are the block's, then those of the control
};

// Brings a block into the frame of its control. First a similarity that most of the control agrees on; then, if wanted,
// an adjustment in which everything has the weight of its accuracy; then each point, mark, length and fix is tested
// against all others (Baarda 1968; of a point as if it had been left out), and what deviates beyond chance is left out
// and named, the worst first. Check points and their marks never take part; they are located afterwards. Known lengths
// alone give the scale. Where nothing fits, `done` is false and the outcome says why. Throws Error(usage) as
// check_control does, Error(interrupted).
Georeferenced georeference(const Block& block, const Control& control, const GeoreferenceOptions& options = {},
                           const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

// Photo positions that cannot be: by fix why; empty where nothing is wrong. All alike, far from the others.
std::vector<std::string> faults_of_fixes(std::span<const PhotoFix> fixes);

}  // namespace icefield
