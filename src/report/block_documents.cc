#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "icefield/judge/photo_quality.h"
#include "icefield/orient/level.h"
#include "icefield/report/documents.h"
#include "src/report/json.h"
#include "src/report/overlap_part.h"

namespace icefield {
namespace {

const std::string& name_in(const PhotoList& photos, PhotoIndex photo) {
  return photos.photos[photo.value].name;
}

// The parameters of a camera of a block: start, adjusted, standard deviation.
void add_camera(std::size_t block, const SurveyCamera& known, const Camera& camera, const CameraUncertainty* precision,
                Table& table, Json& json) {
  const Camera& start = known.prior.camera;
  const auto parameters = camera_parameters(camera.model), parameters_before = camera_parameters(start.model);
  for (std::size_t p = 0; p < parameters.size(); ++p) {
    const bool pixels = std::string_view(parameters[p].unit) == "px";
    const auto number = [&](double v) { return pixels ? fmt::format("{:.2f}", v) : fmt::format("{:.6f}", v); };
    const bool had = p < parameters_before.size() &&
                     std::string_view(parameters_before[p].name) == parameters[p].name && (p > 0 || start.focal() > 0);
    std::string sigma = "fixed";
    Json entry = {{"camera", known.name},
                  {"model", camera_model_name(camera.model)},
                  {"parameter", parameters[p].name},
                  {"adjusted", camera.parameters[p]}};
    if (had) entry["start"] = start.parameters[p];
    if (precision) {
      const auto& free = precision->parameters;
      const auto at = std::find(free.begin(), free.end(), static_cast<int>(p));
      if (at != free.end()) {
        const double deviation = precision->deviation(static_cast<std::size_t>(at - free.begin()));
        sigma = pixels ? fmt::format("{:.3f}", deviation) : fmt::format("{:.6f}", deviation);
        entry["standard_deviation"] = deviation;
      }
    }
    json.push_back(entry);
    table.add({fmt::format("{}", block + 1), p == 0 ? known.name : "", parameters[p].name,
               had ? number(start.parameters[p]) : "-", number(camera.parameters[p]), sigma, parameters[p].unit});
  }
}

Json statistics_json(const PhotoList& photos, const Block& block, const BlockStatistics& s) {
  Json json = {
      {"photos", s.photos},        {"tie_points", s.points},         {"observations", s.observations},
      {"rms_px", s.rms_px},        {"kept_percent", s.kept_percent}, {"median_track_length", s.median_track_length},
      {"median_gsd", s.median_gsd}};
  for (std::size_t i = 0; i < block.photos.size(); ++i)
    json["by_photo"].push_back({{"name", name_in(photos, block.photos[i].photo)},
                                {"rms_px", s.photo_rms_px[i]},
                                {"observations", s.photo_observations[i]}});
  return json;
}

struct BlockTables {
  Table blocks{{"block", "photos", "tie points", "observations", "RMS px", "kept %", "focal px ", "weakest photo "}};
  Table cameras{{"block", "camera ", "parameter ", "start", "adjusted", "standard deviation", "unit "}};
  Table worst{{"block", "photo ", "observations", "RMS px", "place, GSD", "turn, degrees"}};
};

void add_worst(const PhotoList& photos, std::size_t number, const Block& block, const BlockStatistics& s,
               const BlockPrecision& precision, Table& table, Json& json) {
  constexpr std::size_t kNamed = 5;
  const std::vector<PhotoQuality> order = photos_by_quality(s, precision);
  for (std::size_t k = 0; k < std::min(kNamed, order.size()); ++k) {
    const PhotoQuality& q = order[k];
    table.add({fmt::format("{}", number + 1), name_in(photos, block.photos[q.photo].photo),
               fmt::format("{}", s.photo_observations[q.photo]), fmt::format("{:.3f}", q.rms_px),
               precision.known ? fmt::format("{:.3f}", q.place_gsd) : "-",
               precision.known ? fmt::format("{:.5f}", q.turn_deg) : "-"});
  }
  if (!precision.known) return;
  json["observation_sigma_px"] = precision.sigma_px;
  for (const PhotoQuality& q : order) {
    json["by_photo"][q.photo]["place_sigma_gsd"] = q.place_gsd;
    json["by_photo"][q.photo]["turn_sigma_deg"] = q.turn_deg;
  }
}

void add_block(const PhotoList& photos, std::size_t number, const Block& block, const BlockPrecision& precision,
               BlockTables& tables, Json& json) {
  const BlockStatistics s = block_statistics(block);
  json = statistics_json(photos, block, s);
  std::string focals;
  for (std::size_t c = 0; c < block.cameras.size(); ++c) {
    if (std::none_of(block.photos.begin(), block.photos.end(),
                     [&](const PosedPhoto& p) { return p.camera.value == c; }))
      continue;
    focals += (focals.empty() ? "" : ", ") + fmt::format("{:.1f}", block.cameras[c].focal());
    add_camera(number, photos.cameras[c], block.cameras[c],
               precision.known && c < precision.cameras.size() ? &precision.cameras[c] : nullptr, tables.cameras,
               json["by_camera"]);
  }
  const auto weakest = static_cast<std::size_t>(
      std::min_element(s.photo_observations.begin(), s.photo_observations.end()) - s.photo_observations.begin());
  tables.blocks.add({fmt::format("{}", number + 1), fmt::format("{}", s.photos), fmt::format("{}", s.points),
                     fmt::format("{}", s.observations), fmt::format("{:.3f}", s.rms_px),
                     fmt::format("{:.1f}", s.kept_percent), focals,
                     fmt::format("{} ({} observations)", name_in(photos, block.photos[weakest].photo),
                                 s.photo_observations[weakest])});
  add_worst(photos, number, block, s, precision, tables.worst, json);
}

// How far up can be trusted where nothing is known of the world.
void add_level(std::size_t number, const Block& block, Document& document, Json& json) {
  if (block.datum.axes != Axes::guessed) return;
  const LevelGuess level = guess_level(block);
  json["level"] = {{"by", describe(level.source)},
                   {"sigma_deg", level.sigma_deg},
                   {"plane_share", level.plane_share},
                   {"plane_lean_deg", level.plane_lean_deg}};
  std::string text = fmt::format("Up in block {} is a guess by {}, good to about {:.1f} degrees", number + 1,
                                 describe(level.source), level.sigma_deg);
  if (level.plane_share > 0.2)
    text += fmt::format("; the largest plane among its tie points ({:.0f} percent of them) leans by {:.1f} degrees",
                        100 * level.plane_share, level.plane_lean_deg);
  document.say(text + ". Scale and place are unknown: `icefield georeference` gives them");
}

void add_blocks(const PhotoList& photos, const OrientResult& result, Document& document, Json& json) {
  BlockTables tables;
  for (std::size_t b = 0; b < result.blocks.size(); ++b) {
    json["blocks"].push_back(nullptr);
    add_block(photos, b, result.blocks[b], b < result.precision.size() ? result.precision[b] : BlockPrecision{}, tables,
              json["blocks"].back());
  }
  document.show(std::move(tables.blocks));
  document.show(std::move(tables.cameras), "Cameras");
  document.show(std::move(tables.worst), "Worst photos (standard deviations of place and turn)");
  for (std::size_t b = 0; b < result.blocks.size(); ++b) add_level(b, result.blocks[b], document, json["blocks"][b]);
  for (std::size_t b = 0; b < result.precision.size(); ++b)
    if (!result.precision[b].known)
      document.say(fmt::format("Block {}: standard deviations are not known ({})", b + 1, result.precision[b].outcome));
}

// A group that is doubtful for one reason is one line.
Table doubtful_table(const PhotoList& photos, const std::vector<DoubtfulPhoto>& all) {
  constexpr std::size_t kNamed = 3;
  Table table({"photo ", "reason "});
  std::map<std::string, std::vector<PhotoIndex>> by_reason;
  for (const DoubtfulPhoto& d : all) by_reason[d.reason].push_back(d.photo);
  for (const DoubtfulPhoto& d : all) {
    const auto group = by_reason.find(d.reason);
    if (group == by_reason.end()) continue;  // told already
    std::string names;
    for (std::size_t k = 0; k < std::min(kNamed, group->second.size()); ++k)
      names += (names.empty() ? "" : ", ") + name_in(photos, group->second[k]);
    if (group->second.size() > kNamed) names += fmt::format(" and {} more", group->second.size() - kNamed);
    table.add({names, d.reason});
    by_reason.erase(group);
  }
  return table;
}

// In which photo, or where and in which photo it shows best.
std::string place_of(const PhotoList& photos, const Block& block, const Crowding& c) {
  if (c.in_photo) return name_in(photos, block.photos[c.photo].photo);
  std::map<std::uint32_t, std::size_t> seen;
  for (std::size_t p = 0; p < block.points.size(); ++p)
    if ((block.points[p] - c.place).norm() < c.size)
      for (const Observation& o : block.of_point(p)) ++seen[o.photo];
  const auto most =
      std::max_element(seen.begin(), seen.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
  return fmt::format("around {:.3f} {:.3f} {:.3f}{}", c.place.x(), c.place.y(), c.place.z(),
                     most == seen.end() ? "" : ", seen best by " + name_in(photos, block.photos[most->first].photo));
}

void add_crowding(const PhotoList& photos, const Block& block, const std::vector<Crowding>& all, Document& document,
                  Json& json) {
  json["crowding"] = Json::array();
  for (const Crowding& c : all) {
    const double percent = 100.0 * static_cast<double>(c.removed) / static_cast<double>(c.of);
    const std::string where = place_of(photos, block, c);
    json["crowding"].push_back(
        {{"where", where}, {"removed", c.removed}, {"of", c.of}, {"usual_percent", 100 * c.usual_share}});
    document.warnings.push_back(
        fmt::format("{}: {} of {} {} taken out ({:.1f} percent; {:.1f} in the whole block): a local fault (a moved "
                    "thing, a glossy one, a wrong match of photos) rather than noise",
                    where, c.removed, c.of, c.in_photo ? "observations" : "tie points", percent, 100 * c.usual_share));
  }
}

Table passes_table(const std::vector<WeakPointPass>& all, Json& json) {
  Table table({"pass", "tie points", "weak", "by residual", "by sigma", "by angle", "points out", "observations out",
               "largest residual", "sigma px", "RMS before", "after"});
  json["passes"] = Json::array();
  for (std::size_t i = 0; i < all.size(); ++i) {
    const WeakPointPass& p = all[i];
    json["passes"].push_back({{"points", p.points},
                              {"observations", p.observations},
                              {"weak", p.weak},
                              {"by_residual", p.by_residual},
                              {"by_sigma", p.by_sigma},
                              {"by_angle", p.by_angle},
                              {"removed_points", p.removed_points},
                              {"removed_observations", p.removed_observations},
                              {"largest_standardised", p.largest_standardised},
                              {"largest_sigma_gsd", p.largest_sigma_gsd},
                              {"sigma_px", p.sigma_px},
                              {"rms_before_px", p.rms_before_px},
                              {"rms_after_px", p.rms_after_px}});
    table.add({fmt::format("{}", i + 1), fmt::format("{}", p.points), fmt::format("{}", p.weak),
               fmt::format("{}", p.by_residual), fmt::format("{}", p.by_sigma), fmt::format("{}", p.by_angle),
               fmt::format("{}", p.removed_points), fmt::format("{}", p.removed_observations),
               fmt::format("{:.1f}", p.largest_standardised), fmt::format("{:.3f}", p.sigma_px),
               fmt::format("{:.3f}", p.rms_before_px), fmt::format("{:.3f}", p.rms_after_px)});
  }
  return table;
}

}  // namespace

Document blocks_document(const PhotoList& photos, const OrientResult& result) {
  Document document;
  Json json = Json::object();
  add_blocks(photos, result, document, json);
  document.json = text_of(json);
  return document;
}

Document pose_document(const PhotoList& photos, const OrientResult& result, std::span<const OverlapReport> overlaps) {
  const OrientSummary& s = result.summary;
  Document document;
  Json json = {{"photos", s.photos},
               {"posed", s.posed},
               {"pairs",
                {{"verified", s.pairs},
                 {"cut_by_turn", s.cut_by_turn},
                 {"cut_by_direction", s.cut_by_direction},
                 {"cut_as_twins", s.cut_as_twins}}},
               {"loops_closed", s.loops_closed},
               {"blocks_joined", s.blocks_joined}};
  document.say(s.outcome);
  add_blocks(photos, result, document, json);
  const std::size_t cut = s.cut_by_turn + s.cut_by_direction + s.cut_as_twins;
  if (cut > 0)
    document.say(fmt::format(
        "Of {} verified pairs {} contradicted the others ({} in orientation, {} in direction, {} as places that only "
        "look alike) and took no part",
        s.pairs, cut, s.cut_by_turn, s.cut_by_direction, s.cut_as_twins));
  if (s.loops_closed > 0) document.say(fmt::format("{} loop{} closed", s.loops_closed, s.loops_closed == 1 ? "" : "s"));
  for (const std::string& line : s.focal_search) document.say("Focal length tried at " + line);
  document.show(doubtful_table(photos, result.doubtful),
                "Doubtful (--set pose.leave_out_doubtful=true leaves them out)");
  Table unposed({"photo ", "reason "});
  for (const UnposedPhoto& u : result.unposed) {
    json["unposed"].push_back({{"name", name_in(photos, u.photo)}, {"reason", u.reason}});
    unposed.add({name_in(photos, u.photo), u.reason});
  }
  document.show(std::move(unposed), "Without a pose");
  for (const DoubtfulPhoto& d : result.doubtful)
    json["doubtful"].push_back({{"name", name_in(photos, d.photo)}, {"reason", d.reason}});
  for (const std::string& line : s.focal_search) json["focal_search"].push_back(line);
  if (!overlaps.empty()) add_overlap(overlaps, document, json);
  document.json = text_of(json);
  return document;
}

Document adjust_document(const PhotoList& photos, const OrientResult& result, std::size_t block,
                         const AdjustReport& report) {
  Document document;
  Json json = {
      {"outcome", report.outcome}, {"rms_before_px", report.before.rms_px}, {"rms_after_px", report.after.rms_px}};
  document.say(fmt::format("Block {}: {}; RMS {:.3f} -> {:.3f} px", block + 1, report.outcome, report.before.rms_px,
                           report.after.rms_px));
  document.show(passes_table(report.passes, json));
  add_crowding(photos, result.blocks[block], report.crowding, document, json);
  add_blocks(photos, result, document, json);
  document.json = text_of(json);
  return document;
}

Document undone_document(const PhotoList& photos, const OrientResult& result) {
  Document document;
  Json json = {{"undone", true}};
  document.say("The blocks are what they were before the last adjustment");
  add_blocks(photos, result, document, json);
  document.json = text_of(json);
  return document;
}

Document join_document(const PhotoList& photos, const OrientResult& result, const JoinResult& joined) {
  Document document;
  Json json = {{"joined", joined.joined},
               {"outcome", joined.outcome},
               {"common_points", joined.common_points},
               {"common_photos", joined.common_photos},
               {"agreeing", joined.agreeing}};
  document.say(joined.outcome);
  add_blocks(photos, result, document, json);
  document.json = text_of(json);
  return document;
}

}  // namespace icefield
