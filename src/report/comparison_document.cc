#include <fmt/format.h>

#include <algorithm>

#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

double percent(std::size_t part, std::size_t whole) {
  return whole > 0 ? 100.0 * static_cast<double>(part) / static_cast<double>(whole) : 0.0;
}

void add_cameras(const CameraComparison& c, const std::string& units, Document& document, Json& json) {
  json = {{"truth_photos", c.truth_photos},
          {"posed", c.posed},
          {"wrong", c.wrong},
          {"missing", c.missing},
          {"units", units},
          {"median_position", c.median_position},
          {"median_position_gsd", c.median_position_gsd},
          {"rms_position", c.rms_position},
          {"max_position", c.max_position},
          {"max_position_gsd", c.max_position_gsd},
          {"median_orientation_deg", c.median_orientation_deg},
          {"max_orientation_deg", c.max_orientation_deg},
          {"median_focal_error_percent", c.median_focal_error_percent}};
  for (const PhotoError& e : c.photos)
    json["by_photo"].push_back({{"name", e.name},
                                {"position", e.position},
                                {"position_gsd", e.position_gsd},
                                {"orientation_deg", e.orientation_deg},
                                {"wrong", e.wrong}});
  document.say(fmt::format("Photos posed {} of {}, wrongly {}", c.posed, c.truth_photos, c.wrong));
  Table table({"error of ", "median", "largest", "unit "});
  table.add({"position", fmt::format("{:.5f}", c.median_position), fmt::format("{:.5f}", c.max_position), units});
  table.add(
      {"position", fmt::format("{:.3f}", c.median_position_gsd), fmt::format("{:.3f}", c.max_position_gsd), "GSD"});
  table.add({"orientation", fmt::format("{:.4f}", c.median_orientation_deg),
             fmt::format("{:.4f}", c.max_orientation_deg), "degrees"});
  table.add({"focal length", fmt::format("{:.4f}", c.median_focal_error_percent), "", "percent"});
  document.show(std::move(table));
}

void add_places(const PlaceComparison& p, const std::string& crs, Document& document, Json& json) {
  json = {
      {"crs", crs}, {"photos", p.photos}, {"mean", json_of(p.mean)}, {"rms", json_of(p.rms)}, {"largest", p.largest}};
  document.say(
      fmt::format("In {} without any fit: {} photos off by {:+.4f} east, {:+.4f} north, {:+.4f} up in the mean, "
                  "{:.4f}, {:.4f}, {:.4f} RMS, {:.4f} at most",
                  crs, p.photos, p.mean.x(), p.mean.y(), p.mean.z(), p.rms.x(), p.rms.y(), p.rms.z(), p.largest));
}

void add_pairs(const PairComparison& p, bool with_overlaps, Document& document, Json& json) {
  json = {{"tried", p.tried},
          {"verified", p.verified},
          {"wrong", p.wrong},
          {"matches", p.matches},
          {"right_matches", p.right}};
  document.say(fmt::format("Pairs: {} tried, {} verified, {} of them wrong; {:.2f} percent of {} matches right",
                           p.tried, p.verified, p.wrong, percent(p.right, p.matches), p.matches));
  if (!with_overlaps) return;
  json["overlapping"] = p.overlapping;
  document.say(
      fmt::format("{} pairs overlap by over 5 percent: {:.2f} times as many tried", p.overlapping,
                  static_cast<double>(p.tried) / static_cast<double>(std::max<std::size_t>(p.overlapping, 1))));
  const auto add = [&](const PairComparison::Found& found, const char* key, const char* words) {
    json[key] = {{"pairs", found.pairs}, {"tried", found.tried}, {"verified", found.verified}};
    document.say(fmt::format("{} overlap by over {}: {:.1f} percent of them tried, {:.1f} verified", found.pairs, words,
                             percent(found.tried, found.pairs), percent(found.verified, found.pairs)));
  };
  add(p.well_and_narrow, "well_overlapping_under_45_deg", "25 percent at under 45 degrees");
  add(p.well, "well_overlapping", "25 percent at any angle");
}

void add_observations(const ObservationComparison& o, double rms_px, Document& document, Json& json) {
  json = {{"rms_px", rms_px}, {"tracks", o.tracks},         {"wrong_tracks", o.wrong_tracks},
          {"right", o.right}, {"right_kept", o.right_kept}, {"right_kept_percent", o.right_kept_percent()},
          {"wrong", o.wrong}, {"wrong_kept", o.wrong_kept}};
  document.say(fmt::format(
      "Observations: RMS {:.3f} px with {:.1f} percent of the right ones kept ({} of {}); of {} wrong ones {} kept; "
      "{:.2f} percent of {} tracks wrong",
      rms_px, o.right_kept_percent(), o.right_kept, o.right, o.wrong, o.wrong_kept, percent(o.wrong_tracks, o.tracks),
      o.tracks));
}

void add_cloud(const CloudComparison& c, Document& document, Json& json) {
  json = {{"points", c.result_points},
          {"truth_points", c.truth_points},
          {"counted_points", c.counted_points},
          {"median_distance_gsd", c.median_distance_gsd},
          {"far_percent", c.far_percent}};
  Table table({"within", "accuracy %", "completeness %", "F1"});
  for (const CloudScore& s : c.scores) {
    json["scores"].push_back({{"gsd", s.at_gsd},
                              {"accuracy_percent", s.accuracy_percent},
                              {"completeness_percent", s.completeness_percent},
                              {"f1", s.f1}});
    table.add({fmt::format("{:g} GSD", s.at_gsd), fmt::format("{:.1f}", s.accuracy_percent),
               fmt::format("{:.1f}", s.completeness_percent), fmt::format("{:.3f}", s.f1)});
  }
  document.say(fmt::format("Cloud: {} points within the bounds, median distance {:.2f} GSD, {:.2f} percent over 10 GSD",
                           c.result_points, c.median_distance_gsd, c.far_percent));
  document.show(std::move(table));
  if (c.seen_by.empty()) return;
  Table by_photos({"seen by", "of the surface %", "complete at 2 GSD %"});
  for (std::size_t k = 0; k < c.seen_by.size(); ++k) {
    const CloudComparison::SeenBy& seen = c.seen_by[k];
    const int last = k + 1 < c.seen_by.size() ? c.seen_by[k + 1].photos - 1 : 0;
    json["seen_by"].push_back({{"photos", seen.photos}, {"points", seen.points}, {"found", seen.found}});
    by_photos.add({last == 0             ? fmt::format("{} photos and more", seen.photos)
                   : last == seen.photos ? fmt::format("{} photos", seen.photos)
                                         : fmt::format("{} to {} photos", seen.photos, last),
                   fmt::format("{:.1f}", percent(seen.points, c.counted_points)),
                   fmt::format("{:.1f}", percent(seen.found, seen.points))});
  }
  document.show(std::move(by_photos));
}

}  // namespace

Document comparison_document(const SurveyComparison& c) {
  Document document;
  Json json;
  if (c.cameras) add_cameras(*c.cameras, c.units, document, json["cameras"]);
  if (c.places) add_places(*c.places, c.crs, document, json["places"]);
  add_pairs(c.pairs, c.with_overlaps, document, json["pairs"]);
  if (c.observations) add_observations(*c.observations, c.rms_px, document, json["observations"]);
  if (c.cloud) add_cloud(*c.cloud, document, json["cloud"]);
  document.json = text_of(json);
  return document;
}

}  // namespace icefield
