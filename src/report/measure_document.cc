#include <fmt/format.h>

#include "icefield/control/measure.h"
#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

Json json_of(const Measured& m) {
  return {{"value", m.value}, {"sigma", m.sigma}};
}

}  // namespace

Document measure_document(const WorldFrame& frame, const Datum& datum, std::span<const std::string> names,
                          std::span<const LocatedSpot> spots) {
  Document document;
  const std::string units = datum.units_name();
  Json json = {{"units", units}, {"spots", Json::array()}, {"distances", Json::array()}};
  Table places({"spot ", "x", "y", "z", "st. dev. x", "y", "z", "located "});
  for (std::size_t i = 0; i < names.size(); ++i) {
    const LocatedSpot& spot = spots[i];
    if (!spot.known) {
      places.add({names[i], "-", "-", "-", "-", "-", "-", spot.outcome});
      json["spots"].push_back({{"name", names[i]}, {"known", false}, {"outcome", spot.outcome}});
      continue;
    }
    const Eigen::Vector3d at = frame.to_world(spot.position), sigma = spot.covariance.diagonal().cwiseSqrt();
    places.add({names[i], fmt::format("{:.4f}", at.x()), fmt::format("{:.4f}", at.y()), fmt::format("{:.4f}", at.z()),
                fmt::format("{:.4f}", sigma.x()), fmt::format("{:.4f}", sigma.y()), fmt::format("{:.4f}", sigma.z()),
                spot.outcome});
    json["spots"].push_back({{"name", names[i]},
                             {"known", true},
                             {"outcome", spot.outcome},
                             {"position", icefield::json_of(at)},
                             {"sigma", icefield::json_of(sigma)}});
  }
  document.show(std::move(places), "Spots by their marks, in " + units);
  Table distances(
      {"from ", "to ", "distance", "st. dev.", "in plan", "height", "st. dev.", "slope deg", "in the grid"});
  for (std::size_t i = 0; i < names.size(); ++i)
    for (std::size_t k = i + 1; k < names.size(); ++k) {
      if (!spots[i].known || !spots[k].known) continue;
      const SpotDistance d = distance_between(spots[i], spots[k]);
      // What the projection makes of it.
      const double grid = frame.curved()
                              ? (frame.to_world(spots[k].position) - frame.to_world(spots[i].position)).head<2>().norm()
                              : d.plan.value;
      distances.add({names[i], names[k], fmt::format("{:.4f}", d.length.value), fmt::format("{:.4f}", d.length.sigma),
                     fmt::format("{:.4f}", d.plan.value), fmt::format("{:.4f}", d.height.value),
                     fmt::format("{:.4f}", d.height.sigma), fmt::format("{:.2f}", d.slope_deg),
                     frame.curved() ? fmt::format("{:.4f}", grid) : "-"});
      json["distances"].push_back({{"from", names[i]},
                                   {"to", names[k]},
                                   {"length", json_of(d.length)},
                                   {"plan", json_of(d.plan)},
                                   {"height", json_of(d.height)},
                                   {"slope_deg", d.slope_deg},
                                   {"grid", grid}});
    }
  document.show(std::move(distances), "Distances, the slope upwards");
  if (names.size() == 3 && spots[0].known && spots[1].known && spots[2].known) {
    const Measured angle = angle_at(spots[1], spots[0], spots[2]);
    document.say(fmt::format("At '{}' the angle between '{}' and '{}' is {:.3f} degrees, standard deviation {:.3f}.",
                             names[1], names[0], names[2], angle.value, angle.sigma));
    json["angle"] = {{"at", names[1]}, {"degrees", json_of(angle)}};
  }
  if (!datum.known())
    document.say("The block has no known length: numbers are in block units (icefield georeference).");
  document.say("Standard deviations are those of the marks; the poses are taken as they stand.");
  document.json = text_of(json);
  return document;
}

}  // namespace icefield
