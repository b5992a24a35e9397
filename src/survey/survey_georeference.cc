// Where the blocks are in the world.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "icefield/control/likely_causes.h"
#include "src/orient/precision.h"
#include "src/survey/cloud_frames.h"
#include "src/survey/control_files.h"
#include "src/survey/control_records.h"
#include "src/survey/survey_state.h"

namespace icefield {

const ControlLists& Survey::State::control_of(const std::filesystem::path& folder) {
  if (!control) control = read_control_lists(folder);
  return *control;
}

ControlLists Survey::control_lists() {
  return state_->control_of(folder_);
}

void Survey::set_control_lists(ControlLists lists, const ControlSources& sources) {
  check_control_lists(lists, photos(), sources);
  {
    const FolderLock edit(folder_, FolderLock::Kind::edit);
    write_control_lists(folder_, lists);
  }
  take_settings();
}

void Survey::take_marks_as_shown(std::vector<MarkRow>& marks) {
  icefield::take_marks_as_shown(marks, photos());
}

std::vector<LocatedSpot> Survey::locate_spots(std::size_t block, const std::vector<std::string>& names) {
  const Block& of = this->block(block);
  const Control marked = marked_spots(control_lists(), photos(), settings_.georeference.mark_sigma_px);
  std::vector<LocatedSpot> spots;
  for (const std::string& name : names) {
    const auto point = std::find_if(marked.points.begin(), marked.points.end(),
                                    [&](const SurveyedPoint& p) { return p.name == name; });
    if (point == marked.points.end())
      throw Error(ErrorKind::usage, "point '" + name + "'", "has no mark",
                  "mark it in two photos or more, as with `icefield mark`");
    std::vector<SpotMark> marks;
    for (const Mark& mark : marked.marks)
      if (mark.point == static_cast<std::uint32_t>(point - marked.points.begin()))
        for (std::uint32_t i = 0; i < of.photos.size(); ++i)
          if (of.photos[i].photo == mark.photo) marks.push_back({PosedIndex(i), mark.pixel, mark.sigma_px});
    spots.push_back(locate_spot(of, marks));
  }
  return spots;
}

WorldFrame Survey::world_frame(std::size_t block) {
  const Block& of = this->block(block);
  return WorldFrame(of.datum, of.origin);
}

PointCloud Survey::in_world(std::size_t block, PointCloud cloud) {
  const WorldFrame frame = world_frame(block);
  return cloud_in_world(cloud, frame, this->block(block).datum);
}

// Bounds that a user gives are in coordinates of the files.
Bounds Survey::State::bounds_of(const Block& block) const {
  if (!file.bounds && file.outline.empty()) return automatic_of(block);
  const WorldFrame frame(block.datum, block.origin);
  const auto corners = [&](std::vector<Eigen::Vector2d> outline, double height) {
    for (Eigen::Vector2d& corner : outline) corner = frame.to_local({corner.x(), corner.y(), height}).head<2>();
    return outline;
  };
  if (!file.bounds) return bounds_within(corners(file.outline, block.origin.z()), block);
  Bounds bounds = *file.bounds;
  bounds.outline = corners(bounds.outline, bounds.centre.z());
  bounds.centre = frame.to_local(bounds.centre);
  return bounds;
}

namespace {

// Heights of receivers that are off by about what the sea lies over the ellipsoid.
void explain_height_shift(GeoreferenceReport& report, const PhotoList& photos) {
  constexpr double kLeast = 8;  // metres
  for (const Georeferenced& block : report.blocks) {
    const double shift = block.fix_shift.z();
    if (std::abs(shift) < kLeast) continue;
    for (const PhotoFix& fix : report.control.fixes) {
      const auto& gps = photos.photos[fix.photo.value].metadata.gps;
      if (!gps) continue;
      const auto geoid = geoid_height_m(gps->latitude_deg, gps->longitude_deg);
      if (geoid && std::abs(std::abs(shift) - std::abs(*geoid)) < kLeast)
        report.remarks.push_back(fmt::format(
            "The photos' heights are {:.1f} m {} the control points', about as much as the sea lies {} the ellipsoid "
            "there ({:.1f} m): one of the two counts from the ellipsoid (georeference.gps_over_ellipsoid, or the CRS "
            "of the heights).",
            std::abs(shift), shift > 0 ? "above" : "below", *geoid > 0 ? "above" : "below", std::abs(*geoid)));
      return;
    }
  }
}

}  // namespace

std::optional<GeoreferenceReport> Survey::georeferenced() {
  if (!settings_.georeference.on || !free_blocks()) return std::nullopt;
  State& state = *state_;
  state.control_of(folder_);
  auto report =
      state.store.read("georeference", key_of(state.inputs_of_georeference(settings_)), read_georeference_record);
  if (report) report->fresh = true;
  return report;
}

void Survey::settle() {
  pose();
  if (settings_.georeference.on) georeference();
}

GeoreferenceReport Survey::georeference() {
  if (!settings_.georeference.on)
    throw Error(ErrorKind::usage, folder_.string(), "is not to be georeferenced", "set georeference.on=true first");
  State& state = *state_;
  if (auto known = georeferenced(); known && posed() && blocks_are_written()) return std::move(*known);
  lock();
  const OrientResult& now = pose();
  const PhotoList& list = photos();
  state.control_of(folder_);
  ControlLists lists = *state.control;
  const auto named = [&](const char* what) { return (folder_ / "control" / (std::string(what) + ".csv")).string(); };
  check_control_lists(lists, list, {named("points"), named("marks"), named("lengths"), named("positions")});
  const StepInputs inputs = state.inputs_of_georeference(settings_);
  const Fingerprint key = key_of(inputs);
  if (auto known = georeferenced(); known && posed()) {
    write_blocks();
    if (const auto last = state.last("georeference"); !last || last->key != key)
      state.remember("georeference", inputs, 0);  // brought back
    return std::move(*known);
  }
  const auto start = std::chrono::steady_clock::now();
  PlacedControl placed = placed_control(lists, list, settings_.georeference, folder_);
  if (placed.control.points.empty() && placed.control.fixes.empty())
    throw Error(ErrorKind::usage, folder_.string(), "knows no control point, no length and no photo position",
                "give them with --control, --marks, --lengths or --positions");
  GeoreferenceReport report;
  report.datum = placed.datum, report.crs_name = placed.crs_name, report.origin = placed.origin;
  report.remarks = std::move(placed.remarks);
  std::vector<CameraPrior> priors;
  for (const SurveyCamera& camera : list.cameras) priors.push_back(camera.prior);
  OrientResult next = now;
  next.precision.resize(next.blocks.size());
  bool any = false;
  for (std::size_t b = 0; b < next.blocks.size(); ++b) {
    monitor_.progress("georeference", b, next.blocks.size());
    GeoreferenceOptions options;
    options.adjust = final_adjust_options(next.blocks[b], priors, settings_.pose, now.summary.held);
    if (next.precision[b].known) options.adjust.observation_sigma_px = next.precision[b].sigma_px;
    options.adjusted = settings_.georeference.adjust;
    options.false_alarm = settings_.georeference.false_alarm;
    Georeferenced found = icefield::georeference(next.blocks[b], placed.control, options, executor_, monitor_);
    if (found.done) {
      next.blocks[b] = std::move(found.block);
      next.blocks[b].datum = placed.datum, next.blocks[b].origin = placed.origin;
      if (found.level_by_views && placed.datum.axes == Axes::guessed) next.blocks[b].datum.axes = Axes::level;
      next.precision[b] = precision_from(std::move(found.uncertain));
      any = true;
    }
    found.block = Block();
    found.uncertain = Uncertainty();
    report.blocks.push_back(std::move(found));
  }
  monitor_.progress("georeference", next.blocks.size(), next.blocks.size());
  if (!any)
    throw Error(ErrorKind::computation, folder_.string(), "cannot be georeferenced: " + report.blocks.front().outcome,
                "see what is known with `icefield status`; the tables lie in " + (folder_ / "control").string());
  report.control = std::move(placed.control);
  explain_height_shift(report, list);
  const Bytes record = orient_record(next);
  state.store.put("placed result", key, record);
  state.store.put("georeference", key, georeference_record(report));
  state.remember("georeference", inputs, seconds_since(start));
  state.take_posed(std::make_shared<const OrientResult>(std::move(next)));
  write_blocks();
  return report;
}

}  // namespace icefield
