// `icefield cloud`: operations on clouds as files, of a survey or from elsewhere.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "command.h"
#include "icefield/cloud/clean.h"
#include "icefield/io/cloud_file.h"
#include "icefield/io/outline_file.h"
#include "icefield/io/ply_file.h"

using namespace icefield;
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

struct Request {
  std::vector<std::string> inputs;
  std::string output, outline, aside;
  std::vector<double> box;
  bool outside = false, clean = false, normals = false, ascii = false;
  double spacing = 0, tiles = 0;
  CleanOptions cleaning;
};

PointCloud read_and_merge(const std::vector<std::string>& files, Monitor& monitor) {
  std::vector<PointCloud> clouds;
  for (const std::string& file : files) {
    monitor.check();
    clouds.push_back(read_ply(file));
    if (clouds.back().datum != clouds.front().datum)
      throw Error(ErrorKind::input, file, "has coordinates of another meaning than " + files.front(),
                  "merge clouds of one coordinate system and unit");
  }
  return clouds.size() == 1 ? std::move(clouds[0]) : merge(clouds);
}

// One file, or one for each tile. Returns their names.
std::vector<std::string> write(const Request& request, CloudFormat format, const PointCloud& cloud, double spacing,
                               Monitor& monitor) {
  const double resolution = std::max(1e-6, spacing);
  if (!(request.tiles > 0)) {
    write_cloud(request.output, format, cloud, resolution);
    return {request.output};
  }
  std::vector<std::string> files;
  const fs::path out = request.output;
  for (const CloudTile& tile : split(cloud, request.tiles)) {
    monitor.check();
    const fs::path file = out.parent_path() / fmt::format("{}_{}_{}{}", out.stem().string(), tile.column, tile.row,
                                                          out.extension().string());
    write_cloud(file, format, tile.cloud, resolution);
    files.push_back(file.string());
  }
  return files;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  const Executor executor = executor_of(common);
  const CloudFormat format = cloud_format_of(request.output, request.ascii);
  if (!request.aside.empty() && !request.clean)
    throw Error(ErrorKind::usage, "--aside", "has nothing to write without cleaning", "give --clean as well");
  PointCloud cloud = read_and_merge(request.inputs, monitor);
  Json json = {{"read", cloud.size()}};
  Table table({"step ", "points left"});
  const auto note = [&](const char* step) {
    json[step] = cloud.size();
    table.add({step, fmt::format("{}", cloud.size())});
  };
  table.add({request.inputs.size() == 1 ? "read" : "read and merged", fmt::format("{}", cloud.size())});
  if (!request.box.empty()) cloud = crop(cloud, upright_box(request.box), request.outside), note("box");
  if (!request.outline.empty())
    cloud = crop(cloud, read_outline_file(request.outline), request.outside), note("outline");
  if (request.clean) {
    Cleaned cleaned = clean(cloud, request.cleaning, executor);
    for (std::size_t f = 1; f < kFaults; ++f) {
      json["set_aside"][describe(static_cast<Fault>(f))] = cleaned.counts[f];
      table.add({fmt::format("  {}", describe(static_cast<Fault>(f))), fmt::format("-{}", cleaned.counts[f])});
    }
    if (!request.aside.empty())
      write_cloud(request.aside, cloud_format_of(request.aside, request.ascii), cleaned.aside,
                  std::max(1e-6, typical_spacing(cleaned.aside)));
    cloud = std::move(cleaned.kept);
    note("clean");
  }
  if (request.spacing > 0) cloud = thin(cloud, request.spacing), note("thin");
  if (request.normals) estimate_normals(cloud, 12, Eigen::Vector3f::UnitZ(), executor), note("normals");
  if (cloud.size() == 0)
    throw Error(ErrorKind::computation, request.output, "would have no point",
                "check the box, the polygon and their side");
  const double spacing = typical_spacing(cloud);
  const std::vector<std::string> files = write(request, format, cloud, spacing, monitor);
  json["spacing"] = spacing;
  json["written"] = files;
  Document document;
  document.show(std::move(table));
  document.say(fmt::format("Points lie {:.4g} apart. Written: {}{}", spacing, files.front(),
                           files.size() > 1 ? fmt::format(" and {} more tiles", files.size() - 1) : ""));
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
