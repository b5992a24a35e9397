// Control of a rendered survey as a surveyor hands it over: tables in a real CRS, with the faults that such tables
// have.
#pragma once
#include <filesystem>
#include <string>

#include "simulate/made_up_control.h"
#include "simulate/plan.h"

namespace icefield::simulate {

// Where the scenes' origin lies: a made-up place in the Alps. The height is over the sea.
inline constexpr double kLatitude = 46.8, kLongitude = 10.75, kHeight = 2310;

struct SurveyControlOptions {
  ControlPlan plan;
  std::string crs = "EPSG:25832";  // projected; with heights over the sea, or else over the ellipsoid
  // none; gross (one point off by 0.5 m), exchanged (two names), axes (east and north), zone (the neighbour's),
  // degrees, feet, mark (one mark off by 30 px), far (one point 100 km away), two-crs (two points of another zone)
  std::string fault = "none";
};

// A place of the scene in coordinates of the CRS.
class ScenePlaces {
 public:
  explicit ScenePlaces(const std::string& crs);
  ~ScenePlaces();
  Eigen::Vector3d operator()(const Eigen::Vector3d& place) const;

 private:
  struct Way;
  std::unique_ptr<Way> way_;
};

// FOLDER/points.csv, marks.csv, positions.csv (of the photos, with accuracies; where plan.fixes), truth.csv (true
// coordinates of the points). `survey`: a folder that write_survey made.
void write_survey_control(const std::filesystem::path& survey, const std::filesystem::path& folder,
                          const SurveyControlOptions& options);

}  // namespace icefield::simulate
