#include <fmt/format.h>

#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {

Document agreement_document(const PartsAgreement& a) {
  Document document;
  Json json = {{"units", a.units}, {"parts", Json::array()}, {"surfaces", Json::array()}};
  Table parts({"part ", "photos in both", "scale", "place, GSD: median", "largest", "turn, degrees: median", "largest",
               "focal %"});
  for (const PartInWhole& part : a.parts) {
    const CameraComparison& c = part.cameras;
    parts.add({part.name, fmt::format("{}", c.posed), fmt::format("{:.6f}", c.to_truth.scale),
               fmt::format("{:.3f}", c.median_position_gsd), fmt::format("{:.3f}", c.max_position_gsd),
               fmt::format("{:.4f}", c.median_orientation_deg), fmt::format("{:.4f}", c.max_orientation_deg),
               fmt::format("{:+.3f}", c.median_focal_error_percent)});
    json["parts"].push_back({{"name", part.name},
                             {"photos", c.posed},
                             {"scale", c.to_truth.scale},
                             {"median_position_gsd", c.median_position_gsd},
                             {"max_position_gsd", c.max_position_gsd},
                             {"median_orientation_deg", c.median_orientation_deg},
                             {"max_orientation_deg", c.max_orientation_deg},
                             {"focal_percent", c.median_focal_error_percent}});
  }
  document.show(std::move(parts), "Photos of each part, posed by itself, against the whole");
  json["ties_across"] = {{"points", a.ties.points},
                         {"percent", a.ties.percent},
                         {"observations", a.ties.observations},
                         {"rms_px", a.ties.rms_px}};
  document.say(
      fmt::format("{} tie points of the whole ({:.1f} percent) are seen by more than one part, with {:.3f} px "
                  "RMS over {} observations",
                  a.ties.points, a.ties.percent, a.ties.rms_px, a.ties.observations));
  constexpr std::size_t kFewTies = 30;
  if (a.parts.size() > 1 && a.ties.points < kFewTies)
    document.warnings.push_back(
        "The parts hang together by few tie points: photos that show what both parts have in "
        "common, from like sides, tie them better");
  if (a.surfaces.empty()) {
    document.json = text_of(json);
    return document;
  }
  Table surfaces(
      {"surfaces of ", "", "in common %", "offset, GSD", "distance, GSD: median", "at 95 %", "within 2 GSD %"});
  for (const PartsAgreement::Surfaces& s : a.surfaces) {
    const SurfaceAgreement& g = s.agreement;
    surfaces.add({s.first, s.second, fmt::format("{:.1f}", g.common_percent), fmt::format("{:+.3f}", g.offset_gsd),
                  fmt::format("{:.3f}", g.median_gsd), fmt::format("{:.3f}", g.at_95_gsd),
                  fmt::format("{:.1f}", g.within_2_gsd_percent)});
    json["surfaces"].push_back({{"first", s.first},
                                {"second", s.second},
                                {"common", g.common},
                                {"common_percent", g.common_percent},
                                {"offset_gsd", g.offset_gsd},
                                {"median_gsd", g.median_gsd},
                                {"at_95_gsd", g.at_95_gsd},
                                {"within_2_gsd_percent", g.within_2_gsd_percent}});
    if (g.common == 0)
      document.warnings.push_back(fmt::format("The surfaces of {} and {} have nothing in common", s.first, s.second));
    else if (g.within_2_gsd_percent < 80)
      document.warnings.push_back(
          fmt::format("The surfaces of {} and {} lie apart: {:.0f} percent within 2 GSD. Look "
                      "at `icefield view` of the whole for doubled skin",
                      s.first, s.second, g.within_2_gsd_percent));
  }
  document.show(std::move(surfaces), "Surfaces of the parts, laid into the whole by their photos");
  document.json = text_of(json);
  return document;
}

}  // namespace icefield
