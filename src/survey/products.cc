#include "src/survey/products.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <fstream>

#include "icefield/io/raster_file.h"
#include "icefield/io/text_file.h"
#include "icefield/io/vector_file.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr const char* kKind = "file written";

Fingerprint name_key(const std::string& name) {
  return Fingerprinter().add(name).result();
}

// What is known of a file as it was written.
struct Written {
  Fingerprint made_for, content;
  std::uint64_t bytes = 0;
  std::int64_t time_ns = 0;
  std::uint8_t there = 0;  // 0: there was to be none
};

struct FileStamp {
  std::uint64_t bytes = 0;
  std::int64_t time_ns = 0;
};

std::optional<FileStamp> stamp_of(const fs::path& file) {
  struct ::stat info {};
  if (::stat(file.c_str(), &info) != 0) return std::nullopt;
  return FileStamp{static_cast<std::uint64_t>(info.st_size),
                   static_cast<std::int64_t>(info.st_mtim.tv_sec) * 1000000000 + info.st_mtim.tv_nsec};
}

std::optional<Fingerprint> content_of_file(const fs::path& file) {
  std::ifstream in(file, std::ios::binary);
  if (!in) return std::nullopt;
  Fingerprinter content;
  std::string part(std::size_t{1} << 20, '\0');
  while (in) {
    in.read(part.data(), static_cast<std::streamsize>(part.size()));
    content.raw(part.data(), static_cast<std::size_t>(in.gcount()));
  }
  return in.bad() ? std::nullopt : std::optional<Fingerprint>(content.result());
}

std::optional<Written> record_of(Store& store, const std::string& name) {
  return store.read(kKind, name_key(name), [](const Bytes& bytes) {
    ByteReader in(bytes);
    Written written;
    (void)in.get_string();
    written.made_for = in.get<Fingerprint>();
    written.content = in.get<Fingerprint>();
    written.bytes = in.get<std::uint64_t>();
    written.time_ns = in.get<std::int64_t>();
    written.there = in.get<std::uint8_t>();
    in.need_end();
    return written;
  });
}

void put_record(Store& store, const std::string& name, const Written& written) {
  ByteWriter out;
  out.put(name).put(written.made_for).put(written.content).put(written.bytes).put(written.time_ns).put(written.there);
  store.put(kKind, name_key(name), out.take());
}

// Size and time stand for the content as long as both stay.
bool unchanged(const fs::path& file, const FileStamp& now, const Written& then) {
  if (now.bytes == then.bytes && now.time_ns == then.time_ns) return true;
  return now.bytes == then.bytes && content_of_file(file) == then.content;
}

}  // namespace

std::optional<std::string> fingerprint_in(const fs::path& file) {
  if (file.extension() == ".tif" || file.extension() == ".gpkg") {
    const std::string text = file.extension() == ".tif" ? raster_fingerprint(file) : shapes_fingerprint(file);
    return text.empty() ? std::nullopt : std::optional<std::string>(text);
  }
  std::ifstream in(file, std::ios::binary);
  std::string head(4096, '\0');
  in.read(head.data(), static_cast<std::streamsize>(head.size()));
  head.resize(static_cast<std::size_t>(in.gcount()));
  for (const std::string_view mark : {"comment fingerprint ", "\"fingerprint\": \"", "\"fingerprint\":\""}) {
    const std::size_t at = head.find(mark);
    if (at == std::string::npos) continue;
    const std::string hex = head.substr(at + mark.size(), 32);
    if (hex.size() == 32 && hex.find_first_not_of("0123456789abcdef") == std::string::npos) return hex;
  }
  return std::nullopt;
}

FileState Products::state_of(const std::string& name, const Fingerprint& wanted) const {
  const fs::path path = file(name);
  const auto known = record_of(store_, name);
  const auto now = stamp_of(path);
  if (!now) return known && !known->there && known->made_for == wanted ? FileState::current : FileState::missing;
  if (!known || !known->there || known->made_for != wanted) return FileState::other;
  const auto inside = fingerprint_in(path);
  if (inside && inside != wanted.hex()) return FileState::other;  // a run died between the file and its record
  return inside && unchanged(path, *now, *known) ? FileState::current : FileState::changed;
}

bool Products::is_ours(const std::string& name) const {
  const fs::path path = file(name);
  const auto now = stamp_of(path);
  if (!now) return true;
  const auto known = record_of(store_, name);
  const auto inside = fingerprint_in(path);
  if (known && known->there && inside == known->made_for.hex()) return unchanged(path, *now, *known);
  return inside.has_value();  // left by a run that died before it made its record, or older than the work folder
}

std::optional<fs::path> Products::make_room(const std::string& name) const {
  if (is_ours(name)) return std::nullopt;
  const fs::path path = file(name);
  fs::path aside;
  for (int k = 1;; ++k) {
    aside = path.parent_path() / fmt::format("{}.changed{}{}", path.stem().string(),
                                             k == 1 ? "" : fmt::format("-{}", k), path.extension().string());
    if (!fs::exists(aside)) break;
  }
  fs::rename(path, aside);
  return aside;
}

void Products::written(const std::string& name, const Fingerprint& made_for) const {
  const fs::path path = file(name);
  const auto now = stamp_of(path);
  const auto content = content_of_file(path);
  if (!now || !content)
    throw Error(ErrorKind::resource, path.string(), "was removed while it was written", "run the same command again");
  put_record(store_, name, {made_for, *content, now->bytes, now->time_ns, 1});
}

void Products::absent(const std::string& name, const Fingerprint& made_for) const {
  remove(name);
  put_record(store_, name, {made_for, {}, 0, 0, 0});
}

void Products::remove(const std::string& name) const {
  std::error_code ignored;
  if (stamp_of(file(name)) && is_ours(name)) fs::remove(file(name), ignored);
}

}  // namespace icefield
