#include "icefield/io/raster_file.h"

#include <cpl_conv.h>
#include <cpl_string.h>
#include <fcntl.h>
#include <gdal_utils.h>
#include <fmt/format.h>
#include <ogr_spatialref.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "icefield/io/text_file.h"
#include "icefield/world/crs.h"
#include "src/io/gdal_parts.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr double kNoHeight = -9999;
constexpr const char* kFingerprint = "ICEFIELD_FINGERPRINT";
constexpr const char* kUnits = "ICEFIELD_UNITS";

GDALDataType type_of(RasterValues values) {
  return values == RasterValues::heights ? GDT_Float32 : values == RasterValues::numbers ? GDT_UInt16 : GDT_Byte;
}

}  // namespace

struct RasterWriter::Sink {
  fs::path file, work, part;
  RasterContent content;
  RasterPacking packing;
  Dataset set;
  ~Sink() {
    set.reset();
    std::error_code ignored;
    fs::remove(work, ignored);
    fs::remove(part, ignored);
  }

  int bands() const {
    return content.values == RasterValues::picture ? 4 : std::max(1, static_cast<int>(content.bands.size()));
  }
  template <class T>
  void write(int column, int row, const Image<T>& values, GDALDataType type) {
    const GridFrame& frame = content.frame;
    if (values.channels() != bands() || column < 0 || row < 0 || column + values.width() > frame.columns ||
        row + values.height() > frame.rows)
      throw Error(ErrorKind::usage, file.string(), "is given a window that it does not hold", "give one of its cells");
    if (values.empty()) return;
    const auto bytes = static_cast<GSpacing>(sizeof(T));
    const GSpacing pixel = bytes * values.channels();
    if (set->RasterIO(GF_Write, column, row, values.width(), values.height(), const_cast<T*>(values.data().data()),
                      values.width(), values.height(), type, values.channels(), nullptr, pixel, pixel * values.width(),
                      bytes, nullptr) != CE_None)
      fail_to_write(file, gdal_fault());
  }
};

RasterWriter::RasterWriter(const fs::path& file, const RasterContent& content, RasterPacking packing)
    : sink_(std::make_unique<Sink>()) {
  start_gdal();
  Sink& s = *sink_;
  s.file = file, s.content = content, s.packing = packing;
  s.work = file.string() + ".work", s.part = file.string() + ".part";
  const GridFrame& frame = content.frame;
  if (frame.columns < 1 || frame.rows < 1 || !(frame.cell > 0))
    throw Error(ErrorKind::usage, file.string(), "is asked for without cells", "give an area and a cell size");
  GDALDriver* driver = GetGDALDriverManager()->GetDriverByName("GTiff");
  CPLStringList options;
  options.SetNameValue("TILED", "YES");
  options.SetNameValue("BLOCKXSIZE", "512");
  options.SetNameValue("BLOCKYSIZE", "512");
  options.SetNameValue("COMPRESS", "DEFLATE");
  options.SetNameValue("ZLEVEL", "1");
  options.SetNameValue("BIGTIFF", "IF_SAFER");
  options.SetNameValue("SPARSE_OK", "TRUE");
  if (content.values == RasterValues::picture) options.SetNameValue("PHOTOMETRIC", "RGB");
  CPLErrorReset();
  s.set.reset(
      driver->Create(s.work.c_str(), frame.columns, frame.rows, s.bands(), type_of(content.values), options.List()));
  if (!s.set) fail_to_write(file, gdal_fault());
  double transform[6] = {frame.corner.x(), frame.cell, 0, frame.corner.y(), 0, -frame.cell};
  s.set->SetGeoTransform(transform);
  OGRSpatialReference reference;
  if (set_reference(content.datum, reference)) s.set->SetSpatialRef(&reference);
  s.set->SetMetadataItem("AREA_OR_POINT", "Area");
  s.set->SetMetadataItem("TIFFTAG_SOFTWARE", "Icefield");
  for (const auto& [name, value] : content.notes) s.set->SetMetadataItem(name.c_str(), value.c_str());
  s.set->SetMetadataItem(kUnits, content.datum.units_name().c_str());
  if (!content.fingerprint.empty()) s.set->SetMetadataItem(kFingerprint, content.fingerprint.c_str());
  for (int b = 0; b < s.bands(); ++b) {
    GDALRasterBand* band = s.set->GetRasterBand(b + 1);
    if (static_cast<std::size_t>(b) < content.bands.size())
      band->SetDescription(content.bands[static_cast<std::size_t>(b)].c_str());
    if (content.values == RasterValues::heights) band->SetNoDataValue(kNoHeight);
    if (content.values == RasterValues::numbers) band->SetNoDataValue(0);
    if (content.values == RasterValues::picture)
      band->SetColorInterpretation(b == 3 ? GCI_AlphaBand : static_cast<GDALColorInterp>(GCI_RedBand + b));
  }
}

RasterWriter::~RasterWriter() = default;

void RasterWriter::write(int column, int row, const ImageF& values) {
  ImageF filled = values;
  for (float& v : filled.values())
    if (!std::isfinite(v)) v = static_cast<float>(kNoHeight);
  sink_->write(column, row, filled, GDT_Float32);
}
void RasterWriter::write(int column, int row, const Image<std::uint16_t>& values) {
  sink_->write(column, row, values, GDT_UInt16);
}
void RasterWriter::write(int column, int row, const ImageU8& values) {
  sink_->write(column, row, values, GDT_Byte);
}

void RasterWriter::note(const std::string& name, const std::string& value) {
  sink_->set->SetMetadataItem(name.c_str(), value.c_str());
}

void RasterWriter::finish() {
  Sink& s = *sink_;
  CPLErrorReset();
  s.set->FlushCache(false);
  if (CPLGetLastErrorType() >= CE_Failure) fail_to_write(s.file, gdal_fault());
  GDALDriver* driver = GetGDALDriverManager()->GetDriverByName("COG");
  CPLStringList options;
  const bool picture = s.content.values == RasterValues::picture;
  const bool lossy = picture && s.packing == RasterPacking::lossy;
  options.SetNameValue("COMPRESS", lossy ? "JPEG" : "DEFLATE");
  if (lossy) {
    options.SetNameValue("QUALITY", "90");
  } else {
    options.SetNameValue("PREDICTOR", "YES");
  }
  options.SetNameValue("BIGTIFF", "IF_SAFER");
  options.SetNameValue("OVERVIEW_RESAMPLING", s.content.values == RasterValues::numbers ? "NEAREST" : "AVERAGE");
  options.SetNameValue("NUM_THREADS", "ALL_CPUS");
  Dataset written(driver->CreateCopy(s.part.c_str(), s.set.get(), FALSE, options.List(), nullptr, nullptr));
  if (written) written->FlushCache(true);
  if (!written || CPLGetLastErrorType() >= CE_Failure) fail_to_write(s.file, gdal_fault());
  written.reset();
  if (CPLGetLastErrorType() >= CE_Failure) fail_to_write(s.file, gdal_fault());
  s.set.reset();
  if (const int descriptor = ::open(s.part.c_str(), O_RDONLY); descriptor >= 0) {
    ::fsync(descriptor);
    ::close(descriptor);
  }
  std::error_code fault;
  fs::rename(s.part, s.file, fault);
  if (fault) fail_to_write(s.file, fault.message());
}

struct RasterReader::Source {
  fs::path file;
  Dataset set;
  RasterContent content;

  [[noreturn]] void fail(const std::string& fault) const {
    throw Error(ErrorKind::input, file.string(), fault, "give a GeoTIFF in plan with square cells, north up");
  }
  template <class T>
  void read(int column, int row, int width, int height, int out_width, int out_height, GDALDataType type, int band,
            int bands, Image<T>& out, GDALRIOResampleAlg way = GRIORA_Average) const {
    out = Image<T>(out_width, out_height, bands);
    const auto bytes = static_cast<GSpacing>(sizeof(T));
    std::vector<int> list;
    for (int b = 0; b < bands; ++b) list.push_back(band + b + 1);
    GDALRasterIOExtraArg extra;
    INIT_RASTERIO_EXTRA_ARG(extra);
    if (out_width != width || out_height != height) extra.eResampleAlg = way;
    CPLErrorReset();
    if (set->RasterIO(GF_Read, column, row, width, height, out.values().data(), out_width, out_height, type, bands,
                      list.data(), bytes * bands, bytes * bands * out_width, bytes, &extra) != CE_None)
      fail("cannot be read: " + gdal_fault());
  }
  void check(int column, int row, int width, int height, int band) const {
    const GridFrame& frame = content.frame;
    if (column < 0 || row < 0 || width < 0 || height < 0 || column + width > frame.columns ||
        row + height > frame.rows || band < 0 || band >= set->GetRasterCount())
      throw Error(ErrorKind::usage, file.string(), "is asked for a window or band that it does not have",
                  "give one of its cells");
  }
  void clear_no_data(ImageF& values, int band) const {
    int has = 0;
    const double none = set->GetRasterBand(band + 1)->GetNoDataValue(&has);
    if (!has || std::isnan(none)) return;
    for (float& v : values.values())
      if (v == static_cast<float>(none)) v = std::numeric_limits<float>::quiet_NaN();
  }
  std::pair<int, int> overview_size(int most) const {
    const double scale = std::min(1.0, static_cast<double>(most) / std::max(content.frame.columns, content.frame.rows));
    return {std::max(1, static_cast<int>(std::lround(scale * content.frame.columns))),
            std::max(1, static_cast<int>(std::lround(scale * content.frame.rows)))};
  }
};

RasterReader::RasterReader(const fs::path& file) : source_(std::make_unique<Source>()) {
  start_gdal();
  Source& s = *source_;
  s.file = file;
  std::error_code ignored;
  if (!fs::exists(file, ignored)) throw Error(ErrorKind::input, file.string(), "does not exist", "name a GeoTIFF");
  constexpr const char* kDrivers[] = {"GTiff", nullptr};
  CPLErrorReset();
  s.set.reset(GDALDataset::Open(file.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY, kDrivers));
  if (!s.set) s.fail("is no GeoTIFF: " + gdal_fault());
  double transform[6];
  if (s.set->GetGeoTransform(transform) != CE_None) s.fail("does not say where its cells lie");
  constexpr double kSquare = 1e-6;
  if (transform[2] != 0 || transform[4] != 0 || !(transform[1] > 0) ||
      !(std::abs(transform[1] + transform[5]) <= kSquare * transform[1]))
    s.fail("has cells that are turned or not square");
  RasterContent& c = s.content;
  c.frame.corner = {transform[0], transform[3]};
  c.frame.cell = transform[1];
  c.frame.columns = s.set->GetRasterXSize(), c.frame.rows = s.set->GetRasterYSize();
  c.datum = datum_of(s.set->GetSpatialRef());
  if (c.datum.crs.empty())
    if (const char* units = s.set->GetMetadataItem(kUnits); units && std::string(units) != "block units")
      c.datum.units = units;
  const GDALDataType type = s.set->GetRasterBand(1)->GetRasterDataType();
  c.values = type == GDT_Byte && s.set->GetRasterCount() >= 3 ? RasterValues::picture
             : type == GDT_UInt16                             ? RasterValues::numbers
                                                              : RasterValues::heights;
  for (int b = 0; b < s.set->GetRasterCount(); ++b) c.bands.emplace_back(s.set->GetRasterBand(b + 1)->GetDescription());
  if (const char* fingerprint = s.set->GetMetadataItem(kFingerprint)) c.fingerprint = fingerprint;
  char** notes = s.set->GetMetadata();
  for (; notes && *notes; ++notes) {
    char* name = nullptr;
    const char* value = CPLParseNameValue(*notes, &name);
    if (name && value && std::string(name) != kFingerprint && std::string(name) != kUnits) c.notes[name] = value;
    CPLFree(name);
  }
}

RasterReader::~RasterReader() = default;

const RasterContent& RasterReader::content() const {
  return source_->content;
}

ImageF RasterReader::read(int column, int row, int width, int height, int band) const {
  const Source& s = *source_;
  s.check(column, row, width, height, band);
  ImageF values;
  if (width == 0 || height == 0) return values;
  s.read(column, row, width, height, width, height, GDT_Float32, band, 1, values);
  s.clear_no_data(values, band);
  return values;
}

ImageF RasterReader::read(int band) const {
  return read(0, 0, content().frame.columns, content().frame.rows, band);
}

ImageU8 RasterReader::read_picture(int column, int row, int width, int height) const {
  const Source& s = *source_;
  s.check(column, row, width, height, 0);
  ImageU8 values;
  if (width > 0 && height > 0)
    s.read(column, row, width, height, width, height, GDT_Byte, 0, s.set->GetRasterCount(), values);
  return values;
}

ImageF RasterReader::overview(int most, int band) const {
  const Source& s = *source_;
  s.check(0, 0, 0, 0, band);
  const auto [width, height] = s.overview_size(most);
  ImageF values;
  s.read(0, 0, s.content.frame.columns, s.content.frame.rows, width, height, GDT_Float32, band, 1, values);
  s.clear_no_data(values, band);
  return values;
}

ImageF RasterReader::nearest_overview(int most, int band) const {
  const Source& s = *source_;
  s.check(0, 0, 0, 0, band);
  const auto [width, height] = s.overview_size(most);
  ImageF values;
  s.read(0, 0, s.content.frame.columns, s.content.frame.rows, width, height, GDT_Float32, band, 1, values,
         GRIORA_NearestNeighbour);
  s.clear_no_data(values, band);
  return values;
}

ImageU8 RasterReader::picture_overview(int most) const {
  const Source& s = *source_;
  const auto [width, height] = s.overview_size(most);
  ImageU8 values;
  s.read(0, 0, s.content.frame.columns, s.content.frame.rows, width, height, GDT_Byte, 0, s.set->GetRasterCount(),
         values);
  return values;
}

std::vector<fs::path> write_world_picture(const fs::path& raster, const fs::path& file) {
  std::string extension = file.extension().string();
  std::transform(extension.begin(), extension.end(), extension.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  const bool png = extension == ".png", jpeg = extension == ".jpg" || extension == ".jpeg";
  if (!png && !jpeg)
    throw Error(ErrorKind::usage, file.string(), "has an extension that names no picture with a world file",
                "end it in .png or .jpg; .tif has its place in itself");
  const RasterReader reader(raster);
  const RasterContent& content = reader.content();
  if (content.values != RasterValues::picture)
    throw Error(ErrorKind::input, raster.string(), "is no picture", "give one of red, green and blue");
  constexpr int kMostJpeg = 65500;
  if (jpeg && std::max(content.frame.columns, content.frame.rows) > kMostJpeg)
    throw Error(ErrorKind::usage, file.string(),
                fmt::format("cannot hold {} x {} cells", content.frame.columns, content.frame.rows),
                "write PNG, or make larger cells");
  // The whole raster stands in memory by GDAL's own blocks alone: it is copied row by row.
  Dataset from(GDALDataset::Open(raster.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY));
  if (!from) throw Error(ErrorKind::input, raster.string(), "cannot be read: " + gdal_fault(), "give a GeoTIFF");
  CPLStringList list;
  for (const char* text : {"-of", png ? "PNG" : "JPEG", "-b", "1", "-b", "2", "-b", "3"}) list.AddString(text);
  if (png && from->GetRasterCount() >= 4)
    for (const char* text : {"-b", "4"}) list.AddString(text);
  if (jpeg)
    for (const char* text : {"-co", "QUALITY=92"}) list.AddString(text);
  const fs::path part = file.string() + ".part";
  CPLSetThreadLocalConfigOption("GDAL_PAM_ENABLED", "NO");
  GDALTranslateOptions* how = GDALTranslateOptionsNew(list.List(), nullptr);
  int failed = 0;
  CPLErrorReset();
  Dataset made(GDALDataset::FromHandle(GDALTranslate(part.c_str(), from.get(), how, &failed)));
  if (made) made->FlushCache(true);
  const bool bad = !made || failed || CPLGetLastErrorType() >= CE_Failure;
  const std::string fault_found = gdal_fault();
  made.reset();
  GDALTranslateOptionsFree(how);
  CPLSetThreadLocalConfigOption("GDAL_PAM_ENABLED", nullptr);
  std::error_code fault;
  if (bad) {
    fs::remove(part, fault);
    fail_to_write(file, fault_found);
  }
  fs::rename(part, file, fault);
  if (fault) fail_to_write(file, fault.message());
  std::vector<fs::path> files{file};
  const Eigen::Vector2d first = content.frame.middle(0, 0);
  fs::path world = file;
  world.replace_extension(png ? ".pgw" : ".jgw");
  write_file(world, fmt::format("{:.12g}\n0\n0\n{:.12g}\n{:.12g}\n{:.12g}\n", content.frame.cell, -content.frame.cell,
                                first.x(), first.y()));
  files.push_back(world);
  if (!content.datum.crs.empty()) {
    fs::path named = file;
    named.replace_extension(".prj");
    write_file(named, crs_of(content.datum.crs).old_wkt + "\n");
    files.push_back(named);
  }
  return files;
}

std::string raster_fingerprint(const fs::path& file) {
  start_gdal();
  constexpr const char* kDrivers[] = {"GTiff", nullptr};
  const Dataset set(GDALDataset::Open(file.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY, kDrivers));
  const char* text = set ? set->GetMetadataItem(kFingerprint) : nullptr;
  return text ? text : "";
}

}  // namespace icefield
