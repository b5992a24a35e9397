#include "src/io/mesh_readers.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <limits>
#include <numeric>
#include <sstream>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "src/io/ply_parts.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

constexpr std::uint64_t kMostCorners = 1000;  // of a face

[[noreturn]] void reject(const fs::path& file, const std::string& fault, const char* remedy) {
  throw Error(ErrorKind::input, file.string(), fault, remedy);
}

// A mesh as its rows come, with an origin where the first vertex is far away.
class Gathered {
 public:
  explicit Gathered(const fs::path& file) : file_(file) {}
  Mesh mesh;

  void set_origin(const Vector3d& origin) {
    mesh.origin = origin;
    known_ = true;
  }
  void add(const Vector3d& p) {
    constexpr double kFar = 10000;
    if (!known_ && p.allFinite()) {
      if (p.cwiseAbs().maxCoeff() > kFar) mesh.origin = p.array().floor();
      known_ = true;
    }
    mesh.positions.push_back((p - mesh.origin).cast<float>());
  }
  // As a fan about its first corner.
  void add_face(std::span<const std::uint64_t> corners) {
    for (const std::uint64_t v : corners)
      if (v >= 0xffffffffu)
        reject(file_, fmt::format("has vertex {} in face {}", v, mesh.faces.size()), "write it again");
    for (std::size_t k = 2; k < corners.size(); ++k)
      mesh.faces.push_back({static_cast<std::uint32_t>(corners[0]), static_cast<std::uint32_t>(corners[k - 1]),
                            static_cast<std::uint32_t>(corners[k])});
  }
  Mesh take() {
    for (std::size_t f = 0; f < mesh.faces.size(); ++f)
      for (const std::uint32_t v : mesh.faces[f])
        if (v >= mesh.positions.size())
          reject(file_, fmt::format("has vertex {} in face {}, and {} vertices", v, f, mesh.positions.size()),
                 "write it again: numbers count from 0 in PLY and from 1 in OBJ");
    return std::move(mesh);
  }

 private:
  const fs::path& file_;
  bool known_ = false;
};

// A property of a PLY: a number, or a list of them with its count before it.
struct Column {
  std::string name;
  Scalar type = Scalar::f32;
  std::optional<Scalar> count;
};
struct Element {
  std::string name;
  std::uint64_t rows = 0;
  std::vector<Column> columns;
};

class MeshPly {
 public:
  explicit MeshPly(const fs::path& file) : file_(file), pieces_(file), gathered_(file) {}

  Mesh read() {
    read_head();
    for (const Element& element : elements_) {
      const bool vertices = element.name == "vertex", faces = element.name == "face";
      Places at;
      if (vertices) at = places(element);
      values_.resize(element.columns.size());
      std::size_t corners = element.columns.size(), kind = corners;
      for (std::size_t c = 0; c < element.columns.size() && faces; ++c) {
        const Column& column = element.columns[c];
        if (column.count && (column.name == "vertex_indices" || column.name == "vertex_index")) corners = c;
        if (!column.count && column.name == "kind") kind = c;
      }
      if (faces && corners == element.columns.size() && element.rows > 0)
        no("has faces without a list of vertices (vertex_indices)");
      for (std::uint64_t row = 0; row < element.rows; ++row) {
        read_row(element, row, corners);
        if (vertices) take_vertex(at);
        if (!faces) continue;
        const std::size_t before = gathered_.mesh.faces.size();
        gathered_.add_face(corners_);
        if (kind < values_.size())
          gathered_.mesh.kinds.resize(gathered_.mesh.kinds.size() + gathered_.mesh.faces.size() - before,
                                      values_[kind] == 1   ? FaceKind::closed
                                      : values_[kind] == 2 ? FaceKind::cut
                                                           : FaceKind::measured);
      }
    }
    return gathered_.take();
  }

 private:
  struct Places {
    int x = -1, y = -1, z = -1, nx = -1, ny = -1, nz = -1, red = -1, green = -1, blue = -1, support = -1, error = -1;
  };

  [[noreturn]] void no(const std::string& fault) const {
    reject(file_, fault, "give an ASCII or little-endian PLY with vertices and faces");
  }

  void read_head() {
    std::string line;
    if (!pieces_.opened()) no("cannot be read");
    if (!pieces_.line(line) || line != "ply") no("is no PLY");
    bool known = false, ended = false;
    std::size_t row_bytes = 0;
    for (int lines = 0; lines < 10000 && pieces_.line(line); ++lines) {
      std::istringstream words(line);
      std::string word;
      words >> word;
      if (word == "end_header") {
        ended = true;
        break;
      }
      if (word == "format") {
        words >> word;
        text_ = word == "ascii";
        known = text_ || word == "binary_little_endian";
      } else if (word == "comment") {
        read_comment(words);
      } else if (word == "element") {
        Element element;
        if (!(words >> element.name >> element.rows)) no("states no number of rows of an element");
        elements_.push_back(std::move(element));
      } else if (word == "property") {
        if (elements_.empty()) no("has a property of nothing");
        Column column;
        std::string type;
        words >> type;
        if (type == "list") {
          words >> type;
          column.count = scalar_by_name(type);
          if (!column.count) no("has a list counted by '" + type + "'");
          words >> type;
        }
        const auto scalar = scalar_by_name(type);
        if (!scalar) no("has a property of type '" + type + "'");
        column.type = *scalar;
        words >> column.name;
        elements_.back().columns.push_back(std::move(column));
        row_bytes += 8;
      }
    }
    if (!ended) no("is no PLY");
    if (!known) no("is in an unknown encoding");
    if (row_bytes > 100000) no("has too many properties");
    // A count is believed only as far as the file is long.
    std::error_code error;
    const std::uint64_t room = fs::file_size(file_, error);
    for (const Element& element : elements_) {
      std::uint64_t least = 0;
      for (const Column& c : element.columns) least += text_ ? 2 : scalar_size(c.count ? *c.count : c.type);
      if (!error && element.rows > room / std::max<std::uint64_t>(1, least))
        no(fmt::format("ends before its {} rows of '{}'", element.rows, element.name));
    }
  }

  void read_comment(std::istringstream& words) {
    std::string what, rest;
    words >> what >> std::ws;
    std::getline(words, rest);
    Vector3d origin;
    if (read_frame_comment(what, rest, gathered_.mesh.datum, origin)) gathered_.set_origin(origin);
  }

  Places places(const Element& element) const {
    Places at;
    const std::pair<const char*, int*> names[] = {
        {"x", &at.x},        {"y", &at.y},     {"z", &at.z},         {"nx", &at.nx},     {"ny", &at.ny},
        {"nz", &at.nz},      {"red", &at.red}, {"green", &at.green}, {"blue", &at.blue}, {"support", &at.support},
        {"error", &at.error}};
    for (std::size_t c = 0; c < element.columns.size(); ++c)
      for (const auto& [name, place] : names)
        if (!element.columns[c].count && element.columns[c].name == name) *place = static_cast<int>(c);
    if (at.x < 0 || at.y < 0 || at.z < 0) no("has vertices without x, y, z");
    return at;
  }

  double next(Scalar type, const Element& element, std::uint64_t row) {
    if (text_) {
      double value = 0;
      if (!pieces_.number(value)) no(fmt::format("has a row {} of '{}' that cannot be read", row, element.name));
      return value;
    }
    const char* data = pieces_.take(scalar_size(type));
    if (!data) no(fmt::format("ends before its {} rows of '{}'", element.rows, element.name));
    return load_scalar(type, data);
  }

  // `corners`: of the columns the list that is kept.
  void read_row(const Element& element, std::uint64_t row, std::size_t corners) {
    corners_.clear();
    for (std::size_t c = 0; c < element.columns.size(); ++c) {
      const Column& column = element.columns[c];
      if (!column.count) {
        values_[c] = next(column.type, element, row);
        continue;
      }
      const double count = next(*column.count, element, row);
      if (!(count >= 0 && count <= static_cast<double>(kMostCorners)))
        no(fmt::format("has a list of {} in row {} of '{}'", count, row, element.name));
      for (int k = 0; k < static_cast<int>(count); ++k) {
        const double v = next(column.type, element, row);
        if (c != corners) continue;
        if (!(v >= 0 && v < 4294967295.0)) no(fmt::format("has vertex {} in face {}", v, row));
        corners_.push_back(static_cast<std::uint64_t>(v));
      }
    }
  }

  double value(int column) const { return values_[static_cast<std::size_t>(column)]; }
  std::uint8_t byte(int column) const {
    const double v = value(column);
    return v > 0 ? static_cast<std::uint8_t>(std::min(v, 255.0)) : std::uint8_t{0};
  }

  void take_vertex(const Places& at) {
    Mesh& mesh = gathered_.mesh;
    gathered_.add({value(at.x), value(at.y), value(at.z)});
    if (at.nx >= 0 && at.ny >= 0 && at.nz >= 0)
      mesh.normals.emplace_back(static_cast<float>(value(at.nx)), static_cast<float>(value(at.ny)),
                                static_cast<float>(value(at.nz)));
    if (at.red >= 0 && at.green >= 0 && at.blue >= 0)
      mesh.colours.push_back({byte(at.red), byte(at.green), byte(at.blue)});
    if (at.support >= 0) mesh.support.push_back(static_cast<float>(value(at.support)));
    if (at.error >= 0) mesh.errors.push_back(static_cast<float>(value(at.error)));
  }

  const fs::path& file_;
  Pieces pieces_;
  Gathered gathered_;
  bool text_ = false;
  std::vector<Element> elements_;
  std::vector<double> values_;
  std::vector<std::uint64_t> corners_;
};

// A line of an OBJ, word by word.
class Words {
 public:
  explicit Words(std::string_view line) : line_(line) {}
  std::string_view next() {
    while (at_ < line_.size() && blank(line_[at_])) ++at_;
    const std::size_t from = at_;
    while (at_ < line_.size() && !blank(line_[at_])) ++at_;
    return line_.substr(from, at_ - from);
  }
  bool number(double& value) {
    std::string_view word = next();
    if (!word.empty() && word[0] == '+') word.remove_prefix(1);
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value);
    return error == std::errc() && end == word.data() + word.size();
  }

 private:
  static bool blank(char c) { return c == ' ' || c == '\t' || c == '\r'; }
  std::string_view line_;
  std::size_t at_ = 0;
};

constexpr const char* kObjRemedy = "give an OBJ with v and f lines, numbers with a point";

}  // namespace

Mesh read_mesh_ply(const fs::path& file) {
  return MeshPly(file).read();
}

Mesh read_obj(const fs::path& file) {
  const std::string text = read_file(file, std::size_t{16} << 30);
  Gathered gathered(file);
  std::vector<std::uint64_t> corners;
  bool coloured = true;
  std::size_t line_number = 0;
  for (std::size_t from = 0; from < text.size();) {
    const std::size_t end = std::min(text.find('\n', from), text.size());
    const std::string_view line(text.data() + from, end - from);
    from = end + 1;
    ++line_number;
    Words words(line);
    const std::string_view what = words.next();
    if (what == "v") {
      Vector3d p;
      for (int c = 0; c < 3; ++c)
        if (!words.number(p[c]))
          reject(file, fmt::format("has a vertex in line {} that cannot be read", line_number), kObjRemedy);
      gathered.add(p);
      double colour[3];
      bool here = true;
      for (double& c : colour) here = here && words.number(c) && c >= 0 && c <= 1;
      coloured &= here;
      if (coloured) {
        std::array<std::uint8_t, 3> bytes;
        for (std::size_t c = 0; c < 3; ++c) bytes[c] = static_cast<std::uint8_t>(std::lround(255 * colour[c]));
        gathered.mesh.colours.push_back(bytes);
      }
    } else if (what == "f") {
      corners.clear();
      for (std::string_view word = words.next(); !word.empty() && word[0] != '#'; word = words.next()) {
        std::int64_t v = 0;
        const auto [rest, error] = std::from_chars(word.data(), word.data() + word.size(), v);
        const bool whole = rest == word.data() + word.size() || *rest == '/';
        const auto known = static_cast<std::int64_t>(gathered.mesh.positions.size());
        if (error == std::errc() && v < 0) v += known + 1;  // from the end
        if (error != std::errc() || !whole || v < 1 || corners.size() >= kMostCorners)
          reject(file, fmt::format("has a face in line {} that cannot be read", line_number), kObjRemedy);
        corners.push_back(static_cast<std::uint64_t>(v - 1));
      }
      if (corners.size() < 3)
        reject(file, fmt::format("has a face of {} corners in line {}", corners.size(), line_number), kObjRemedy);
      gathered.add_face(corners);
    }
  }
  if (!coloured) gathered.mesh.colours.clear();
  if (gathered.mesh.positions.empty()) reject(file, "has no vertex", kObjRemedy);
  return gathered.take();
}

Mesh read_stl(const fs::path& file) {
  constexpr std::size_t kHead = 84, kRow = 50;
  const std::string bytes = read_file(file, std::size_t{16} << 30);
  Gathered gathered(file);
  std::uint32_t count = 0;
  if (bytes.size() >= kHead) std::memcpy(&count, bytes.data() + 80, sizeof count);
  const bool binary = bytes.size() >= kHead && (bytes.size() - kHead) / kRow >= count &&
                      !(bytes.starts_with("solid") && bytes.find("facet") < 1000);
  if (binary) {
    for (std::size_t f = 0; f < count; ++f) {
      for (std::size_t k = 1; k < 4; ++k) {
        float p[3];
        std::memcpy(p, bytes.data() + kHead + f * kRow + 12 * k, sizeof p);
        gathered.add({p[0], p[1], p[2]});
      }
    }
  } else {
    if (!bytes.starts_with("solid"))
      reject(file, fmt::format("is no STL, or ends before its {} faces", count), "give a binary or text STL");
    std::istringstream lines(bytes);
    std::string line;
    for (std::size_t number = 1; std::getline(lines, line); ++number) {
      Words words(line);
      if (words.next() != "vertex") continue;
      Vector3d p;
      for (int c = 0; c < 3; ++c)
        if (!words.number(p[c]))
          reject(file, fmt::format("has a vertex in line {} that cannot be read", number), "write it again");
      gathered.add(p);
    }
    if (gathered.mesh.positions.size() % 3 != 0)
      reject(file, fmt::format("has {} corners, which are no whole faces", gathered.mesh.positions.size()),
             "write it again");
  }
  // One vertex for each place.
  std::vector<Vector3f>& corners = gathered.mesh.positions;
  std::vector<std::uint32_t> order(corners.size()), place(corners.size());
  std::iota(order.begin(), order.end(), 0u);
  const auto bits = [&](std::uint32_t v) {
    std::array<std::uint32_t, 3> b;
    std::memcpy(b.data(), corners[v].data(), sizeof b);
    return b;
  };
  std::sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) {
    const auto p = bits(a), q = bits(b);
    return p != q ? p < q : a < b;
  });
  // The first of each place stands for it, in the order of the file.
  std::vector<std::uint32_t> first(corners.size());
  for (std::size_t i = 0; i < order.size(); ++i)
    first[order[i]] = i > 0 && bits(order[i]) == bits(order[i - 1]) ? first[order[i - 1]] : order[i];
  std::vector<Vector3f> unique;
  for (std::uint32_t v = 0; v < corners.size(); ++v) {
    if (first[v] == v) place[v] = static_cast<std::uint32_t>(unique.size()), unique.push_back(corners[v]);
  }
  for (std::uint32_t v = 0; v + 2 < corners.size(); v += 3)
    gathered.mesh.faces.push_back({place[first[v]], place[first[v + 1]], place[first[v + 2]]});
  corners = std::move(unique);
  return gathered.take();
}

}  // namespace icefield
