#include <fmt/format.h>

#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

Table sources_table(const MatchReport& report, Json& json) {
  Table table({"source of pairs ", "tried", "verified"});
  json["sources"] = Json::object();
  for (std::size_t s = 0; s < kPairSources; ++s) {
    if (report.tried_by_source[s] == 0) continue;
    const char* name = name_of(static_cast<PairSource>(s));
    json["sources"][name] = {{"tried", report.tried_by_source[s]}, {"verified", report.verified_by_source[s]}};
    table.add({name, fmt::format("{}", report.tried_by_source[s]), fmt::format("{}", report.verified_by_source[s])});
  }
  return table;
}

Table geometries_table(const MatchReport& report, Json& json) {
  Table table({"what the matches show ", "pairs"});
  const auto count_of = [&](const char* list, const char* before, const auto kind, std::size_t count) {
    if (count == 0) return;
    json[list][name_of(kind)] = count;
    table.add({fmt::format("{}{}: {}", before, name_of(kind), describe(kind)), fmt::format("{}", count)});
  };
  json["geometries"] = Json::object(), json["without_geometry"] = Json::object();
  for (const PairGeometry g : {PairGeometry::depth, PairGeometry::flat, PairGeometry::turned})
    count_of("geometries", "", g, report.by_geometry[static_cast<std::size_t>(g)]);
  for (const PairFault f : {PairFault::few_matches, PairFault::disagree, PairFault::same_pixels})
    count_of("without_geometry", "none, ", f, report.by_fault[static_cast<std::size_t>(f)]);
  return table;
}

Table weak_table(const PhotoList& list, const MatchReport& report, Document& document, Json& json) {
  Table table({"photo ", "features", "verified pairs", "matches", "likely "});
  for (std::size_t i = 0; i < report.photos; ++i) {
    const std::string &name = list.photos[i].name, &reason = report.weak[i];
    json["by_photo"].push_back({{"name", name},
                                {"features", report.photo_features[i]},
                                {"verified_pairs", report.photo_pairs[i]},
                                {"matches", report.photo_matches[i]},
                                {"few_because", reason.empty() ? Json(nullptr) : Json(reason)}});
    if (!reason.empty())
      table.add({name, fmt::format("{}", report.photo_features[i]), fmt::format("{}", report.photo_pairs[i]),
                 fmt::format("{}", report.photo_matches[i]), reason});
    if (report.photo_pairs[i] == 0)
      document.warnings.push_back(
          fmt::format("{}: no verified pair ({} features): {}", name, report.photo_features[i], reason));
  }
  return table;
}

}  // namespace

Document match_document(const PhotoList& photos, const MatchReport& r) {
  Document document;
  Json json = {{"photos", r.photos},
               {"features", r.features},
               {"looked_at", r.looked_at},
               {"pairs", r.pairs},
               {"verified", r.verified},
               {"matches", r.matches},
               {"guided", r.guided},
               {"wide", r.wide},
               {"computed_photos", r.computed_photos},
               {"computed_pairs", r.computed_pairs}};
  document.say(fmt::format(
      "{} features in {} photos; {} of {} pairs verified with {} matches, {} of them found along the geometry",
      r.features, r.photos, r.verified, r.pairs, r.matches, r.guided));
  if (r.looked_at > 0)
    document.say(fmt::format("{} pairs looked at, of {} possible", r.looked_at, r.photos * (r.photos - 1) / 2));
  if (r.wide > 0)
    document.say(fmt::format("{} pair{} of photos far apart matched anew with narrowed copies of the photos", r.wide,
                             r.wide == 1 ? "" : "s"));
  if (r.computed_photos + r.computed_pairs < r.photos + r.pairs)
    document.say(
        fmt::format("Computed now: {} photos, {} pairs; the rest was fresh", r.computed_photos, r.computed_pairs));
  document.show(sources_table(r, json));
  document.show(geometries_table(r, json));
  document.show(weak_table(photos, r, document, json), "Photos with few matches");
  document.json = text_of(json);
  return document;
}

}  // namespace icefield
