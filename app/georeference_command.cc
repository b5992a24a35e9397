// `icefield georeference`
#include "command.h"
#include "icefield/control/likely_causes.h"
#include "icefield/report/documents.h"
#include "icefield/world/crs.h"

using namespace icefield;

namespace {

struct Request {
  std::string crs, control, marks, lengths, positions, find;
  std::string level, up, axis, zero;  // points; "none": as if nothing had been said
  std::vector<std::string> columns, check, take, forget;
  bool as_shown = false, off = false;
  bool finds = false;
};

// The middle of where the photos say that they are.
std::optional<Eigen::Vector2d> place_of(const PhotoList& photos) {
  std::vector<std::optional<GpsPosition>> all;
  for (std::size_t i = 0; i < photos.used; ++i) all.push_back(photos.photos[i].metadata.gps);
  const std::vector<std::string> faults = faults_of_gps(all);
  for (std::size_t i = 0; i < all.size(); ++i)
    if (all[i] && faults[i].empty()) return Eigen::Vector2d(all[i]->latitude_deg, all[i]->longitude_deg);
  return std::nullopt;
}

int find(Survey& survey, const Common& common, const Request& request, Monitor& monitor) {
  const auto place = place_of(survey.photos());
  // "." asks for all that hold the photos.
  const std::string words = request.find == "." ? "" : request.find;
  show(crs_document(find_crs(words, place), words, place.has_value()), common, monitor,
       fmt::format("icefield georeference {} --crs CODE", common.survey));
  return 0;
}

void use_points(ControlLists& lists, const std::vector<std::string>& names, ControlUse use) {
  for (const std::string& name : names) {
    const auto found = std::find_if(lists.points.begin(), lists.points.end(),
                                    [&](const ControlPointRow& p) { return p.name == name; });
    if (found == lists.points.end())
      throw Error(ErrorKind::usage, "point '" + name + "'", "is not known", "control/points.csv lists those that are");
    found->use = use;
  }
}

void check_units(const ControlPointTable& table, const std::string& file, const std::string& crs) {
  if (table.units.empty() || crs.empty()) return;
  const Crs known = crs_of(crs);
  const bool feet = table.units.find("ft") != std::string::npos || table.units.find("feet") != std::string::npos ||
                    table.units.find("foot") != std::string::npos,
             metre_grid = std::abs(known.metres_per_unit - 1) < 1e-6;
  if (feet == metre_grid && (feet || table.units[0] == 'm'))
    throw Error(ErrorKind::input, file,
                fmt::format("has coordinates in {} by its header, and {} counts in units of {}", table.units, known.id,
                            known.units),
                "convert them, or give their own CRS with --crs");
}

// What is given takes the place of what was known of its kind.
bool take_lists(Survey& survey, const Request& request) {
  const int tables =
      !request.control.empty() + !request.marks.empty() + !request.lengths.empty() + !request.positions.empty();
  if (!request.columns.empty() && tables != 1)
    throw Error(ErrorKind::usage, "--columns", tables == 0 ? "is of no table" : "is of more than one table",
                "give one table at a time with it");
  ControlLists lists = survey.control_lists();
  Survey::ControlSources sources;
  for (const std::string& what : request.forget) {
    if (what == "points") lists.points.clear();
    if (what == "marks") lists.marks.clear();
    if (what == "lengths") lists.lengths.clear();
    if (what == "positions") lists.positions.clear();
  }
  if (!request.control.empty()) {
    const ControlPointTable table = read_control_points(request.control, request.columns);
    check_units(table, request.control, survey.settings().georeference.crs);
    lists.points = table.points;
    sources.points = request.control;
  }
  if (!request.marks.empty()) {
    lists.marks = read_marks(request.marks, request.columns);
    if (request.as_shown) survey.take_marks_as_shown(lists.marks);
    sources.marks = request.marks;
  }
  if (!request.lengths.empty())
    lists.lengths = read_lengths(request.lengths, request.columns), sources.lengths = request.lengths;
  if (!request.positions.empty())
    lists.positions = read_positions(request.positions, request.columns), sources.positions = request.positions;
  use_points(lists, request.check, ControlUse::check);
  use_points(lists, request.take, ControlUse::control);
  const bool changed = tables > 0 || !request.forget.empty() || !request.check.empty() || !request.take.empty();
  if (changed) survey.set_control_lists(std::move(lists), sources);
  return changed;
}

// Settings by their keys that options of the command stand for.
using Points = std::pair<const char*, std::string GeoreferenceSettings::*>;
constexpr Points kPoints[] = {{"georeference.level_points", &GeoreferenceSettings::level_points},
                              {"georeference.up_points", &GeoreferenceSettings::up_points},
                              {"georeference.axis_points", &GeoreferenceSettings::axis_points},
                              {"georeference.zero_point", &GeoreferenceSettings::zero_point}};

void take_settings(Survey& survey, const Request& request) {
  if (!request.crs.empty()) survey.set("georeference.crs", request.crs == "none" ? "" : crs_of(request.crs).id);
  const std::string* given[] = {&request.level, &request.up, &request.axis, &request.zero};
  for (std::size_t k = 0; k < std::size(kPoints); ++k)
    if (!given[k]->empty()) survey.set(kPoints[k].first, *given[k] == "none" ? "" : *given[k]);
  if (!survey.settings().georeference.on) survey.set("georeference.on", "true");
}

void put_back(Survey& survey, const GeoreferenceSettings& before) {
  if (survey.settings().georeference.crs != before.crs) survey.set("georeference.crs", before.crs);
  for (const auto& [key, member] : kPoints)
    if (survey.settings().georeference.*member != before.*member) survey.set(key, before.*member);
  if (survey.settings().georeference.on != before.on) survey.set("georeference.on", before.on ? "true" : "false");
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  if (!request.find.empty()) return find(survey, common, request, monitor);
  apply_settings(survey, common);
  if (request.off) {
    survey.set("georeference.on", "false");
    survey.mend_files();
    next(fmt::format("the blocks are in their own frame again; icefield georeference {} brings them back",
                     common.survey));
    return 0;
  }
  // Where it fails, what it was given is forgotten: later steps go on with the blocks that there are.
  const GeoreferenceSettings before = survey.settings().georeference;
  GeoreferenceReport report;
  try {
    take_settings(survey, request);
    take_lists(survey, request);
    report = survey.georeference();
  } catch (const Error& e) {
    if (e.kind() != ErrorKind::interrupted) put_back(survey, before);
    throw;
  }
  show(georeference_document(survey.photos(), report), common, monitor,
       fmt::format("icefield view {0} control; icefield densify {0}", common.survey));
  return 0;
}

}  // namespace

Command georeference_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "georeference",
                                     "Bring blocks to where control points, known lengths and the photos' positions "
                                     "say that they are, with the errors "
                                     "of all of them");
  options.option("--set", common.set, "section.key=value, more than once; kept in survey.toml").one_each();
  options.option("--crs", request->crs,
                 "CRS of all coordinates, as EPSG:25832, or with one for heights EPSG:25832+7837; none: a local grid");
  options.option("--control", request->control,
                 "Table of control and check points: name, east, north, height, standard deviations, use");
  options.option("--marks", request->marks, "Table of marks: photo, point, x, y, standard deviation");
  options.option("--lengths", request->lengths,
                 "Table of known lengths: from, to, length, standard deviation, use (control or check)");
  options.option("--level", request->level,
                 "Three marked points or more at one height, as A,B,C; none: forget it. Like the next three for blocks "
                 "without coordinates");
  options.option("--up", request->up, "Two marked points, one over the other: up is from the first to the second");
  options.option("--axis", request->axis, "Two marked points: x goes from the first to the second");
  options.option("--zero", request->zero, "The marked point where coordinates begin");
  options.option("--positions", request->positions,
                 "Table of photo positions, in place of those in the photos: photo, east, north, height, standard "
                 "deviations");
  options
      .option(
          "--columns", request->columns,
          "What the columns of the table hold, from the left: name,east,north,height,sigma,use,photo,point,x,y,from,to,"
          "length; - for one that is passed over")
      .separated_by(',');
  options.flag("--as-shown", request->as_shown, "Marks count pixels of the photos as they are shown, turned");
  options.option("--check", request->check, "Names of points that are to be check points from now on")
      .separated_by(',');
  options.option("--take", request->take, "Names of points that are to be control points").separated_by(',');
  options.option("--forget", request->forget, "points, marks, lengths or positions: forget them")
      .separated_by(',')
      .one_of({"points", "marks", "lengths", "positions"});
  options.option("--find", request->find, "Only list the CRS with these words that hold the photos; . for all that do");
  options.flag("--off", request->off, "The blocks in their own frame again; what is known stays");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
