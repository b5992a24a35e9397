#include "icefield/io/ply_file.h"

#include <fmt/format.h>

#include <cmath>
#include <fstream>
#include <limits>
#include <optional>
#include <sstream>

#include "icefield/base/error.h"
#include "icefield/io/cloud_file.h"
#include "icefield/io/text_file.h"
#include "src/io/ply_parts.h"

namespace icefield {
void write_ply(const std::filesystem::path& file, const PointCloud& cloud, PlyEncoding encoding) {
  write_cloud(file, encoding == PlyEncoding::ascii ? CloudFormat::ply_ascii : CloudFormat::ply, cloud);
}

struct PlyReader::Source {
  std::filesystem::path path;
  Pieces pieces;
  std::vector<Property> properties;
  std::uint64_t count = 0, done = 0, first_place = 0, tiles = 0;
  std::vector<Property> tile_properties;
  bool ascii = false, stated_origin = false;
  CloudContent content;
  std::size_t stride = 0;
  std::vector<double> values;
  int x, y, z, nx, ny, nz, red, green, blue, views, errors, conflicts, faults, classes, class_confidence, gsd, counted;

  [[noreturn]] void reject(const std::string& fault) const {
    throw Error(ErrorKind::input, path.string(), fault, "give an ASCII or little-endian PLY of points");
  }

  explicit Source(const std::filesystem::path& file) : path(file), pieces(file) {
    if (!pieces.opened() || std::filesystem::is_directory(file))
      throw Error(ErrorKind::input, file.string(), "cannot be read", "check that it is there and may be read");
    std::string line;
    if (!pieces.line(line) || line != "ply") reject("is no PLY");
    enum class In { nothing, vertex, tile, other } in = In::nothing;
    bool seen_vertex = false, known_format = false, ended = false;
    for (int lines = 0; lines < 100000 && pieces.line(line); ++lines) {
      std::istringstream words(line);
      std::string word;
      words >> word;
      if (word == "end_header") {
        ended = true;
        break;
      }
      if (word == "format") {
        words >> word;
        ascii = word == "ascii";
        known_format = ascii || word == "binary_little_endian";
      } else if (word == "comment") {
        read_comment(words);
      } else if (word == "element") {
        std::string name;
        words >> name;
        if (name == "vertex" && !seen_vertex) {
          if (!(words >> count)) reject("states no number of points");
          in = In::vertex, seen_vertex = true;
        } else {
          if (!seen_vertex) reject("has another element before its points");
          // Where a table of tiles would stand: right behind the points.
          in = in == In::vertex && name == "tile" && words >> tiles ? In::tile : In::other;
        }
      } else if (word == "property" && (in == In::vertex || in == In::tile)) {
        std::string type, name;
        words >> type >> name;
        const auto scalar = scalar_by_name(type);
        if (scalar)
          (in == In::vertex ? properties : tile_properties).push_back({name, *scalar});
        else if (in == In::vertex)
          reject("has a property of type '" + type + "' among its points");
        else
          tiles = 0;  // another program's
      }
    }
    if (!ended) reject("is no PLY");
    if (!known_format) reject("is in an unknown encoding");
    const auto find = [&](const char* name) {
      for (std::size_t i = 0; i < properties.size(); ++i)
        if (properties[i].name == name) return static_cast<int>(i);
      return -1;
    };
    x = find("x"), y = find("y"), z = find("z"), nx = find("nx"), ny = find("ny"), nz = find("nz");
    red = find("red"), green = find("green"), blue = find("blue");
    views = find("views"), errors = find("error"), conflicts = find("conflicts"), faults = find("fault"),
    classes = find("classification"), class_confidence = find("class_confidence"), gsd = find("gsd"),
    counted = find("counted");
    if (x < 0 || y < 0 || z < 0) reject("has no x, y, z");
    content.normals = nx >= 0 && ny >= 0 && nz >= 0, content.colours = red >= 0 && green >= 0 && blue >= 0;
    content.views = views >= 0, content.errors = errors >= 0, content.conflicts = conflicts >= 0,
    content.faults = faults >= 0, content.classes = classes >= 0, content.class_confidence = class_confidence >= 0;
    content.gsd = gsd >= 0, content.counted = counted >= 0;
    for (const Property& p : properties) stride += scalar_size(p.type);
    if (stride > 100000) reject("has too many properties");
    std::error_code error;
    const std::uint64_t room = std::filesystem::file_size(path, error);
    if (!error && count > room / (ascii ? 2 * properties.size() : stride))
      reject(fmt::format("ends before its {} points", count));
    values.resize(properties.size());
    first_place = pieces.place();
  }

  void go_to(std::uint64_t point) {
    point = std::min(point, count);
    if (ascii) {
      PointCloud passed_over;
      while (done < point) next(passed_over), passed_over = {};
      return;
    }
    pieces.go_to(first_place + point * stride);
    done = point;
  }

  std::vector<std::vector<double>> tile_table(const std::vector<std::string>& names) {
    std::vector<std::vector<double>> rows;
    if (ascii || tiles == 0) return rows;
    std::size_t size = 0;
    for (const Property& p : tile_properties) size += scalar_size(p.type);
    pieces.go_to(first_place + count * stride);
    for (std::uint64_t row = 0; row < tiles; ++row) {
      const char* data = size < 10000 ? pieces.take(size) : nullptr;
      if (!data) reject(fmt::format("ends before its {} tiles", tiles));
      std::vector<double> wanted(names.size(), 0);
      std::size_t found = 0;
      for (const Property& p : tile_properties) {
        for (std::size_t k = 0; k < names.size(); ++k)
          if (names[k] == p.name) wanted[k] = load_scalar(p.type, data), ++found;
        data += scalar_size(p.type);
      }
      if (found != names.size()) return {};
      rows.push_back(std::move(wanted));
    }
    return rows;
  }

  // What Icefield says of a cloud.
  void read_comment(std::istringstream& words) {
    std::string what, rest;
    words >> what >> std::ws;
    std::getline(words, rest);
    if (what == "fingerprint") content.fingerprint = rest;
    if (read_frame_comment(what, rest, content.datum, content.origin)) stated_origin = true;
  }

  void next_values() {
    if (ascii) {
      for (double& v : values)
        if (!pieces.number(v)) reject(fmt::format("point {} cannot be read", done));
      return;
    }
    const char* data = pieces.take(stride);
    if (!data) reject(fmt::format("ends before its {} points", count));
    for (std::size_t k = 0; k < properties.size(); ++k) {
      values[k] = load_scalar(properties[k].type, data);
      data += scalar_size(properties[k].type);
    }
  }

  double value(int property) const { return values[static_cast<std::size_t>(property)]; }
  template <class T>
  T whole(int property) const {
    const double v = value(property), most = std::numeric_limits<T>::max();
    return v >= 0 ? static_cast<T>(std::min(v, most)) : T{0};
  }

  void next(PointCloud& cloud) {
    next_values();
    const Eigen::Vector3d position(value(x), value(y), value(z));
    if (!position.allFinite()) reject(fmt::format("point {} is not finite", done));
    if (done == 0 && !stated_origin && position.cwiseAbs().maxCoeff() > 10000)
      content.origin = position.array().floor();
    cloud.origin = content.origin;
    cloud.positions.push_back((position - content.origin).cast<float>());
    if (content.normals) cloud.normals.emplace_back(value(nx), value(ny), value(nz));
    if (content.colours)
      cloud.colours.push_back({whole<std::uint8_t>(red), whole<std::uint8_t>(green), whole<std::uint8_t>(blue)});
    if (content.views) cloud.views.push_back(whole<std::uint16_t>(views));
    if (content.errors) cloud.errors.push_back(static_cast<float>(value(errors)));
    if (content.conflicts) cloud.conflicts.push_back(whole<std::uint16_t>(conflicts));
    if (content.faults) cloud.faults.push_back(whole<std::uint8_t>(faults));
    if (content.classes) cloud.classes.push_back(whole<std::uint8_t>(classes));
    if (content.class_confidence) cloud.class_confidence.push_back(whole<std::uint8_t>(class_confidence));
    if (content.gsd) cloud.gsd.push_back(static_cast<float>(value(gsd)));
    if (content.counted) cloud.counted.push_back(value(counted) != 0);
    ++done;
  }
};

PlyReader::PlyReader(const std::filesystem::path& file) : source_(std::make_unique<Source>(file)) {}
PlyReader::~PlyReader() = default;
const CloudContent& PlyReader::content() const {
  return source_->content;
}
std::uint64_t PlyReader::points() const {
  return source_->count;
}

bool PlyReader::read(PointCloud& part, std::size_t most) {
  part = {};
  part.origin = source_->content.origin, part.datum = source_->content.datum;
  while (part.size() < most && source_->done < source_->count) source_->next(part);
  return part.size() > 0;
}

void PlyReader::go_to(std::uint64_t point) {
  source_->go_to(point);
}
std::vector<std::vector<double>> PlyReader::tile_table(const std::vector<std::string>& names) {
  auto rows = source_->tile_table(names);
  source_->go_to(source_->ascii ? source_->done : 0);
  return rows;
}
bool PlyReader::is_text() const {
  return source_->ascii;
}

PointCloud read_ply(const std::filesystem::path& file) {
  PlyReader reader(file);
  PointCloud cloud;
  reader.read(cloud, std::numeric_limits<std::size_t>::max());
  return cloud;
}

}  // namespace icefield
