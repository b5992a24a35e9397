// `icefield facade`: photos laid onto an upright plane, to scale.
#include <nlohmann/json.hpp>

#include <sstream>

#include "command.h"
#include "icefield/io/raster_file.h"
#include "icefield/io/text_file.h"
#include "icefield/report/documents.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string corners, marked, output, relief;
  std::size_t block = 1;
  ElevationOptions options;
};

// X Y Z in each line; blank ones and those that begin with # are passed over.
std::vector<Eigen::Vector3d> read_corners(const fs::path& file) {
  std::vector<Eigen::Vector3d> corners;
  std::istringstream text(read_file(file, std::size_t{1} << 20));
  int number = 0;
  for (std::string line; std::getline(text, line);) {
    ++number;
    line = trimmed(line);
    if (line.empty() || line[0] == '#') continue;
    for (char& c : line)
      if (c == ',' || c == ';') c = ' ';
    std::istringstream words(line);
    Eigen::Vector3d p;
    if (!(words >> p.x() >> p.y() >> p.z()) || !p.allFinite())
      throw Error(ErrorKind::input, file.string(), fmt::format("line {} is no place", number),
                  "write a corner in each line, as X Y Z");
    corners.push_back(p);
  }
  return corners;
}

int run(const Common& common, Request request, Monitor& monitor) {
  if (request.output.empty() || request.corners.empty() == request.marked.empty())
    throw Error(ErrorKind::usage, "facade", "is to be told which plane and where its picture goes",
                "give --corners FILE or --marked NAME,NAME,NAME, and --output FILE.tif");
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  const std::size_t block = request.block - 1;
  if (!request.corners.empty()) {
    request.options.corners = read_corners(request.corners);
  } else {
    std::vector<std::string> names;
    std::istringstream list(request.marked);
    for (std::string name; std::getline(list, name, ',');) names.push_back(trimmed(name));
    const std::vector<LocatedSpot> spots = survey.locate_spots(block, names);
    const WorldFrame frame = survey.world_frame(block);
    for (std::size_t k = 0; k < spots.size(); ++k) {
      if (!spots[k].known)
        throw Error(ErrorKind::usage, names[k], "has no known place: " + spots[k].outcome,
                    "mark it in two photos or more: `icefield mark`");
      request.options.corners.push_back(frame.to_world(spots[k].position));
    }
  }
  // A picture with a world file comes by way of a GeoTIFF.
  const fs::path output = request.output;
  const bool tif = output.extension() == ".tif" || output.extension() == ".tiff";
  const fs::path raster = tif ? output : fs::path(output.string() + ".work.tif");
  const ElevationReport report = survey.elevation(block, request.options, raster, request.relief);
  std::vector<fs::path> files{output};
  if (!tif) {
    try {
      files = write_world_picture(raster, output);
    } catch (...) {
      std::error_code ignored;
      fs::remove(raster, ignored);
      throw;
    }
    std::error_code ignored;
    fs::remove(raster, ignored);
  }
  if (!request.relief.empty()) files.push_back(request.relief);
  show(elevation_document(report, survey.block(block).datum.units_name(), files), common, monitor);
  return 0;
}

}  // namespace

Command facade_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "facade",
      "An elevation drawing: the photos laid onto a plane of your choice, to scale, from the dense cloud of a block");
  with_block(options, request->block);
  options.option(
      "--corners", request->corners,
      "Text with a corner X Y Z in each line, in the coordinates of the cloud: three for a plane, or the way "
      "around the facade");
  options.option("--marked", request->marked, "Names of marked points in place of them, parted by commas");
  options.option("--output", request->output, "The picture: .tif, or .png or .jpg with a world file");
  options.option("--relief", request->relief, "How far the surface stands out of the plane, as GeoTIFF");
  options.option("--cell", request->options.cell, "Size of the picture's cells; 0: the photos' GSD").between(0.0, 1e9);
  options
      .option("--depth", request->options.depth,
              "How far before and behind the plane points are of the facade; 0: a quarter of its longer side")
      .between(0.0, 1e9);
  options.option("--set", common.set, "orthomosaic.NAME=value, more than once; kept in survey.toml").one_each();
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
