// What photos say of their own tilt and azimuth: a weak hint that levels what nothing else levels.
#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numbers>
#include <optional>

#include "icefield/base/statistics.h"
#include "src/control/georeferencing.h"
#include "src/geometry/decompositions.h"

namespace icefield {

using Eigen::Vector3d;

namespace {

constexpr double kDegrees = 180 / std::numbers::pi;
// The least angle, radians, that hints which disagree are allowed whatever they say of themselves.
constexpr double kAllowed = 8 / kDegrees;

double angle(const Vector3d& a, const Vector3d& b) {
  return std::atan2(a.cross(b).norm(), a.dot(b));
}

// The direction that most agree on, and how far they lie from it in the middle.
struct Common {
  Vector3d direction;
  double scatter = 0;
};
std::optional<Common> common_direction(const std::vector<Vector3d>& directions) {
  if (directions.empty()) return std::nullopt;
  Common common{Vector3d::Zero()};
  for (const Vector3d& d : directions) common.direction += d;
  for (int round = 0; round < 5; ++round) {
    if (!(common.direction.norm() > 1e-9)) return std::nullopt;
    common.direction.normalize();
    std::vector<double> off;
    for (const Vector3d& d : directions) off.push_back(angle(d, common.direction));
    common.scatter = median(off);
    Vector3d sum = Vector3d::Zero();
    for (std::size_t i = 0; i < off.size(); ++i)
      if (off[i] <= 3 * common.scatter + 1e-9) sum += directions[i];
    common.direction = sum;
  }
  if (!(common.direction.norm() > 1e-9)) return std::nullopt;
  common.direction.normalize();
  return common;
}

}  // namespace

// By place in the control: whether the photo is in the block.
std::optional<std::uint32_t> Georeferencing::place_of(const PhotoView& view) const {
  if (view.photo.value >= posed.size() || posed[view.photo.value] == kNowhere) return std::nullopt;
  return posed[view.photo.value];
}

void Georeferencing::turn_by_views() {
  view_used.assign(control.views.size(), false);
  std::vector<Vector3d> ups, norths;
  for (const PhotoView& view : control.views)
    if (const auto photo = place_of(view)) ups.push_back(block.photos[*photo].pose.orientation.conjugate() * view.up);
  const auto up = common_direction(ups);
  if (!up) return;
  if (up->scatter > kAllowed) {
    remarks_of_views.push_back(
        fmt::format("The photos' own tilts contradict each other by {:.0f} degrees in the middle: they take no part.",
                    kDegrees * up->scatter));
    return;
  }
  for (std::size_t v = 0; v < control.views.size(); ++v) view_used[v] = place_of(control.views[v]).has_value();
  Similarity turn;
  turn.rotation = turn_between(up->direction, Vector3d::UnitZ());
  for (std::size_t v = 0; v < control.views.size(); ++v)
    if (const auto& north = control.views[v].north; north && view_used[v]) {
      Vector3d level =
          turn.rotation * (block.photos[*place_of(control.views[v])].pose.orientation.conjugate() * *north);
      level.z() = 0;
      if (level.norm() > 0.2) norths.push_back(level.normalized());
    }
  if (const auto north = common_direction(norths); north && north->scatter < kAllowed)
    turn.rotation = Eigen::Quaterniond(
                        Eigen::AngleAxisd(std::atan2(north->direction.x(), north->direction.y()), Vector3d::UnitZ())) *
                    turn.rotation;
  turn.rotation.normalize();
  transform(block, turn);
  first_turn = turn.rotation;
  result.level_by_views = !holds_a_frame && control.frame.level.empty() && !control.frame.up;
  if (result.level_by_views)
    remarks_of_views.push_back(fmt::format(
        "Up{} comes from what {} photos say of their own tilt; they agree within {:.1f} degrees in the middle.",
        norths.empty() ? "" : " and north", ups.size(), kDegrees * up->scatter));
}

void Georeferencing::check_views() {
  std::vector<double> off;
  for (std::size_t v = 0; v < control.views.size(); ++v)
    if (view_used[v])
      off.push_back(angle(block.photos[*place_of(control.views[v])].pose.orientation.conjugate() * control.views[v].up,
                          Vector3d::UnitZ()));
  if (off.empty()) return;
  const double middle = median(off);
  if (middle > kAllowed) {
    remarks_of_views.push_back(fmt::format(
        "The photos' own tilts are {:.0f} degrees off what the control says: they take no part.", kDegrees * middle));
    std::fill(view_used.begin(), view_used.end(), false);
    return;
  }
  std::size_t k = 0;
  for (std::size_t v = 0; v < control.views.size(); ++v)
    if (view_used[v] && off[k++] > std::max(5 * control.views[v].up_sigma, 4 * middle)) view_used[v] = false;
}

// All of them together weigh as much as one: what the mount is off by, all photos share.
void Georeferencing::add_views(AdjustOptions& adjusting) const {
  const double n = static_cast<double>(std::count(view_used.begin(), view_used.end(), true));
  for (std::size_t v = 0; v < control.views.size(); ++v) {
    if (!view_used[v]) continue;
    const PhotoView& view = control.views[v];
    const PosedIndex photo(*place_of(view));
    adjusting.direction_priors.push_back({photo, view.up, view.up_sigma * std::sqrt(n), Vector3d::UnitZ()});
    if (!view.north) continue;
    const Vector3d now = block.photos[photo].pose.orientation.conjugate() * *view.north;
    if (angle(now, Vector3d::UnitY()) < 5 * view.north_sigma)
      adjusting.direction_priors.push_back({photo, *view.north, view.north_sigma * std::sqrt(n), Vector3d::UnitY()});
  }
}

}  // namespace icefield
