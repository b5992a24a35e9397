#include "src/io/mesh_readers.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>
#include <optional>
#include <sstream>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "src/io/page_codec.h"
#include "src/io/ply_parts.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

using Eigen::Vector2f;
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
  // What is left of the line, without blanks around it.
  std::string rest() {
    std::size_t from = at_, to = line_.size();
    while (from < to && blank(line_[from])) ++from;
    while (to > from && blank(line_[to - 1])) --to;
    return std::string(line_.substr(from, to - from));
  }

 private:
  static bool blank(char c) { return c == ' ' || c == '\t' || c == '\r'; }
  std::string_view line_;
  std::size_t at_ = 0;
};

constexpr const char* kObjRemedy = "give an OBJ with v and f lines, numbers with a point";

// The file that a name in another file means: beside it or below, nowhere else.
std::optional<fs::path> beside(const fs::path& file, std::string_view name) {
  std::error_code error;
  const fs::path folder = fs::weakly_canonical(fs::absolute(file).parent_path(), error);
  if (error || name.empty()) return std::nullopt;
  const fs::path wanted = fs::weakly_canonical(folder / fs::path(name), error);
  if (error) return std::nullopt;
  const auto [end, ignored] = std::mismatch(folder.begin(), folder.end(), wanted.begin(), wanted.end());
  (void)ignored;
  if (end != folder.end() || !fs::is_regular_file(wanted, error)) return std::nullopt;
  return wanted;
}

class ObjReader {
 public:
  ObjReader(const fs::path& file, Texture* texture) : file_(file), texture_(texture), gathered_(file) {}

  Mesh read() {
    const std::string text = read_file(file_, std::size_t{16} << 30);
    for (std::size_t from = 0; from < text.size();) {
      const std::size_t end = std::min(text.find('\n', from), text.size());
      ++line_;
      take_line(std::string_view(text.data() + from, end - from));
      from = end + 1;
    }
    if (!coloured_) gathered_.mesh.colours.clear();
    if (gathered_.mesh.positions.empty()) no("has no vertex");
    Mesh mesh = gathered_.take();
    if (texture_) load_pages();
    return mesh;
  }

 private:
  [[noreturn]] void no(const std::string& fault) const { reject(file_, fault, kObjRemedy); }

  void take_line(std::string_view line) {
    Words words(line);
    const std::string_view what = words.next();
    if (what == "v")
      take_vertex(words);
    else if (what == "f")
      take_face(words);
    else if (texture_ && what == "vt")
      take_place(words);
    else if (texture_ && what == "usemtl")
      material_ = std::string(words.next());
    else if (texture_ && what == "mtllib")
      libraries_.push_back(words.rest());
  }
  void take_vertex(Words& words) {
    Vector3d p;
    for (int c = 0; c < 3; ++c)
      if (!words.number(p[c])) no(fmt::format("has a vertex in line {} that cannot be read", line_));
    gathered_.add(p);
    double colour[3];
    bool here = true;
    for (double& c : colour) here = here && words.number(c) && c >= 0 && c <= 1;
    coloured_ &= here;
    if (!coloured_) return;
    std::array<std::uint8_t, 3> bytes;
    for (std::size_t c = 0; c < 3; ++c) bytes[c] = static_cast<std::uint8_t>(std::lround(255 * colour[c]));
    gathered_.mesh.colours.push_back(bytes);
  }
  void take_place(Words& words) {
    double u = 0, v = 0;
    if (!words.number(u) || !std::isfinite(u))
      no(fmt::format("has a place on a page in line {} that cannot be read", line_));
    if (!words.number(v) || !std::isfinite(v)) v = 0;
    places_.emplace_back(static_cast<float>(u), static_cast<float>(1 - v));
  }
  void take_face(Words& words) {
    corners_.clear();
    on_page_.clear();
    const auto known = static_cast<std::int64_t>(gathered_.mesh.positions.size());
    for (std::string_view word = words.next(); !word.empty() && word[0] != '#'; word = words.next()) {
      std::int64_t v = 0;
      const char* const last = word.data() + word.size();
      const auto [rest, error] = std::from_chars(word.data(), last, v);
      const bool whole = rest == last || *rest == '/';
      if (error == std::errc() && v < 0) v += known + 1;  // from the end
      if (error != std::errc() || !whole || v < 1 || corners_.size() >= kMostCorners)
        no(fmt::format("has a face in line {} that cannot be read", line_));
      corners_.push_back(static_cast<std::uint64_t>(v - 1));
      if (!texture_) continue;
      std::int64_t t = 0;
      if (rest != last && std::from_chars(rest + 1, last, t).ec == std::errc()) {
        if (t < 0) t += static_cast<std::int64_t>(places_.size()) + 1;
        if (t < 1 || t > static_cast<std::int64_t>(places_.size()))
          no(fmt::format("has place {} on a page in line {}, and {} before it", t, line_, places_.size()));
        on_page_.push_back(places_[static_cast<std::size_t>(t - 1)]);
      } else {
        on_page_.emplace_back(0, 0);
      }
    }
    if (corners_.size() < 3) no(fmt::format("has a face of {} corners in line {}", corners_.size(), line_));
    gathered_.add_face(corners_);
    if (!texture_) return;
    const auto page = std::find(materials_.begin(), materials_.end(), material_);
    const auto number = static_cast<std::size_t>(page - materials_.begin());
    if (page == materials_.end()) materials_.push_back(material_);
    if (number > 0xfffe) no("has more materials than a mesh can have pages");
    for (std::size_t k = 2; k < corners_.size(); ++k) {
      texture_->page.push_back(static_cast<std::uint16_t>(number));
      texture_->corners.push_back({on_page_[0], on_page_[k - 1], on_page_[k]});
    }
  }

  // Pictures of the materials that faces have; those without one get a white page. All empty where none has one.
  void load_pages() {
    std::map<std::string, fs::path> pictures;
    for (const std::string& library : libraries_) {
      const auto file = beside(file_, library);
      if (!file) continue;
      const std::string text = read_file(*file, std::size_t{64} << 20);
      std::string name;
      std::istringstream lines(text);
      for (std::string line; std::getline(lines, line);) {
        Words words(line);
        const std::string_view what = words.next();
        if (what == "newmtl") name = std::string(words.next());
        if (what != "map_Kd") continue;
        // The last word is the file, what stands before it are options; a name with blanks is tried whole first.
        std::string rest = words.rest();
        auto picture = beside(*file, rest);
        if (const std::size_t blank = rest.find_last_of(" \t"); !picture && blank != std::string::npos)
          picture = beside(*file, rest.substr(blank + 1));
        if (picture) pictures[name] = *picture;
      }
    }
    if (std::none_of(materials_.begin(), materials_.end(), [&](const auto& m) { return pictures.count(m) > 0; })) {
      *texture_ = {};
      return;
    }
    for (const std::string& material : materials_) {
      const auto picture = pictures.find(material);
      texture_->pages.push_back(
          picture == pictures.end()
              ? ImageU8(1, 1, 3, std::uint8_t{255})
              : decode_page(read_file(picture->second, std::size_t{4} << 30), picture->second.string()));
    }
    scale_places(*texture_);
  }

  const fs::path& file_;
  Texture* texture_;
  Gathered gathered_;
  bool coloured_ = true;
  std::size_t line_ = 0;
  std::vector<std::uint64_t> corners_;
  std::vector<Vector2f> places_, on_page_;
  std::string material_;
  std::vector<std::string> libraries_, materials_;
};

}  // namespace

void scale_places(Texture& texture) {
  for (const ImageU8& page : texture.pages)
    texture.origins.emplace_back(page.width(), page.height(), 1, static_cast<std::uint8_t>(TexelOrigin::photo));
  for (std::size_t f = 0; f < texture.corners.size(); ++f) {
    const ImageU8& page = texture.pages[texture.page[f]];
    for (Vector2f& p : texture.corners[f])
      p = Vector2f(p.x() * static_cast<float>(page.width()), p.y() * static_cast<float>(page.height()));
  }
}

Mesh read_mesh_ply(const fs::path& file) {
  return MeshPly(file).read();
}

Mesh read_obj(const fs::path& file, Texture* texture) {
  return ObjReader(file, texture).read();
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
  Mesh mesh = gathered.take();
  for (std::uint32_t v = 0; v + 2 < mesh.positions.size(); v += 3) mesh.faces.push_back({v, v + 1, v + 2});
  merge_equal_vertices(mesh);
  return mesh;
}

void merge_equal_vertices(Mesh& mesh) {
  const std::size_t n = mesh.positions.size();
  std::vector<std::uint32_t> order(n), place(n), first(n);
  std::iota(order.begin(), order.end(), 0u);
  const auto bits = [&](std::uint32_t v) {
    std::array<std::uint32_t, 7> b{};
    std::memcpy(b.data(), mesh.positions[v].data(), 12);
    if (!mesh.normals.empty()) std::memcpy(b.data() + 3, mesh.normals[v].data(), 12);
    if (!mesh.colours.empty()) std::memcpy(b.data() + 6, mesh.colours[v].data(), 3);
    return b;
  };
  std::sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) {
    const auto p = bits(a), q = bits(b);
    return p != q ? p < q : a < b;
  });
  // The first of each place stands for it, in the order of the file.
  for (std::size_t i = 0; i < n; ++i)
    first[order[i]] = i > 0 && bits(order[i]) == bits(order[i - 1]) ? first[order[i - 1]] : order[i];
  std::uint32_t kept = 0;
  for (std::uint32_t v = 0; v < n; ++v) {
    if (first[v] != v) continue;
    mesh.positions[kept] = mesh.positions[v];
    if (!mesh.normals.empty()) mesh.normals[kept] = mesh.normals[v];
    if (!mesh.colours.empty()) mesh.colours[kept] = mesh.colours[v];
    place[v] = kept++;
  }
  mesh.positions.resize(kept);
  if (!mesh.normals.empty()) mesh.normals.resize(kept);
  if (!mesh.colours.empty()) mesh.colours.resize(kept);
  for (Face& face : mesh.faces)
    for (std::uint32_t& v : face) v = place[first[v]];
}

}  // namespace icefield
