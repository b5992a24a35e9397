#include "simulate/made_up_control.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

#include "icefield/base/random.h"

namespace icefield::simulate {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kMargin = 0.03;  // of a photo: targets at its very edge are not marked

std::optional<Vector2d> seen_at(const Block& truth, std::size_t photo, const Vector3d& place) {
  const PosedPhoto& p = truth.photos[photo];
  const Camera& camera = truth.camera_of(p);
  const auto pixel = project(camera, p.pose.to_camera(place));
  const double rim = kMargin * camera.width;
  if (!pixel || pixel->x() < rim || pixel->y() < rim || pixel->x() > camera.width - rim ||
      pixel->y() > camera.height - rim)
    return std::nullopt;
  return pixel;
}

// Shares of the covered area: corners first, then the middle, then the edges.
Vector2d control_place(int k) {
  constexpr double places[][2] = {{-0.8, -0.8}, {0.8, 0.8}, {-0.8, 0.8}, {0.8, -0.8}, {0, 0},
                                  {0.8, 0},     {-0.8, 0},  {0, 0.8},    {0, -0.8}};
  constexpr int kPlaces = 9;
  const double smaller = 1 - 0.35 * static_cast<double>(k / kPlaces);
  return smaller * Vector2d(places[k % kPlaces][0], places[k % kPlaces][1]);
}
Vector2d check_place(int k) {
  constexpr double places[][2] = {{-0.4, -0.35}, {0.4, 0.35}, {-0.4, 0.4}, {0.4, -0.4}, {0.1, 0.65}, {-0.1, -0.65}};
  constexpr int kPlaces = 6;
  const double smaller = 1 - 0.3 * static_cast<double>(k / kPlaces);
  return smaller * Vector2d(places[k % kPlaces][0], places[k % kPlaces][1]);
}

}  // namespace

MadeUpControl make_control(const Block& truth, const ControlPlan& plan, const GroundHeight& ground,
                           const SeesPlace& sees) {
  MadeUpControl made;
  CounterRandom random(combine_keys(plan.seed, 71));
  const auto normals = [&](double sigma) {
    return Vector3d(sigma * random.normal(), sigma * random.normal(), sigma * random.normal());
  };
  Eigen::AlignedBox2d box;
  for (const PosedPhoto& photo : truth.photos) box.extend(photo.pose.centre.head<2>());
  const Vector2d middle = box.center(), half = 0.5 * box.sizes();
  for (int k = 0; k < plan.control + plan.check; ++k) {
    const bool control = k < plan.control;
    const Vector2d share = control ? control_place(k) : check_place(k - plan.control);
    const Vector2d at = middle + half.cwiseProduct(share + 0.05 * Vector2d(random.normal(), random.normal()));
    const Vector3d place(at.x(), at.y(), ground ? ground(at.x(), at.y()) : plan.height);
    SurveyedPoint point;
    point.name = fmt::format("{}{}", control ? "G" : "C", control ? k + 1 : k - plan.control + 1);
    point.use = control ? ControlUse::control : ControlUse::check;
    point.position = place + normals(plan.point_sigma_m);
    point.sigma.setConstant(plan.point_sigma_m);
    // The photos that see it nearest to their middle.
    std::vector<std::pair<double, std::size_t>> seen;
    for (std::size_t i = 0; i < truth.photos.size(); ++i) {
      const auto pixel = seen_at(truth, i, place);
      if (!pixel || (sees && !sees(i, place))) continue;
      const Camera& camera = truth.camera_of(truth.photos[i]);
      seen.emplace_back((*pixel - 0.5 * Vector2d(camera.width, camera.height)).norm(), i);
    }
    std::sort(seen.begin(), seen.end());
    if (seen.size() > static_cast<std::size_t>(plan.most_marks)) seen.resize(static_cast<std::size_t>(plan.most_marks));
    const auto index = static_cast<std::uint32_t>(made.control.points.size());
    for (const auto& [unused, i] : seen)
      made.control.marks.push_back(
          {truth.photos[i].photo, index,
           *seen_at(truth, i, place) + plan.mark_sigma_px * Vector2d(random.normal(), random.normal()),
           plan.mark_sigma_px, ObservationKind::mark});
    made.control.points.push_back(point);
    made.places.push_back(place);
  }
  if (plan.fixes) {
    CounterRandom receiver(combine_keys(plan.seed, 72));
    for (const PosedPhoto& photo : truth.photos) {
      PhotoFix fix;
      fix.photo = photo.photo;
      fix.position = photo.pose.centre + plan.fix_shift +
                     Vector3d(plan.fix_sigma_m * receiver.normal(), plan.fix_sigma_m * receiver.normal(),
                              plan.fix_height_sigma_m * receiver.normal());
      if (plan.fixes_stated) fix.sigma = Vector3d(plan.fix_sigma_m, plan.fix_sigma_m, plan.fix_height_sigma_m);
      fix.stated = plan.fixes_stated;
      made.control.fixes.push_back(fix);
    }
  }
  return made;
}

}  // namespace icefield::simulate
