// `icefield adjust`
#include "command.h"
#include "icefield/report/documents.h"

using namespace icefield;

namespace {

struct Request {
  std::size_t block = 1;
  AdjustRequest wanted;
  bool undo = false;
  double share_percent = 100 * WeakPointOptions().max_share;
};

int run(const Common& common, Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  if (request.undo) {
    if (!survey.undo_adjust())
      throw Error(ErrorKind::usage, survey.folder().string(), "has no adjustment to undo",
                  "`icefield adjust` makes one");
    show(undone_document(survey.photos(), survey.need_free_blocks()), common, monitor);
    return 0;
  }
  survey.need_free_blocks();
  request.wanted.block = request.block - 1;
  request.wanted.weak.max_share = 0.01 * request.share_percent;
  const AdjustReport report = survey.adjust(request.wanted);
  show(adjust_document(survey.photos(), survey.need_free_blocks(), request.wanted.block, report), common, monitor,
       fmt::format("icefield view {0} block --by residual; icefield adjust {0} --undo brings the block before back",
                   common.survey));
  return 0;
}

}  // namespace

Command adjust_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  AdjustRequest& wanted = request->wanted;
  Arguments options =
      survey_command(tool, common, "adjust",
                     "Adjust a block again with other freedoms, or take out weak tie points in measured "
                     "passes; the block before is kept");
  with_block(options, request->block);
  options.option("--free", wanted.free, "Camera parameters to adjust, and no others (focal, centre_x, radial_1 ...)")
      .separated_by(',');
  options.option("--fix", wanted.held, "Camera parameters that stay as they are").separated_by(',');
  options.flag("--remove-weak", wanted.remove_weak,
               "Take out weak tie points, the weakest first, adjusting after each pass");
  options.option("--level", wanted.weak.max_standardised, "Standardised residual above which a tie point is weak")
      .between(1.0, 100.0)
      .with_default();
  options
      .option("--sigma", wanted.weak.max_sigma_gsd,
              "Largest standard deviation of a tie point, in pixels on the subject (GSD)")
      .between(0.01, 1e6)
      .with_default();
  options.option("--angle", wanted.weak.min_angle_deg, "Smallest angle at which its rays meet, degrees")
      .between(0.0, 90.0)
      .with_default();
  options.option("--share", request->share_percent, "Most that one pass takes, percent of the tie points")
      .between(0.01, 50.0)
      .with_default();
  options.option("--passes", wanted.weak.max_passes, "Most passes").between(1, 1000).with_default();
  options.flag("--undo", request->undo, "Bring back the block before the last adjustment");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
