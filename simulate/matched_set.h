// Features and verified matches of made-up photo sets with known truth, without images: for orientation on sets too
// large, or too many, to render.
#pragma once
#include <string>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/orient/orient.h"

namespace icefield::simulate {

struct MatchedSetOptions {
  // ring (an erratic boulder, at two heights), flight (strips over moraines, every tenth photo oblique), plane (a
  // flight over a frozen lake), gorge (a loop along the walls of a closed ice gorge, looking outwards), hut (a walk
  // around a field hut).
  std::string kind = "ring";
  int photos = 40;
  std::uint64_t seed = 1;
  int features = 1500;       // of a photo, about
  double noise_px = 0.35;    // standard deviation of a keypoint's coordinate; one in twenty has three times as much
  double wrong_share = 0.1;  // of the matches, before they are verified
  double focal_error_percent = 2;  // of what is known of the lens beforehand; 100: nothing is known
  bool lens_fault = true;          // tangential distortion, which the model of the priors does not have
  bool fisheye = false;            // a fisheye with twice the field of view, known to be one
  // Faults of the set.
  bool twins = false;        // hut: its front and its back look alike
  int turned = 0;            // so many photos of the first third stand at one spot: a panorama inside the set
  bool two_lenses = false;   // every second photo by a camera with a lens 1.6 times as long
  double blurred_share = 0;  // a run of photos with few and inexact features
  double missing_share = 0;  // a run of photos in the middle that was never taken
  int matched_with = 14;     // other photos that a photo is matched with, those that share the most
};

struct MatchedSet {
  std::vector<OrientPhoto> photos;
  std::vector<CameraPrior> priors;
  std::vector<PairMatches> pairs;
  Block truth;                  // cameras and poses; no points
  std::vector<double> gsd;      // by photo
  std::vector<bool> usable;     // 50 of its points are seen by two others
  std::size_t wrong_pairs = 0;  // verified though they show different places
};

MatchedSet make_matched_set(const MatchedSetOptions& options, const Executor& executor);

}  // namespace icefield::simulate
