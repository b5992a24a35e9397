// The tables in SURVEY/control, and what georeferencing makes of them.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "icefield/control/control.h"
#include "icefield/survey/control_lists.h"
#include "icefield/survey/survey.h"

namespace icefield {

ControlLists read_control_lists(const std::filesystem::path& survey);
// Those that differ from what is there; empty ones are removed.
void write_control_lists(const std::filesystem::path& survey, const ControlLists& lists);

// Marks of photos that there are, within them, and of points that there are; lengths between points that there are.
// Names of photos become those of the list. Throws Error(input).
void check_control_lists(ControlLists& lists, const PhotoList& photos, const Survey::ControlSources& sources);

// Pixels of photos as they are shown, as pixels of the photos as they are stored.
void take_marks_as_shown(std::vector<MarkRow>& marks, const PhotoList& photos);

// All that is marked, as spots without coordinates.
Control marked_spots(const ControlLists& lists, const PhotoList& photos, double mark_sigma_px);

// In the frame that blocks are brought into.
struct PlacedControl {
  Control control;
  Datum datum;
  std::string crs_name;
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();
  std::vector<std::string> remarks;
};
// Throws Error(input) where coordinates and CRS do not go together, with the likely cause.
PlacedControl placed_control(const ControlLists& lists, const PhotoList& photos, const GeoreferenceSettings& settings,
                             const std::filesystem::path& survey);

}  // namespace icefield
