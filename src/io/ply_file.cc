#include "icefield/io/ply_file.h"

#include <fmt/format.h>

#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>
#include <functional>
#include <optional>
#include <sstream>

#include "icefield/base/error.h"
#include "icefield/io/cloud_file.h"
#include "icefield/io/text_file.h"

namespace icefield {
namespace {

static_assert(std::endian::native == std::endian::little);

enum class Scalar { i8, u8, i16, u16, i32, u32, f32, f64 };

std::optional<Scalar> scalar_by_name(const std::string& name) {
  static const std::pair<const char*, Scalar> names[] = {
      {"char", Scalar::i8},    {"int8", Scalar::i8},   {"uchar", Scalar::u8},   {"uint8", Scalar::u8},
      {"short", Scalar::i16},  {"int16", Scalar::i16}, {"ushort", Scalar::u16}, {"uint16", Scalar::u16},
      {"int", Scalar::i32},    {"int32", Scalar::i32}, {"uint", Scalar::u32},   {"uint32", Scalar::u32},
      {"float", Scalar::f32},  {"float32", Scalar::f32}, {"double", Scalar::f64}, {"float64", Scalar::f64}};
  for (const auto& [n, s] : names)
    if (name == n) return s;
  return std::nullopt;
}

std::size_t scalar_size(Scalar s) {
  constexpr std::size_t sizes[] = {1, 1, 2, 2, 4, 4, 4, 8};
  return sizes[static_cast<int>(s)];
}

template <class T>
double load(const char* p) {
  T v;
  std::memcpy(&v, p, sizeof v);
  return static_cast<double>(v);
}

double load_scalar(Scalar s, const char* p) {
  switch (s) {
    case Scalar::i8: return load<std::int8_t>(p);
    case Scalar::u8: return load<std::uint8_t>(p);
    case Scalar::i16: return load<std::int16_t>(p);
    case Scalar::u16: return load<std::uint16_t>(p);
    case Scalar::i32: return load<std::int32_t>(p);
    case Scalar::u32: return load<std::uint32_t>(p);
    case Scalar::f32: return load<float>(p);
    case Scalar::f64: break;
  }
  return load<double>(p);
}

struct Property {
  std::string name;
  Scalar type;
};

}  // namespace

void write_ply(const std::filesystem::path& file, const PointCloud& cloud, PlyEncoding encoding) {
  write_cloud(file, encoding == PlyEncoding::ascii ? CloudFormat::ply_ascii : CloudFormat::ply, cloud);
}

PointCloud read_ply(const std::filesystem::path& file) {
  const std::string content = read_file(file, std::size_t{8} << 30);
  const auto reject = [&](const std::string& fault) {
    throw Error(ErrorKind::input, file.string(), fault, "give an ASCII or little-endian PLY of points");
  };
  const std::size_t header_end = content.find("end_header");
  if (content.compare(0, 3, "ply") != 0 || header_end == std::string::npos) reject("is no PLY");
  std::istringstream header(content.substr(0, header_end));
  std::vector<Property> properties;
  std::size_t count = 0;
  bool ascii = false, in_vertex = false, seen_vertex = false, known_format = false;
  for (std::string line; std::getline(header, line);) {
    std::istringstream words(line);
    std::string word;
    words >> word;
    if (word == "format") {
      words >> word;
      ascii = word == "ascii";
      known_format = ascii || word == "binary_little_endian";
    } else if (word == "element") {
      std::string name;
      words >> name;
      if (name == "vertex" && !seen_vertex) {
        if (!(words >> count)) reject("states no number of points");
        in_vertex = seen_vertex = true;
      } else {
        if (!seen_vertex) reject("has another element before its points");
        in_vertex = false;
      }
    } else if (word == "property" && in_vertex) {
      std::string type, name;
      words >> type >> name;
      const auto scalar = scalar_by_name(type);
      if (!scalar) reject("has a property of type '" + type + "' among its points");
      properties.push_back({name, *scalar});
    }
  }
  if (!known_format) reject("is in an unknown encoding");

  const auto find = [&](const char* name) {
    for (std::size_t i = 0; i < properties.size(); ++i)
      if (properties[i].name == name) return static_cast<int>(i);
    return -1;
  };
  const int x = find("x"), y = find("y"), z = find("z"), nx = find("nx"), ny = find("ny"), nz = find("nz");
  const int red = find("red"), green = find("green"), blue = find("blue");
  const int views = find("views"), errors = find("error"), gsd = find("gsd"), counted = find("counted");
  if (x < 0 || y < 0 || z < 0) reject("has no x, y, z");

  std::size_t stride = 0;
  for (const Property& p : properties) stride += scalar_size(p.type);
  const char* data = content.data() + header_end;
  const char* end = content.data() + content.size();
  while (data < end && *data != '\n') ++data;
  if (data < end) ++data;
  const std::size_t room = static_cast<std::size_t>(end - data);
  if (count > room / (ascii ? 2 * properties.size() : stride)) reject(fmt::format("ends before its {} points", count));

  PointCloud cloud;
  cloud.positions.reserve(count);
  std::vector<double> values(properties.size());
  for (std::size_t i = 0; i < count; ++i) {
    if (ascii) {
      for (double& v : values) {
        while (data < end && (*data == ' ' || *data == '\n' || *data == '\r' || *data == '\t')) ++data;
        const auto [next, error] = std::from_chars(data, end, v);
        if (error != std::errc()) reject(fmt::format("point {} cannot be read", i));
        data = next;
      }
    } else {
      for (std::size_t k = 0; k < properties.size(); ++k) {
        values[k] = load_scalar(properties[k].type, data);
        data += scalar_size(properties[k].type);
      }
    }
    const Eigen::Vector3d position(values[x], values[y], values[z]);
    if (!position.allFinite()) reject(fmt::format("point {} is not finite", i));
    if (i == 0 && position.cwiseAbs().maxCoeff() > 10000) cloud.origin = position.array().floor();
    cloud.positions.push_back((position - cloud.origin).cast<float>());
    if (nx >= 0 && ny >= 0 && nz >= 0) cloud.normals.emplace_back(values[nx], values[ny], values[nz]);
    if (red >= 0 && green >= 0 && blue >= 0) {
      const auto byte = [](double v) { return static_cast<std::uint8_t>(std::clamp(v, 0.0, 255.0)); };
      cloud.colours.push_back({byte(values[red]), byte(values[green]), byte(values[blue])});
    }
    if (views >= 0) cloud.views.push_back(static_cast<std::uint16_t>(std::clamp(values[views], 0.0, 65535.0)));
    if (errors >= 0) cloud.errors.push_back(static_cast<float>(values[errors]));
    if (gsd >= 0) cloud.gsd.push_back(static_cast<float>(values[gsd]));
    if (counted >= 0) cloud.counted.push_back(values[counted] != 0);
  }
  return cloud;
}

}  // namespace icefield
