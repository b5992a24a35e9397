// Small records and arrays of a survey in one SQLite file.
#pragma once
#include <filesystem>
#include <mutex>
#include <optional>
#include <string>
#include <type_traits>
#include <vector>

#include "icefield/base/bytes.h"
#include "icefield/base/fingerprint.h"
#include "icefield/base/monitor.h"

struct sqlite3;

namespace icefield {

// Values by kind and key, each with a checksum, each stored whole or not at all whatever happens to the process. Calls
// may come from several threads, and other processes may have the same file open.
//
// A reader makes no file, keeps what it computes where that is easily done, and reads past what is damaged. A writer
// makes the file; one that is damaged or comes from a newer version it puts aside, says so, and begins again. A damaged
// value counts as missing, and a writer drops it.
class Store {
 public:
  enum class Use { read, write };
  Store(std::filesystem::path file, Monitor& monitor, Use use = Use::write);
  ~Store();
  Store(const Store&) = delete;
  Store& operator=(const Store&) = delete;

  std::optional<Bytes> get(const std::string& kind, const Fingerprint& key);
  // As `reader` reads it. What it cannot read (it throws Error) is of another layout, and counts as damaged.
  template <class Reader>
  auto read(const std::string& kind, const Fingerprint& key, Reader reader)
      -> std::optional<std::invoke_result_t<Reader, const Bytes&>> {
    const auto bytes = get(kind, key);
    if (!bytes) return std::nullopt;
    try {
      return reader(*bytes);
    } catch (const Error&) {
      drop(kind, key);
      return std::nullopt;
    }
  }
  bool has(const std::string& kind, const Fingerprint& key);
  // Its first bytes, unchecked; fewer where there are no more, none where it is missing.
  Bytes head(const std::string& kind, const Fingerprint& key, std::size_t bytes);
  // Throws Error(resource) when the disk is full or the folder read-only; for a reader the value is then forgotten.
  void put(const std::string& kind, const Fingerprint& key, const Bytes& value);
  void remove(const std::string& kind, const Fingerprint& key);

  void become_writer();
  void look_again();  // for a reader that found no file
  struct Record {
    std::string kind, key;  // the key as digits
    std::uint64_t bytes = 0;
  };
  // All there are, without their values, and the removal of some of them in one go; the file shrinks by what they took.
  std::vector<Record> records();
  void remove_all(const std::vector<Record>& records);

 private:
  void drop(const std::string& kind, const Fingerprint& key);
  void remove_damaged(const std::string& kind, const std::string& key);
  void open();
  void open_to_read();
  void put_aside(const std::string& why);
  [[noreturn]] void fail(int code);
  std::filesystem::path file_;
  Monitor& monitor_;
  std::mutex mutex_;
  sqlite3* db_ = nullptr;
  Use use_;
};

}  // namespace icefield
