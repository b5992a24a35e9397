// `icefield run` and `icefield demo`: all steps in a row.
#include "command.h"
#include "icefield/report/documents.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

// Documents of the steps one after the other for people; as JSON the last alone.
int run_to(Survey& survey, const std::string& last, const Common& common, Monitor& monitor, const std::string& hint) {
  const auto done = [&](const Document& document, bool is_last) {
    if (is_last)
      show(document, common, monitor, hint);
    else if (!common.json)
      show(document, common, monitor), fmt::print("\n");
  };
  const MatchReport matched = survey.match();
  done(match_document(survey.photos(), matched), last == "match");
  if (last == "match") return 0;
  const OrientResult& posed = survey.pose();
  std::vector<OverlapReport> overlaps;
  for (std::size_t b = 0; b < posed.blocks.size(); ++b) overlaps.push_back(survey.overlap(b));
  done(pose_document(survey.photos(), posed, overlaps), last == "pose");
  if (last == "pose") return 0;
  if (survey.settings().georeference.on) {
    done(georeference_document(survey.photos(), survey.georeference()), last == "georeference");
  } else if (last == "georeference") {
    throw Error(ErrorKind::usage, common.survey, "is not to be georeferenced",
                "say by what first: `icefield georeference " + common.survey + " --help`");
  }
  if (last == "georeference") return 0;
  // What was asked for before is made again.
  const bool with_texture = last == "texture" || (last != "mesh" && survey.status_of("texture").step == "texture"),
             with_orthomosaic = last == "orthomosaic" || survey.status_of("orthomosaic").step == "orthomosaic",
             with_terrain = with_orthomosaic || last == "terrain" || survey.status_of("terrain").step == "terrain",
             with_mesh = with_texture || last == "mesh" || survey.status_of("mesh").step == "mesh";
  const std::vector<DenseReport> reports = survey.densify();
  done(dense_document(survey.photos(), reports, survey.settings().dense), !with_mesh && !with_terrain);
  const std::string units = survey.block(0).datum.units_name();
  if (with_mesh) done(mesh_document(survey.mesh(), units), !with_texture && !with_terrain);
  if (with_texture) done(texture_document(survey.texture(), units), !with_terrain);
  if (with_terrain) done(terrain_document(survey.terrain(), units), !with_orthomosaic);
  if (with_orthomosaic) done(orthomosaic_document(survey.orthomosaic(), units), true);
  return 0;
}

fs::path copy_demo_photos(const fs::path& source, const fs::path& survey) {
  const fs::path photos = survey / "photos";
  std::error_code error;
  fs::create_directories(photos, error);
  if (!error) fs::copy(source / "photos", photos, fs::copy_options::recursive | fs::copy_options::skip_existing, error);
  if (error)
    throw Error(ErrorKind::resource, photos.string(), "cannot be written (" + error.message() + ")",
                "check permissions and free space");
  return photos;
}

}  // namespace

Command run_command(Arguments& tool, Common& common) {
  const auto to = std::make_shared<std::string>("densify");
  Arguments options =
      with_settings(survey_command(tool, common, "run", "Do every stale step up to a given one"), common);
  options
      .option("--to", *to,
              "match, pose, georeference, densify (and mesh, texture, terrain and orthomosaic, where there were such "
              "before), mesh, texture, terrain or orthomosaic")
      .one_of({"match", "pose", "georeference", "densify", "mesh", "texture", "terrain", "orthomosaic"})
      .with_default();
  return {options, [to, &common](Monitor& monitor) {
            Survey survey = open_survey(common, monitor);
            apply_settings(survey, common);
            return run_to(survey, *to, common, monitor, "icefield status " + common.survey);
          }};
}

Command demo_command(Arguments& tool, Common& common) {
  Arguments options = with_settings(
      survey_command(tool, common, "demo", "Copy the demo photos into a new survey and run the whole chain on them"),
      common);
  return {options, [&common](Monitor& monitor) {
            fs::path source = fs::path(ICEFIELD_DEMO_FOLDER) / "cairn";
            if (!fs::exists(source)) source = fs::path(ICEFIELD_SOURCE_DEMO_FOLDER) / "cairn";
            if (!fs::exists(source / "photos"))
              throw Error(ErrorKind::resource, source.string(), "is missing",
                          "install Icefield again, or run it from its source tree");
            const fs::path photos = copy_demo_photos(source, common.survey);
            Survey::begin(common.survey, {photos});
            Survey survey = open_survey(common, monitor);
            apply_settings(survey, common);
            if (!common.json)
              fmt::print("{} photos of a made-up cairn in {}\n\n", survey.photos().used, photos.string());
            return run_to(survey, "densify", common, monitor,
                          fmt::format("icefield compare {} --cameras {}", common.survey,
                                      (source / "truth" / "cameras.json").string()));
          }};
}
