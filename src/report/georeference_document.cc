#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "icefield/report/documents.h"
#include "icefield/world/crs.h"
#include "icefield/world/world_frame.h"
#include "src/report/json.h"

namespace icefield {
namespace {

using Eigen::Vector3d;

std::string metres(double value) {
  return fmt::format("{:.4f}", value);
}
std::string signed_metres(double value) {
  return fmt::format("{:+.4f}", value);
}

// Of these reports, those that deviate most, the worst first.
template <class Report>
void keep_worst(std::vector<std::size_t>& order, const std::vector<Report>& reports, std::size_t most) {
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return reports[a].deviation > reports[b].deviation; });
  if (order.size() > most) order.resize(most);
}

Json json_of_optional(const Vector3d& v, const Vector3d& sigma) {
  Json list = Json::array();
  for (int c = 0; c < 3; ++c) list.push_back(std::isfinite(sigma[c]) ? Json(v[c]) : Json(nullptr));
  return list;
}

class GeoreferencePart {
 public:
  GeoreferencePart(const PhotoList& photos, const GeoreferenceReport& report, const Georeferenced& block,
                   std::size_t number)
      : photos_(photos), report_(report), block_(block), number_(number), frame_(report.datum, report.origin) {}

  Json add_to(Document& document) {
    Json json = {{"block", number_ + 1}, {"done", block_.done}, {"outcome", block_.outcome}};
    document.say(fmt::format("Block {}: {}", number_ + 1, block_.outcome));
    if (!block_.done) return json;
    json["scale"] = block_.fitted.scale;
    groups(document, json);
    points(document, json);
    marks(document, json);
    lengths(document, json);
    fixes(document, json);
    json["remarks"] = block_.remarks;
    for (const std::string& remark : block_.remarks) document.say(remark);
    return json;
  }

 private:
  void groups(Document& document, Json& json) {
    Table table({"errors of ", "number", "RMS", "expected", "unit ", "times as stated"});
    json["errors"] = Json::array();
    for (const ControlGroup& g : block_.groups) {
      const bool pixels = g.units == "px";
      const auto number = [&](double v) { return pixels ? fmt::format("{:.3f}", v) : metres(v); };
      table.add({g.what, fmt::format("{}", g.count), number(g.rms), number(g.expected), g.units,
                 g.factor > 0 ? fmt::format("{:.2f}", g.factor) : "-"});
      json["errors"].push_back({{"of", g.what},
                                {"count", g.count},
                                {"rms", g.rms},
                                {"expected", g.expected},
                                {"units", g.units},
                                {"redundancy", g.redundancy},
                                {"factor", g.factor > 0 ? Json(g.factor) : Json(nullptr)}});
    }
    document.show(std::move(table), "Root mean square errors (expected: what the stated accuracies let expect)");
  }

  void points(Document& document, Json& json) {
    Table table({"point ", "use ", "marks", "east", "north", "height", "expected plan", "height", "px", "deviation",
                 "remark "});
    json["points"] = Json::array();
    for (std::size_t p = 0; p < block_.points.size(); ++p) {
      const SurveyedPoint& point = report_.control.points[p];
      const PointReport& r = block_.points[p];
      const bool has = point.use != ControlUse::spot && r.located;
      const auto error = [&](int c) { return has && std::isfinite(point.sigma[c]) ? signed_metres(r.error[c]) : "-"; };
      const bool plan = has && point.sigma.head<2>().allFinite(), height = has && std::isfinite(point.sigma.z());
      std::string use = describe(point.use);
      if (point.use == ControlUse::control && !r.used) use += ", left out";
      table.add({point.name, use, fmt::format("{} of {}", r.marks_used, r.marks), error(0), error(1), error(2),
                 plan ? metres(r.expected.head<2>().norm()) : "-", height ? metres(r.expected.z()) : "-",
                 has && r.error_px > 0 ? fmt::format("{:.2f}", r.error_px) : "-",
                 has && r.deviation > 0 ? fmt::format("{:.1f}", r.deviation) : "-", r.fault});
      Json entry = {{"name", point.name},
                    {"use", describe(point.use)},
                    {"used", r.used},
                    {"marks", r.marks},
                    {"marks_used", r.marks_used}};
      if (point.use != ControlUse::spot)
        entry["surveyed"] = json_of_optional(frame_.to_world(point.position), point.sigma);
      if (r.located) {
        entry["position"] = icefield::json_of(frame_.to_world(r.position));
        entry["sigma"] = icefield::json_of(r.sigma);
        if (point.use != ControlUse::spot) {
          entry["error"] = json_of_optional(r.error, point.sigma);
          entry["expected"] = json_of_optional(r.expected, point.sigma);
          entry["error_px"] = r.error_px;
          entry["deviation"] = r.deviation;
          entry["checked"] = r.checked;
        }
      }
      entry["fault"] = r.fault.empty() ? Json(nullptr) : Json(r.fault);
      json["points"].push_back(std::move(entry));
      if (!r.fault.empty() && r.marks > 0)
        document.warnings.push_back(fmt::format("point '{}': {}", point.name, r.fault));
    }
    document.show(std::move(table),
                  "Points: errors in m (result minus surveyed), and how they compare with what is "
                  "expected (deviation; 1 is usual)");
    Table spots({"spot ", "east", "north", "height", "standard deviation plan", "height"});
    for (std::size_t p = 0; p < block_.points.size(); ++p) {
      if (report_.control.points[p].use != ControlUse::spot || !block_.points[p].located) continue;
      const Vector3d at = frame_.to_world(block_.points[p].position);
      const Vector3d& s = block_.points[p].sigma;
      spots.add({report_.control.points[p].name, fmt::format("{:.4f}", at.x()), fmt::format("{:.4f}", at.y()),
                 fmt::format("{:.4f}", at.z()), metres(s.head<2>().norm()), metres(s.z())});
    }
    document.show(std::move(spots), "Spots");
  }

  void marks(Document& document, Json& json) {
    constexpr std::size_t kNamed = 8;
    std::vector<std::size_t> order;
    json["marks"] = Json::array();
    for (std::size_t m = 0; m < block_.marks.size(); ++m) {
      if (!block_.marks[m].in_block) continue;
      order.push_back(m);
      const Mark& mark = report_.control.marks[m];
      const MarkReport& r = block_.marks[m];
      json["marks"].push_back({{"photo", photo(mark.photo)},
                               {"point", report_.control.points[mark.point].name},
                               {"used", r.used},
                               {"residual_px", {r.residual_px.x(), r.residual_px.y()}},
                               {"deviation", r.deviation},
                               {"fault", r.fault.empty() ? Json(nullptr) : Json(r.fault)}});
      if (!r.fault.empty() && block_.points[mark.point].fault.empty())
        document.warnings.push_back(
            fmt::format("mark of '{}' in {}: {}", report_.control.points[mark.point].name, photo(mark.photo), r.fault));
    }
    keep_worst(order, block_.marks, kNamed);
    Table table({"mark of ", "in ", "x", "y", "px", "deviation", "remark "});
    for (const std::size_t m : order) {
      const MarkReport& r = block_.marks[m];
      table.add({report_.control.points[report_.control.marks[m].point].name, photo(report_.control.marks[m].photo),
                 fmt::format("{:+.2f}", r.residual_px.x()), fmt::format("{:+.2f}", r.residual_px.y()),
                 fmt::format("{:.2f}", r.residual_px.norm()), fmt::format("{:.1f}", r.deviation), r.fault});
    }
    document.show(std::move(table), "Worst marks: residuals in px");
  }

  void lengths(Document& document, Json& json) {
    Table table({"length ", "use ", "given", "measured", "error", "expected", "remark "});
    json["lengths"] = Json::array();
    for (std::size_t l = 0; l < block_.lengths.size(); ++l) {
      const KnownLength& length = report_.control.lengths[l];
      const LengthReport& r = block_.lengths[l];
      const std::string from = report_.control.points[length.first].name,
                        to = report_.control.points[length.second].name;
      std::string use = describe(length.use);
      if (length.use == ControlUse::control && !r.used) use += ", left out";
      table.add({from + " - " + to, use, metres(length.length), r.known ? metres(r.length) : "-",
                 r.known ? signed_metres(r.error) : "-", r.known ? metres(r.expected) : "-", r.fault});
      json["lengths"].push_back({{"from", from},
                                 {"to", to},
                                 {"use", describe(length.use)},
                                 {"used", r.used},
                                 {"given", length.length},
                                 {"measured", r.known ? Json(r.length) : Json(nullptr)},
                                 {"error", r.known ? Json(r.error) : Json(nullptr)},
                                 {"expected", r.known ? Json(r.expected) : Json(nullptr)},
                                 {"fault", r.fault.empty() ? Json(nullptr) : Json(r.fault)}});
      if (!r.fault.empty()) document.warnings.push_back(fmt::format("length {} - {}: {}", from, to, r.fault));
    }
    document.show(std::move(table), "Known lengths, m");
  }

  void fixes(Document& document, Json& json) {
    constexpr std::size_t kNamed = 5;
    std::vector<std::size_t> order;
    json["positions"] = Json::array();
    for (std::size_t f = 0; f < block_.fixes.size(); ++f) {
      const FixReport& r = block_.fixes[f];
      const std::string name = photo(report_.control.fixes[f].photo);
      json["positions"].push_back({{"photo", name},
                                   {"in_block", r.in_block},
                                   {"used", r.used},
                                   {"error", icefield::json_of(r.error)},
                                   {"expected", icefield::json_of(r.expected)},
                                   {"deviation", r.deviation},
                                   {"fault", r.fault.empty() ? Json(nullptr) : Json(r.fault)}});
      if (r.in_block) order.push_back(f);
      if (!r.fault.empty()) document.warnings.push_back(fmt::format("position of {}: {}", name, r.fault));
    }
    if (!block_.fix_shift.isZero()) {
      document.say(
          fmt::format("All photo positions are off by {:+.3f} m east, {:+.3f} north, {:+.3f} in height against "
                      "the control points (standard deviations {:.3f}, {:.3f}, {:.3f}): this was taken off.",
                      block_.fix_shift.x(), block_.fix_shift.y(), block_.fix_shift.z(), block_.fix_shift_sigma.x(),
                      block_.fix_shift_sigma.y(), block_.fix_shift_sigma.z()));
      json["position_shift"] = icefield::json_of(block_.fix_shift);
    }
    keep_worst(order, block_.fixes, kNamed);
    Table table({"position of ", "east", "north", "height", "expected plan", "height", "deviation", "remark "});
    for (const std::size_t f : order) {
      const FixReport& r = block_.fixes[f];
      table.add({photo(report_.control.fixes[f].photo), signed_metres(r.error.x()), signed_metres(r.error.y()),
                 signed_metres(r.error.z()), metres(r.expected.head<2>().norm()), metres(r.expected.z()),
                 fmt::format("{:.1f}", r.deviation), r.fault});
    }
    document.show(std::move(table), "Worst photo positions: adjusted minus given, m");
  }

  const std::string& photo(PhotoIndex index) const { return photos_.photos[index.value].name; }

  const PhotoList& photos_;
  const GeoreferenceReport& report_;
  const Georeferenced& block_;
  std::size_t number_;
  WorldFrame frame_;
};

}  // namespace

Document georeference_document(const PhotoList& photos, const GeoreferenceReport& report) {
  Document document;
  Json json = {{"crs", report.datum.crs.empty() ? Json(nullptr) : Json(report.datum.crs)},
               {"crs_name", report.crs_name.empty() ? Json(nullptr) : Json(report.crs_name)},
               {"units", report.datum.units_name()},
               {"axes", describe(report.datum.axes)},
               {"origin", json_of(report.origin)},
               {"remarks", report.remarks},
               {"blocks", Json::array()}};
  document.say(report.crs_name.empty() ? std::string("Coordinates are metres of a local grid, without a CRS")
                                       : fmt::format("Coordinates are of {} ({})", report.datum.crs, report.crs_name));
  for (const std::string& remark : report.remarks) document.say(remark);
  for (std::size_t b = 0; b < report.blocks.size(); ++b)
    json["blocks"].push_back(GeoreferencePart(photos, report, report.blocks[b], b).add_to(document));
  document.json = text_of(json);
  return document;
}

Document crs_document(const std::vector<CrsFound>& found, const std::string& words, bool of_photos) {
  Document document;
  Json list = Json::array();
  Table table({"code ", "name ", "kind ", "made for "});
  for (const CrsFound& crs : found) {
    list.push_back({{"crs", crs.id},
                    {"name", crs.name},
                    {"kind", describe(crs.kind)},
                    {"area", crs.area.name},
                    {"west", crs.area.west},
                    {"south", crs.area.south},
                    {"east", crs.area.east},
                    {"north", crs.area.north}});
    table.add({crs.id, crs.name, describe(crs.kind), crs.area.name});
  }
  const std::string what = (words.empty() ? std::string("CRS") : "CRS with '" + words + "'") +
                           (of_photos ? " that are made for where the photos are" : "");
  document.say(found.empty() ? "No " + what : fmt::format("{} {}, smaller areas first", found.size(), what));
  document.show(std::move(table));
  document.json = text_of({{"found", list}, {"of_photos", of_photos}});
  return document;
}

}  // namespace icefield
