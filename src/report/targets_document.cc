#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "icefield/io/target_sheet.h"
#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {

Document targets_document(const PhotoList& photos, const TargetReport& report) {
  Document document;
  struct Seen {
    std::size_t photos = 0, mended = 0;
    double least_px = 1e9, most_px = 0, sigma2 = 0, least_agreement = 1;
  };
  std::map<int, Seen> by_number;
  std::size_t with_some = 0;
  Json list = Json::array();
  for (std::size_t i = 0; i < report.photos.size(); ++i) {
    with_some += !report.photos[i].empty();
    for (const FoundTarget& t : report.photos[i]) {
      Seen& seen = by_number[t.number];
      ++seen.photos;
      seen.mended += t.mended_teeth > 0;
      seen.least_px = std::min(seen.least_px, t.diameter_px), seen.most_px = std::max(seen.most_px, t.diameter_px);
      seen.sigma2 += t.sigma_px * t.sigma_px;
      seen.least_agreement = std::min(seen.least_agreement, t.agreement);
      list.push_back({{"photo", photos.photos[i].name},
                      {"number", t.number},
                      {"x", t.pixel.x()},
                      {"y", t.pixel.y()},
                      {"sigma_px", t.sigma_px},
                      {"diameter_px", t.diameter_px},
                      {"agreement", t.agreement},
                      {"mended_teeth", t.mended_teeth}});
    }
  }
  document.say(fmt::format("{} coded target{} in {} of {} photos; {} mark{} written", by_number.size(),
                           by_number.size() == 1 ? "" : "s", with_some, report.photos.size(), report.marks,
                           report.marks == 1 ? "" : "s"));
  Table table({"target ", "photos", "diameter px", "to", "st. dev. px", "least agreement", "remark "});
  for (const auto& [number, seen] : by_number)
    table.add({target_name(number), fmt::format("{}", seen.photos), fmt::format("{:.0f}", seen.least_px),
               fmt::format("{:.0f}", seen.most_px),
               fmt::format("{:.3f}", std::sqrt(seen.sigma2 / static_cast<double>(seen.photos))),
               fmt::format("{:.2f}", seen.least_agreement),
               seen.photos == 1 ? "in one photo alone: no place comes of it" : ""});
  document.show(std::move(table));
  for (const TargetReport::Twice& twice : report.twice)
    document.warnings.push_back(fmt::format("{} has target {} in more than one place: it is marked in none of them",
                                            photos.photos[twice.photo.value].name, twice.number));
  const Json json = {
      {"targets", by_number.size()}, {"marks", report.marks}, {"computed", report.computed}, {"found", list}};
  document.json = json.dump(1);
  return document;
}

}  // namespace icefield
