// `icefield join`
#include "command.h"
#include "icefield/report/documents.h"
#include "icefield/report/table.h"

using namespace icefield;

namespace {

struct Request {
  std::size_t first = 1, second = 2;
  JoinOptions options;
  bool by_marks = false;
};

// What hand-made marks say of each other.
Document with_spots(Document document, const MarkJoinResult& joined, const std::vector<std::string>& names) {
  Table table({"spot ", "off, px", "agrees "});
  for (std::size_t k = 0; k < joined.spots.size(); ++k)
    table.add({names[k], fmt::format("{:.1f}", joined.spots[k].off_px), joined.spots[k].agrees ? "yes" : "no"});
  document.show(std::move(table), "Spots marked in both, before the adjustment");
  return document;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  survey.need_free_blocks();
  if (request.by_marks) {
    std::vector<std::string> names;
    const MarkJoinResult joined = survey.join_by_marks(request.first - 1, request.second - 1, names);
    if (!joined.join.joined) {
      std::string off;
      for (std::size_t k = 0; k < names.size(); ++k) off += (k == 0 ? ": " : ", ") + names[k];
      throw Error(ErrorKind::computation, fmt::format("blocks {} and {}", request.first, request.second),
                  fmt::format("cannot be joined by marks ({}{})", joined.join.outcome, off),
                  "mark three spots or more, not on one line, in two photos of each block (`icefield mark`)");
    }
    show(with_spots(join_document(survey.photos(), survey.need_free_blocks(), joined.join), joined, names), common,
         monitor, fmt::format("icefield view {0} block; icefield adjust {0} --undo parts them again", common.survey));
    return 0;
  }
  const JoinResult joined = survey.join(request.first - 1, request.second - 1, request.options);
  if (!joined.joined)
    throw Error(ErrorKind::computation, fmt::format("blocks {} and {}", request.first, request.second),
                "cannot be joined (" + joined.outcome + ")",
                "photos that show both parts tie them together, or spots that you mark in both (--by-marks); --least "
                "asks for fewer common points");
  show(join_document(survey.photos(), survey.need_free_blocks(), joined), common, monitor,
       fmt::format("icefield view {0} block; icefield adjust {0} --undo parts them again", common.survey));
  return 0;
}

}  // namespace

Command join_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "join",
      "Lay one block into another by their common tie points and adjust; adjust --undo parts them again");
  options.option("first", request->first, "Number of a block: its frame stays").required().positive();
  options.option("second", request->second, "Number of the other").required().positive();
  options.option("--least", request->options.min_agreeing, "Common tie points that must agree")
      .between(3, 100000)
      .with_default();
  options.flag("--by-marks", request->by_marks,
               "By spots that are marked in two photos or more of each block, as with `icefield mark`");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
