#include <fmt/format.h>
#include <fmt/ranges.h>

#include "icefield/cloud/cloud.h"
#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

Json raster_json(const RasterReport& r) {
  return {{"columns", r.columns}, {"rows", r.rows}, {"measured", r.measured},   {"filled", r.filled},
          {"low", r.low},         {"high", r.high}, {"expected_error", r.sigma}};
}

}  // namespace

Document terrain_document(std::span<const TerrainReport> reports, const std::string& units) {
  Document document;
  Json json = Json::array();
  Table table({"block", "model ", "cell", "cells", "measured %", "filled %", "lowest", "highest", "error", "file "});
  for (const TerrainReport& r : reports) {
    Json classes = Json::object();
    std::string counts;
    std::uint64_t all = 0;
    for (const std::uint64_t n : r.classes) all += n;
    for (std::size_t c = 0; c < r.classes.size(); ++c) {
      if (r.classes[c] == 0) continue;
      const char* name = describe(static_cast<PointClass>(c));
      classes[name] = r.classes[c];
      counts += fmt::format("{}{} {:.1f} %", counts.empty() ? "" : ", ", name,
                            100.0 * static_cast<double>(r.classes[c]) / static_cast<double>(all));
    }
    json.push_back({{"block", r.block + 1},
                    {"outcome", r.outcome},
                    {"cell", r.cell},
                    {"spacing", r.spacing},
                    {"classes", classes},
                    {"ground",
                     {{"outcome", r.ground.outcome},
                      {"step", r.ground.step},
                      {"cell", r.ground.cell},
                      {"levels", r.ground.levels},
                      {"seen_cells", r.ground.seen_cells},
                      {"ground_cells", r.ground.ground_cells},
                      {"cells_by_colour", r.ground.cells_by_colour}}},
                    {"dsm", raster_json(r.surface)},
                    {"dtm", raster_json(r.terrain)},
                    {"file", r.file.string()},
                    {"fresh", r.fresh}});
    const auto add = [&](const char* model, const RasterReport& raster, const char* file) {
      table.add({fmt::format("{}", r.block + 1), model, fmt::format("{:.3g}", r.cell),
                 fmt::format("{} x {}", raster.columns, raster.rows),
                 fmt::format("{:.1f}", raster.share(raster.measured)),
                 fmt::format("{:.1f}", raster.share(raster.filled)), fmt::format("{:.2f}", raster.low),
                 fmt::format("{:.2f}", raster.high), fmt::format("{:.3g}", raster.sigma),
                 r.file.empty() ? file : (r.file.parent_path() / file).string()});
    };
    add("surface (DSM)", r.surface, "dsm.tif");
    add("ground (DTM)", r.terrain, "dtm.tif");
    document.say(fmt::format("Block {}: {} points: {}. Lengths in {}.", r.block + 1, all, counts, units));
    if (r.ground.outcome != "found")
      document.warnings.push_back(
          fmt::format("block {}: no ground was found: {}; the DTM is empty", r.block + 1, r.ground.outcome));
    else if (all > 0 && r.classes[static_cast<std::size_t>(PointClass::ground)] * 20 < all)
      document.warnings.push_back(fmt::format(
          "block {}: less than a twentieth of the points lies on the ground: look at `view terrain --by classes`, and "
          "make terrain.widest larger than what stands there",
          r.block + 1));
  }
  document.show(std::move(table));
  document.say(
      "The DSM has all that stands on the ground, the DTM the ground alone. Error is the expected one of measured "
      "cells, the middle; that of each cell is in the file beside it that ends in _quality.tif.");
  document.json = text_of({{"blocks", json}});
  return document;
}

Document orthomosaic_document(std::span<const OrthomosaicReport> reports, const std::string& units) {
  Document document;
  Json json = Json::array();
  Table table(
      {"block", "cell", "cells", "seen %", "photos", "seams", "over what stands", "exposure %", "levelled", "file "});
  bool beside = false;  // photos of cells and seams
  for (const OrthomosaicReport& r : reports) {
    const OrthomosaicSummary& s = r.summary;
    const double all = static_cast<double>(r.columns) * r.rows;
    const double seen = all > 0 ? 100 * static_cast<double>(r.cells) / all : 0;
    json.push_back({{"block", r.block + 1},
                    {"outcome", s.outcome},
                    {"cell", r.cell},
                    {"columns", r.columns},
                    {"rows", r.rows},
                    {"seen_cells", r.cells},
                    {"over", r.over_ground ? "dtm" : "dsm"},
                    {"photos", s.photos},
                    {"photos_missing", s.photos_missing},
                    {"views", s.views},
                    {"views_apart", s.views_apart},
                    {"seams", s.seams},
                    {"seam_length", s.seam_length},
                    {"seam_length_raised", s.seam_length_raised},
                    {"exposure_before_percent", s.exposure_before_percent},
                    {"exposure_after_percent", s.exposure_after_percent},
                    {"corner_loss_percent", s.corner_loss_percent},
                    {"file", r.file.string()},
                    {"fresh", r.fresh}});
    table.add({fmt::format("{}", r.block + 1), fmt::format("{:.3g}", r.cell), fmt::format("{} x {}", r.columns, r.rows),
               fmt::format("{:.1f}", seen), fmt::format("{}", s.photos), fmt::format("{:.4g}", s.seam_length),
               fmt::format("{:.3g}", s.seam_length_raised), fmt::format("{:.1f}", s.exposure_before_percent),
               fmt::format("{:.1f}", s.exposure_after_percent), r.file.string()});
    if (s.photos > 1) {
      document.say(fmt::format(
          "Block {}: brightness between photos that see the same places differed by {:.1f} percent, after levelling by "
          "{:.1f}; the corners of photos had lost {:.0f} percent. {} of {} views of places were left out because most "
          "others agree on another colour.",
          r.block + 1, s.exposure_before_percent, s.exposure_after_percent, s.corner_loss_percent, s.views_apart,
          s.views));
      beside = true;
    }
    if (!s.photos_missing.empty())
      document.warnings.push_back(fmt::format("block {}: {} photo(s) could not be read, as {}", r.block + 1,
                                              s.photos_missing.size(), s.photos_missing.front()));
    if (r.over_ground)
      document.warnings.push_back(fmt::format(
          "block {}: made over the ground (DTM): buildings and trees lean away from the photo that shows them; "
          "orthomosaic.over_ground=false puts them where they stand",
          r.block + 1));
  }
  document.show(std::move(table));
  if (beside)
    document.say(fmt::format("Lengths of seams in {}. Which photo a cell is of, and the seams, lie beside it.", units));
  document.json = text_of({{"blocks", json}});
  return document;
}

Document elevation_document(const ElevationReport& report, const std::string& units,
                            std::span<const std::filesystem::path> files) {
  Document document;
  const auto share = [&](std::uint64_t n) {
    const double all = static_cast<double>(report.columns) * report.rows;
    return all > 0 ? 100.0 * static_cast<double>(n) / all : 0;
  };
  document.say(fmt::format(
      "{} x {} cells of {:.3g} {}: {:.4g} by {:.4g}, to scale; {:.1f} % have a surface, {:.1f} % a picture, of {} "
      "photos. "
      "{} points lie within {:.3g} of the plane.",
      report.columns, report.rows, report.cell, units, report.cell * report.columns, report.cell * report.rows,
      share(report.cells), share(report.pictured), report.summary.photos, report.points, report.depth));
  if (report.plane_rms > 3 * report.cell)
    document.warnings.push_back(fmt::format(
        "the corners lie {:.3g} {} RMS off one plane: lengths are true in the plane alone", report.plane_rms, units));
  for (const std::string& missing : report.summary.photos_missing) document.warnings.push_back(missing);
  std::vector<std::string> names;
  for (const auto& file : files) names.push_back(file.string());
  document.say(fmt::format("In {}", fmt::join(names, ", ")));
  document.json = text_of({{"outcome", report.outcome},
                           {"columns", report.columns},
                           {"rows", report.rows},
                           {"cell", report.cell},
                           {"depth", report.depth},
                           {"plane_rms", report.plane_rms},
                           {"middle", json_of(report.middle)},
                           {"right", json_of(report.right)},
                           {"up", json_of(report.up)},
                           {"towards", json_of(report.towards)},
                           {"points", report.points},
                           {"surface_percent", share(report.cells)},
                           {"pictured_percent", share(report.pictured)},
                           {"photos", report.summary.photos},
                           {"files", names}});
  return document;
}

}  // namespace icefield
