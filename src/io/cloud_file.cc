#include "icefield/io/cloud_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <limits>

#include "icefield/base/error.h"
#include "icefield/world/crs.h"
#include "src/io/file_writer.h"
#include "src/io/tile_table.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

static_assert(std::endian::native == std::endian::little);

template <class T>
void store(std::string& out, T value) {
  char bytes[sizeof(T)];
  std::memcpy(bytes, &value, sizeof value);
  out.append(bytes, sizeof(T));
}

template <class T>
void store_at(std::string& out, std::size_t at, T value) {
  std::memcpy(out.data() + at, &value, sizeof value);
}

void store_text(std::string& out, std::size_t at, std::string_view text, std::size_t room) {
  std::copy_n(text.data(), std::min(text.size(), room), out.data() + at);
}

// An extra attribute of LAS points (table "extra bytes descriptor" of the specification).
struct Extra {
  const char* name;
  std::uint8_t type;  // 1: uint8, 3: uint16, 9: float
  const char* meaning;
};

std::vector<Extra> extras_of(const CloudContent& content) {
  std::vector<Extra> extras;
  if (content.views) extras.push_back({"views", 3, "photos that agree on the point"});
  if (content.errors) extras.push_back({"error", 9, "expected error, in units of x"});
  if (content.conflicts) extras.push_back({"conflicts", 3, "photos that see past the point"});
  if (content.faults) extras.push_back({"fault", 1, "why cleaning took it out"});
  if (content.class_confidence) extras.push_back({"class confidence", 1, "how sure the class is, percent"});
  if (content.normals)
    for (const char* axis : {"normal x", "normal y", "normal z"})
      extras.push_back({axis, 9, "unit, away from the surface"});
  return extras;
}

constexpr std::size_t kLasHeader = 375, kLas12Header = 227, kLasRecord = 36, kLas12Record = 26, kVlrHeader = 54,
                      kExtraDescriptor = 192;

// A variable-length record.
std::string vlr_of(const char* user, std::uint16_t number, const char* description, const std::string& content) {
  std::string vlr(kVlrHeader, '\0');
  store_text(vlr, 2, user, 16);
  store_at<std::uint16_t>(vlr, 18, number);
  store_at<std::uint16_t>(vlr, 20, static_cast<std::uint16_t>(content.size()));
  store_text(vlr, 22, description, 32);
  return vlr + content;
}

// The number of "EPSG:25832"; 0 for another text.
int code_of(const std::string& id) {
  const bool epsg = id.starts_with("EPSG:") && id.size() > 5 && id.size() < 12 &&
                    std::all_of(id.begin() + 5, id.end(), [](char c) { return c >= '0' && c <= '9'; });
  return epsg ? std::stoi(id.substr(5)) : 0;
}

}  // namespace

CloudFormat cloud_format_of(const fs::path& file, bool ascii) {
  std::string extension = file.extension().string();
  std::transform(extension.begin(), extension.end(), extension.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  if (extension == ".ply" || extension.empty()) return ascii ? CloudFormat::ply_ascii : CloudFormat::ply;
  if (extension == ".las") return CloudFormat::las;
  if (extension == ".xyz" || extension == ".txt") return CloudFormat::xyz;
  throw Error(ErrorKind::usage, file.string(), "has an extension that names no format of clouds",
              "end it in .ply, .las or .xyz");
}

CloudContent content_of(const PointCloud& cloud) {
  CloudContent content;
  content.normals = !cloud.normals.empty(), content.colours = !cloud.colours.empty(),
  content.views = !cloud.views.empty();
  content.gsd = !cloud.gsd.empty(), content.counted = !cloud.counted.empty(), content.errors = !cloud.errors.empty();
  content.conflicts = !cloud.conflicts.empty(), content.faults = !cloud.faults.empty();
  content.classes = !cloud.classes.empty(), content.class_confidence = !cloud.class_confidence.empty();
  content.origin = cloud.origin;
  content.datum = cloud.datum;
  return content;
}

std::vector<std::string> tile_properties() {
  std::vector<std::string> names{"first", "spacing", "low_x", "low_y", "low_z", "high_x", "high_y", "high_z"};
  for (int l = 0; l < kCloudLevels; ++l) names.push_back(fmt::format("level_{}", l));
  return names;
}

struct CloudWriter::Sink {
  fs::path path;
  FileWriter file;
  CloudFormat format;
  CloudContent content;
  std::uint64_t points = 0;
  std::string buffer;
  // PLY: where the counts stand, and the table of tiles. LAS: scale, offset and what the points reach.
  std::size_t count_at = 0, tile_count_at = 0;
  std::uint64_t tiles = 0;
  std::string table;
  std::uint32_t record_count = 0;
  std::size_t record_bytes = 0;
  bool with_wkt = false;
  double scale = 1;
  Eigen::Vector3d offset = Eigen::Vector3d::Zero();
  Eigen::Vector3d low = Eigen::Vector3d::Constant(std::numeric_limits<double>::infinity()), high = -low;

  Sink(const fs::path& name, CloudFormat f, const CloudContent& c) : path(name), file(name), format(f), content(c) {
    if (is_las())
      begin_las();
    else if (format != CloudFormat::xyz)
      begin_ply();
  }

  Eigen::Vector3d place(const PointCloud& cloud, std::size_t i) const {
    return content.origin + cloud.positions[i].cast<double>();
  }
  bool is_las() const { return format == CloudFormat::las || format == CloudFormat::las_12; }
  bool wide() const { return !content.origin.isZero(); }

  // The count comes last; a comment behind it takes up what its digits leave.
  static std::string count_line(const char* element, std::uint64_t count) {
    const std::string digits = std::to_string(count);
    return fmt::format("element {} {}\ncomment {}\n", element, digits, std::string(21 - digits.size(), '.'));
  }
  bool tiled() const { return content.tiled && format == CloudFormat::ply; }

  static std::string one_line(std::string text) {
    std::replace_if(
        text.begin(), text.end(), [](char c) { return c == '\n' || c == '\r'; }, ' ');
    return text;
  }

  void begin_ply() {
    std::string header = fmt::format("ply\nformat {} 1.0\ncomment written by Icefield\n",
                                     format == CloudFormat::ply_ascii ? "ascii" : "binary_little_endian");
    if (!content.fingerprint.empty()) header += "comment fingerprint " + content.fingerprint + "\n";
    const Datum& datum = content.datum;
    if (!datum.crs.empty()) header += "comment crs " + one_line(datum.crs) + "\n";
    if (!datum.vertical_crs.empty()) header += "comment vertical_crs " + one_line(datum.vertical_crs) + "\n";
    if (datum.known()) header += fmt::format("comment units {}\ncomment axes {}\n", datum.units, describe(datum.axes));
    if (wide())
      header += fmt::format("comment origin {} {} {}\n", content.origin.x(), content.origin.y(), content.origin.z());
    count_at = header.size();
    header += count_line("vertex", 0);
    for (const char* axis : {"x", "y", "z"})
      header += fmt::format("property {} {}\n", wide() ? "double" : "float", axis);
    if (content.normals) header += "property float nx\nproperty float ny\nproperty float nz\n";
    if (content.colours) header += "property uchar red\nproperty uchar green\nproperty uchar blue\n";
    if (content.views) header += "property ushort views\n";
    if (content.errors) header += "property float error\n";
    if (content.conflicts) header += "property ushort conflicts\n";
    if (content.faults) header += "property uchar fault\n";
    if (content.classes) header += "property uchar classification\n";
    if (content.class_confidence) header += "property uchar class_confidence\n";
    if (content.gsd) header += "property float gsd\n";
    if (content.counted) header += "property uchar counted\n";
    if (tiled()) {
      tile_count_at = header.size();
      header += count_line("tile", 0);
      for (const std::string& name : tile_properties()) header += "property double " + name + "\n";
    }
    file.append(header + "end_header\n");
  }

  void begin_las() {
    // A power of ten that keeps a hundredth of the spacing; offset in whole units near the origin.
    scale = std::pow(10.0, std::floor(std::log10(std::max(1e-9, content.spacing / 100))));
    offset = content.origin.array().round();
    file.append(std::string(header_size(), '\0'));  // in the end
    std::string records;
    if (const std::vector<Extra> extras = extras_of(content); !old() && !extras.empty()) {
      std::string described(kExtraDescriptor * extras.size(), '\0');
      for (std::size_t k = 0; k < extras.size(); ++k) {
        const std::size_t at = k * kExtraDescriptor;
        described[at + 2] = static_cast<char>(extras[k].type);
        store_text(described, at + 4, extras[k].name, 32);
        store_text(described, at + 160, extras[k].meaning, 32);
      }
      records += vlr_of("LASF_Spec", 4, "attributes of the points", described);
      ++record_count;
    }
    if (!content.datum.crs.empty()) add_crs(records);
    record_bytes = records.size();
    file.append(records);
  }
  bool old() const { return format == CloudFormat::las_12; }
  std::size_t header_size() const { return old() ? kLas12Header : kLasHeader; }

  // As WKT, or for files of before that by codes (GeoTIFF's keys).
  void add_crs(std::string& records) {
    const Crs crs = crs_of(content.datum.crs);
    constexpr std::size_t kMostText = 60000;
    if (!old()) {
      if (crs.old_wkt.empty() || crs.old_wkt.size() > kMostText) return;
      records += vlr_of("LASF_Projection", 2112, "coordinate reference system", crs.old_wkt + '\0');
      ++record_count, with_wkt = true;
      return;
    }
    const int plan = code_of(crs.id.substr(0, crs.id.find('+'))), heights = code_of(crs.vertical_id);
    if (plan == 0 || plan > 65535) return;
    std::vector<std::uint16_t> keys = {1024, 0, 1, 1, 3072, 0, 1, static_cast<std::uint16_t>(plan)};
    if (heights > 0 && heights <= 65535)
      for (const std::uint16_t value : {4096, 0, 1, heights}) keys.push_back(value);
    std::string text;
    for (const std::uint16_t value : {1, 1, 0, static_cast<int>(keys.size() / 4)}) store(text, value);
    for (const std::uint16_t value : keys) store(text, value);
    records += vlr_of("LASF_Projection", 34735, "coordinate reference system", text);
    ++record_count;
  }

  std::size_t record_size() const {
    if (old()) return kLas12Record;
    std::size_t size = kLasRecord;
    for (const Extra& e : extras_of(content)) size += e.type == 1 ? 1 : e.type == 3 ? 2 : 4;
    return size;
  }

  void add_las(const PointCloud& cloud, std::size_t i) {
    const Eigen::Vector3d p = place(cloud, i);
    for (int c = 0; c < 3; ++c) {
      const double steps = std::round((p[c] - offset[c]) / scale);
      if (!(std::abs(steps) <= 2147483647.0))
        throw Error(ErrorKind::usage, path.string(),
                    fmt::format("cannot store a point {:.3g} units from the origin in steps of {:.0e}: LAS has 32 bits",
                                p[c] - offset[c], scale),
                    "crop the cloud, or write PLY");
      store(buffer, static_cast<std::int32_t>(steps));
      const double kept = steps * scale + offset[c];
      low[c] = std::min(low[c], kept), high[c] = std::max(high[c], kept);
    }
    store<std::uint16_t>(buffer, 0);  // intensity
    if (old()) {
      // Return 1 of 1; the class, in the five bits that there are; angle, user data.
      const int of_class = content.classes ? cloud.classes[i] & 31 : 0;
      for (const int value : {0x09, of_class, 0, 0}) store(buffer, static_cast<std::uint8_t>(value));
      store<std::uint16_t>(buffer, 0);  // source
      add_las_colour(cloud, i);
      return;
    }
    store<std::uint8_t>(buffer, 0x11);  // return 1 of 1
    store<std::uint8_t>(buffer, 0);     // flags, channel
    store<std::uint8_t>(buffer, content.classes ? cloud.classes[i] : 0);
    store<std::uint8_t>(buffer, 0);   // user data
    store<std::int16_t>(buffer, 0);   // scan angle
    store<std::uint16_t>(buffer, 0);  // source
    store<double>(buffer, 0);         // time
    add_las_colour(cloud, i);
    if (content.views) store(buffer, cloud.views[i]);
    if (content.errors) store(buffer, cloud.errors[i]);
    if (content.conflicts) store(buffer, cloud.conflicts[i]);
    if (content.faults) store(buffer, cloud.faults[i]);
    if (content.class_confidence) store(buffer, cloud.class_confidence[i]);
    if (content.normals)
      for (int c = 0; c < 3; ++c) store(buffer, cloud.normals[i][c]);
  }

  void add_las_colour(const PointCloud& cloud, std::size_t i) {
    for (int c = 0; c < 3; ++c)
      store<std::uint16_t>(buffer, content.colours
                                       ? static_cast<std::uint16_t>(cloud.colours[i][static_cast<std::size_t>(c)] * 257)
                                       : 0);
  }

  void add_ply(const PointCloud& cloud, std::size_t i) {
    const Eigen::Vector3d p = place(cloud, i);
    for (int c = 0; c < 3; ++c) wide() ? store(buffer, p[c]) : store(buffer, cloud.positions[i][c]);
    if (content.normals)
      for (int c = 0; c < 3; ++c) store(buffer, cloud.normals[i][c]);
    if (content.colours) buffer.append(reinterpret_cast<const char*>(cloud.colours[i].data()), 3);
    if (content.views) store(buffer, cloud.views[i]);
    if (content.errors) store(buffer, cloud.errors[i]);
    if (content.conflicts) store(buffer, cloud.conflicts[i]);
    if (content.faults) store(buffer, cloud.faults[i]);
    if (content.classes) store(buffer, cloud.classes[i]);
    if (content.class_confidence) store(buffer, cloud.class_confidence[i]);
    if (content.gsd) store(buffer, cloud.gsd[i]);
    if (content.counted) store(buffer, cloud.counted[i]);
  }

  // Names and order as tile_properties() has them.
  void add_to_table(const PointCloud& cloud, double spacing, const CloudLevels& levels) {
    Eigen::Vector3d lowest = Eigen::Vector3d::Constant(std::numeric_limits<double>::infinity()), highest = -lowest;
    for (std::size_t i = 0; i < cloud.size(); ++i)
      lowest = lowest.cwiseMin(place(cloud, i)), highest = highest.cwiseMax(place(cloud, i));
    store(table, static_cast<double>(points));
    store(table, spacing);
    for (const Eigen::Vector3d& corner : {lowest, highest})
      for (int c = 0; c < 3; ++c) store(table, corner[c]);
    for (const std::uint64_t end : levels.end) store(table, static_cast<double>(end));
    ++tiles;
  }

  // PLY has normals before colours, XYZ after them.
  void add_text(const PointCloud& cloud, std::size_t i) {
    const auto out = std::back_inserter(buffer);
    const Eigen::Vector3d p = place(cloud, i);
    for (int c = 0; c < 3; ++c) {
      if (c > 0) buffer += ' ';
      if (wide())
        fmt::format_to(out, "{:.4f}", p[c]);
      else
        fmt::format_to(out, "{}", cloud.positions[i][c]);
    }
    const auto normal = [&] {
      if (content.normals)
        fmt::format_to(out, " {:.4f} {:.4f} {:.4f}", cloud.normals[i].x(), cloud.normals[i].y(), cloud.normals[i].z());
    };
    const auto colour = [&] {
      if (content.colours)
        fmt::format_to(out, " {} {} {}", cloud.colours[i][0], cloud.colours[i][1], cloud.colours[i][2]);
    };
    if (format == CloudFormat::xyz) {
      colour(), normal();
    } else {
      normal(), colour();
      if (content.views) fmt::format_to(out, " {}", cloud.views[i]);
      if (content.errors) fmt::format_to(out, " {}", cloud.errors[i]);
      if (content.conflicts) fmt::format_to(out, " {}", cloud.conflicts[i]);
      if (content.faults) fmt::format_to(out, " {}", cloud.faults[i]);
      if (content.classes) fmt::format_to(out, " {}", cloud.classes[i]);
      if (content.class_confidence) fmt::format_to(out, " {}", cloud.class_confidence[i]);
      if (content.gsd) fmt::format_to(out, " {}", cloud.gsd[i]);
      if (content.counted) fmt::format_to(out, " {}", cloud.counted[i]);
    }
    buffer += '\n';
  }

  void finish_las() {
    std::string h(header_size(), '\0');
    store_text(h, 0, "LASF", 4);
    store_at<std::uint16_t>(h, 6, with_wkt ? 16 : 0);
    h[24] = 1, h[25] = old() ? 2 : 4;
    store_text(h, 26, "photogrammetry", 32);
    store_text(h, 58, "Icefield", 32);
    store_at<std::uint16_t>(h, 94, static_cast<std::uint16_t>(header_size()));
    store_at<std::uint32_t>(h, 96, static_cast<std::uint32_t>(header_size() + record_bytes));
    store_at<std::uint32_t>(h, 100, record_count);
    h[104] = old() ? 2 : 7;
    store_at<std::uint16_t>(h, 105, static_cast<std::uint16_t>(record_size()));
    if (old()) {
      if (points > 0xffffffffu)
        throw Error(ErrorKind::usage, path.string(), "has more points than LAS 1.2 can count", "write LAS 1.4");
      for (const std::size_t at : {107, 111}) store_at<std::uint32_t>(h, at, static_cast<std::uint32_t>(points));
    }
    for (int c = 0; c < 3; ++c) {
      const auto k = static_cast<std::size_t>(c) * 8;
      store_at(h, 131 + k, scale);
      store_at(h, 155 + k, offset[c]);
      store_at(h, 179 + 2 * k, points > 0 ? high[c] : 0.0);
      store_at(h, 187 + 2 * k, points > 0 ? low[c] : 0.0);
    }
    if (!old())
      for (const std::size_t at : {247, 255}) store_at<std::uint64_t>(h, at, points);  // all are first returns
    file.overwrite(0, h);
  }
};

CloudWriter::CloudWriter(const fs::path& file, CloudFormat format, const CloudContent& content)
    : sink_(std::make_unique<Sink>(file, format, content)) {}
CloudWriter::~CloudWriter() = default;
std::uint64_t CloudWriter::points() const {
  return sink_->points;
}

void CloudWriter::add(const PointCloud& cloud) {
  Sink& sink = *sink_;
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    switch (sink.format) {
      case CloudFormat::las:
      case CloudFormat::las_12:
        sink.add_las(cloud, i);
        break;
      case CloudFormat::ply:
        sink.add_ply(cloud, i);
        break;
      case CloudFormat::ply_ascii:
      case CloudFormat::xyz:
        sink.add_text(cloud, i);
        break;
    }
    ++sink.points;
    if (sink.buffer.size() > 60000) {
      sink.file.append(sink.buffer);
      sink.buffer.clear();
    }
  }
  sink.file.append(sink.buffer);
  sink.buffer.clear();
}

void CloudWriter::add_tile(const PointCloud& cloud, double spacing) {
  if (!sink_->tiled() || cloud.size() == 0) {
    add(cloud);
    return;
  }
  const CloudLevels levels = in_levels(cloud, spacing);
  sink_->add_to_table(cloud, spacing, levels);
  add(pick(cloud, levels.order));
}

void CloudWriter::finish() {
  Sink& sink = *sink_;
  if (sink.is_las()) sink.finish_las();
  if (sink.tiled()) sink.file.append(sink.table);
  if (sink.format == CloudFormat::ply || sink.format == CloudFormat::ply_ascii)
    sink.file.overwrite(sink.count_at, Sink::count_line("vertex", sink.points));
  if (sink.tiled()) sink.file.overwrite(sink.tile_count_at, Sink::count_line("tile", sink.tiles));
  sink.file.finish();
}

void write_cloud(const fs::path& file, CloudFormat format, const PointCloud& cloud, double spacing) {
  CloudContent content = content_of(cloud);
  content.spacing = spacing;
  CloudWriter writer(file, format, content);
  writer.add(cloud);
  writer.finish();
}

}  // namespace icefield
