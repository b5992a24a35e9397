#include "icefield/io/vector_file.h"

#include <fmt/format.h>
#include <ogrsf_frmts.h>

#include <cmath>

#include "icefield/base/error.h"
#include "icefield/io/outline_file.h"
#include "src/io/gdal_parts.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr const char* kFingerprint = "ICEFIELD_FINGERPRINT";

struct DestroyFeature {
  void operator()(OGRFeature* feature) const { OGRFeature::DestroyFeature(feature); }
};
using Feature = std::unique_ptr<OGRFeature, DestroyFeature>;

void take_line(const OGRSimpleCurve* line, bool ring, Shape shape, std::vector<Shape>& out) {
  const int n = line->getNumPoints();
  for (int i = 0; i < n; ++i) shape.places.emplace_back(line->getX(i), line->getY(i));
  shape.closed = ring || (n > 3 && line->get_IsClosed());
  if (shape.closed && shape.places.size() > 1 && shape.places.front() == shape.places.back()) shape.places.pop_back();
  if (!shape.places.empty()) out.push_back(std::move(shape));
}

void take(const OGRGeometry* geometry, const Shape& about, ShapeLayer& layer) {
  if (!geometry) return;
  const OGRwkbGeometryType type = wkbFlatten(geometry->getGeometryType());
  if (type == wkbLineString) {
    take_line(geometry->toLineString(), false, about, layer.shapes);
  } else if (type == wkbPolygon) {
    layer.kind = ShapeKind::areas;
    if (const OGRLinearRing* ring = geometry->toPolygon()->getExteriorRing())
      take_line(ring, true, about, layer.shapes);
  } else if (type == wkbPoint) {
    layer.kind = ShapeKind::points;
    Shape shape = about;
    shape.places.emplace_back(geometry->toPoint()->getX(), geometry->toPoint()->getY());
    layer.shapes.push_back(std::move(shape));
  } else if (OGR_GT_IsSubClassOf(type, wkbGeometryCollection)) {
    for (const OGRGeometry* part : geometry->toGeometryCollection()) take(part, about, layer);
  }
}

std::unique_ptr<OGRGeometry> geometry_of(const Shape& shape, ShapeKind kind) {
  if (kind == ShapeKind::points) return std::make_unique<OGRPoint>(shape.places.at(0).x(), shape.places.at(0).y());
  auto line = kind == ShapeKind::areas ? std::make_unique<OGRLinearRing>() : std::make_unique<OGRLineString>();
  for (const Eigen::Vector2d& p : shape.places) line->addPoint(p.x(), p.y());
  if (shape.closed || kind == ShapeKind::areas) line->addPoint(shape.places[0].x(), shape.places[0].y());
  if (kind == ShapeKind::lines) return line;
  auto polygon = std::make_unique<OGRPolygon>();
  polygon->addRing(static_cast<OGRLinearRing*>(line.get()));
  return polygon;
}

}  // namespace

void write_shapes(const fs::path& file, const ShapeLayer& layer) {
  start_gdal();
  const std::string extension = file.extension().string();
  const bool json = extension == ".geojson" || extension == ".json";
  if (!json && extension != ".gpkg")
    throw Error(ErrorKind::usage, file.string(), "is neither .gpkg nor .geojson", "name it so");
  const fs::path part = file.parent_path() / (file.stem().string() + ".part" + extension);
  std::error_code ignored;
  fs::remove(part, ignored);
  struct Remove {
    fs::path part;
    ~Remove() {
      std::error_code none;
      fs::remove(part, none);
    }
  } remove{part};
  CPLErrorReset();
  GDALDriver* driver = GetGDALDriverManager()->GetDriverByName(json ? "GeoJSON" : "GPKG");
  // GeoPackages carry the time of their last change: one that is always the same keeps bytes the same.
  CPLSetConfigOption("OGR_CURRENT_DATE", "2000-01-01T00:00:00.000Z");
  Dataset set(driver->Create(part.c_str(), 0, 0, 0, GDT_Unknown, nullptr));
  if (!set) fail_to_write(file, gdal_fault());
  OGRSpatialReference reference;
  const bool placed = set_reference(layer.datum, reference);
  const char* options[] = {json && placed ? "RFC7946=YES" : nullptr, nullptr};
  const OGRwkbGeometryType type = layer.kind == ShapeKind::points  ? wkbPoint
                                  : layer.kind == ShapeKind::lines ? wkbLineString
                                                                   : wkbPolygon;
  OGRLayer* out =
      set->CreateLayer(layer.name.c_str(), placed ? &reference : nullptr, type, const_cast<char**>(options));
  if (!out) fail_to_write(file, gdal_fault());
  if (!layer.shapes.empty()) {
    for (const auto& [name, value] : layer.shapes[0].numbers) {
      OGRFieldDefn field(name.c_str(), OFTReal);
      if (out->CreateField(&field) != OGRERR_NONE) fail_to_write(file, gdal_fault());
    }
    for (const auto& [name, value] : layer.shapes[0].texts) {
      OGRFieldDefn field(name.c_str(), OFTString);
      if (out->CreateField(&field) != OGRERR_NONE) fail_to_write(file, gdal_fault());
    }
  }
  if (!layer.fingerprint.empty() && !json) set->SetMetadataItem(kFingerprint, layer.fingerprint.c_str());
  set->StartTransaction();
  for (const Shape& shape : layer.shapes) {
    if (shape.places.empty()) continue;
    const Feature feature(OGRFeature::CreateFeature(out->GetLayerDefn()));
    for (const auto& [name, value] : shape.numbers) feature->SetField(name.c_str(), value);
    for (const auto& [name, value] : shape.texts) feature->SetField(name.c_str(), value.c_str());
    feature->SetGeometryDirectly(geometry_of(shape, layer.kind).release());
    if (out->CreateFeature(feature.get()) != OGRERR_NONE) fail_to_write(file, gdal_fault());
  }
  set->CommitTransaction();
  set->FlushCache(true);
  if (CPLGetLastErrorType() >= CE_Failure) fail_to_write(file, gdal_fault());
  set.reset();
  std::error_code fault;
  fs::rename(part, file, fault);
  if (fault) fail_to_write(file, fault.message());
}

ShapeLayer read_shapes(const fs::path& file, const Datum& into) {
  start_gdal();
  const auto fail = [&](const std::string& fault) {
    throw Error(ErrorKind::input, file.string(), fault, "give lines or areas as .geojson or .gpkg, or corners as text");
  };
  std::error_code ignored;
  if (!fs::exists(file, ignored)) fail("does not exist");
  constexpr std::uintmax_t kMost = std::uintmax_t{256} << 20;
  if (fs::file_size(file, ignored) > kMost) fail("is larger than 256 MB, and so no outline or line");
  constexpr const char* kDrivers[] = {"GeoJSON", "GPKG", nullptr};
  CPLErrorReset();
  const Dataset set(GDALDataset::Open(file.c_str(), GDAL_OF_VECTOR | GDAL_OF_READONLY, kDrivers));
  if (!set || set->GetLayerCount() < 1) fail("is no GeoJSON or GeoPackage with a layer: " + gdal_fault());
  OGRLayer* source = set->GetLayer(0);
  ShapeLayer layer;
  layer.name = source->GetName();
  layer.datum = datum_of(source->GetSpatialRef());
  OGRSpatialReference wanted;
  std::unique_ptr<OGRCoordinateTransformation> way;
  if (source->GetSpatialRef() && set_reference(into, wanted)) {
    OGRSpatialReference given = *source->GetSpatialRef();
    given.SetAxisMappingStrategy(OAMS_TRADITIONAL_GIS_ORDER);
    if (!given.IsSame(&wanted)) {
      way.reset(OGRCreateCoordinateTransformation(&given, &wanted));
      if (!way) fail("has a coordinate system from which there is no way to " + into.crs);
    }
    layer.datum = into;
  }
  source->ResetReading();
  for (Feature feature(source->GetNextFeature()); feature; feature.reset(source->GetNextFeature())) {
    Shape about;
    for (int f = 0; f < feature->GetFieldCount(); ++f) {
      if (!feature->IsFieldSetAndNotNull(f)) continue;
      const OGRFieldDefn* field = feature->GetFieldDefnRef(f);
      if (field->GetType() == OFTReal || field->GetType() == OFTInteger || field->GetType() == OFTInteger64)
        about.numbers[field->GetNameRef()] = feature->GetFieldAsDouble(f);
      else
        about.texts[field->GetNameRef()] = feature->GetFieldAsString(f);
    }
    OGRGeometry* geometry = feature->GetGeometryRef();
    if (geometry && way && geometry->transform(way.get()) != OGRERR_NONE)
      fail("has places that " + into.crs + " cannot say");
    take(geometry, about, layer);
  }
  for (const Shape& shape : layer.shapes)
    for (const Eigen::Vector2d& p : shape.places)
      if (!p.allFinite()) fail("has a place that is no number");
  return layer;
}

std::vector<std::vector<Eigen::Vector2d>> read_plan_shapes(const fs::path& file, const Datum& into, ShapeKind kind) {
  const bool area = kind == ShapeKind::areas;
  const std::string extension = file.extension().string();
  if (extension != ".geojson" && extension != ".json" && extension != ".gpkg")
    return {area ? read_outline_file(file) : read_line_file(file)};
  std::vector<std::vector<Eigen::Vector2d>> all;
  for (const Shape& shape : read_shapes(file, into).shapes)
    if (shape.places.size() >= (area ? 3u : 2u)) all.push_back(shape.places);
  if (all.empty())
    throw Error(ErrorKind::input, file.string(), area ? "has no area" : "has no line",
                area ? "draw a polygon" : "draw a line of two places or more");
  return all;
}

std::string shapes_fingerprint(const fs::path& file) {
  start_gdal();
  constexpr const char* kDrivers[] = {"GPKG", nullptr};
  const Dataset set(GDALDataset::Open(file.c_str(), GDAL_OF_VECTOR | GDAL_OF_READONLY, kDrivers));
  const char* text = set ? set->GetMetadataItem(kFingerprint) : nullptr;
  return text ? text : "";
}

}  // namespace icefield
