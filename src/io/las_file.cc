#include "icefield/io/las_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <fstream>
#include <limits>
#include <optional>

#include "icefield/base/error.h"
#include "icefield/world/crs.h"
#include "src/io/ply_parts.h"

namespace icefield {
namespace {

// Least size of a record by point format, and where it has its colour (0: none).
struct RecordKind {
  std::size_t size, colour;
};
constexpr std::array<RecordKind, 11> kKinds = {
    {{20, 0}, {28, 0}, {26, 20}, {34, 28}, {57, 0}, {63, 28}, {30, 0}, {36, 30}, {38, 30}, {59, 0}, {67, 30}}};
constexpr std::size_t kFirstNewKind = 6;  // that has the class in a byte of its own

// Types of extra bytes: from 1 on, 0 is not told.
constexpr std::array<Scalar, 6> kTypes = {Scalar::u8, Scalar::i8, Scalar::u16, Scalar::i16, Scalar::u32, Scalar::i32};

std::string text_of(const char* bytes, std::size_t room) {
  return std::string(bytes, strnlen(bytes, room));
}

}  // namespace

struct LasReader::Source {
  // An extra attribute: where in a record, and what of.
  struct Extra {
    std::size_t at;
    Scalar type;
    double scale = 1, offset = 0;
    double of(const char* record) const { return scale * load_scalar(type, record + at) + offset; }
  };

  std::filesystem::path path;
  std::ifstream in;
  std::uint64_t size = 0, first = 0, count = 0, done = 0;
  std::size_t kind = 0, record = 0;
  Eigen::Vector3d scale, offset;
  bool stated_origin = false;
  int colour_shift = 8;
  CloudContent content;
  std::optional<Extra> views, error, conflicts, fault, confidence;
  std::array<std::optional<Extra>, 3> normal;

  [[noreturn]] void reject(const std::string& fault_found) const {
    throw Error(ErrorKind::input, path.string(), fault_found, "give a LAS of version 1.0 to 1.4, not compressed");
  }
  std::string bytes_at(std::uint64_t place, std::size_t length) {
    if (place > size || length > size - place) reject("ends before what its header announces");
    std::string bytes(length, '\0');
    in.clear();
    in.seekg(static_cast<std::streamoff>(place));
    in.read(bytes.data(), static_cast<std::streamsize>(length));
    if (static_cast<std::size_t>(in.gcount()) != length) reject("cannot be read to its end");
    return bytes;
  }
  template <class T>
  static T at(const std::string& bytes, std::size_t place) {
    T value;
    std::memcpy(&value, bytes.data() + place, sizeof value);
    return value;
  }

  explicit Source(const std::filesystem::path& file) : path(file), in(file, std::ios::binary) {
    std::error_code fault_found;
    size = std::filesystem::file_size(file, fault_found);
    if (!in || fault_found)
      throw Error(ErrorKind::input, file.string(), "cannot be read", "check that it is there and may be read");
    constexpr std::size_t kShortest = 227, kNew = 375;
    if (size < kShortest) reject("is too short for the header of a LAS");
    std::string header = bytes_at(0, std::min<std::size_t>(kNew, static_cast<std::size_t>(size)));
    if (!header.starts_with("LASF")) reject("is no LAS");
    const int major = header[24], minor = header[25];
    if (major != 1 || minor < 0 || minor > 4) reject(fmt::format("has version {}.{}", major, minor));
    const std::size_t header_size = at<std::uint16_t>(header, 94);
    first = at<std::uint32_t>(header, 96);
    const auto records = at<std::uint32_t>(header, 100);
    const auto format = static_cast<std::uint8_t>(header[104]);
    if (format & 0xc0)
      throw Error(ErrorKind::input, path.string(), "is compressed (LAZ), which is not read",
                  "write it as LAS with the program that it comes from");
    if (format >= kKinds.size()) reject(fmt::format("has points of format {}", format));
    kind = format;
    record = at<std::uint16_t>(header, 105);
    if (record < kKinds[kind].size)
      reject(fmt::format("has points of {} bytes, and format {} needs {}", record, kind, kKinds[kind].size));
    count = at<std::uint32_t>(header, 107);
    const bool is_new = minor == 4 && header_size >= kNew && header.size() >= kNew;
    if (is_new && at<std::uint64_t>(header, 247) > 0) count = at<std::uint64_t>(header, 247);
    if (header_size < kShortest || first < header_size || first > size)
      reject(fmt::format("says that its points begin at byte {} of {}", first, size));
    if (count > (size - first) / record)
      reject(fmt::format("has room for {} points, and its header says {}", (size - first) / record, count));
    for (int c = 0; c < 3; ++c) {
      scale[c] = at<double>(header, 131 + 8 * static_cast<std::size_t>(c));
      offset[c] = at<double>(header, 155 + 8 * static_cast<std::size_t>(c));
    }
    if (!scale.allFinite() || !offset.allFinite() || !(scale.array() > 0).all()) reject("has steps that are no sizes");
    content.colours = kKinds[kind].colour > 0;
    content.classes = true;
    read_records(header_size, records, false);
    if (is_new) read_records(at<std::uint64_t>(header, 235), at<std::uint32_t>(header, 243), true);
    content.views = views.has_value(), content.errors = error.has_value(), content.conflicts = conflicts.has_value();
    content.faults = fault.has_value(), content.class_confidence = confidence.has_value();
    content.normals = normal[0] && normal[1] && normal[2];
    look_through();
  }

  // Records of variable length before the points, or behind them (`extended`).
  void read_records(std::uint64_t place, std::uint64_t records, bool extended) {
    const std::size_t head = extended ? 60 : 54;
    const std::uint64_t end = extended ? size : first;
    constexpr std::uint64_t kMost = 1 << 20;  // of what is read
    for (std::uint64_t k = 0; k < records; ++k) {
      if (place > end || end - place < head) break;  // damaged, or padded: what is missing is passed over
      const std::string bytes = bytes_at(place, head);
      const std::uint64_t length = extended ? at<std::uint64_t>(bytes, 20) : at<std::uint16_t>(bytes, 20);
      place += head;
      if (length > end - place) break;
      const std::string user = text_of(bytes.data() + 2, 16);
      const auto number = at<std::uint16_t>(bytes, 18);
      if (length <= kMost) {
        const auto body = [&] { return bytes_at(place, static_cast<std::size_t>(length)); };
        if (user == "LASF_Projection" && number == 2112) take_crs(text_of(body().c_str(), length));
        if (user == "LASF_Projection" && number == 34735 && content.datum.crs.empty()) take_codes(body());
        if (user == "LASF_Spec" && number == 4) take_extras(body());
      }
      place += length;
    }
  }
  // One that is not known leaves the coordinates without a name.
  void take_crs(const std::string& text) {
    try {
      const Crs crs = crs_of(text);
      if (crs.kind != CrsKind::projected && crs.kind != CrsKind::geographic) return;
      content.datum.crs = crs.id, content.datum.vertical_crs = crs.vertical_id;
      content.datum.units = crs.kind == CrsKind::geographic ? "degree" : crs.metres_per_unit == 1 ? "m" : crs.units;
      content.datum.axes = Axes::east_north_up;
    } catch (const Error&) {
    }
  }
  void take_codes(const std::string& keys) {
    int plan = 0, heights = 0;
    for (std::size_t k = 8; k + 8 <= keys.size(); k += 8) {
      const int key = at<std::uint16_t>(keys, k), where = at<std::uint16_t>(keys, k + 2),
                value = at<std::uint16_t>(keys, k + 6);
      if (where != 0 || value == 0 || value == 32767) continue;
      if (key == 3072 || (key == 2048 && plan == 0)) plan = value;
      if (key == 4096) heights = value;
    }
    if (plan > 0) take_crs(heights > 0 ? fmt::format("EPSG:{}+{}", plan, heights) : fmt::format("EPSG:{}", plan));
    if (plan > 0 && content.datum.crs.empty()) take_crs(fmt::format("EPSG:{}", plan));
  }
  void take_extras(const std::string& described) {
    constexpr std::size_t kDescriptor = 192;
    std::size_t place = kKinds[kind].size;
    for (std::size_t k = 0; k + kDescriptor <= described.size(); k += kDescriptor) {
      const char* d = described.data() + k;
      const auto type = static_cast<std::uint8_t>(d[2]), options = static_cast<std::uint8_t>(d[3]);
      const std::string name = text_of(d + 4, 32);
      std::size_t length = 0;
      std::optional<Scalar> scalar;
      if (type == 0)
        length = options;
      else if (type <= kTypes.size())
        scalar = kTypes[type - 1u];
      else if (type == 7 || type == 8)
        length = 8;  // whole numbers of 64 bits
      else if (type == 9 || type == 10)
        scalar = type == 9 ? Scalar::f32 : Scalar::f64;
      else
        return;  // of several values, or unknown: where the next one stands is not known
      if (scalar) length = scalar_size(*scalar);
      if (length > record - std::min(record, place)) return;
      if (scalar) {
        Extra extra{place, *scalar};
        if (options & 8) extra.scale = load<double>(d + 112);
        if (options & 16) extra.offset = load<double>(d + 136);
        if (name == "views") views = extra;
        if (name == "error") error = extra;
        if (name == "conflicts") conflicts = extra;
        if (name == "fault") fault = extra;
        if (name == "class confidence") confidence = extra;
        for (std::size_t c = 0; c < 3; ++c)
          if (name == std::string("normal ") + "xyz"[c]) normal[c] = extra;
      }
      place += length;
    }
  }

  // Whether colours have 16 bits or, against the standard, 8, and whether there are any.
  void look_through() {
    if (!content.colours || count == 0) return;
    constexpr std::uint64_t kLooks = 2000;
    std::uint16_t most = 0;
    for (std::uint64_t k = 0; k < std::min(count, kLooks); ++k) {
      const std::uint64_t i = count <= kLooks ? k : k * (count / kLooks);
      const std::string bytes = bytes_at(first + i * record + kKinds[kind].colour, 6);
      for (std::size_t c = 0; c < 3; ++c) most = std::max(most, at<std::uint16_t>(bytes, 2 * c));
    }
    if (most == 0) content.colours = false;
    if (most < 256) colour_shift = 0;
  }

  template <class T>
  static T whole(double value) {
    constexpr double most = std::numeric_limits<T>::max();
    return value >= 0 ? static_cast<T>(std::min(value, most)) : T{0};
  }

  void next(const char* p, PointCloud& cloud) {
    Eigen::Vector3d position;
    for (int c = 0; c < 3; ++c) position[c] = load<std::int32_t>(p + 4 * c) * scale[c] + offset[c];
    if (!position.allFinite()) reject(fmt::format("point {} is not finite", done));
    if (!stated_origin && position.cwiseAbs().maxCoeff() > 10000) content.origin = position.array().floor();
    stated_origin = true;
    cloud.origin = content.origin;
    cloud.positions.push_back((position - content.origin).cast<float>());
    if (content.colours) {
      std::array<std::uint8_t, 3> colour;
      for (std::size_t c = 0; c < 3; ++c) {
        std::uint16_t value;
        std::memcpy(&value, p + kKinds[kind].colour + 2 * c, sizeof value);
        colour[c] = static_cast<std::uint8_t>(std::min(value >> colour_shift, 255));
      }
      cloud.colours.push_back(colour);
    }
    const bool is_new = kind >= kFirstNewKind;
    const auto flags = static_cast<std::uint8_t>(p[15]);
    const bool withheld = is_new ? (flags & 4) != 0 : (flags & 0x80) != 0;
    const auto of = static_cast<std::uint8_t>(is_new ? static_cast<std::uint8_t>(p[16]) : flags & 31);
    cloud.classes.push_back(withheld ? static_cast<std::uint8_t>(PointClass::noise) : of);
    if (views) cloud.views.push_back(whole<std::uint16_t>(views->of(p)));
    if (error) cloud.errors.push_back(static_cast<float>(error->of(p)));
    if (conflicts) cloud.conflicts.push_back(whole<std::uint16_t>(conflicts->of(p)));
    if (fault) cloud.faults.push_back(whole<std::uint8_t>(fault->of(p)));
    if (confidence) cloud.class_confidence.push_back(whole<std::uint8_t>(confidence->of(p)));
    if (content.normals)
      cloud.normals.emplace_back(Eigen::Vector3d(normal[0]->of(p), normal[1]->of(p), normal[2]->of(p)).cast<float>());
    ++done;
  }

  // Before any other point, so that the origin does not depend on which is read first.
  void find_origin() {
    if (stated_origin || count == 0) return;
    PointCloud ignored;
    const std::string bytes = bytes_at(first, record);
    next(bytes.data(), ignored);
    --done;
  }
};

LasReader::LasReader(const std::filesystem::path& file) : source_(std::make_unique<Source>(file)) {}
LasReader::~LasReader() = default;
const CloudContent& LasReader::content() const {
  return source_->content;
}
std::uint64_t LasReader::points() const {
  return source_->count;
}

bool LasReader::read(PointCloud& part, std::size_t most) {
  Source& s = *source_;
  s.find_origin();
  part = {};
  part.origin = s.content.origin, part.datum = s.content.datum;
  constexpr std::uint64_t kPiece = 1 << 14;
  while (part.size() < most && s.done < s.count) {
    const std::uint64_t some = std::min({kPiece, s.count - s.done, static_cast<std::uint64_t>(most - part.size())});
    const std::string bytes = s.bytes_at(s.first + s.done * s.record, static_cast<std::size_t>(some) * s.record);
    for (std::size_t k = 0; k < some; ++k) s.next(bytes.data() + k * s.record, part);
  }
  return part.size() > 0;
}

void LasReader::go_to(std::uint64_t point) {
  source_->done = std::min(point, source_->count);
}

}  // namespace icefield
