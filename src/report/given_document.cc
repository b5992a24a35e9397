// What became of poses from elsewhere.
#include <fmt/format.h>

#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {

Document given_document(const GivenReport& report, const std::string& use) {
  Document document;
  document.say(fmt::format("{} photos have a given pose: {}.", report.given, describe(report.convention)));
  if (report.best) {
    document.say(fmt::format(
        "Of {} matches half lie within {:.2f} px of their epipolar lines, {:.1f} % meet before both photos.",
        report.matches, report.distance_px, report.front_percent));
    if (!(report.best->convention == report.convention) && report.best->cost < 0.5 * 100)
      document.warnings.push_back(fmt::format("as {} the matches lie {:.2f} px off", describe(report.best->convention),
                                              report.best->distance_px));
    if (report.distance_px > 5)
      document.warnings.push_back(fmt::format(
          "the poses fit the matches to {:.1f} px alone: with --as start they are adjusted", report.distance_px));
  } else {
    document.warnings.push_back(fmt::format(
        "there are {} matches between these photos, too few to tell whether the convention is right", report.matches));
  }
  if (!report.unknown.empty()) {
    std::string names;
    for (std::size_t k = 0; k < std::min<std::size_t>(5, report.unknown.size()); ++k)
      names += (k > 0 ? ", " : "") + report.unknown[k];
    document.warnings.push_back(fmt::format("{} names mean no photo that takes part, or more than one: {}{}",
                                            report.unknown.size(), names, report.unknown.size() > 5 ? " ..." : ""));
  }
  if (!report.crs_left_out.empty())
    document.warnings.push_back("the frame of the places is taken as flat: " + report.crs_left_out +
                                " is left out, and results do not name it");
  document.say(use == "fixed" ? "`pose` takes them as they are, to the last bit."
                              : "`pose` starts from them and adjusts them.");
  Json json = {{"given", report.given},
               {"unknown", report.unknown},
               {"convention", describe(report.convention)},
               {"matches", report.matches},
               {"use", use},
               {"file", report.file.string()}};
  if (report.best)
    json["distance_px"] = report.distance_px, json["front_percent"] = report.front_percent,
    json["best"] = describe(report.best->convention);
  document.json = text_of(json);
  return document;
}

}  // namespace icefield
