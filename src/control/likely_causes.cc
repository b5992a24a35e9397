#include "icefield/control/likely_causes.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <map>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "icefield/control/georeference.h"
#include "icefield/world/local_frame.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kNear = 10000;  // metres

// The middle of photos' places, and how far they lie from it.
struct Middle {
  GpsPosition at;
  double reach = 0;
  explicit Middle(std::span<const GpsPosition> photos) {
    std::vector<double> latitudes, longitudes, distances;
    for (const GpsPosition& p : photos) latitudes.push_back(p.latitude_deg), longitudes.push_back(p.longitude_deg);
    at.latitude_deg = median(latitudes), at.longitude_deg = median(longitudes);
    for (const GpsPosition& p : photos) distances.push_back(distance({p.latitude_deg, p.longitude_deg}));
    reach = quantile(distances, 9, 10);
  }
  // In plan.
  double distance(const Vector2d& latitude_longitude) const {
    GpsPosition other = at;
    other.latitude_deg = latitude_longitude.x(), other.longitude_deg = latitude_longitude.y();
    return (earth_centred(other) - earth_centred(at)).norm();
  }
  bool is_near(const std::optional<Vector2d>& place) const { return place && distance(*place) < kNear + 3 * reach; }
};

// Where a place of a CRS is: latitude and longitude.
class WhereIs {
 public:
  explicit WhereIs(const std::string& crs) : way_("EPSG:4326", crs) {}
  std::optional<Vector2d> operator()(const Vector3d& place) const {
    const auto g = way_.back({place.x(), place.y(), 0});
    if (!g || std::abs(g->y()) > 90) return std::nullopt;
    return Vector2d(g->y(), g->x());
  }

 private:
  CrsTransform way_;
};

struct Trial {
  std::string cause;
  std::function<std::optional<Vector2d>(const Vector3d&)> where;
};

// Zones of the same net, whose names differ by their number, then all that hold the photos, those first whose names are
// most alike.
std::vector<CrsFound> others_of(const std::string& plan, const Middle& photos) {
  const Crs crs = crs_of(plan);
  std::size_t stem = crs.name.find_last_of("0123456789");
  while (stem != std::string::npos && stem > 0 && std::isdigit(static_cast<unsigned char>(crs.name[stem - 1]))) --stem;
  std::vector<CrsFound> others;
  constexpr std::size_t kLeastName = 4;
  if (stem != std::string::npos && stem >= kLeastName)
    for (CrsFound& other : find_crs(crs.name.substr(0, stem), {}, 500))
      if (other.name.starts_with(crs.name.substr(0, stem))) others.push_back(std::move(other));
  for (CrsFound& other : find_crs("", Vector2d(photos.at.latitude_deg, photos.at.longitude_deg), 400))
    others.push_back(std::move(other));
  const auto likeness = [&](const CrsFound& other) {
    std::size_t same = 0;
    while (same < std::min(other.name.size(), crs.name.size()) && other.name[same] == crs.name[same]) ++same;
    return same;
  };
  std::stable_sort(others.begin(), others.end(),
                   [&](const CrsFound& a, const CrsFound& b) { return likeness(a) > likeness(b); });
  return others;
}

// What may have happened, the likelier first.
std::vector<Trial> trials_of(const Crs& crs, const std::optional<Middle>& photos) {
  const std::string plan = crs.id.substr(0, crs.id.find('+'));
  const auto given = std::make_shared<WhereIs>(plan);
  std::vector<Trial> trials;
  trials.push_back({"east and north are exchanged", [given](const Vector3d& p) {
                      return (*given)({p.y(), p.x(), 0});
                    }});
  const auto degrees = [](double latitude, double longitude) -> std::optional<Vector2d> {
    if (std::abs(latitude) > 90 || std::abs(longitude) > 180 || (latitude == 0 && longitude == 0)) return std::nullopt;
    return Vector2d(latitude, longitude);
  };
  trials.push_back({"they are degrees of longitude and latitude, not metres",
                    [degrees](const Vector3d& p) { return degrees(p.y(), p.x()); }});
  trials.push_back({"they are degrees of latitude and longitude, not metres",
                    [degrees](const Vector3d& p) { return degrees(p.x(), p.y()); }});
  for (const auto& [factor, cause] : {std::pair{0.3048 / crs.metres_per_unit, "they are in feet"},
                                      std::pair{1 / crs.metres_per_unit, "they are in metres"}})
    if (std::abs(factor - 1) > 1e-4)
      trials.push_back({fmt::format("{}, and the CRS counts in units of {}", cause, crs.units),
                        [given, scale = factor](const Vector3d& p) { return (*given)(scale * p); }});
  trials.push_back({"the number of the zone stands before the easting", [given](const Vector3d& p) {
                      const double without = std::fmod(p.x(), 1e6);
                      return p.x() > 1e6 ? (*given)({without, p.y(), 0}) : std::nullopt;
                    }});
  if (photos)
    for (const CrsFound& other : others_of(plan, *photos)) {
      if (other.kind != CrsKind::projected || other.id == plan) continue;
      auto where = std::make_shared<std::unique_ptr<WhereIs>>();
      trials.push_back({fmt::format("they are of another CRS, {} ({})", other.id, other.name),
                        [where, id = other.id](const Vector3d& p) -> std::optional<Vector2d> {
                          try {
                            if (!*where) *where = std::make_unique<WhereIs>(id);
                          } catch (const Error&) {
                            return std::nullopt;
                          }
                          return (**where)(p);
                        }});
    }
  return trials;
}

std::string names_of(const std::vector<std::string>& names, std::size_t all) {
  if (names.size() == all) return all == 1 ? "The point" : fmt::format("All {} points", all);
  std::string text;
  constexpr std::size_t kNamed = 4;
  for (std::size_t i = 0; i < std::min(names.size(), kNamed); ++i) text += (i > 0 ? ", '" : "'") + names[i] + "'";
  if (names.size() > kNamed) text += fmt::format(" and {} more", names.size() - kNamed);
  return (names.size() == 1 ? "Point " : "Points ") + text;
}

std::string far_text(double metres) {
  return metres < 2e6 ? fmt::format("{:.0f} km", metres / 1000) : "thousands of kilometres";
}

}  // namespace

std::vector<std::string> likely_causes(std::span<const NamedPlace> points, const Crs& crs,
                                       std::span<const GpsPosition> photos) {
  if (points.empty()) return {};
  std::optional<Middle> middle;
  if (!photos.empty()) middle.emplace(photos);
  const WhereIs given(crs.id.substr(0, crs.id.find('+')));
  std::vector<const NamedPlace*> strange;
  double farthest = 0;
  for (const NamedPlace& point : points) {
    const auto place = given(point.place);
    const bool good = middle ? middle->is_near(place) : place && crs.area.holds(place->x(), place->y());
    if (good) continue;
    strange.push_back(&point);
    farthest = std::max(farthest, middle && place ? middle->distance(*place) : 1e9);
  }
  if (strange.empty()) return {};
  const std::vector<Trial> trials = trials_of(crs, middle);
  std::map<std::string, std::vector<std::string>> by_cause;
  std::vector<std::string> order, unknown;
  for (const NamedPlace* point : strange) {
    const Trial* found = nullptr;
    // A cause that others have already is the likelier one.
    const auto fits = [&](const Trial& trial) {
      const auto place = trial.where(point->place);
      return middle ? middle->is_near(place) : place && crs.area.holds(place->x(), place->y());
    };
    for (const Trial& trial : trials)
      if (by_cause.contains(trial.cause) && fits(trial)) found = &trial;
    for (std::size_t t = 0; t < trials.size() && !found; ++t)
      if (fits(trials[t])) found = &trials[t];
    if (!found) {
      unknown.push_back(point->name);
      continue;
    }
    if (!by_cause.contains(found->cause)) order.push_back(found->cause);
    by_cause[found->cause].push_back(point->name);
  }
  std::vector<std::string> sentences;
  const std::string where =
      middle ? fmt::format("{} from the photos", far_text(farthest))
             : fmt::format("outside of {} ({})", crs.area.name.empty() ? "its area" : crs.area.name, crs.id);
  for (const std::string& cause : order)
    sentences.push_back(fmt::format("{} lie{} {}: likely {}.", names_of(by_cause[cause], points.size()),
                                    by_cause[cause].size() == 1 ? "s" : "", where, cause));
  if (!unknown.empty())
    sentences.push_back(fmt::format("{} lie{} {}, and nothing that usually happens to coordinates explains it.",
                                    names_of(unknown, points.size()), unknown.size() == 1 ? "s" : "", where));
  return sentences;
}

std::optional<double> geoid_height_m(double latitude_deg, double longitude_deg) {
  const CrsTransform way("EPSG:4979", "EPSG:4326+5773");
  if (way.heights_unchanged()) return std::nullopt;
  const auto place = way({longitude_deg, latitude_deg, 0});
  if (!place || !std::isfinite(place->z())) return std::nullopt;
  return -place->z();
}

std::vector<std::string> faults_of_gps(std::span<const std::optional<GpsPosition>> photos) {
  std::vector<std::string> faults(photos.size());
  std::vector<PhotoFix> fixes;
  std::vector<std::size_t> of;
  std::optional<LocalFrame> frame;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (!photos[i]) continue;
    if (std::abs(photos[i]->latitude_deg) < 1e-6 && std::abs(photos[i]->longitude_deg) < 1e-6) {
      faults[i] = "is 0 degrees north, 0 degrees east";
      continue;
    }
    if (!frame) frame.emplace(*photos[i]);
    of.push_back(i);
    PhotoFix fix;
    fix.position = frame->to_local(*photos[i]);
    fixes.push_back(fix);
  }
  const std::vector<std::string> found = faults_of_fixes(fixes);
  for (std::size_t k = 0; k < of.size(); ++k) faults[of[k]] = found[k];
  return faults;
}

}  // namespace icefield
