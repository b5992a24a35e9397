// A survey against known truth.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "icefield/judge/compare.h"
#include "icefield/survey/survey.h"

namespace icefield {

struct SurveyTruth {
  CameraFile cameras;                  // of the photos, by name
  std::string name;                    // of what the cameras come from, for errors
  std::vector<PhotoOverlap> overlaps;  // may be empty
  std::optional<PointCloud> surface;   // with gsd
};

struct SurveyComparison {
  std::string units;                        // of the truth
  std::optional<CameraComparison> cameras;  // nothing where there is no fresh block
  // Of cameras in coordinates of the files, where block and truth have the same CRS.
  std::optional<PlaceComparison> places;
  std::string crs;
  PairComparison pairs;
  bool with_overlaps = false;
  std::optional<ObservationComparison> observations;  // with a fresh block
  double rms_px = 0;                                  // of that block
  std::optional<CloudComparison> cloud;               // where the truth has a surface
};

// What the survey holds, without computing any step. `cloud`: instead of the block's dense cloud. Throws Error(usage)
// where matches are missing, or for a surface without a fresh block; Error(input) for truth of other photos.
SurveyComparison compare_survey(Survey& survey, std::size_t block, const SurveyTruth& truth,
                                std::optional<PointCloud> cloud, const Executor& executor, Monitor& monitor);

// Cameras of a file as the comparison takes them.
std::vector<NamedPose> named_poses(const CameraFile& file);

}  // namespace icefield
