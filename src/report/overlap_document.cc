// How well the photos cover the ground, and where more are to be taken.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/report/documents.h"
#include "src/report/overlap_part.h"

namespace icefield {
namespace {

const char* const kWinds[] = {"north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west"};

// Which way a photo is to look: as a compass has it where the axes are those of a map.
std::string way_of(const Eigen::Vector3d& way, bool on_map) {
  const double across = way.head<2>().norm(), down = std::atan2(-way.z(), across) * 180 / std::numbers::pi;
  if (down > 75) return "looking straight down";
  const double bearing = std::fmod(std::atan2(way.x(), way.y()) * 180 / std::numbers::pi + 360, 360);
  std::string text = on_map ? fmt::format("looking {}", kWinds[static_cast<int>(std::lround(bearing / 45)) % 8])
                            : "looking towards that place";
  if (std::abs(down) >= 10) text += fmt::format(", {:.0f} degrees {}", std::abs(down), down > 0 ? "down" : "up");
  return text;
}

std::string place_of(const Eigen::Vector3d& p, int digits) {
  return fmt::format("({:.{}f}, {:.{}f}, {:.{}f})", p.x(), digits, p.y(), digits, p.z(), digits);
}

}  // namespace

std::string advice_text(const OverlapAdvice& advice, const OverlapReport& of) {
  const int digits = std::clamp(static_cast<int>(std::ceil(1 - std::log10(std::max(1e-9, of.summary.cell)))), 0, 6);
  const auto name = [&](std::uint32_t p) { return p < of.names.size() ? of.names[p] : fmt::format("photo {}", p + 1); };
  const std::string beside = advice.beside == advice.beside_too
                                 ? name(advice.beside)
                                 : name(advice.beside) + " and " + name(advice.beside_too);
  const bool on_map = of.datum.axes == Axes::east_north_up;
  const std::string take =
      fmt::format("take {} photo{} from about {}, {}", advice.photos, advice.photos == 1 ? "" : "s",
                  place_of(advice.from, digits), way_of(advice.towards - advice.from, on_map));
  if (advice.reason == OverlapAdvice::Reason::gap_in_ring)
    return fmt::format("Between {} {:.0f} degrees of the way around are left open: {}", beside, advice.area, take);
  return fmt::format("Around {}, where {} look, {:.3g} square {}: {}; {}", place_of(advice.towards, digits), beside,
                     advice.area, of.datum.units_name(), describe(advice.reason), take);
}

void add_overlap(std::span<const OverlapReport> reports, Document& document, Json& json) {
  Json all = Json::array();
  for (const OverlapReport& of : reports) {
    const OverlapSummary& s = of.summary;
    Json advice = Json::array();
    for (const OverlapAdvice& a : s.advice)
      advice.push_back({{"reason", describe(a.reason)},
                        {a.reason == OverlapAdvice::Reason::gap_in_ring ? "degrees" : "area", a.area},
                        {"from", json_of(a.from)},
                        {"towards", json_of(a.towards)},
                        {"photos", a.photos},
                        {"text", advice_text(a, of)}});
    all.push_back({{"block", of.block + 1},
                   {"outcome", s.outcome},
                   {"photos_stand", describe(s.stand)},
                   {"widest_gap_deg", s.widest_gap_deg},
                   {"cell", s.cell},
                   {"area", s.area},
                   {"seen_percent", s.seen_percent},
                   {"wanted", s.wanted},
                   {"wanted_percent", s.wanted_percent},
                   {"narrow_percent", s.narrow_percent},
                   {"views", s.views},
                   {"gsd", s.gsd},
                   {"angle_deg", s.angle_deg},
                   {"height_error", s.error},
                   {"advice", advice}});
    if (s.outcome != "made") {
      document.say(fmt::format("Overlap of block {}: {}.", of.block + 1, s.outcome));
      continue;
    }
    if (s.stand == PhotoStand::around) {
      document.say(
          fmt::format("Overlap of block {}: the photos stand around one thing, at most {:.0f} degrees of the way "
                      "around from one to "
                      "the next; places are seen under {:.0f} degrees in the middle.",
                      of.block + 1, s.widest_gap_deg, s.angle_deg));
    } else if (s.stand == PhotoStand::beside) {
      document.say(fmt::format(
          "Overlap of block {}: the photos look level; `view coverage` shows how well each is seen by the others.",
          of.block + 1));
    } else {
      const std::size_t more = static_cast<std::size_t>(s.wanted) + 2;
      document.say(fmt::format(
          "Overlap of block {}: of what the photos look at ({:.4g} square {}) {:.1f} % is seen by {} or more{}; in the "
          "middle by {:.0f}, GSD {:.3g}, ways {:.0f} degrees apart, heights to {:.2g} {}.",
          of.block + 1, s.area, of.datum.units_name(), s.wanted_percent, s.wanted,
          more <= s.seen_percent.size() ? fmt::format(", {:.1f} % by {}", s.seen_percent[more - 1], more) : "", s.views,
          s.gsd, s.angle_deg, s.error, of.datum.units_name()));
    }
    for (const OverlapAdvice& a : s.advice) document.warnings.push_back(advice_text(a, of));
  }
  json["overlap"] = all;
}

Document overlap_document(std::span<const OverlapReport> reports) {
  Document document;
  Json json = Json::object();
  add_overlap(reports, document, json);
  document.json = text_of(json);
  return document;
}

}  // namespace icefield
