// What a survey knows of places: tables in SURVEY/control, made to be edited by hand.
#pragma once
#include <filesystem>
#include <vector>

#include "icefield/base/fingerprint.h"
#include "icefield/io/control_file.h"

namespace icefield {

// control/points.csv, marks.csv, lengths.csv, positions.csv; those that are not there are empty. Coordinates are of
// georeference.crs. Names of photos are as in the photo list.
struct ControlLists {
  std::vector<ControlPointRow> points;
  std::vector<MarkRow> marks;
  std::vector<LengthRow> lengths;
  std::vector<PositionRow> positions;
  bool empty() const { return points.empty() && marks.empty() && lengths.empty() && positions.empty(); }
};

// In place of the mark that the point has in that photo. A point that is in no table yet becomes a spot.
void put_mark(ControlLists& lists, const MarkRow& mark);

}  // namespace icefield
