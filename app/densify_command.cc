// `icefield densify`
#include "command.h"
#include "icefield/base/amounts.h"
#include "icefield/io/outline_file.h"
#include "icefield/report/documents.h"

using namespace icefield;

namespace {

struct Request {
  std::vector<double> bounds;
  std::string outline, within;
  bool automatic_bounds = false, dry_run = false;
};

void set_bounds(Survey& survey, const Request& request) {
  const auto outline = request.outline.empty() ? std::vector<Eigen::Vector2d>{} : read_outline_file(request.outline);
  if (!request.bounds.empty()) {
    Bounds bounds = upright_box(request.bounds);
    bounds.outline = outline;
    survey.set_bounds(bounds);
  } else if (!outline.empty()) {
    survey.set_outline(outline);
  } else if (request.automatic_bounds) {
    survey.set_bounds(std::nullopt);
  }
}

void show_efforts(Survey& survey, const Common& common, double seconds, double free, Monitor& monitor) {
  std::vector<EffortEstimate> efforts;
  for (const Effort effort : {Effort::draft, Effort::standard, Effort::fine}) {
    survey.set_effort(effort_name(effort), "densify");
    efforts.push_back({effort, survey.estimate_densify()});
  }
  show(efforts_document(efforts, seconds, executor_of(common).threads(), free, "icefield densify " + common.survey),
       common, monitor);
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  const double within = request.within.empty() ? 0 : seconds_from_text(request.within);
  Survey survey = open_survey(common, monitor);
  const bool computes = !request.dry_run && request.within.empty();
  if (!computes) survey.try_out();
  apply_settings(survey, common, "densify");
  set_bounds(survey, request);
  if (!computes) {
    const auto free = static_cast<double>(std::filesystem::space(survey.folder()).available);
    if (within > 0) {
      show_efforts(survey, common, within, free, monitor);
      return 0;
    }
    const std::vector<DenseEstimate> estimates = survey.estimate_densify();
    show(estimate_document(estimates, survey.settings().effort_of("densify"), executor_of(common).threads(), free),
         common, monitor, "icefield densify " + common.survey + "; --effort and --bounds change what it takes");
    return 0;
  }
  const std::vector<DenseReport> reports = survey.densify();
  show(dense_document(survey.photos(), reports, survey.settings().dense), common, monitor,
       fmt::format("icefield view {} cloud", common.survey));
  return 0;
}

}  // namespace

Command densify_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = with_settings(survey_command(tool, common, "densify", "Depth maps and dense cloud"), common);
  options
      .option("--bounds", request->bounds,
              "Centre x y z and size x y z of the box outside which nothing is kept, in the block's units, and "
              "its turn about the vertical in degrees; kept in survey.toml")
      .values(6, 7);
  options.option("--outline", request->outline,
                 "Keep what lies in this polygon, in plan: text file, a corner X Y in each line; with --bounds: "
                 "and in the box; kept in survey.toml");
  options.flag("--automatic-bounds", request->automatic_bounds, "Forget the bounds given before")
      .not_with("--bounds")
      .not_with("--outline");
  options.flag("--dry-run", request->dry_run, "Only say what it would take: time, memory, disk");
  options
      .option("--within", request->within,
              "Only say what each effort would take, and which is the finest that ends in this time: 2h, 45m, 1h30m")
      .not_with("--effort");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
