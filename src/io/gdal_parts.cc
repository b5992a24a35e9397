#include "src/io/gdal_parts.h"

#include <cpl_conv.h>
#include <fmt/format.h>
#include <ogr_spatialref.h>

#include <algorithm>
#include <mutex>

#include "icefield/world/crs.h"

namespace icefield {

void start_gdal() {
  static std::once_flag once;
  std::call_once(once, [] {
    GDALAllRegister();
    CPLSetErrorHandler(CPLQuietErrorHandler);
    CPLSetConfigOption("GDAL_PAM_ENABLED", "NO");  // no files beside those that are asked for
    GDALSetCacheMax64(std::int64_t{256} << 20);
  });
}

std::string gdal_fault() {
  std::string text = CPLGetLastErrorMsg();
  std::replace(text.begin(), text.end(), '\n', ' ');
  return text.empty() ? "no reason is given" : text;
}

void fail_to_write(const std::filesystem::path& file, const std::string& fault) {
  throw Error(ErrorKind::resource, file.string(), "cannot be written: " + fault,
              "make room on the disk or give another folder; what was there before is unchanged");
}

bool set_reference(const Datum& datum, OGRSpatialReference& reference) {
  if (datum.crs.empty()) return false;
  const std::string id = datum.vertical_crs.empty() || datum.crs.find('+') != std::string::npos
                             ? datum.crs
                             : datum.crs + "+" + datum.vertical_crs.substr(datum.vertical_crs.rfind(':') + 1);
  reference.SetAxisMappingStrategy(OAMS_TRADITIONAL_GIS_ORDER);
  return reference.SetFromUserInput(id.c_str()) == OGRERR_NONE ||
         reference.SetFromUserInput(datum.crs.c_str()) == OGRERR_NONE;
}

Datum datum_of(const OGRSpatialReference* reference) {
  Datum datum;
  if (!reference) return datum;
  OGRSpatialReference plan = *reference;
  const char* vertical = plan.IsCompound() ? plan.GetAuthorityCode("COMPD_CS|VERT_CS") : nullptr;
  if (vertical) datum.vertical_crs = fmt::format("EPSG:{}", vertical);
  if (plan.IsCompound()) plan.StripVertical();
  const char* code = plan.GetAuthorityCode(nullptr);
  const char* name = plan.GetAuthorityName(nullptr);
  if (code && name) {
    datum.crs = fmt::format("{}:{}", name, code);
  } else {
    char* wkt = nullptr;
    if (plan.exportToWkt(&wkt) == OGRERR_NONE && wkt) datum.crs = wkt;
    CPLFree(wkt);
  }
  datum.axes = Axes::east_north_up;
  datum.units = plan.IsGeographic() ? "degree" : "m";
  return datum;
}

}  // namespace icefield
