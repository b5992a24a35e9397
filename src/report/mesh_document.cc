#include <fmt/format.h>

#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

Json check_json(const MeshCheck& c) {
  Json json = {{"vertices", c.vertices},
               {"faces", c.faces},
               {"pieces", c.pieces},
               {"area", c.area},
               {"closed", c.closed()},
               {"manifold", c.manifold()},
               {"oriented", c.oriented()},
               {"open_edges", c.open_edges},
               {"holes", c.holes},
               {"crowded_edges", c.crowded_edges},
               {"crowded_vertices", c.crowded_vertices},
               {"flipped_edges", c.flipped_edges},
               {"degenerate_faces", c.degenerate_faces},
               {"doubled_faces", c.doubled_faces},
               {"doubled_vertices", c.doubled_vertices},
               {"unused_vertices", c.unused_vertices},
               {"not_finite", c.not_finite}};
  json["self_intersections"] = c.self_intersections_known ? Json(c.self_intersections) : Json(nullptr);
  return json;
}

std::string yes(bool value) {
  return value ? "yes" : "no";
}

Json sharpened_json(const SharpenSummary& s) {
  return {{"outcome", s.outcome},
          {"photos", s.photos},
          {"pairs", s.pairs},
          {"photos_missing", s.photos_missing},
          {"rounds", s.rounds},
          {"vertices_seen", s.vertices_seen},
          {"agreement_before", s.agreement_before},
          {"agreement_after", s.agreement_after},
          {"moved_mean", s.moved_mean},
          {"moved_q95", s.moved_q95},
          {"moved_mean_px", s.moved_mean_px}};
}

std::string sharpened_in_words(const SharpenSummary& s) {
  if (s.rounds == 0) return s.outcome;
  return fmt::format(
      "Sharpened by {} photos in {} rounds: vertices moved by {:.2f} px in the mean ({:.3g}, 95 percent within "
      "{:.3g}); "
      "agreement of the photos {:.3f}, {:.3f} before",
      s.photos, s.rounds, s.moved_mean_px, s.moved_mean, s.moved_q95, s.agreement_after, s.agreement_before);
}

}  // namespace

Document sharpen_document(const SharpenSummary& summary, const std::string& file) {
  Document document;
  document.say(sharpened_in_words(summary));
  if (!file.empty()) document.say("Written: " + file);
  for (const std::string& missing : summary.photos_missing)
    document.warnings.push_back(missing + "; the mesh is sharpened without it");
  if (summary.rounds > 0 && summary.vertices_seen == 0)
    document.warnings.push_back("no two photos say anything of the mesh: check that mesh and cameras are in one frame");
  Json json = sharpened_json(summary);
  json["file"] = file;
  document.json = text_of(json);
  return document;
}

Document mesh_document(std::span<const MeshReport> reports, const std::string& units) {
  Document document;
  Json json = Json::array();
  Table table({"block", "points", "faces before", "trimmed %", "faces", "moved mean", "at 95 %", "holes", "file "});
  for (const MeshReport& r : reports) {
    json.push_back({{"block", r.block + 1},
                    {"outcome", r.fitted.outcome},
                    {"cloud_points", r.cloud_points},
                    {"points", r.fitted.points},
                    {"points_left_out", r.fitted.points_left_out},
                    {"normals_made", r.fitted.normals_made},
                    {"spacing", r.fitted.spacing},
                    {"levels", r.fitted.levels},
                    {"cells", r.fitted.cells},
                    {"faces_closed", r.fitted.faces_closed},
                    {"trimmed_percent", r.fitted.trimmed_percent},
                    {"pieces_left_out", r.fitted.pieces_left_out},
                    {"sharpened", sharpened_json(r.sharpened)},
                    {"faces_before", r.lighter.faces_before},
                    {"moved", {{"mean", r.moved.mean}, {"q95", r.moved.q95}, {"largest", r.moved.largest}}},
                    {"check", check_json(r.check)},
                    {"file", r.file.string()},
                    {"fresh", r.fresh}});
    table.add({fmt::format("{}", r.block + 1), fmt::format("{}", r.fitted.points),
               fmt::format("{}", r.lighter.faces_before), fmt::format("{:.1f}", r.fitted.trimmed_percent),
               fmt::format("{}", r.check.faces), fmt::format("{:.3g}", r.moved.mean),
               fmt::format("{:.3g}", r.moved.q95), fmt::format("{}", r.check.holes), r.file.string()});
  }
  document.show(std::move(table));
  for (const MeshReport& r : reports) {
    document.say(fmt::format(
        "Block {}: {}. Area {:.4g} square {}. Trimmed is what the closed surface had without support; moved is how far "
        "lightening moved it, against {:.3g} between points.",
        r.block + 1, r.check.in_a_line(), r.check.area, units, r.fitted.spacing));
    if (const std::size_t taken = r.fitted.points + r.fitted.points_left_out; taken < r.cloud_points)
      document.warnings.push_back(fmt::format(
          "block {}: the surface is made of {} of the cloud's {} points, {:.3g} apart; mesh.most_points says "
          "how many, or bounds make it of a part",
          r.block + 1, taken, r.cloud_points, r.fitted.spacing));
    if (r.sharpened.rounds > 0) document.say(sharpened_in_words(r.sharpened) + ".");
    if (r.fitted.normals_made)
      document.warnings.push_back(fmt::format(
          "block {}: the cloud has no normals; they were made and point away from its middle", r.block + 1));
  }
  document.json = text_of({{"blocks", json}});
  return document;
}

Document texture_document(std::span<const TextureReport> reports, const std::string& units) {
  Document document;
  Json json = Json::array();
  Table table(
      {"block", "faces", "photos", "patches", "pages", "used %", "texel", "filled %", "seams", "levelled", "file "});
  for (const TextureReport& r : reports) {
    const TextureSummary& s = r.summary;
    json.push_back({{"block", r.block + 1},
                    {"outcome", s.outcome},
                    {"faces", s.faces},
                    {"faces_filled", s.faces_filled},
                    {"filled_percent", s.filled_percent},
                    {"photos", s.photos},
                    {"photos_missing", s.photos_missing},
                    {"views", s.views},
                    {"views_apart", s.views_apart},
                    {"patches", s.charts},
                    {"pages", s.pages},
                    {"page_size", s.page_size},
                    {"texel", s.texel},
                    {"used_percent", s.used_percent},
                    {"exposure_before_percent", s.exposure_before_percent},
                    {"exposure_after_percent", s.exposure_after_percent},
                    {"seam_before", s.seam_before},
                    {"seam_after", s.seam_after},
                    {"file", r.file.string()},
                    {"fresh", r.fresh}});
    table.add({fmt::format("{}", r.block + 1), fmt::format("{}", s.faces), fmt::format("{}", s.photos),
               fmt::format("{}", s.charts), fmt::format("{} x {}", s.pages, s.page_size),
               fmt::format("{:.0f}", s.used_percent), fmt::format("{:.4g}", s.texel),
               fmt::format("{:.2f}", s.filled_percent), fmt::format("{:.1f}", s.seam_before),
               fmt::format("{:.1f}", s.seam_after), r.file.string()});
  }
  document.show(std::move(table));
  for (const TextureReport& r : reports) {
    const TextureSummary& s = r.summary;
    document.say(fmt::format(
        "Block {}: {}. A texel is {:.4g} {} on the surface. Between photos that see the same faces brightness differed "
        "by {:.1f} percent, after levelling by {:.1f}. Seams: mean step of colour, of 255, as photos have it and "
        "levelled.",
        r.block + 1, s.outcome, s.texel, units, s.exposure_before_percent, s.exposure_after_percent));
    if (s.filled_percent > 0)
      document.say(
          fmt::format("Filled up from around, since no photo sees it or it closes a hole: {} faces, {:.2f} "
                      "percent of the area.",
                      s.faces_filled, s.filled_percent));
    if (s.views_apart > 0)
      document.say(fmt::format("{} of {} views of faces were left out because most others agree on another colour.",
                               s.views_apart, s.views));
    for (const std::string& missing : s.photos_missing) document.warnings.push_back(missing);
  }
  document.json = text_of({{"blocks", json}});
  return document;
}

Document check_document(const MeshCheck& c, const std::string& name) {
  Document document;
  document.say(
      fmt::format("{}: {} vertices, {} faces in {} pieces, area {:.6g}", name, c.vertices, c.faces, c.pieces, c.area));
  Table table({"closed ", "manifold ", "oriented ", "open edges", "holes", "crowded edges", "crowded vertices",
               "flipped edges", "crossings"});
  table.add({yes(c.closed()), yes(c.manifold()), yes(c.oriented()), fmt::format("{}", c.open_edges),
             fmt::format("{}", c.holes), fmt::format("{}", c.crowded_edges), fmt::format("{}", c.crowded_vertices),
             fmt::format("{}", c.flipped_edges),
             c.self_intersections_known ? fmt::format("{}", c.self_intersections) : "not looked for"});
  document.show(std::move(table));
  const auto count = [&](std::size_t n, const char* what) {
    if (n > 0) document.say(fmt::format("{} {}", n, what));
  };
  count(c.degenerate_faces, "faces without area");
  count(c.doubled_faces, "faces twice");
  count(c.doubled_vertices, "vertices at the place of another one");
  count(c.unused_vertices, "vertices of no face");
  count(c.not_finite, "vertices with a coordinate that is no number");
  document.json = text_of(check_json(c));
  return document;
}

}  // namespace icefield
