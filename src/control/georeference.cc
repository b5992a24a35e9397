#include "icefield/control/georeference.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "icefield/base/statistics.h"
#include "src/adjust/mean_centre.h"
#include "src/control/georeferencing.h"
#include "src/control/marked_ties.h"
#include "src/geometry/decompositions.h"

namespace icefield {

using Eigen::Matrix3d;
using Eigen::Vector3d;

namespace {

std::string named(const SurveyedPoint& point) {
  return "'" + point.name + "'";
}

// A few points hold against thousands of features: what they ask for is a small part of the cost.
constexpr double kCostTolerance = 1e-9;
// Where the block only has to be near enough to show a shift that hundreds of positions have in common.
constexpr double kNearTolerance = 1e-4;

double middle_of(const Vector3d& sigma) {
  double largest = 0;
  for (int c = 0; c < 3; ++c)
    if (std::isfinite(sigma[c])) largest = std::max(largest, sigma[c]);
  return largest;
}

}  // namespace

LocatedSpot Georeferencing::locate(std::uint32_t point) const {
  std::vector<SpotMark> seen;
  for (const std::uint32_t m : marks_of[point])
    if (result.marks[m].used)
      seen.push_back({photo_of(control.marks[m]), control.marks[m].pixel, control.marks[m].sigma_px});
  return locate_spot(block, seen);
}

void Georeferencing::take_marks() {
  for (std::uint32_t p = 0; p < control.points.size(); ++p) {
    std::vector<SpotMark> seen;
    for (const std::uint32_t m : marks_of[p])
      seen.push_back({photo_of(control.marks[m]), control.marks[m].pixel, control.marks[m].sigma_px});
    const LocatedSpot spot = locate_spot(block, seen);
    const bool all = seen.size() < 3 || !spot.known;  // of two that do not meet either may be right
    for (std::size_t k = 0; k < seen.size(); ++k) {
      MarkReport& mark = result.marks[marks_of[p][k]];
      mark.used = all || spot.agrees[k];
      if (!mark.used) mark.fault = "lies where the other marks of its point do not";
    }
    if (seen.size() >= 2 && !spot.known) {
      for (const std::uint32_t m : marks_of[p]) result.marks[m].used = false, result.marks[m].fault = spot.outcome;
      result.points[p].fault = spot.outcome;
    } else if (seen.empty()) {
      result.points[p].fault = "is marked in no photo of the block";
    }
  }
}

// Which points do not lie where they are said to, and what may have happened.
void Georeferencing::accuse_what_does_not_fit(std::span<const std::uint32_t> points, const ControlFit& fitted) {
  std::vector<Vector3d> seen;
  for (const std::uint32_t p : points) seen.push_back(fitted.to_world * locate(p).position);
  const auto distance = [&](std::size_t a, std::size_t b) {
    return (seen[a] - control.points[points[b]].position).norm();
  };
  for (std::size_t a = 0; a < points.size(); ++a) {
    if (fitted.agrees[a]) continue;
    PointReport& report = result.points[points[a]];
    report.used = false;
    report.fault = fmt::format("lies {:.3g} m from where the block has it", distance(a, a));
    for (std::size_t b = 0; b < points.size(); ++b) {
      if (b == a || !(distance(a, b) < 0.1 * distance(a, a))) continue;
      const bool both = !fitted.agrees[b] && distance(b, a) < 0.1 * distance(b, b);
      report.fault = both ? fmt::format("is exchanged with {}: each is marked where the other one is",
                                        named(control.points[points[b]]))
                          : fmt::format("is marked where {} is", named(control.points[points[b]]));
    }
  }
}

bool Georeferencing::fit() {
  std::vector<std::uint32_t> points, fixed;
  std::vector<ControlTie> by_points, by_fixes;
  std::vector<Vector3d> places;
  for (std::uint32_t p = 0; p < control.points.size(); ++p) {
    if (control.points[p].use != ControlUse::control || !has_coordinates(p)) continue;
    const LocatedSpot spot = locate(p);
    if (!spot.known) continue;
    points.push_back(p);
    places.push_back(control.points[p].position);
    by_points.push_back({spot.position, control.points[p].position, middle_of(control.points[p].sigma)});
  }
  for (std::uint32_t f = 0; f < fixes.size(); ++f)
    if (result.fixes[f].used) {
      fixed.push_back(f);
      by_fixes.push_back(
          {block.photos[posed[fixes[f].photo.value]].pose.centre, fixes[f].position, middle_of(fixes[f].sigma)});
    }
  const bool points_suffice = points.size() >= 3 && !reach_of(places).in_a_line(0);
  std::optional<ControlFit> fitted;
  if (points_suffice || by_fixes.size() < 3) fitted = fit_to_control(by_points, gsd);
  if (fitted) {
    accuse_what_does_not_fit(points, *fitted);
  } else if ((fitted = fit_to_control(by_fixes, gsd))) {
    for (std::size_t k = 0; k < fixed.size(); ++k)
      if (!fitted->agrees[k]) {
        FixReport& fix = result.fixes[fixed[k]];
        fix.used = false;
        fix.fault = fmt::format("lies {:.3g} m from where the others put the photo",
                                (fitted->to_world * by_fixes[k].block - by_fixes[k].world).norm());
      }
    if (points_suffice)
      for (const std::uint32_t p : points)
        result.points[p].fault = "and the other control points do not lie to each other as the block has them";
  } else {
    result.outcome = points.size() >= 3 ? "the control points do not lie to each other as the block has them: names, "
                                          "coordinates or marks are mixed up"
                     : by_fixes.size() >= 3
                         ? "the photos' positions do not lie to each other as the block has them"
                         : fmt::format(
                               "{} control points are located by marks and {} photos of the block have a "
                               "position: three of either are needed",
                               points.size(), by_fixes.size());
    return false;
  }
  if (fitted->level_guessed)
    result.remarks.push_back(
        std::count(view_used.begin(), view_used.end(), true) > 0
            ? "What is known lies on one line: the tilt across it comes from what the photos say of their own."
            : "What is known lies on one line: the tilt across it is guessed from the photos' own level.");
  result.fitted = fitted->to_world;
  transform(block, result.fitted);
  for (const std::uint32_t p : points)
    if (result.points[p].fault.empty()) result.points[p].used = true;
  if (!points_suffice) shift_fixes_to(points);
  // With one mark alone a control point still says where its photo looks.
  for (std::uint32_t p = 0; p < control.points.size(); ++p)
    if (control.points[p].use == ControlUse::control && result.points[p].fault.empty() && !marks_of[p].empty())
      result.points[p].used = true;
  return true;
}

// One control point or two, which cannot hold a block, still say by how much all fixes are off.
void Georeferencing::shift_fixes_to(std::span<const std::uint32_t> points) {
  Vector3d shift = Vector3d::Zero(), variance = Vector3d::Zero();
  double used = 0, count = 0;
  for (const std::uint32_t p : points) {
    if (!result.points[p].used || !has_coordinates(p)) continue;
    shift += locate(p).position - control.points[p].position;
    ++used;
  }
  for (std::size_t f = 0; f < fixes.size(); ++f)
    if (result.fixes[f].used) variance += fixes[f].sigma.cwiseAbs2(), ++count;
  if (used == 0 || count < 3) return;
  shift /= used;
  // A point is as far from the middle of the fixes as the block reaches: what turns and scale add there doubles it.
  result.fix_shift_sigma = 2 * variance.cwiseSqrt() / count;
  if ((shift.cwiseAbs().array() <= kShiftSigmas * result.fix_shift_sigma.array()).all()) return;
  result.fix_shift = shift;
  for (PhotoFix& fix : fixes) fix.position -= shift;
  Similarity moved;
  moved.translation = -shift;
  transform(block, moved);
}

// Scale alone; the frame's place and directions stay as they were.
bool Georeferencing::fit_by_lengths() {
  std::vector<std::uint32_t> known;
  std::vector<double> ratios;
  for (std::uint32_t l = 0; l < control.lengths.size(); ++l) {
    const KnownLength& length = control.lengths[l];
    const LocatedSpot a = locate(length.first), b = locate(length.second);
    if (length.use != ControlUse::control) continue;
    if (!a.known || !b.known) {
      result.lengths[l].fault =
          fmt::format("its end {} is not located", named(control.points[a.known ? length.second : length.first]));
      continue;
    }
    known.push_back(l);
    ratios.push_back(length.length / (a.position - b.position).norm());
  }
  if (known.empty()) {
    result.outcome = "no known length has both ends located by marks";
    return false;
  }
  std::vector<double> sorted = ratios;
  std::sort(sorted.begin(), sorted.end());
  const double middle =
      sorted.size() % 2 ? sorted[sorted.size() / 2] : 0.5 * (sorted[sorted.size() / 2 - 1] + sorted[sorted.size() / 2]);
  for (std::size_t k = 0; k < known.size(); ++k) {
    const KnownLength& length = control.lengths[known[k]];
    // Both ends are seen to a pixel or so of the block.
    const double expected = std::hypot(length.sigma, gsd * middle) / length.length;
    LengthReport& report = result.lengths[known[k]];
    report.used = std::abs(ratios[k] / middle - 1) < std::max(5 * expected, 0.003);
    if (!report.used)
      report.fault =
          known.size() == 2
              ? fmt::format("contradicts the other length by {:.2g} percent", 100 * std::abs(ratios[1] / ratios[0] - 1))
              : fmt::format("is {:.2g} percent off by the other lengths", 100 * std::abs(ratios[k] / middle - 1));
  }
  if (std::none_of(known.begin(), known.end(), [&](std::uint32_t l) { return result.lengths[l].used; })) {
    result.outcome = "the known lengths contradict each other";
    return false;
  }
  double weights = 0, sum = 0;
  for (std::size_t k = 0; k < known.size(); ++k) {
    if (!result.lengths[known[k]].used) continue;
    const KnownLength& length = control.lengths[known[k]];
    const double w = std::pow(length.length / std::hypot(length.sigma, gsd * middle), 2);
    weights += w, sum += w * ratios[k];
  }
  result.fitted = Similarity();
  result.fitted.scale = sum / weights;
  transform(block, result.fitted);
  return true;
}

// Up, the direction of x and the origin by points, where no coordinates say them.
bool Georeferencing::fit_by_frame() {
  const FrameByPoints& frame = control.frame;
  if (frame.empty()) return true;
  frame_remarks.clear();
  const auto lost = [&](std::uint32_t p) {
    result.outcome =
        fmt::format("{} is to say how the block stands and is not located: {}", named(control.points[p]),
                    result.points[p].fault.empty() ? "it has fewer than two marks" : result.points[p].fault);
    return false;
  };
  const auto place = [&](std::uint32_t p) -> std::optional<Vector3d> {
    if (p < adjusted_places.size() && adjusted_places[p]) return adjusted_places[p];
    const LocatedSpot spot = locate(p);
    return spot.known ? std::optional(spot.position) : std::nullopt;
  };
  Vector3d up = Vector3d::UnitZ(), x = Vector3d::UnitX();
  if (!frame.level.empty()) {
    std::vector<Vector3d> places;
    Vector3d middle = Vector3d::Zero();
    for (const std::uint32_t p : frame.level) {
      const auto at = place(p);
      if (!at) return lost(p);
      places.push_back(*at);
      middle += *at / static_cast<double>(frame.level.size());
    }
    if (reach_of(places).in_a_line(0)) {
      result.outcome = "the level points lie on one line: they do not say what is level across it";
      return false;
    }
    Matrix3d scatter = Matrix3d::Zero();
    for (const Vector3d& p : places) scatter += (p - middle) * (p - middle).transpose();
    up = spectrum(scatter).vectors.col(0);
    if (up.z() < 0) up = -up;  // photos know up from down
    if (places.size() > 3) {
      double squares = 0;
      for (const Vector3d& p : places) squares += std::pow(up.dot(p - middle), 2);
      frame_remarks.push_back(fmt::format("The {} level points lie within {:.3g} m (RMS) of one plane.", places.size(),
                                          std::sqrt(squares / static_cast<double>(places.size() - 3))));
    }
  }
  if (frame.up) {
    const auto from = place(frame.up->first), to = place(frame.up->second);
    if (!from || !to) return lost(from ? frame.up->second : frame.up->first);
    const Vector3d by_pair = (*to - *from).normalized();
    if (frame.level.empty())
      up = by_pair;
    else
      frame_remarks.push_back(fmt::format("{} to {} leans by {:.2f} degrees against what the level points say is up.",
                                          named(control.points[frame.up->first]),
                                          named(control.points[frame.up->second]),
                                          std::acos(std::clamp(up.dot(by_pair), -1.0, 1.0)) * 57.29577951308232));
  }
  if (frame.axis) {
    const auto from = place(frame.axis->first), to = place(frame.axis->second);
    if (!from || !to) return lost(from ? frame.axis->second : frame.axis->first);
    x = *to - *from;
    if ((x - up * up.dot(x)).norm() < 0.02 * x.norm()) {
      result.outcome = fmt::format("{} and {} stand over each other: they do not say where x goes",
                                   named(control.points[frame.axis->first]), named(control.points[frame.axis->second]));
      return false;
    }
  } else if (std::abs(up.x()) > 0.9) {
    x = Vector3d::UnitY();
  }
  x = (x - up * up.dot(x)).normalized();
  Matrix3d axes;
  axes << x, up.cross(x), up;
  Similarity turn;
  turn.rotation = Eigen::Quaterniond(axes.transpose()).normalized();
  move_all(turn);
  result.fitted.rotation = turn.rotation * result.fitted.rotation;
  result.fitted.translation = turn.rotation * result.fitted.translation;
  if (frame.zero) {
    const auto at = place(*frame.zero);
    if (!at) return lost(*frame.zero);
    Similarity move;
    move.translation = -*at;
    move_all(move);
    result.fitted.translation += move.translation;
  }
  return true;
}

void Georeferencing::move_all(const Similarity& by) {
  transform(block, by);
  for (std::optional<Vector3d>& place : adjusted_places)
    if (place) place = by * *place;
}

Georeferencing::Extended Georeferencing::extended(Which which) const {
  Extended with;
  with.block = block;
  with.block.tracks.clear();
  with.place.assign(control.points.size(), kNowhere);
  with.observation.assign(control.marks.size(), kNowhere);
  std::vector<Observation> seen;
  for (std::uint32_t p = 0; p < control.points.size(); ++p) {
    const bool takes_part = control.points[p].use == ControlUse::spot || result.points[p].used || ties[p];
    if (which == Which::taking_part && !takes_part) continue;
    seen.clear();
    std::vector<std::uint32_t> of;
    for (const std::uint32_t m : marks_of[p]) {
      const Mark& mark = control.marks[m];
      if (!result.marks[m].used) continue;
      seen.push_back({photo_of(mark), {}, mark.pixel, static_cast<float>(mark.sigma_px), mark.kind});
      of.push_back(m);
    }
    const LocatedSpot spot = locate(p);
    const bool held = result.points[p].used && control.points[p].sigma.allFinite();
    if (!spot.known && !(held && !seen.empty())) continue;
    with.place[p] = static_cast<std::uint32_t>(with.block.points.size());
    for (std::size_t k = 0; k < of.size(); ++k)
      with.observation[of[k]] = static_cast<std::uint32_t>(with.block.observations.size() + k);
    with.block.add_point(takes_part && adjusted_places[p] ? *adjusted_places[p]
                         : spot.known                     ? spot.position
                                                          : control.points[p].position,
                         seen);
  }
  return with;
}

AdjustOptions Georeferencing::adjust_options(const Extended& with, bool with_fixes) const {
  AdjustOptions adjusting = options.adjust;
  adjusting.observation_sigma_px = sigma_px;
  for (std::uint32_t p = 0; p < control.points.size(); ++p)
    if (result.points[p].used && with.place[p] != kNowhere)
      adjusting.point_priors.push_back({PointIndex(with.place[p]), control.points[p].position,
                                        vague(control.points[p].sigma).array().square().matrix().asDiagonal()});
  for (std::uint32_t l = 0; l < control.lengths.size(); ++l) {
    const KnownLength& length = control.lengths[l];
    if (result.lengths[l].used && with.place[length.first] != kNowhere && with.place[length.second] != kNowhere)
      adjusting.scale_bars.push_back(
          {PointIndex(with.place[length.first]), PointIndex(with.place[length.second]), length.length, length.sigma});
  }
  for (std::size_t f = 0; f < fixes.size() && with_fixes; ++f) {
    if (!result.fixes[f].used) continue;
    const std::uint32_t photo = posed[fixes[f].photo.value];
    // The antenna stands where the pose, as it is by now, has it.
    const Vector3d arm = block.photos[photo].pose.orientation.conjugate() * control.antenna;
    adjusting.position_priors.push_back(
        {PosedIndex(photo), fixes[f].position - arm, fixes[f].sigma.array().square().matrix().asDiagonal()});
  }
  if (holds_a_frame) add_views(adjusting);
  return adjusting;
}

bool Georeferencing::adjust_with(bool with_fixes, double tolerance) {
  if (!options.adjusted) return true;
  const int times = with_fixes && !control.antenna.isZero() ? 2 : 1;  // arms turn with the photos, by very little
  for (int k = 0; k < times; ++k) {
    const Extended with = extended(Which::taking_part);
    AdjustOptions adjusting = adjust_options(with, with_fixes);
    adjusting.cost_tolerance = tolerance;
    AdjustResult adjusted = adjust(with.block, adjusting, executor, monitor);
    if (!adjusted.summary.valid) {
      result.outcome = "the adjustment failed: " + adjusted.summary.outcome;
      return false;
    }
    block.cameras = std::move(adjusted.block.cameras);
    block.photos = std::move(adjusted.block.photos);
    for (std::uint32_t p = 0; p < control.points.size(); ++p) {
      adjusted_places[p].reset();
      if (with.place[p] != kNowhere) adjusted_places[p] = adjusted.block.points[with.place[p]];
    }
    adjusted.block.points.resize(block.points.size());
    block.points = std::move(adjusted.block.points);
  }
  return true;
}

Vector3d Georeferencing::difference_of_fix(std::size_t fix) const {
  const Pose& pose = block.photos[posed[fixes[fix].photo.value]].pose;
  return pose.centre + pose.orientation.conjugate() * control.antenna - fixes[fix].position;
}

// The shift that all fixes share, by a block that control alone holds.
bool Georeferencing::find_shift_of_fixes() {
  if (!adjust_with(false, std::max(options.adjust.cost_tolerance, kNearTolerance))) return false;
  std::vector<Vector3d> weights(block.photos.size(), Vector3d::Zero()), differences;
  Vector3d weight_sum = Vector3d::Zero(), shift = Vector3d::Zero();
  for (std::size_t f = 0; f < fixes.size(); ++f) {
    if (!result.fixes[f].used) continue;
    const Vector3d weight = fixes[f].sigma.cwiseAbs2().cwiseInverse();
    differences.push_back(-difference_of_fix(f));
    weights[posed[fixes[f].photo.value]] += weight;
    weight_sum += weight, shift += weight.cwiseProduct(differences.back());
  }
  shift = shift.cwiseQuotient(weight_sum);
  for (Vector3d& weight : weights) weight = weight.cwiseQuotient(weight_sum);
  const Extended with = extended(Which::taking_part);
  const Vector3d block_variance =
      variance_of_centres(with.block, adjust_options(with, false), weights, executor).value_or(Vector3d::Zero());
  const auto count = static_cast<double>(differences.size());
  bool significant = false;
  for (int c = 0; c < 3; ++c) {
    // Scatter tells more than what was stated, where it is larger.
    std::vector<double> apart;
    for (const Vector3d& difference : differences) apart.push_back(std::abs(difference[c] - shift[c]));
    result.fix_shift_sigma[c] =
        std::max(std::sqrt(1 / weight_sum[c] + block_variance[c]), 1.4826 * median(apart) / std::sqrt(count));
    significant = significant || std::abs(shift[c]) > kShiftSigmas * result.fix_shift_sigma[c];
  }
  if (!significant) return true;
  result.fix_shift = shift;
  for (PhotoFix& fix : fixes) {
    fix.position -= shift;
    // How well the shift is known is an error that all have in common: together they must not know more than the
    // control that they were shifted by.
    fix.sigma = (fix.sigma.cwiseAbs2() + count * block_variance).cwiseSqrt();
  }
  return true;
}

namespace {

void index_everything(Georeferencing& run) {
  const Control& control = run.control;
  std::uint32_t most = 0;
  for (const PosedPhoto& photo : run.block.photos) most = std::max(most, photo.photo.value + 1);
  for (const Mark& mark : control.marks) most = std::max(most, mark.photo.value + 1);
  for (const PhotoFix& fix : control.fixes) most = std::max(most, fix.photo.value + 1);
  for (const PhotoView& view : control.views) most = std::max(most, view.photo.value + 1);
  run.posed.assign(most, kNowhere);
  for (std::uint32_t i = 0; i < run.block.photos.size(); ++i) run.posed[run.block.photos[i].photo.value] = i;
  run.result.points.resize(control.points.size());
  run.result.marks.resize(control.marks.size());
  run.result.lengths.resize(control.lengths.size());
  run.result.fixes.resize(control.fixes.size());
  run.marks_of.resize(control.points.size());
  run.taken_back.assign(control.points.size(), false);
  run.adjusted_places.resize(control.points.size());
  run.fixes = control.fixes;
  std::set<std::pair<std::uint32_t, std::uint32_t>> once;
  for (std::uint32_t m = 0; m < control.marks.size(); ++m) {
    const Mark& mark = control.marks[m];
    if (run.posed[mark.photo.value] == kNowhere) continue;
    run.result.marks[m].in_block = true;
    if (!once.emplace(mark.point, mark.photo.value).second) {
      run.result.marks[m].fault = "is a second one in the same photo";
      continue;
    }
    run.marks_of[mark.point].push_back(m);
    ++run.result.points[mark.point].marks;
  }
  const std::vector<std::string> faults = faults_of_fixes(control.fixes);
  for (std::size_t f = 0; f < control.fixes.size(); ++f) {
    FixReport& fix = run.result.fixes[f];
    fix.in_block = run.posed[control.fixes[f].photo.value] != kNowhere;
    fix.fault = faults[f];
    fix.used = fix.in_block && fix.fault.empty();
  }
}

}  // namespace

std::vector<std::string> faults_of_fixes(std::span<const PhotoFix> fixes) {
  std::vector<std::string> faults(fixes.size());
  if (fixes.size() < 3) return faults;
  std::vector<double> coordinates[3];
  for (const PhotoFix& fix : fixes)
    for (int c = 0; c < 3; ++c) coordinates[c].push_back(fix.position[c]);
  Vector3d middle;
  for (int c = 0; c < 3; ++c) middle[c] = median(coordinates[c]);
  std::vector<double> distances;
  for (const PhotoFix& fix : fixes) distances.push_back((fix.position - middle).norm());
  const std::size_t n = fixes.size();
  const double usual = median(distances),
               far_off = quantile(distances, 3 * (n - 1), 4 * n);  // three quarters lie nearer
  const auto alike = static_cast<std::size_t>(
      std::count_if(fixes.begin(), fixes.end(), [&](const PhotoFix& f) { return f.position == fixes[0].position; }));
  for (std::size_t f = 0; f < fixes.size(); ++f) {
    if (alike == fixes.size()) faults[f] = "is the same as that of all other photos";
    // Ten times as far away as is usual, and kilometres.
    else if (distances[f] > 3000 && distances[f] > 10 * std::max(usual, 1.0) && distances[f] > 3 * far_off)
      faults[f] = fmt::format("is {:.0f} km from the others", distances[f] / 1000);
  }
  return faults;
}

namespace {

Georeferenced georeference_once(const Block& block, const Control& control, std::vector<bool> ties,
                                const GeoreferenceOptions& options, const Executor& executor, Monitor& monitor) {
  Georeferencing run{control,
                     options,
                     executor,
                     monitor,
                     {},
                     block,
                     0,
                     0.5,
                     {},
                     {},
                     {},
                     {},
                     false,
                     {},
                     {},
                     {},
                     std::move(ties),
                     false,
                     {},
                     Eigen::Quaterniond::Identity()};
  Georeferenced& result = run.result;
  run.gsd = block_statistics(block).median_gsd;
  run.sigma_px = options.adjust.observation_sigma_px;
  if (!(run.sigma_px > 0)) run.sigma_px = std::max(0.05, residual_sigma(block));
  index_everything(run);
  run.take_marks();
  const bool places = std::any_of(control.points.begin(), control.points.end(),
                                  [](const SurveyedPoint& p) { return p.use == ControlUse::control; }) ||
                      !control.fixes.empty();
  run.holds_a_frame = places;
  run.turn_by_views();
  if (places) {
    if (!run.fit()) return std::move(result);
    run.check_views();
    if (!control.frame.empty())
      result.remarks.push_back("Coordinates hold the block: what points say of up, x and zero takes no part.");
  } else {
    // Without a length the points of a frame turn the block, and its scale stays unknown.
    const bool by_frame_alone = control.lengths.empty() && !control.frame.empty();
    if (!by_frame_alone && !run.fit_by_lengths()) return std::move(result);
    if (!run.fit_by_frame()) return std::move(result);
    if (by_frame_alone) result.remarks.push_back("No length is known: the scale is that of the block.");
  }
  if (places)
    for (std::uint32_t l = 0; l < control.lengths.size(); ++l)
      result.lengths[l].used = control.lengths[l].use == ControlUse::control;
  for (std::uint32_t l = 0; l < control.lengths.size(); ++l)
    for (const std::uint32_t end : {control.lengths[l].first, control.lengths[l].second})
      if (result.lengths[l].used && control.points[end].use == ControlUse::check) {
        result.lengths[l].used = false;
        result.lengths[l].fault = fmt::format("its end {} is a check point", named(control.points[end]));
      }
  const auto used_points = [&] {
    return static_cast<std::size_t>(
        std::count_if(result.points.begin(), result.points.end(), [](const PointReport& p) { return p.used; }));
  };
  const auto used_fixes = [&] {
    return std::count_if(result.fixes.begin(), result.fixes.end(), [](const FixReport& f) { return f.used; });
  };
  Uncertainty uncertain;
  const auto adjust_and_measure = [&] {
    if (!run.adjust_with(true, std::min(options.adjust.cost_tolerance, kCostTolerance))) return false;
    if (!places && !run.fit_by_frame()) return false;
    const Georeferencing::Extended with = run.extended(Georeferencing::Which::all);
    UncertaintyOptions wanted;
    wanted.observation_sigma_px = run.sigma_px;
    wanted.residuals = true;
    uncertain = uncertainty(with.block, run.adjust_options(with, true), wanted, executor, monitor);
    run.covariances = uncertain.valid;
    run.measure(with, uncertain);
    return true;
  };
  // Control alone first, where it suffices: what all fixes have in common shows against it.
  if (used_points() >= 3 && used_fixes() >= 3 && !run.find_shift_of_fixes()) return std::move(result);
  if (!adjust_and_measure()) return std::move(result);
  if (used_fixes() >= 6) {
    run.guess_accuracy_of_fixes();
    if (result.fix_factor != 1 && !adjust_and_measure()) return std::move(result);
  }
  for (int k = 0; k < options.max_left_out && run.leave_worst_out(); ++k)
    if (!adjust_and_measure()) return std::move(result);
  if (run.take_back() && !adjust_and_measure()) return std::move(result);
  result.control_used = used_points();
  result.fixes_used = static_cast<std::size_t>(used_fixes());
  result.lengths_used = static_cast<std::size_t>(
      std::count_if(result.lengths.begin(), result.lengths.end(), [](const LengthReport& l) { return l.used; }));
  run.group_errors(uncertain);
  run.remark();
  result.remarks.insert(result.remarks.end(), run.frame_remarks.begin(), run.frame_remarks.end());
  result.remarks.insert(result.remarks.end(), run.remarks_of_views.begin(), run.remarks_of_views.end());
  result.fitted.rotation = (result.fitted.rotation * run.first_turn).normalized();
  result.block = std::move(run.block);
  result.uncertain = std::move(uncertain);
  result.done = true;
  std::vector<std::string> by;
  if (result.control_used > 0) by.push_back(fmt::format("{} control points", result.control_used));
  if (result.fixes_used > 0) by.push_back(fmt::format("{} photo positions", result.fixes_used));
  if (result.lengths_used > 0)
    by.push_back(fmt::format("{} known length{}", result.lengths_used, result.lengths_used == 1 ? "" : "s"));
  if (!places && !control.frame.empty()) by.push_back("points that say how it stands");
  for (std::size_t i = 0; i < by.size(); ++i)
    result.outcome = i == 0 ? "placed by " + by[0] : result.outcome + (i + 1 == by.size() ? " and " : ", ") + by[i];
  return std::move(result);
}

}  // namespace

Georeferenced georeference(const Block& block, const Control& control, const GeoreferenceOptions& options,
                           const Executor& executor, Monitor& monitor) {
  check_control(control);
  check_block(block);
  std::vector<bool> none(control.points.size(), false);
  const auto ties = marked_ties(block, control);
  if (!ties) return georeference_once(block, control, std::move(none), options, executor, monitor);
  Georeferenced result = georeference_once(ties->without, control, ties->ties, options, executor, monitor);
  if (result.done) put_ties_back(block, *ties, result);
  return result;
}

}  // namespace icefield
