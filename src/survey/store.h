// Small records and arrays of a survey in one SQLite file.
#pragma once
#include <filesystem>
#include <mutex>
#include <optional>
#include <string>

#include "icefield/base/bytes.h"
#include "icefield/base/fingerprint.h"
#include "icefield/base/monitor.h"

struct sqlite3;

namespace icefield {

// Values by kind and key, each with a checksum, each stored whole or not at all whatever happens to the process. A file
// that is damaged or comes from a newer version is put aside, said so, and begun again; a damaged value is dropped and
// counts as missing. Calls may come from several threads.
class Store {
 public:
  Store(std::filesystem::path file, Monitor& monitor);
  ~Store();
  Store(const Store&) = delete;
  Store& operator=(const Store&) = delete;

  std::optional<Bytes> get(const std::string& kind, const Fingerprint& key);
  bool has(const std::string& kind, const Fingerprint& key);
  // Throws Error(resource) when the disk is full or the folder read-only.
  void put(const std::string& kind, const Fingerprint& key, const Bytes& value);
  void remove(const std::string& kind, const Fingerprint& key);

 private:
  void open();
  void put_aside(const std::string& why);
  [[noreturn]] void fail(int code);
  std::filesystem::path file_;
  Monitor& monitor_;
  std::mutex mutex_;
  sqlite3* db_ = nullptr;
};

}  // namespace icefield
