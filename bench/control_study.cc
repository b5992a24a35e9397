// control_study --seeds 20: a flight of made-up matches brought to its place by control points, by photo positions, or
// both; errors of check points against what is said of them, gross errors found, a line for each seed and a summary.
#include <fmt/format.h>

#include <chrono>

#include "app/arguments.h"
#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "icefield/control/georeference.h"
#include "icefield/orient/orient.h"
#include "simulate/made_up_control.h"
#include "simulate/matched_set.h"

namespace {

using namespace icefield;
using Eigen::Vector3d;

struct Request {
  simulate::MatchedSetOptions made;
  simulate::ControlPlan plan;
  int seeds = 1, threads = 2;
  double gross_m = 0, gross_px = 0, shift_height = 0;
  bool exchanged = false, bad_fix = false, no_adjust = false, verbose = false, guessed = false, large = false;
};

void ask(Arguments& app, Request& r) {
  app.option("--photos", r.made.photos).with_default();
  app.option("--features", r.made.features).with_default();
  app.option("--seed", r.made.seed, "the first").with_default();
  app.option("--seeds", r.seeds, "so many sets").with_default();
  app.option("--control", r.plan.control, "control points").with_default();
  app.option("--check", r.plan.check, "check points").with_default();
  app.option("--point-sigma", r.plan.point_sigma_m, "metres").with_default();
  app.option("--mark-sigma", r.plan.mark_sigma_px, "px").with_default();
  app.flag("--fixes", r.plan.fixes, "photos have positions");
  app.option("--fix-sigma", r.plan.fix_sigma_m, "metres, each coordinate").with_default();
  app.option("--fix-shift", r.shift_height, "of all alike, upwards, metres").with_default();
  app.flag("--guessed", r.guessed, "the accuracy of positions is not stated");
  app.option("--gross", r.gross_m, "one control point is off by so much, metres").with_default();
  app.option("--gross-mark", r.gross_px, "one mark is off by so much, px").with_default();
  app.flag("--exchanged", r.exchanged, "two control points have each other's names");
  app.flag("--bad-fix", r.bad_fix, "one position is off by 40 metres");
  app.flag("--no-adjust", r.no_adjust);
  app.option("--threads", r.threads).with_default();
  app.flag("--verbose", r.verbose);
  app.flag("--large", r.large, "one flight, made up as a block: times of the free adjustment and of georeferencing");
}

struct Sums {
  double plan = 0, height = 0, scaled_plan = 0, scaled_height = 0, centres = 0;
  std::size_t count = 0, sets = 0, found = 0, accused = 0, failed = 0, good_plan = 0, good_height = 0;
  std::vector<double> ratios;
};

Vector3d in_direction(CounterRandom& random, double length) {
  return length * Vector3d(random.normal(), random.normal(), random.normal()).normalized();
}

void study(const Request& request, std::uint64_t seed, Sums& sums) {
  simulate::MatchedSetOptions made = request.made;
  made.kind = "flight";
  made.seed = seed;
  const Executor executor(request.threads);
  const simulate::MatchedSet set = simulate::make_matched_set(made, executor);
  const OrientResult oriented = orient(set.photos, set.priors, set.pairs, {}, executor);
  simulate::ControlPlan plan = request.plan;
  plan.seed = seed;
  plan.fix_height_sigma_m = plan.fix_sigma_m;
  plan.fix_shift = Vector3d(0, 0, request.shift_height);
  plan.fixes_stated = !request.guessed;
  simulate::MadeUpControl known = simulate::make_control(set.truth, plan);
  Control& control = known.control;
  CounterRandom random(combine_keys(seed, 99));
  std::uint32_t wrong = 0xffffffffu, wrong_mark = wrong, wrong_fix = wrong;
  if (request.gross_m > 0) {
    wrong = random.below(static_cast<std::uint32_t>(plan.control));
    control.points[wrong].position += in_direction(random, request.gross_m);
  }
  if (request.gross_px > 0) {
    do wrong_mark = random.below(static_cast<std::uint32_t>(control.marks.size()));
    while (control.points[control.marks[wrong_mark].point].use != ControlUse::control);
    const double angle = random.uniform(0, 6.283);
    control.marks[wrong_mark].pixel += request.gross_px * Eigen::Vector2d(std::cos(angle), std::sin(angle));
  }
  if (request.exchanged) {
    wrong = random.below(static_cast<std::uint32_t>(plan.control));
    std::swap(control.points[wrong].position,
              control.points[(wrong + 1) % static_cast<std::uint32_t>(plan.control)].position);
  }
  if (request.bad_fix) {
    wrong_fix = random.below(static_cast<std::uint32_t>(control.fixes.size()));
    control.fixes[wrong_fix].position += in_direction(random, 40);
  }
  GeoreferenceOptions options;
  options.adjust = final_adjust_options(oriented.blocks[0], set.priors, {}, oriented.summary.held);
  options.adjust.observation_sigma_px = oriented.precision[0].sigma_px;
  options.adjusted = !request.no_adjust;
  const auto start = std::chrono::steady_clock::now();
  const Georeferenced placed = georeference(oriented.blocks[0], control, options, executor);
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  ++sums.sets;
  if (!placed.done) {
    ++sums.failed;
    fmt::print("{:4} {}\n", seed, placed.outcome);
    return;
  }
  const double gsd = median(set.gsd);
  double plan_squares = 0, height_squares = 0, centre_squares = 0;
  std::size_t count = 0;
  for (std::size_t p = 0; p < control.points.size(); ++p) {
    const PointReport& report = placed.points[p];
    if (control.points[p].use != ControlUse::check || !report.located) continue;
    const Vector3d error = report.position - known.places[p];
    plan_squares += error.head<2>().squaredNorm();
    height_squares += error.z() * error.z();
    sums.scaled_plan += error.head<2>().cwiseQuotient(report.sigma.head<2>()).squaredNorm();
    sums.scaled_height += std::pow(error.z() / report.sigma.z(), 2);
    ++count;
  }
  for (const PosedPhoto& photo : placed.block.photos)
    centre_squares += (photo.pose.centre - set.truth.photos[photo.photo.value].pose.centre).squaredNorm();
  const double n = std::max<double>(1, static_cast<double>(count));
  const double plan_gsd = std::sqrt(plan_squares / n) / gsd, height_gsd = std::sqrt(height_squares / n) / gsd,
               centre_m = std::sqrt(centre_squares / static_cast<double>(placed.block.photos.size()));
  sums.plan += plan_squares, sums.height += height_squares, sums.count += count;
  sums.centres += centre_m * centre_m;
  sums.good_plan += plan_gsd < 1, sums.good_height += height_gsd < 1.5;
  // What was left out, and whether it was that.
  std::string named;
  bool found = wrong == 0xffffffffu && wrong_mark == wrong && wrong_fix == wrong;
  std::size_t accused = 0;
  for (std::uint32_t p = 0; p < control.points.size(); ++p) {
    if (control.points[p].use != ControlUse::control || placed.points[p].fault.empty()) continue;
    named += fmt::format(" {} {}", control.points[p].name, placed.points[p].fault);
    const bool right =
        wrong != 0xffffffffu &&
        (p == wrong || (request.exchanged && p == (wrong + 1) % static_cast<std::uint32_t>(plan.control)));
    (right ? found = true : (++accused, false));
  }
  for (std::uint32_t m = 0; m < control.marks.size(); ++m)
    if (!placed.marks[m].fault.empty()) {
      if (m == wrong_mark)
        found = true;
      else
        ++accused;
      named += fmt::format(" mark {} of {} {}", m, control.points[control.marks[m].point].name, placed.marks[m].fault);
    }
  for (std::uint32_t f = 0; f < control.fixes.size(); ++f)
    if (!placed.fixes[f].fault.empty()) {
      if (f == wrong_fix)
        found = true;
      else
        ++accused;
      named += fmt::format(" fix {} {}", f, placed.fixes[f].fault);
    }
  sums.found += found, sums.accused += accused > 0;
  fmt::print("{:4}  gsd {:.4f}  check plan {:.2f} height {:.2f} gsd, centres {:.3f} m, {:.1f} s {}{}\n", seed, gsd,
             plan_gsd, height_gsd, centre_m, seconds, found ? "" : "NOT FOUND", named);
  if (request.verbose) {
    fmt::print("      {}; shift {:.3f} {:.3f} {:.3f}, factor {:.3f}\n", placed.outcome, placed.fix_shift.x(),
               placed.fix_shift.y(), placed.fix_shift.z(), placed.fix_factor);
    for (const ControlGroup& group : placed.groups)
      fmt::print("      {:24} {:3}  rms {:.4f} expected {:.4f} {}  redundancy {:.2f} factor {:.2f}\n", group.what,
                 group.count, group.rms, group.expected, group.units, group.redundancy, group.factor);
    for (std::size_t p = 0; p < control.points.size(); ++p)
      fmt::print("      {} error {:.4f} {:.4f} {:.4f} expected {:.4f} {:.4f} {:.4f} deviation {:.2f} checked {:.2f}\n",
                 control.points[p].name, placed.points[p].error.x(), placed.points[p].error.y(),
                 placed.points[p].error.z(), placed.points[p].expected.x(), placed.points[p].expected.y(),
                 placed.points[p].expected.z(), placed.points[p].deviation, placed.points[p].checked);
    for (const std::string& remark : placed.remarks) fmt::print("      {}\n", remark);
  }
}

// A flight of many photos, made up as a block: strips over rolling ground, points seen where they are seen. How long
// the free adjustment takes from poses that are a little off, and georeferencing what comes of it.
void study_large(const Request& request) {
  const Executor executor(request.threads);
  CounterRandom random(request.made.seed);
  const int photos = request.made.photos, strips = std::max(1, static_cast<int>(std::sqrt(0.6 * photos))),
            along = (photos + strips - 1) / strips;
  constexpr double kHeight = 100;
  Block block;
  block.cameras.push_back(make_camera(CameraModel::radial, 4000, 3000, 3300));
  const double step = 0.25 * kHeight * 3000 / 3300, apart = 0.35 * kHeight * 4000 / 3300;
  for (int i = 0; i < photos; ++i) {
    const Vector3d at(apart * (i / along), step * (i % along), kHeight + 2 * random.normal());
    // Every tenth looks aside.
    const Vector3d look = i % 10 == 9 ? Vector3d(40, 0, -100) : Vector3d(1.5 * random.normal(), random.normal(), -100);
    block.photos.push_back(
        {PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(0), look_at(at, at + look, Vector3d::UnitY())});
  }
  const double wide = apart * strips, tall = step * along;
  const auto points = static_cast<std::size_t>(request.made.features / 6.0 * photos);
  std::vector<Observation> seen;
  for (std::size_t k = 0; k < points; ++k) {
    const double x = random.uniform(-0.1, 1.0) * wide, y = random.uniform(-0.1, 1.0) * tall;
    const Vector3d p(x, y, 6 * std::sin(x / 50) * std::cos(y / 70));
    seen.clear();
    for (int c = std::max(0, static_cast<int>(x / apart) - 3);
         c <= std::min(strips - 1, static_cast<int>(x / apart) + 3); ++c)
      for (int r = std::max(0, static_cast<int>(y / step) - 4);
           r <= std::min(along - 1, static_cast<int>(y / step) + 4); ++r) {
        const int i = c * along + r;
        if (i >= photos || random.uniform() < 0.4) continue;  // nobody finds all of them
        const auto pixel = project(block.cameras[0], block.photos[static_cast<std::size_t>(i)].pose.to_camera(p));
        if (!pixel || pixel->x() < 0 || pixel->y() < 0 || pixel->x() > 4000 || pixel->y() > 3000) continue;
        Observation o;
        o.photo = PosedIndex(static_cast<std::size_t>(i)), o.feature = FeatureIndex(k);
        o.pixel = *pixel + 0.35 * Eigen::Vector2d(random.normal(), random.normal());
        seen.push_back(o);
      }
    if (seen.size() >= 3) block.add_point(p, seen);
  }
  Block truth = block;
  simulate::ControlPlan plan = request.plan;
  plan.seed = request.made.seed;
  const simulate::MadeUpControl known = simulate::make_control(truth.without_points(), plan);
  // As it comes from matching: turned, of another scale, and a little off.
  for (PosedPhoto& photo : block.photos) {
    photo.pose.centre += 0.3 * Vector3d(random.normal(), random.normal(), random.normal());
    photo.pose.orientation =
        (rotation_from_vector(0.002 * Vector3d(random.normal(), random.normal(), random.normal())) *
         photo.pose.orientation)
            .normalized();
  }
  for (Vector3d& p : block.points) p += 0.3 * Vector3d(random.normal(), random.normal(), random.normal());
  transform(block, Similarity{0.02, Eigen::Quaterniond(0.5, 0.5, -0.5, 0.5), Vector3d(3, -2, 1)});
  std::vector<CameraPrior> priors(1);
  priors[0].camera = block.cameras[0];
  const AdjustOptions options = final_adjust_options(block, priors, {}, {});
  const auto now = [] { return std::chrono::steady_clock::now(); };
  const auto since = [&](auto start) { return std::chrono::duration<double>(now() - start).count(); };
  auto start = now();
  const AdjustResult free = adjust(block, options, executor);
  const double free_seconds = since(start);
  start = now();
  const AdjustResult again = adjust(free.block, options, executor);
  const double again_seconds = since(start);
  GeoreferenceOptions wanted;
  wanted.adjust = options;
  // Steps of all adjustments together; what is left of the time are the fit before and the tests after.
  int steps = 0;
  double stepping = 0;
  wanted.adjust.on_iteration = [&](const AdjustIteration&) { ++steps, stepping = since(start); };
  start = now();
  const Georeferenced placed = georeference(free.block, known.control, wanted, executor);
  const double seconds = since(start);
  double worst = 0;
  for (std::size_t p = 0; p < known.places.size(); ++p)
    if (placed.points[p].located) worst = std::max(worst, (placed.points[p].position - known.places[p]).norm());
  fmt::print(
      "{} photos, {} points, {} observations, {} control points, {} positions: free adjustment {:.1f} s (again from "
      "its "
      "end {:.1f} s), georeferenced in {:.1f} s with all tests: {:.2f} times; the last of {} steps of adjustment after "
      "{:.1f} s: {:.2f} "
      "times; {}; worst point {:.3f} m\n",
      block.photos.size(), block.points.size(), block.observations.size(), plan.control, known.control.fixes.size(),
      free_seconds, again_seconds, seconds, seconds / free_seconds, steps, stepping, stepping / free_seconds,
      placed.outcome, worst);
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app("Georeferencing of made-up flights against their truth.");
  Request request;
  request.made.photos = 40;
  ask(app, request);
  if (!app.parse(argc, argv)) return app.status();
  if (request.large) {
    study_large(request);
    return 0;
  }
  Sums sums;
  for (int k = 0; k < request.seeds; ++k) study(request, request.made.seed + static_cast<std::uint64_t>(k), sums);
  const double n = std::max<double>(1, static_cast<double>(sums.count));
  fmt::print(
      "{} sets, {} failed. check points: plan {:.4f} m, height {:.4f} m; true over said {:.2f} in plan, {:.2f} in "
      "height; under 1 gsd in plan {}, under 1.5 in height {}; centres {:.3f} m. faults found {}, sets with "
      "something accused wrongly {}\n",
      sums.sets, sums.failed, std::sqrt(sums.plan / n), std::sqrt(sums.height / n),
      std::sqrt(sums.scaled_plan / (2 * n)), std::sqrt(sums.scaled_height / n), sums.good_plan, sums.good_height,
      std::sqrt(sums.centres / static_cast<double>(sums.sets)), sums.found, sums.accused);
  return 0;
}
