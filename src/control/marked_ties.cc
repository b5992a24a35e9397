#include "src/control/marked_ties.h"

#include <algorithm>
#include <limits>
#include <map>
#include <utility>

#include "src/control/georeferencing.h"

namespace icefield {

std::optional<MarkedTies> marked_ties(const Block& block, const Control& control) {
  if (std::all_of(block.observations.begin(), block.observations.end(),
                  [](const Observation& o) { return o.kind == ObservationKind::feature; }))
    return std::nullopt;
  std::multimap<std::uint32_t, const Mark*> by_photo;
  for (const Mark& mark : control.marks)
    if (control.points[mark.point].use != ControlUse::check) by_photo.emplace(mark.photo.value, &mark);
  const auto point_at = [&](const Observation& o) {
    constexpr double kSame = 0.05;  // px; marks are moved by rounding alone
    const auto [from, to] = by_photo.equal_range(block.photos[o.photo].photo.value);
    for (auto m = from; m != to; ++m)
      if ((m->second->pixel - o.pixel).norm() < kSame) return m->second->point;
    return kNowhere;
  };
  MarkedTies found{block.without_points(), {}, {}, std::vector<bool>(control.points.size(), false)};
  found.without.observations_dropped = block.observations_dropped;
  bool any = false;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    const auto seen = block.of_point(i);
    std::uint32_t point = kNowhere;
    for (const Observation& o : seen) {
      const std::uint32_t at = o.kind == ObservationKind::feature ? kNowhere : point_at(o);
      if (at == kNowhere || (point != kNowhere && at != point)) {
        point = kNowhere;
        break;
      }
      point = at;
    }
    found.point.push_back(point);
    found.place.push_back(point == kNowhere ? static_cast<std::uint32_t>(found.without.points.size()) : kNowhere);
    if (point == kNowhere)
      found.without.add_point(block.points[i], seen);
    else
      found.ties[point] = any = true;
  }
  if (!any) return std::nullopt;
  return found;
}

void put_ties_back(const Block& block, const MarkedTies& ties, Georeferenced& result) {
  Block whole = result.block.without_points();
  whole.observations_dropped = block.observations_dropped;
  std::vector<Eigen::Matrix3d> covariances;
  const std::size_t own = result.block.points.size();
  const auto unknown = Eigen::Matrix3d::Constant(std::numeric_limits<double>::quiet_NaN());
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    const std::uint32_t at = ties.place[i];
    const PointReport* point = at == kNowhere ? &result.points[ties.point[i]] : nullptr;
    const Eigen::Vector3d position = !point           ? result.block.points[at]
                                     : point->located ? point->position
                                                      : result.fitted * block.points[i];
    whole.add_point(position, block.of_point(i));
    if (!result.uncertain.valid) continue;
    covariances.push_back(!point           ? result.uncertain.points[at]
                          : point->located ? Eigen::Matrix3d(point->sigma.cwiseAbs2().asDiagonal())
                                           : Eigen::Matrix3d(unknown));
  }
  whole.tracks = block.tracks;
  if (result.uncertain.valid) {
    covariances.insert(covariances.end(), result.uncertain.points.begin() + static_cast<std::ptrdiff_t>(own),
                       result.uncertain.points.end());
    result.uncertain.points = std::move(covariances);
  }
  result.block = std::move(whole);
}

}  // namespace icefield
