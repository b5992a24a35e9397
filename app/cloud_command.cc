// `icefield cloud`: operations on clouds as files, of a survey or from elsewhere.
#include <algorithm>

#include "icefield/cloud/clean.h"
#include "icefield/io/cloud_file.h"
#include "icefield/io/ply_file.h"
#include "parts.h"

int cloud_command(const CloudRequest& request, Monitor& monitor) {
  const Executor executor(request.threads);
  const CloudFormat format = cloud_format_of(request.output, request.ascii);
  if (!request.aside.empty() && !request.clean)
    throw Error(ErrorKind::usage, "--aside", "has nothing to write without cleaning", "give --clean as well");
  std::vector<PointCloud> clouds;
  for (const std::string& input : request.inputs) {
    monitor.check();
    clouds.push_back(read_ply(input));
  }
  PointCloud cloud = clouds.size() == 1 ? std::move(clouds[0]) : merge(clouds);
  clouds.clear();
  Json json = {{"read", cloud.size()}};
  Table table({"step ", "points left"});
  const auto note = [&](const char* step) {
    json[step] = cloud.size();
    table.add({step, fmt::format("{}", cloud.size())});
  };
  table.add({request.inputs.size() == 1 ? "read" : "read and merged", fmt::format("{}", cloud.size())});
  if (!request.box.empty()) cloud = crop(cloud, box_of(request.box, "--box"), request.outside), note("box");
  if (!request.outline.empty()) cloud = crop(cloud, read_outline(request.outline), request.outside), note("outline");
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
  json["spacing"] = spacing;
  std::vector<std::string> files;
  if (request.tiles > 0) {
    const fs::path out = request.output;
    for (const CloudTile& tile : split(cloud, request.tiles)) {
      monitor.check();
      const fs::path file = out.parent_path() / fmt::format("{}_{}_{}{}", out.stem().string(), tile.column, tile.row,
                                                            out.extension().string());
      write_cloud(file, format, tile.cloud, std::max(1e-6, spacing));
      files.push_back(file.string());
    }
  } else {
    write_cloud(request.output, format, cloud, std::max(1e-6, spacing));
    files.push_back(request.output);
  }
  json["written"] = files;
  if (request.json) {
    print_json(json);
  } else {
    fmt::print("{}Points lie {:.4g} apart. Written: {}{}\n", table.text(), spacing, files.front(),
               files.size() > 1 ? fmt::format(" and {} more tiles", files.size() - 1) : "");
  }
  return 0;
}
