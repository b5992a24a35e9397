#include "icefield/control/join_by_marks.h"

#include <fmt/format.h>

#include <algorithm>

#include "icefield/control/locate.h"
#include "src/control/fit_to_control.h"
#include "src/orient/lay_together.h"

namespace icefield {
namespace {

using Eigen::Vector3d;

// Marks of each point in photos of a block.
std::vector<std::vector<SpotMark>> marks_in(const Block& block, const Control& control) {
  std::vector<std::vector<SpotMark>> marks(control.points.size());
  for (const Mark& mark : control.marks)
    for (std::uint32_t i = 0; i < block.photos.size(); ++i)
      if (block.photos[i].photo == mark.photo) marks[mark.point].push_back({PosedIndex(i), mark.pixel, mark.sigma_px});
  return marks;
}

class Joining {
 public:
  Joining(const Block& first, const Block& second, const Control& control)
      : first_(first),
        second_(second),
        control_(control),
        in_first_(marks_in(first, control)),
        in_second_(marks_in(second, control)),
        first_gsd_(block_statistics(first).median_gsd),
        second_gsd_(block_statistics(second).median_gsd) {}

  // Spots that both know, and how the second lies in the first by them.
  bool fit(MarkJoinResult& result) {
    std::vector<ControlTie> ties;
    for (std::uint32_t p = 0; p < control_.points.size(); ++p) {
      if (in_first_[p].size() < 2 || in_second_[p].size() < 2) continue;
      const LocatedSpot a = locate_spot(first_, in_first_[p]), b = locate_spot(second_, in_second_[p]);
      if (!a.known || !b.known) continue;
      ties.push_back({b.position, a.position, first_gsd_});
      result.spots.push_back({p, 0, false});
    }
    result.join.common_points = ties.size();
    std::vector<Vector3d> places;
    for (const ControlTie& tie : ties) places.push_back(tie.world);
    if (ties.size() < 3) {
      result.join.outcome =
          fmt::format("{} points are marked in two photos or more of each, three needed", ties.size());
      return false;
    }
    if (reach_of(places).in_a_line(first_gsd_)) {
      result.join.outcome = fmt::format("the {} points marked in both lie on one line", ties.size());
      return false;
    }
    const auto fitted = fit_to_control(ties, second_gsd_);
    if (!fitted) {
      result.join.outcome = fmt::format(
          "the {} points marked in both do not lie to each other alike: a mark is of another spot", ties.size());
      return false;
    }
    result.join.to_first = fitted->to_world;
    for (std::size_t k = 0; k < ties.size(); ++k) {
      const double pixel = std::max(first_gsd_, second_gsd_ * fitted->to_world.scale);
      result.spots[k].off_px = (fitted->to_world * ties[k].block - ties[k].world).norm() / pixel;
      result.spots[k].agrees = fitted->agrees[k];
      result.join.agreeing += fitted->agrees[k];
    }
    return true;
  }

  Block laid_together(const MarkJoinResult& result) const {
    Block moved = second_;
    transform(moved, result.join.to_first);
    std::vector<std::uint32_t> place;
    Block block = photos_of_both(first_, moved, place);
    std::vector<Observation> seen;
    for (std::size_t p = 0; p < first_.points.size(); ++p) block.add_point(first_.points[p], first_.of_point(p));
    for (std::size_t p = 0; p < moved.points.size(); ++p) {
      seen.assign(moved.of_point(p).begin(), moved.of_point(p).end());
      for (Observation& o : seen) o.photo = PosedIndex(place[o.photo]);
      block.add_point(moved.points[p], seen);
    }
    for (const JoinedSpot& spot : result.spots) {
      if (!spot.agrees) continue;
      seen.clear();
      const auto add = [&](const std::vector<SpotMark>& marks, const auto& photo_of) {
        for (const SpotMark& mark : marks) {
          const PosedIndex photo = photo_of(mark.photo);
          if (std::none_of(seen.begin(), seen.end(), [&](const Observation& o) { return o.photo == photo; }))
            seen.push_back({photo, {}, mark.pixel, static_cast<float>(mark.sigma_px), ObservationKind::mark});
        }
      };
      add(in_first_[spot.point], [](PosedIndex i) { return i; });
      add(in_second_[spot.point], [&](PosedIndex i) { return PosedIndex(place[i]); });
      const LocatedSpot at = locate_spot(first_, in_first_[spot.point]);
      block.add_point(at.position, seen);
    }
    block.observations_dropped = first_.observations_dropped + moved.observations_dropped;
    return block;
  }

 private:
  const Block &first_, &second_;
  const Control& control_;
  std::vector<std::vector<SpotMark>> in_first_, in_second_;  // by point
  double first_gsd_, second_gsd_;
};

}  // namespace

MarkJoinResult join_by_marks(const Block& first, const Block& second, const Control& control,
                             const JoinOptions& options, const Executor& executor, Monitor& monitor) {
  check_control(control);
  MarkJoinResult result;
  Joining joining(first, second, control);
  if (!joining.fit(result)) return result;
  JoinResult& joined = result.join;
  joined.block = joining.laid_together(result);
  if (options.adjusted) {
    AdjustResult adjusted = adjust(joined.block, options.adjust, executor, monitor);
    if (!adjusted.summary.valid) {
      joined.outcome = "the joined block could not be adjusted: " + adjusted.summary.outcome;
      joined.block = Block();
      return result;
    }
    joined.block = std::move(adjusted.block);
  }
  joined.joined = true;
  joined.outcome =
      fmt::format("joined by {} of {} marked points{}", joined.agreeing, joined.common_points,
                  joined.agreeing == 3 ? "; three fit whatever they are: a fourth would show a wrong one" : "");
  return result;
}

}  // namespace icefield
