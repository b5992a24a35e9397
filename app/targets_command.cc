// `icefield targets`: coded targets, to print and to find.
#include <fmt/format.h>

#include <charconv>
#include <nlohmann/json.hpp>

#include "command.h"
#include "icefield/control/targets.h"
#include "icefield/io/target_sheet.h"
#include "icefield/io/text_file.h"
#include "icefield/report/documents.h"

using namespace icefield;

namespace {

struct Request {
  std::string sheet, lengths, paper = "a4", numbers = "1-6";
  double size_mm = 50;
};

// "5" or "5-12".
void take_numbers(const std::string& text, TargetSheetOptions& options) {
  int from = 0, to = 0;
  const char *begin = text.data(), *end = begin + text.size();
  auto read = std::from_chars(begin, end, from);
  to = from;
  if (read.ec == std::errc() && read.ptr != end && *read.ptr == '-') read = std::from_chars(read.ptr + 1, end, to);
  if (read.ec != std::errc() || read.ptr != end || to < from)
    throw Error(ErrorKind::usage, "--numbers " + text, "is no range of targets",
                fmt::format("write FROM-TO, 1 to {}, as --numbers 1-12", target_count()));
  options.first = from;
  options.count = to - from + 1;
}

Document print_sheet(const Request& request) {
  TargetSheetOptions options;
  const Eigen::Vector2d paper = paper_size(request.paper);
  options.width_mm = paper.x(), options.height_mm = paper.y();
  options.diameter_mm = request.size_mm;
  take_numbers(request.numbers, options);
  const TargetSheet sheet = plan_target_sheet(options);
  // Before anything is written.
  const std::vector<LengthRow> lengths = lengths_of_sheet(sheet);
  if (!request.lengths.empty() && lengths.empty())
    throw Error(ErrorKind::usage, request.lengths, "would be empty: no page holds two targets",
                "take a larger paper or smaller targets");
  Document document;
  nlohmann::ordered_json json = {{"files", nlohmann::ordered_json::array()}, {"pages", sheet.pages}};
  for (const auto& file : write_target_sheet(request.sheet, sheet)) {
    document.say(file.string());
    json["files"].push_back(file.string());
  }
  document.say(
      fmt::format("{} target{} of {:g} mm on {} page{} of {:g} x {:g} mm. Print without scaling and measure the "
                  "ruler: it has {:.0f} mm.",
                  options.count, options.count == 1 ? "" : "s", options.diameter_mm, sheet.pages,
                  sheet.pages == 1 ? "" : "s", options.width_mm, options.height_mm, sheet.ruler_mm));
  if (!request.lengths.empty()) {
    write_file(request.lengths, text_of_lengths(lengths));
    document.say(fmt::format("{} distance{} between targets that stay on one page: {}", lengths.size(),
                             lengths.size() == 1 ? "" : "s", request.lengths));
    json["lengths"] = request.lengths;
  }
  document.json = json.dump(1);
  return document;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  if (!request.lengths.empty() && request.sheet.empty())
    throw Error(ErrorKind::usage, "--lengths", "goes with --sheet", "give --sheet FILE.pdf as well");
  if (!request.sheet.empty()) {
    show(print_sheet(request), common, monitor);
    return 0;
  }
  if (common.survey.empty())
    throw Error(ErrorKind::usage, "icefield targets", "is given neither a survey nor --sheet",
                "write `icefield targets SURVEY` to find them, `icefield targets --sheet FILE.pdf` to print them");
  Survey survey = open_survey(common, monitor);
  const TargetReport report = survey.mark_targets();
  show(targets_document(survey.photos(), report), common, monitor,
       report.marks > 0 ? fmt::format("icefield georeference {0}; icefield view {0} mark --point T1", common.survey)
                        : "icefield targets --sheet targets.pdf");
  return 0;
}

}  // namespace

Command targets_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "targets",
                                     "Find coded targets in the photos and mark them as points T1, T2, ...; or print "
                                     "a sheet of them",
                                     false);
  options.option("--sheet", request->sheet, "Write targets to print to this file, .pdf or .svg, instead");
  options.option("--numbers", request->numbers, "Which, as 1-12").with_default();
  options.option("--size", request->size_mm, "From corner to corner, mm").positive().with_default();
  options.option("--paper", request->paper, "a0 to a5, letter, or WIDTHxHEIGHT in mm").with_default();
  options.option("--lengths", request->lengths,
                 "Write the distances between targets of one page to this table, for georeference --lengths");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
