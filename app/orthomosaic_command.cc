// `icefield orthomosaic`: a picture in plan of a survey, or of any heights with cameras that are known.
#include "command.h"
#include "icefield/io/raster_file.h"
#include "icefield/report/documents.h"
#include "icefield/survey/make_orthomosaic.h"
#include "icefield/survey/photos_by_name.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string output, cameras, photos, ground, photo;
};

// Place of a photo in a block.
std::uint32_t photo_by_name(const std::vector<std::string>& names, const std::string& name, const std::string& where) {
  for (std::uint32_t p = 0; p < names.size(); ++p)
    if (names[p] == name) return p;
  throw Error(ErrorKind::usage, "--photo " + name, "is no posed photo of " + where, "give the name of one");
}

// Of heights that belong to no survey.
int run_on_heights(const Common& common, const Request& request, Monitor& monitor) {
  if (request.output.empty() || request.cameras.empty() || request.photos.empty())
    throw Error(ErrorKind::usage, common.survey, "is a raster, and something to make a picture with is missing",
                "give --cameras, --photos and --output");
  const Settings settings = settings_of_section(common, "orthomosaic");
  const RasterReader heights(common.survey);
  const CameraFile cameras = read_camera_file(request.cameras);
  const Datum& datum = heights.content().datum;
  if (!datum.crs.empty() && !cameras.datum.crs.empty() && datum.crs != cameras.datum.crs)
    throw Error(ErrorKind::usage, request.cameras,
                "has coordinates of " + cameras.datum.crs + ", " + common.survey + " of " + datum.crs,
                "give heights and cameras of one system");
  PosedPhotos posed = photos_by_name(cameras, request.photos);
  OrthomosaicSource source{common.survey, request.ground, posed.block, *posed.photos, posed.frame, {}};
  for (const CameraFile::Photo& photo : cameras.photos) source.names.push_back(photo.name);
  if (!request.photo.empty()) {
    const std::uint32_t p = photo_by_name(source.names, request.photo, request.cameras);
    posed.block.photos = {posed.block.photos[p]};
    source.names = {request.photo};
  }
  const fs::path output = request.output;
  const fs::path beside = output.parent_path() / output.stem();
  OrthomosaicReport report = make_orthomosaic(
      source, settings.orthomosaic, {output, beside.string() + "_photo_of_cell.tif", beside.string() + "_seams.gpkg"},
      "", executor_of(common), monitor);
  report.file = output;
  show(orthomosaic_document({&report, 1}, datum.units_name()), common, monitor);
  return 0;
}

// One photo of a survey, over its heights; kept outside of it.
int run_on_photo(const Common& common, const Request& request, Survey& survey, Monitor& monitor) {
  if (request.output.empty())
    throw Error(ErrorKind::usage, "--photo " + request.photo, "makes a picture, and nothing says where it goes",
                "name a file with --output");
  for (std::size_t b = 0; b < survey.pose().blocks.size(); ++b) {
    const CameraFile cameras = survey.cameras(b);
    for (std::size_t p = 0; p < cameras.photos.size(); ++p) {
      if (cameras.photos[p].name != request.photo) continue;
      const OrthomosaicReport report = survey.lay_out_photo(b, static_cast<std::uint32_t>(p), request.output);
      show(orthomosaic_document({&report, 1}, survey.block(b).datum.units_name()), common, monitor);
      return 0;
    }
  }
  throw Error(ErrorKind::usage, "--photo " + request.photo, "is no posed photo of " + common.survey,
              "give the name of one: `icefield photos " + common.survey + "`");
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  std::error_code ignored;
  if (fs::is_regular_file(common.survey, ignored)) return run_on_heights(common, request, monitor);
  if (!request.cameras.empty() || !request.photos.empty() || !request.ground.empty() ||
      (!request.output.empty() && request.photo.empty()))
    throw Error(ErrorKind::usage, "orthomosaic", "knows cameras, photos and ground of a survey by itself",
                "leave out --cameras, --photos, --ground and --output: the picture goes into the survey's results");
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  if (!request.photo.empty()) return run_on_photo(common, request, survey, monitor);
  const std::vector<OrthomosaicReport> reports = survey.orthomosaic();
  if (reports.empty())
    throw Error(ErrorKind::computation, common.survey, "has no block within the bounds",
                "give other bounds to `icefield densify " + common.survey + "`");
  show(orthomosaic_document(reports, survey.block(reports.front().block).datum.units_name()), common, monitor,
       fmt::format("icefield view {} terrain --by orthomosaic", common.survey));
  return 0;
}

}  // namespace

Command orthomosaic_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "orthomosaic",
      "A picture in plan over the surface model, each cell where it truly lies, with the photo of each cell and the "
      "seams beside it. In place of a survey heights (GeoTIFF) can be named, with known cameras");
  options.option("--set", common.set, "section.key=value, more than once; kept in survey.toml").one_each();
  options.option("--photo", request->photo, "One photo alone, laid out in plan into --output");
  options.option("--cameras", request->cameras, "For heights: the cameras.json of the photos, in their coordinates");
  options.option("--photos", request->photos, "For heights: the folder with the photos that it names");
  options.option("--ground", request->ground,
                 "For heights: the terrain model below, so that seams keep off what stands on it");
  options.option("--output", request->output, "For heights or one photo: the picture, GeoTIFF");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
