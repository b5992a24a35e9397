// Everything that is known of places against the finished block: errors, what is expected of them, what deviates.
#include <fmt/format.h>

#include <Eigen/Cholesky>
#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/statistics.h"
#include "src/control/georeferencing.h"
#include "src/geometry/decompositions.h"

namespace icefield {

using Eigen::Matrix3d;
using Eigen::Vector3d;

namespace {

// Of an error in a place: how far it shows, how large it is against what is expected where the others alone decide, and
// how likely that is by chance (natural logarithm).
struct Tested {
  double checked = 0, deviation = 0, log_chance = 0;
};

// `result`: covariance of the result, in which what was stated took part with `stated` deviations; the error then has
// the difference of the two as its covariance.
Tested test_part(const Vector3d& error, const Vector3d& stated, const Matrix3d& result, double allowed) {
  constexpr double kLeastShare = 0.02;  // of an error that must show
  Matrix3d scaled = result;
  Vector3d e = error;
  for (int r = 0; r < 3; ++r) {
    e[r] /= stated[r];
    for (int c = 0; c < 3; ++c) scaled(r, c) /= stated[r] * stated[c];
  }
  const Spectrum3 s = spectrum(scaled);
  const Vector3d y = s.vectors.transpose() * e;
  Tested tested;
  double sum = 0;
  int freedoms = 0;
  for (int k = 0; k < 3; ++k) {
    const double share = 1 - s.values[k];
    // What is not known at all takes part with a deviation of kilometres: it neither checks nor is checked.
    if (!(share > kLeastShare)) continue;
    tested.checked += share / 3;
    sum += y[k] * y[k] / share;
    ++freedoms;
  }
  if (freedoms == 0) return tested;
  tested.deviation = std::sqrt(sum / freedoms);
  tested.log_chance = log_chi_square_tail(sum / (allowed * allowed), freedoms);
  return tested;
}

// Of what took no part: both covariances add up. Coordinates that are not known are left out.
Tested test_apart(const Vector3d& error, const Vector3d& stated, const Matrix3d& result, double allowed) {
  Tested tested;
  Matrix3d sum = result;
  Vector3d e = error;
  int freedoms = 0;
  for (int c = 0; c < 3; ++c) {
    if (stated[c] < kVague) {
      sum(c, c) += stated[c] * stated[c];
      ++freedoms;
    } else {
      sum.row(c).setZero(), sum.col(c).setZero();
      sum(c, c) = 1, e[c] = 0;
    }
  }
  if (freedoms == 0) return tested;
  const double square = e.dot(sum.llt().solve(e));
  tested.checked = 1;
  tested.deviation = std::sqrt(square / freedoms);
  tested.log_chance = log_chi_square_tail(square / (allowed * allowed), freedoms);
  return tested;
}

Vector3d deviations(const Matrix3d& covariance) {
  return covariance.diagonal().cwiseMax(0).cwiseSqrt();
}

}  // namespace

void Georeferencing::measure(const Extended& with, const Uncertainty& uncertain) {
  for (std::uint32_t p = 0; p < control.points.size(); ++p) {
    const SurveyedPoint& point = control.points[p];
    PointReport& report = result.points[p];
    report.marks_used = static_cast<std::size_t>(
        std::count_if(marks_of[p].begin(), marks_of[p].end(), [&](std::uint32_t m) { return result.marks[m].used; }));
    report.located = with.place[p] != kNowhere && report.marks_used >= 2;
    if (with.place[p] == kNowhere) continue;
    report.position = with.block.points[with.place[p]];
    Matrix3d covariance = Matrix3d::Zero();
    if (uncertain.valid && uncertain.points[with.place[p]].allFinite()) covariance = uncertain.points[with.place[p]];
    report.sigma = deviations(covariance);
    if (point.use == ControlUse::spot) continue;
    const Vector3d stated = vague(point.sigma);
    report.error = report.position - point.position;
    for (int c = 0; c < 3; ++c) {
      const double both =
          report.used ? stated[c] * stated[c] - covariance(c, c) : stated[c] * stated[c] + covariance(c, c);
      report.expected[c] = std::sqrt(std::max(0.0, both));
      if (stated[c] >= kVague) report.error[c] = report.expected[c] = 0;
    }
    const Tested tested = (report.used ? test_part : test_apart)(report.position - point.position, stated, covariance,
                                                                 options.allowed_excess);
    report.deviation = tested.deviation;
    report.checked = report.used ? tested.checked : 1;
    double squares = 0;
    std::size_t seen = 0;
    for (const std::uint32_t m : marks_of[p]) {
      if (!result.marks[m].used) continue;
      const auto r = residual_px(block, point.position, {photo_of(control.marks[m]), {}, control.marks[m].pixel});
      if (r) squares += r->squaredNorm(), ++seen;
    }
    report.error_px = seen > 0 && stated.maxCoeff() < kVague ? std::sqrt(squares / static_cast<double>(seen)) : 0;
  }
  for (std::uint32_t m = 0; m < control.marks.size(); ++m) {
    MarkReport& report = result.marks[m];
    if (!report.in_block) continue;
    const std::uint32_t p = control.marks[m].point;
    if (with.place[p] == kNowhere) continue;
    const Vector3d x = with.block.points[with.place[p]];
    const auto r = residual_px(block, x, {photo_of(control.marks[m]), {}, control.marks[m].pixel});
    report.residual_px = r.value_or(Eigen::Vector2d::Zero());
    const std::uint32_t o = with.observation[m];
    report.deviation = o != kNowhere && uncertain.valid ? uncertain.standardised_residuals[o]
                                                        : report.residual_px.norm() / control.marks[m].sigma_px;
  }
  for (std::size_t f = 0; f < fixes.size(); ++f) {
    FixReport& report = result.fixes[f];
    if (!report.in_block) continue;
    const std::uint32_t photo = posed[fixes[f].photo.value];
    report.error = difference_of_fix(f);
    Matrix3d covariance = Matrix3d::Zero();
    if (uncertain.valid) covariance = uncertain.poses[photo].bottomRightCorner<3, 3>();
    for (int c = 0; c < 3; ++c) {
      const double s = fixes[f].sigma[c] * fixes[f].sigma[c];
      report.expected[c] = std::sqrt(std::max(0.0, report.used ? s - covariance(c, c) : s + covariance(c, c)));
    }
    report.deviation =
        (report.used ? test_part : test_apart)(report.error, fixes[f].sigma, covariance, options.allowed_excess)
            .deviation;
  }
  measure_lengths(with);
}

void Georeferencing::measure_lengths(const Extended& with) {
  for (std::uint32_t l = 0; l < control.lengths.size(); ++l) {
    const KnownLength& length = control.lengths[l];
    LengthReport& report = result.lengths[l];
    const std::uint32_t a = with.place[length.first], b = with.place[length.second];
    report.known = a != kNowhere && b != kNowhere;
    if (!report.known) {
      if (report.fault.empty())
        report.fault = "its end '" + control.points[a == kNowhere ? length.first : length.second].name +
                       "' is not located by marks";
      report.used = false;
      continue;
    }
    const Vector3d d = with.block.points[a] - with.block.points[b];
    report.length = d.norm();
    report.error = report.length - length.length;
    // The ends by their marks; the poses behind them are much the same for both.
    const Vector3d along = d.normalized();
    const double ends = along.dot((locate(length.first).covariance + locate(length.second).covariance) * along);
    report.expected = std::sqrt(length.sigma * length.sigma + std::max(0.0, ends));
  }
}

// What was guessed of their accuracy gives way to what they show.
void Georeferencing::guess_accuracy_of_fixes() {
  std::vector<double> ratios;
  for (std::size_t f = 0; f < fixes.size(); ++f) {
    if (!result.fixes[f].used || fixes[f].stated) continue;
    for (int c = 0; c < 3; ++c)
      if (result.fixes[f].expected[c] > 0.3 * fixes[f].sigma[c])
        ratios.push_back(std::abs(result.fixes[f].error[c]) / result.fixes[f].expected[c]);
  }
  constexpr std::size_t kEnough = 15;
  if (ratios.size() < kEnough) return;
  const double factor = 1.4826 * median(ratios);
  if (factor > 0.75 && factor < 1.33) return;
  result.fix_factor = std::clamp(factor, 0.003, 30.0);
  for (PhotoFix& fix : fixes)
    if (!fix.stated) fix.sigma *= result.fix_factor;
}

bool Georeferencing::leave_worst_out() {
  if (!covariances) return false;
  enum class Kind { none, point, mark, fix, length };
  Kind kind = Kind::none;
  std::uint32_t worst = 0;
  double least = 0, tests = 0;
  const auto consider = [&](Kind of, std::uint32_t index, double log_chance) {
    ++tests;
    if (log_chance < least) least = log_chance, kind = of, worst = index;
  };
  const auto chance = [&](double deviation, int freedoms) {
    return log_chi_square_tail(deviation * deviation * freedoms / (options.allowed_excess * options.allowed_excess),
                               freedoms);
  };
  for (std::uint32_t p = 0; p < control.points.size(); ++p) {
    const PointReport& report = result.points[p];
    if (report.used && report.checked > 0) consider(Kind::point, p, chance(report.deviation, 3));
  }
  for (std::uint32_t m = 0; m < control.marks.size(); ++m) {
    const std::uint32_t p = control.marks[m].point;
    if (!result.marks[m].used || !(result.points[p].used || control.points[p].use == ControlUse::spot)) continue;
    if (result.points[p].marks_used < 3 && control.points[p].use == ControlUse::spot) continue;  // either may be right
    consider(Kind::mark, m, chance(result.marks[m].deviation, 1));
  }
  for (std::uint32_t f = 0; f < fixes.size(); ++f)
    if (result.fixes[f].used) consider(Kind::fix, f, chance(result.fixes[f].deviation, 3));
  for (std::uint32_t l = 0; l < control.lengths.size(); ++l)
    if (result.lengths[l].used && result.lengths[l].expected > 0)
      consider(Kind::length, l, chance(result.lengths[l].error / result.lengths[l].expected, 1));
  if (kind == Kind::none || least > std::log(options.false_alarm / std::max(1.0, tests))) return false;
  switch (kind) {
    case Kind::point: {
      PointReport& report = result.points[worst];
      // Three points fit anything: without one of them nothing holds the block.
      const auto left =
          std::count_if(result.points.begin(), result.points.end(), [](const PointReport& p) { return p.used; });
      const auto held =
          std::count_if(result.fixes.begin(), result.fixes.end(), [](const FixReport& f) { return f.used; });
      if (left <= 3 && held < 3) {
        result.remarks.push_back(
            "The three control points contradict the block's shape: one of them is wrong, and a "
            "fourth would tell which.");
        return false;
      }
      report.used = false;
      report.fault = fmt::format("deviates by {:.1f} times what is expected", report.deviation);
      break;
    }
    case Kind::mark:
      result.marks[worst].used = false;
      result.marks[worst].fault = fmt::format("deviates by {:.1f} standard deviations", result.marks[worst].deviation);
      break;
    case Kind::fix:
      result.fixes[worst].used = false;
      result.fixes[worst].fault =
          fmt::format("deviates by {:.1f} times what is expected", result.fixes[worst].deviation);
      break;
    case Kind::length:
      result.lengths[worst].used = false;
      result.lengths[worst].fault = fmt::format("is {:.3g} m off, {:.3g} m are expected",
                                                std::abs(result.lengths[worst].error), result.lengths[worst].expected);
      break;
    case Kind::none:
      break;
  }
  return true;
}

// What did not fit the block as it came may fit now that it has its shape.
bool Georeferencing::take_back() {
  bool any = false;
  if (!covariances) return false;
  for (std::uint32_t p = 0; p < control.points.size(); ++p) {
    PointReport& report = result.points[p];
    if (control.points[p].use != ControlUse::control || report.used || !report.located || taken_back[p]) continue;
    constexpr double kUsual = 2;
    if (report.deviation > kUsual * options.allowed_excess) continue;
    report.used = taken_back[p] = any = true;
    report.fault.clear();
  }
  return any;
}

namespace {

struct Sum {
  double errors = 0, expected = 0, scaled = 0, redundancy = 0;
  std::size_t count = 0;
  void add(double error, double expect, double stated) {
    errors += error * error, expected += expect * expect;
    if (stated > 0) scaled += error * error / (stated * stated), redundancy += expect * expect / (stated * stated);
  }
};

}  // namespace

void Georeferencing::group_errors(const Uncertainty& uncertain) {
  const auto put = [&](const std::string& what, const Sum& sum, bool taking_part, const std::string& units = "m") {
    if (sum.count == 0) return;
    ControlGroup group{what, units, sum.count, 0, 0, 0, 0};
    group.rms = std::sqrt(sum.errors / static_cast<double>(sum.count));
    group.expected = std::sqrt(sum.expected / static_cast<double>(sum.count));
    group.redundancy = taking_part ? sum.redundancy : 0;
    const double freedoms = taking_part ? sum.redundancy : sum.expected > 0 ? sum.expected : 0;
    const double squares = taking_part ? sum.scaled : sum.errors;
    if (freedoms > (taking_part ? 0.3 : 0)) group.factor = std::sqrt(squares / freedoms);
    result.groups.push_back(group);
  };
  for (const ControlUse use : {ControlUse::control, ControlUse::check}) {
    Sum plan, height;
    for (std::uint32_t p = 0; p < control.points.size(); ++p) {
      const SurveyedPoint& point = control.points[p];
      const PointReport& report = result.points[p];
      if (point.use != use || !report.located || (use == ControlUse::control && !report.used)) continue;
      if (point.sigma.head<2>().maxCoeff() < kVague) {
        for (int c = 0; c < 2; ++c) plan.add(report.error[c], report.expected[c], point.sigma[c]);
        ++plan.count;
      }
      if (point.sigma.z() < kVague) height.add(report.error.z(), report.expected.z(), point.sigma.z()), ++height.count;
    }
    const std::string name = use == ControlUse::control ? "control points" : "check points";
    put(name + ", plan", plan, use == ControlUse::control);
    put(name + ", height", height, use == ControlUse::control);
  }
  Sum plan, height, marks, lengths, check_lengths;
  for (std::size_t f = 0; f < fixes.size(); ++f) {
    const FixReport& report = result.fixes[f];
    if (!report.used) continue;
    for (int c = 0; c < 2; ++c) plan.add(report.error[c], report.expected[c], fixes[f].sigma[c]);
    height.add(report.error.z(), report.expected.z(), fixes[f].sigma.z());
    ++plan.count, ++height.count;
  }
  put("photo positions, plan", plan, true);
  put("photo positions, height", height, true);
  const Extended with = extended(Which::all);
  for (std::uint32_t m = 0; m < control.marks.size(); ++m) {
    const MarkReport& report = result.marks[m];
    const std::uint32_t p = control.marks[m].point, o = with.observation[m];
    if (!report.used || o == kNowhere || control.points[p].use == ControlUse::check) continue;
    if (control.points[p].use == ControlUse::control && !result.points[p].used) continue;
    const double sigma = control.marks[m].sigma_px, share = uncertain.valid ? uncertain.redundancy_numbers[o] : 0;
    marks.errors += report.residual_px.squaredNorm();
    marks.expected += share * sigma * sigma;
    marks.scaled += report.residual_px.squaredNorm() / (sigma * sigma);
    marks.redundancy += share;
    ++marks.count;
  }
  put("marks", marks, true, "px");
  for (std::uint32_t l = 0; l < control.lengths.size(); ++l) {
    const LengthReport& report = result.lengths[l];
    if (!report.known || (control.lengths[l].use == ControlUse::control) != report.used) continue;
    Sum& sum = report.used ? lengths : check_lengths;
    sum.add(report.error, report.expected, 0);
    ++sum.count;
  }
  put("known lengths", lengths, false);
  if (lengths.count > 0) result.groups.back().factor = 0;  // the block was fitted to them
  put("check lengths", check_lengths, false);
}

void Georeferencing::remark() {
  std::vector<Vector3d> places;
  std::size_t used = 0, check = 0, heights = 0;
  double sigma = 0;
  for (std::uint32_t p = 0; p < control.points.size(); ++p) {
    const bool located = result.points[p].located;
    if (result.points[p].used) {
      ++used;
      if (control.points[p].sigma.z() < kVague) ++heights;
      places.push_back(control.points[p].position);
      if (has_coordinates(p)) sigma = std::max(sigma, control.points[p].sigma.maxCoeff());
    }
    check += control.points[p].use == ControlUse::check && located;
  }
  const auto held = std::count_if(result.fixes.begin(), result.fixes.end(), [](const FixReport& f) { return f.used; });
  auto& remarks = result.remarks;
  if (!covariances)
    remarks.push_back(
        "Standard deviations of the block are not known: nothing was tested, and what is expected is what "
        "was stated alone.");
  if (used > 0 && used < 3 && held >= 3)
    remarks.push_back(fmt::format("Only {} control point{} takes part: scale and tilt come from the photos' positions.",
                                  used, used == 1 ? "" : "s"));
  if (used == 3 && held < 3)
    remarks.push_back("Three control points fit nearly any block: an error in one of them would hardly show.");
  if (used >= 3 && reach_of(places).in_a_line(sigma))
    remarks.push_back("The control points lie on one line: nothing but the photos themselves holds the turn about it.");
  if (used >= 3 && check == 0)
    remarks.push_back(
        "No check point: the errors of control points are smaller than those of any other place, since "
        "the block was fitted to them. Make some of them check points.");
  if (used >= 3) {
    // What of the subject lies beyond the control.
    Eigen::AlignedBox2d box;
    for (const Vector3d& p : places) box.extend(p.head<2>());
    const Eigen::Vector2d rim = 0.15 * box.diagonal().norm() * Eigen::Vector2d::Ones();
    box.min() -= rim, box.max() += rim;
    std::size_t outside = 0;
    for (const Vector3d& x : block.points) outside += !box.contains(x.head<2>());
    const double percent =
        100 * static_cast<double>(outside) / static_cast<double>(std::max<std::size_t>(1, block.points.size()));
    if (percent > 25)
      remarks.push_back(
          fmt::format("{:.0f} percent of the tie points lie beyond the control points: errors grow there.", percent));
  }
  if (result.fix_factor != 1)
    remarks.push_back(
        fmt::format("The photos' positions are {} as was guessed: their accuracy is taken as {:.2g} times "
                    "what it was.",
                    result.fix_factor > 1 ? "not as good" : "better", result.fix_factor));
}

}  // namespace icefield
