#include "icefield/world/crs.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "icefield/base/error.h"
#include "src/world/proj_objects.h"

namespace icefield {
namespace {

std::string lower(std::string text) {
  for (char& c : text) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return text;
}

std::string as_text(const char* text) {
  return text ? text : "";
}

std::string id_of(const PJ* crs) {
  const std::string authority = as_text(proj_get_id_auth_name(crs, 0)), code = as_text(proj_get_id_code(crs, 0));
  return authority.empty() || code.empty() ? "" : authority + ":" + code;
}

CrsKind kind_of(PJ_TYPE type) {
  switch (type) {
    case PJ_TYPE_PROJECTED_CRS:
      return CrsKind::projected;
    case PJ_TYPE_GEOGRAPHIC_2D_CRS:
    case PJ_TYPE_GEOGRAPHIC_3D_CRS:
      return CrsKind::geographic;
    case PJ_TYPE_GEOCENTRIC_CRS:
      return CrsKind::geocentric;
    case PJ_TYPE_VERTICAL_CRS:
      return CrsKind::vertical;
    default:
      return CrsKind::other;
  }
}

// "25832" and "EPSG:25832 + EPSG:7837" as the register's reader wants them.
std::string with_authority(const std::string& text) {
  if (text.find('[') != std::string::npos || text.find('{') != std::string::npos) return text;
  std::string written, part;
  const auto put = [&] {
    if (part.empty()) return;
    if (!written.empty()) written += '+';
    if (written.empty() && std::all_of(part.begin(), part.end(), [](char c) { return std::isdigit(c) != 0; }))
      written += "EPSG:";
    written += part;
    part.clear();
  };
  for (const char c : text) {
    if (c == '+')
      put();
    else if (!std::isspace(static_cast<unsigned char>(c)))
      part += c;
  }
  put();
  for (std::size_t at = 0; (at = written.find("epsg:", at)) != std::string::npos;) written.replace(at, 4, "EPSG");
  return written;
}

// Unit of an axis of a coordinate system, and what it is in metres or radians.
void read_unit(PJ_CONTEXT* context, const PJ* crs, int axis, std::string& name, double& factor) {
  const ProjObject system(proj_crs_get_coordinate_system(context, crs));
  if (!system || proj_cs_get_axis_count(context, system.get()) <= axis) return;
  const char* unit = nullptr;
  double size = 1;
  if (proj_cs_get_axis_info(context, system.get(), axis, nullptr, nullptr, nullptr, &size, &unit, nullptr, nullptr)) {
    name = as_text(unit);
    factor = size;
  }
}

void read_area(PJ_CONTEXT* context, const PJ* crs, AreaOfUse& area) {
  const char* name = nullptr;
  AreaOfUse found;
  if (!proj_get_area_of_use(context, crs, &found.west, &found.south, &found.east, &found.north, &name)) return;
  if (found.west < -1000) return;  // not known
  area = found;
  area.name = as_text(name);
}

// The ones that look like a text that is none.
std::string looks_like(const std::string& text) {
  std::string list;
  for (const CrsFound& found : find_crs(text, {}, 3)) list += (list.empty() ? "" : ", ") + found.id + " " + found.name;
  return list;
}

}  // namespace

const char* describe(CrsKind kind) {
  switch (kind) {
    case CrsKind::projected:
      return "projected";
    case CrsKind::geographic:
      return "geographic";
    case CrsKind::geocentric:
      return "geocentric";
    case CrsKind::vertical:
      return "vertical";
    case CrsKind::other:
      break;
  }
  return "other";
}

bool AreaOfUse::holds(double latitude_deg, double longitude_deg) const {
  if (latitude_deg < south || latitude_deg > north) return false;
  return west <= east ? longitude_deg >= west && longitude_deg <= east : longitude_deg >= west || longitude_deg <= east;
}

Crs crs_of(const std::string& text) {
  const ProjContext context = make_proj_context();
  const std::string wanted = with_authority(text);
  const ProjObject whole = make_proj_crs(context.get(), wanted);
  if (!whole) {
    const std::string like = text.size() < 200 ? looks_like(text) : "";
    throw Error(ErrorKind::usage, "CRS '" + text.substr(0, 60) + "'", "is none that is known",
                like.empty() ? "give its code, as EPSG:25832; with one for heights as EPSG:25832+7837"
                             : "did you mean " + like + "?");
  }
  Crs crs;
  crs.name = as_text(proj_get_name(whole.get()));
  ProjObject plan = horizontal_part(context.get(), whole.get());
  ProjObject vertical;
  if (proj_get_type(whole.get()) == PJ_TYPE_COMPOUND_CRS)
    vertical.reset(proj_crs_get_sub_crs(context.get(), whole.get(), 1));
  if (proj_get_type(plan.get()) == PJ_TYPE_BOUND_CRS) plan.reset(proj_get_source_crs(context.get(), plan.get()));
  crs.kind = kind_of(proj_get_type(plan.get()));
  crs.id = id_of(whole.get());
  if (crs.id.empty() && vertical && !id_of(plan.get()).empty() && !id_of(vertical.get()).empty()) {
    const std::string of_heights = id_of(vertical.get());
    crs.id = id_of(plan.get()) + "+" + (of_heights.starts_with("EPSG:") ? of_heights.substr(5) : of_heights);
  }
  read_unit(context.get(), plan.get(), 0, crs.units, crs.metres_per_unit);
  if (crs.kind == CrsKind::geographic) {
    std::string unused;
    read_unit(context.get(), plan.get(), 2, unused, crs.metres_per_height_unit);
  }
  if (vertical) {
    crs.vertical_name = as_text(proj_get_name(vertical.get()));
    crs.vertical_id = id_of(vertical.get());
    std::string unused;
    read_unit(context.get(), vertical.get(), 0, unused, crs.metres_per_height_unit);
  }
  if (crs.kind == CrsKind::vertical) {
    std::string unused;
    read_unit(context.get(), plan.get(), 0, unused, crs.metres_per_height_unit);
  }
  if (const ProjObject ellipsoid(proj_get_ellipsoid(context.get(), plan.get())); ellipsoid)
    proj_ellipsoid_get_parameters(context.get(), ellipsoid.get(), &crs.semi_major_m, nullptr, nullptr,
                                  &crs.inverse_flattening);
  read_area(context.get(), plan.get(), crs.area);
  crs.wkt = as_text(proj_as_wkt(context.get(), whole.get(), PJ_WKT2_2019, nullptr));
  crs.old_wkt = as_text(proj_as_wkt(context.get(), whole.get(), PJ_WKT1_GDAL, nullptr));
  if (crs.id.empty()) {
    const char* const options[] = {"MULTILINE=NO", nullptr};
    crs.id = as_text(proj_as_wkt(context.get(), whole.get(), PJ_WKT2_2019, options));
  }
  return crs;
}

std::vector<CrsFound> find_crs(const std::string& words, std::optional<Eigen::Vector2d> place, std::size_t most) {
  std::vector<std::string> wanted;
  std::string word;
  for (const char c : lower(words) + " ") {
    if (!std::isspace(static_cast<unsigned char>(c))) {
      word += c;
    } else if (!word.empty()) {
      wanted.push_back(std::exchange(word, {}));
    }
  }
  const ProjContext context = make_proj_context();
  std::vector<CrsFound> found;
  int count = 0;
  PROJ_CRS_INFO** all = proj_get_crs_info_list_from_database(context.get(), "EPSG", nullptr, &count);
  for (int i = 0; i < count; ++i) {
    const PROJ_CRS_INFO& info = *all[i];
    CrsFound crs{std::string(info.auth_name) + ":" + info.code, info.name, kind_of(info.type), {}};
    if (info.deprecated || crs.kind == CrsKind::other) continue;
    if (info.bbox_valid)
      crs.area = {info.west_lon_degree, info.south_lat_degree, info.east_lon_degree, info.north_lat_degree, ""};
    crs.area.name = as_text(info.area_name);
    if (place && !(info.bbox_valid && crs.area.holds(place->x(), place->y()))) continue;
    const std::string text = lower(crs.id + " " + crs.name + " " + crs.area.name);
    if (std::all_of(wanted.begin(), wanted.end(), [&](const std::string& w) { return text.find(w) != text.npos; }))
      found.push_back(std::move(crs));
  }
  proj_crs_info_list_destroy(all);
  const auto size = [](const CrsFound& crs) {
    const double width = crs.area.east - crs.area.west;
    return (width < 0 ? width + 360 : width) * (crs.area.north - crs.area.south);
  };
  const auto code = [](const CrsFound& crs) { return std::atoi(crs.id.c_str() + crs.id.find(':') + 1); };
  std::sort(found.begin(), found.end(), [&](const CrsFound& a, const CrsFound& b) {
    if (a.kind != b.kind) return a.kind < b.kind;
    const double sa = size(a), sb = size(b);
    if (sa != sb) return sa < sb;
    return a.name.size() != b.name.size() ? a.name.size() < b.name.size() : code(a) < code(b);
  });
  if (found.size() > most) found.resize(most);
  return found;
}

std::string utm_zone_of(double latitude_deg, double longitude_deg) {
  const double turned = longitude_deg - 360 * std::floor((longitude_deg + 180) / 360);
  const int zone = std::clamp(static_cast<int>(std::floor((turned + 180) / 6)) + 1, 1, 60);
  return fmt::format("EPSG:{}", (latitude_deg < 0 ? 32700 : 32600) + zone);
}

struct CrsTransform::Way {
  ProjContext context = make_proj_context();
  ProjObject way;
  std::optional<double> accuracy;
  std::vector<std::string> remarks;
  bool heights_unchanged = false;
};

namespace {

bool has_gravity_heights(const PJ* crs) {
  return proj_get_type(crs) == PJ_TYPE_COMPOUND_CRS;
}

// Corrections that the best way would need and that are not on this machine.
std::set<std::string> missing_files(PJ_CONTEXT* context, const PJ* way) {
  std::set<std::string> names;
  const int count = proj_coordoperation_get_grid_used_count(context, way);
  for (int i = 0; i < count; ++i) {
    const char* name = nullptr;
    int available = 1;
    if (proj_coordoperation_get_grid_used(context, way, i, &name, nullptr, nullptr, nullptr, nullptr, nullptr,
                                          &available) &&
        !available && name && *name)
      names.insert(name);
  }
  return names;
}

}  // namespace

CrsTransform::CrsTransform(const std::string& from, const std::string& to) : way_(std::make_unique<Way>()) {
  PJ_CONTEXT* context = way_->context.get();
  const ProjObject source = make_proj_crs(context, with_authority(from)),
                   target = make_proj_crs(context, with_authority(to));
  if (!source) crs_of(from);  // says what is wrong
  if (!target) crs_of(to);
  const auto no_way = [&] {
    throw Error(ErrorKind::computation, from, "cannot be brought to " + to,
                "give a CRS that coordinates can be converted to");
  };
  // The ways there are: the best of all, and the best that works with what is on this machine.
  const std::unique_ptr<PJ_OPERATION_FACTORY_CONTEXT, void (*)(PJ_OPERATION_FACTORY_CONTEXT*)> factory(
      proj_create_operation_factory_context(context, nullptr), proj_operation_factory_context_destroy);
  proj_operation_factory_context_set_spatial_criterion(context, factory.get(),
                                                       PROJ_SPATIAL_CRITERION_PARTIAL_INTERSECTION);
  proj_operation_factory_context_set_grid_availability_use(context, factory.get(), PROJ_GRID_AVAILABILITY_IGNORED);
  const std::unique_ptr<PJ_OBJ_LIST, void (*)(PJ_OBJ_LIST*)> ways(
      proj_create_operations(context, source.get(), target.get(), factory.get()), proj_list_destroy);
  const int count = ways ? proj_list_get_count(ways.get()) : 0;
  std::set<std::string> missing;
  double best_accuracy = -1;
  for (int i = 0; i < count; ++i) {
    const ProjObject candidate(proj_list_get(context, ways.get(), i));
    const double accuracy = proj_coordoperation_get_accuracy(context, candidate.get());
    if (proj_coordoperation_is_instantiable(context, candidate.get())) {
      if (accuracy >= 0) way_->accuracy = accuracy;
      break;
    }
    if (missing.empty()) {
      missing = missing_files(context, candidate.get());
      best_accuracy = accuracy;
    }
  }
  way_->way = make_proj_way(context, source.get(), target.get());
  if (!way_->way) no_way();
  const bool heights_differ =
      has_gravity_heights(source.get()) != has_gravity_heights(target.get()) ||
      (has_gravity_heights(source.get()) && has_gravity_heights(target.get()) &&
       !proj_is_equivalent_to_with_ctx(context, source.get(), target.get(), PJ_COMP_EQUIVALENT));
  if (!missing.empty()) {
    std::string names;
    for (const std::string& name : missing) names += (names.empty() ? "" : ", ") + name;
    way_->remarks.push_back(fmt::format(
        "{} to {}: {} is not on this machine{}; what is used instead {}", from, to, names,
        best_accuracy >= 0 ? fmt::format(", which would be good to {:g} m", best_accuracy) : "",
        way_->accuracy ? fmt::format("is good to {:g} m", *way_->accuracy) : "has no accuracy that is known"));
  }
  if (heights_differ) {
    // Whether they change at all, in the middle of where both hold.
    AreaOfUse area;
    read_area(context, horizontal_part(context, source.get()).get(), area);
    AreaOfUse other;
    read_area(context, horizontal_part(context, target.get()).get(), other);
    const double south = std::max(area.south, other.south), north = std::min(area.north, other.north),
                 west = std::max(area.west, other.west), east = std::min(area.east, other.east);
    if (south < north && west < east) {
      const ProjObject geographic = make_proj_crs(context, "EPSG:4979");
      const ProjObject in = make_proj_way(context, geographic.get(), source.get());
      bool changes = false;
      for (const double u : {0.31, 0.5, 0.72}) {
        PJ_COORD c = proj_coord(west + u * (east - west), south + u * (north - south), 100, 0);
        if (in) c = proj_trans(in.get(), PJ_FWD, c);
        const PJ_COORD d = proj_trans(way_->way.get(), PJ_FWD, c);
        changes = changes || (std::isfinite(d.xyz.z) && std::abs(d.xyz.z - c.xyz.z) > 1e-6);
      }
      way_->heights_unchanged = !changes;
    }
    if (way_->heights_unchanged)
      way_->remarks.push_back(fmt::format(
          "heights are taken from {} to {} unchanged: the two count from different surfaces, tens of metres "
          "apart in most places, by nearly the same everywhere in a block",
          from, to));
  }
}

CrsTransform::~CrsTransform() = default;
CrsTransform::CrsTransform(CrsTransform&&) noexcept = default;
CrsTransform& CrsTransform::operator=(CrsTransform&&) noexcept = default;

namespace {

std::optional<Eigen::Vector3d> through(PJ* way, PJ_DIRECTION direction, const Eigen::Vector3d& place) {
  proj_errno_reset(way);
  const PJ_COORD from = proj_coord(place.x(), place.y(), place.z(), 0);
  const PJ_COORD c = direction == PJ_FWD ? proj_trans(way, PJ_FWD, from) : inverse_of(way, from);
  if (proj_errno(way) != 0 || !std::isfinite(c.xyz.x) || !std::isfinite(c.xyz.y)) return std::nullopt;
  return Eigen::Vector3d(c.xyz.x, c.xyz.y, c.xyz.z);
}

}  // namespace

std::optional<Eigen::Vector3d> CrsTransform::operator()(const Eigen::Vector3d& place) const {
  return through(way_->way.get(), PJ_FWD, place);
}
std::optional<Eigen::Vector3d> CrsTransform::back(const Eigen::Vector3d& place) const {
  return through(way_->way.get(), PJ_INV, place);
}
std::optional<double> CrsTransform::accuracy_m() const {
  return way_->accuracy;
}
const std::vector<std::string>& CrsTransform::remarks() const {
  return way_->remarks;
}
bool CrsTransform::heights_unchanged() const {
  return way_->heights_unchanged;
}

}  // namespace icefield
