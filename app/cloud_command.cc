// `icefield cloud`: operations on clouds as files, of a survey or from elsewhere.
#include <nlohmann/json.hpp>

#include "command.h"
#include "icefield/io/cloud_work.h"
#include "icefield/io/outline_file.h"
#include "icefield/io/selection_file.h"

using namespace icefield;
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

struct Request {
  std::vector<std::string> inputs;
  std::string output, outline, selection, aside;
  std::vector<double> box;
  bool outside = false, clean = false, normals = false, ascii = false;
  double spacing = 0, tiles = 0;
  CleanOptions cleaning;
};

CloudWork work_of(const Request& request) {
  CloudWork work;
  work.format = cloud_format_of(request.output, request.ascii);
  if (!request.aside.empty()) {
    if (!request.clean)
      throw Error(ErrorKind::usage, "--aside", "has nothing to write without cleaning", "give --clean as well");
    work.aside = request.aside, work.aside_format = cloud_format_of(request.aside, request.ascii);
  }
  if (!request.box.empty()) work.box = upright_box(request.box);
  if (!request.outline.empty()) work.outline = read_outline_file(request.outline);
  if (!request.selection.empty()) work.selection = read_selection_file(request.selection);
  work.outside = request.outside, work.clean = request.clean, work.cleaning = request.cleaning;
  work.thin = request.spacing, work.normals = request.normals, work.tiles = request.tiles;
  return work;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  const CloudWork work = work_of(request);
  const std::vector<fs::path> inputs(request.inputs.begin(), request.inputs.end());
  const CloudWorkResult result = work_on_clouds(inputs, request.output, work, executor_of(common), monitor);
  Json json = {{"read", result.read}};
  Table table({"step ", "points left"});
  table.add({inputs.size() == 1 ? "read" : "read and merged", fmt::format("{}", result.read)});
  const auto note = [&](bool done, const char* step, std::uint64_t left) {
    if (!done) return;
    json[step] = left;
    table.add({step, fmt::format("{}", left)});
  };
  note(work.box.has_value(), "box", result.in_box);
  note(!work.outline.empty(), "outline", result.in_outline);
  note(!work.selection.empty(), "selection", result.selected);
  for (std::size_t f = 1; f < kFaults && work.clean; ++f) {
    json["set_aside"][describe(static_cast<Fault>(f))] = result.faults[f];
    table.add({fmt::format("  {}", describe(static_cast<Fault>(f))), fmt::format("-{}", result.faults[f])});
  }
  note(work.clean, "clean", result.cleaned);
  note(work.thin > 0, "thin", result.thinned);
  note(work.normals, "normals", result.written);
  json["parts"] = result.parts;
  json["spacing"] = result.spacing;
  json["written"] = result.files;
  Document document;
  document.show(std::move(table));
  if (result.parts > 1) document.say(fmt::format("Worked on in {} parts", result.parts));
  document.say(fmt::format("Points lie {:.4g} apart. Written: {}{}", result.spacing, result.files.front(),
                           result.files.size() > 1 ? fmt::format(" and {} more tiles", result.files.size() - 1) : ""));
  document.json = json.dump(1);
  show(document, common, monitor);
  return 0;
}

}  // namespace

Command cloud_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options =
      tool.command("cloud", "Work on clouds as files: merge, crop, clean, thin, normals, tiles; in this order");
  options.option("input", request->inputs, "PLY files; several are merged").required();
  options.option("--output", request->output, "File to write: .ply, .las or .xyz").required();
  options
      .option("--box", request->box,
              "Keep what is in this box: centre x y z, size x y z, and its turn about the vertical in degrees")
      .values(6, 7);
  options.option("--outline", request->outline, "Keep what is in this polygon: text file, a corner X Y in each line");
  options.flag("--outside", request->outside, "Keep what is outside of box and polygon instead");
  options.option("--selection", request->selection,
                 "Keep what this file says: boxes, outlines and planes to keep and to drop (docs/formats.md)");
  options.flag("--clean", request->clean, "Set aside what is likely no surface");
  options
      .option("--conflicts", request->cleaning.max_conflicts_per_view,
              "Photos that see past a point, for each that agrees on it; 0: not asked")
      .between(0.0, 100.0)
      .with_default();
  options
      .option("--loneliness", request->cleaning.max_loneliness,
              "Distance of a point to its neighbours, against theirs; 0: not asked")
      .between(0.0, 1000.0)
      .with_default();
  options
      .option("--island", request->cleaning.min_island_points,
              "Smaller groups of connected points are set aside; 0: none")
      .between(0, 100000000)
      .with_default();
  options.option("--aside", request->aside,
                 "File for what cleaning takes out, each point with its reason; merged with the rest it is back");
  options.option("--thin", request->spacing, "One point for each cube of this size").positive();
  options.flag("--normals", request->normals, "Normals from each point's neighbours");
  options.option("--tiles", request->tiles, "A file for each square of this size, OUTPUT_COLUMN_ROW").positive();
  options.flag("--ascii", request->ascii, "PLY as text");
  options.flag("--json", common.json, "Results as JSON on standard output");
  options.flag("--quiet", common.quiet, "Warnings and errors only on standard error");
  options.option("--threads", common.threads, "Threads; 0: as many as the machine has").between(0, 1024);
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
