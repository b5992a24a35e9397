#include "src/survey/store.h"

#include <sqlite3.h>
#include <xxhash.h>

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr int kStoreVersion = 1;

// A prepared statement, finalised at the end of its scope.
class Statement {
 public:
  Statement(sqlite3* db, const char* sql) { code_ = sqlite3_prepare_v2(db, sql, -1, &statement_, nullptr); }
  ~Statement() { sqlite3_finalize(statement_); }
  Statement(const Statement&) = delete;
  Statement& operator=(const Statement&) = delete;
  Statement& text(int i, const std::string& value) {
    sqlite3_bind_text(statement_, i, value.data(), static_cast<int>(value.size()), SQLITE_STATIC);
    return *this;
  }
  Statement& blob(int i, const void* data, std::size_t size) {
    sqlite3_bind_blob64(statement_, i, size > 0 ? data : "", size, SQLITE_STATIC);
    return *this;
  }
  Statement& number(int i, std::int64_t value) {
    sqlite3_bind_int64(statement_, i, value);
    return *this;
  }
  int step() { return code_ != SQLITE_OK ? code_ : sqlite3_step(statement_); }
  sqlite3_stmt* raw() { return statement_; }

 private:
  sqlite3_stmt* statement_ = nullptr;
  int code_;
};

bool is_damage(int code) {
  return (code & 0xff) == SQLITE_CORRUPT || (code & 0xff) == SQLITE_NOTADB;
}

}  // namespace

Store::Store(fs::path file, Monitor& monitor, Use use) : file_(std::move(file)), monitor_(monitor), use_(use) {
  if (use_ == Use::write)
    open();
  else
    open_to_read();
}
Store::~Store() {
  sqlite3_close(db_);
}

void Store::fail(int code) {
  const std::string why = db_ ? sqlite3_errmsg(db_) : "out of memory";
  const bool full = (code & 0xff) == SQLITE_FULL || code == SQLITE_IOERR_WRITE || code == SQLITE_IOERR_SHMSIZE ||
                    code == SQLITE_IOERR_TRUNCATE;
  throw Error(ErrorKind::resource, file_.string(), "cannot be written (" + why + ")",
              full ? "free some disk space and run the same command again; what is computed stays"
                   : "check free space and permissions, then run the same command again");
}

void Store::put_aside(const std::string& why) {
  sqlite3_close(db_);
  db_ = nullptr;
  const fs::path aside = file_.string() + ".aside";
  std::error_code ignored;
  fs::remove(aside, ignored);
  fs::rename(file_, aside, ignored);
  for (const char* ending : {"-wal", "-shm"}) fs::remove(file_.string() + ending, ignored);
  monitor_.log(LogLevel::warning, file_.string() + ": " + why + "; put aside as " + aside.filename().string() +
                                      ", its content is computed again");
}

void Store::become_writer() {
  std::lock_guard lock(mutex_);
  if (use_ == Use::write) return;
  sqlite3_close(db_);
  db_ = nullptr;
  use_ = Use::write;
  open();
}

void Store::look_again() {
  std::lock_guard lock(mutex_);
  if (use_ == Use::read && !db_) open_to_read();
}

void Store::open_to_read() {
  std::error_code ignored;
  if (!fs::exists(file_, ignored)) return;
  // Where nothing may be written, not even the shared memory of the write-ahead log, nobody else writes either.
  const std::string fixed = "file:" + file_.string() + "?immutable=1";
  for (const bool may_write : {true, false}) {
    int code = may_write ? sqlite3_open_v2(file_.c_str(), &db_, SQLITE_OPEN_READWRITE, nullptr)
                         : sqlite3_open_v2(fixed.c_str(), &db_, SQLITE_OPEN_READONLY | SQLITE_OPEN_URI, nullptr);
    if (code == SQLITE_OK) {
      sqlite3_extended_result_codes(db_, 1);
      sqlite3_busy_timeout(db_, 10000);
      code = sqlite3_exec(db_, "SELECT count(*) FROM (SELECT key FROM records LIMIT 1)", nullptr, nullptr, nullptr);
    }
    if (code == SQLITE_OK) return;
    sqlite3_close(db_);
    db_ = nullptr;
  }
}

void Store::open() {
  for (int attempt = 0; attempt < 2; ++attempt) {
    int code = sqlite3_open_v2(file_.c_str(), &db_, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE, nullptr);
    if (code == SQLITE_OK) {
      sqlite3_extended_result_codes(db_, 1);
      sqlite3_busy_timeout(db_, 10000);
      // Write-ahead log without a flush for each commit: a kill loses nothing, a power cut at most the last units.
      code = sqlite3_exec(db_, "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;", nullptr, nullptr, nullptr);
    }
    int version = 0;
    if (code == SQLITE_OK) {
      Statement query(db_, "PRAGMA user_version");
      const int row = query.step();
      if (row == SQLITE_ROW)
        version = sqlite3_column_int(query.raw(), 0);
      else
        code = row;
    }
    if (code == SQLITE_OK && version > kStoreVersion) {
      put_aside("was written by a newer version of Icefield");
      continue;
    }
    if (code == SQLITE_OK)
      code = sqlite3_exec(db_,
                          "CREATE TABLE IF NOT EXISTS records (kind TEXT NOT NULL, key TEXT NOT NULL, sum INTEGER NOT "
                          "NULL, value BLOB NOT NULL,"
                          " PRIMARY KEY (kind, key)); PRAGMA user_version=1;",
                          nullptr, nullptr, nullptr);
    if (code == SQLITE_OK) return;
    if (!is_damage(code)) fail(code);
    put_aside("is damaged");
  }
  throw Error(ErrorKind::resource, file_.string(), "cannot be opened", "delete the work folder; it is computed again");
}

std::optional<Bytes> Store::get(const std::string& kind, const Fingerprint& key) {
  std::lock_guard lock(mutex_);
  if (!db_) return std::nullopt;
  const std::string hex = key.hex();
  Bytes value;
  bool good = false;
  {
    Statement query(db_, "SELECT value, sum FROM records WHERE kind = ?1 AND key = ?2");
    const int code = query.text(1, kind).text(2, hex).step();
    if (code == SQLITE_DONE) return std::nullopt;
    if (code == SQLITE_ROW) {
      const auto* data = static_cast<const std::byte*>(sqlite3_column_blob(query.raw(), 0));
      const auto size = static_cast<std::size_t>(sqlite3_column_bytes(query.raw(), 0));
      if (size > 0) value.assign(data, data + size);
      good = static_cast<std::int64_t>(XXH3_64bits(value.data(), value.size())) == sqlite3_column_int64(query.raw(), 1);
    } else if (!is_damage(code)) {
      fail(code);
    }
  }
  if (good) return value;
  remove_damaged(kind, hex);
  return std::nullopt;
}

void Store::drop(const std::string& kind, const Fingerprint& key) {
  std::lock_guard lock(mutex_);
  remove_damaged(kind, key.hex());
}

void Store::remove_damaged(const std::string& kind, const std::string& key) {
  if (!db_ || use_ == Use::read) return;
  monitor_.log(LogLevel::warning, file_.string() + ": a record of " + kind + " is damaged; it is computed again");
  Statement(db_, "DELETE FROM records WHERE kind = ?1 AND key = ?2").text(1, kind).text(2, key).step();
}

bool Store::has(const std::string& kind, const Fingerprint& key) {
  std::lock_guard lock(mutex_);
  if (!db_) return false;
  const std::string hex = key.hex();
  Statement query(db_, "SELECT 1 FROM records WHERE kind = ?1 AND key = ?2");
  return query.text(1, kind).text(2, hex).step() == SQLITE_ROW;
}

Bytes Store::head(const std::string& kind, const Fingerprint& key, std::size_t bytes) {
  std::lock_guard lock(mutex_);
  if (!db_) return {};
  const std::string hex = key.hex();
  Statement query(db_, "SELECT substr(value, 1, ?3) FROM records WHERE kind = ?1 AND key = ?2");
  if (query.text(1, kind).text(2, hex).number(3, static_cast<std::int64_t>(bytes)).step() != SQLITE_ROW) return {};
  const auto* data = static_cast<const std::byte*>(sqlite3_column_blob(query.raw(), 0));
  return {data, data + sqlite3_column_bytes(query.raw(), 0)};
}

void Store::put(const std::string& kind, const Fingerprint& key, const Bytes& value) {
  std::lock_guard lock(mutex_);
  if (!db_) return;
  const std::string hex = key.hex();
  Statement insert(db_, "INSERT OR REPLACE INTO records VALUES (?1, ?2, ?3, ?4)");
  const int code = insert.text(1, kind)
                       .text(2, hex)
                       .number(3, static_cast<std::int64_t>(XXH3_64bits(value.data(), value.size())))
                       .blob(4, value.data(), value.size())
                       .step();
  if (code == SQLITE_DONE || use_ == Use::read) return;
  if (is_damage(code)) {
    put_aside("is damaged");
    open();
    throw Error(ErrorKind::resource, file_.string(), "was damaged and has been begun again",
                "run the same command again");
  }
  fail(code);
}

std::vector<Store::Record> Store::records() {
  std::lock_guard lock(mutex_);
  std::vector<Record> all;
  if (!db_) return all;
  Statement query(db_, "SELECT kind, key, length(value) FROM records ORDER BY kind, key");
  int code = SQLITE_DONE;
  while ((code = query.step()) == SQLITE_ROW) {
    const auto text = [&](int column) {
      return std::string(reinterpret_cast<const char*>(sqlite3_column_text(query.raw(), column)));
    };
    all.push_back({text(0), text(1), static_cast<std::uint64_t>(sqlite3_column_int64(query.raw(), 2))});
  }
  if (code != SQLITE_DONE) fail(code);
  return all;
}

void Store::remove_all(const std::vector<Record>& records) {
  std::lock_guard lock(mutex_);
  if (!db_ || records.empty()) return;
  int code = sqlite3_exec(db_, "BEGIN IMMEDIATE", nullptr, nullptr, nullptr);
  for (const Record& record : records) {
    if (code != SQLITE_OK && code != SQLITE_DONE) break;
    code = Statement(db_, "DELETE FROM records WHERE kind = ?1 AND key = ?2")
               .text(1, record.kind)
               .text(2, record.key)
               .step();
  }
  if (code == SQLITE_OK || code == SQLITE_DONE) code = sqlite3_exec(db_, "COMMIT", nullptr, nullptr, nullptr);
  if (code != SQLITE_OK && code != SQLITE_DONE) {
    sqlite3_exec(db_, "ROLLBACK", nullptr, nullptr, nullptr);
    fail(code);
  }
  // Where somebody reads at this moment, the room is taken up by what comes next.
  sqlite3_exec(db_, "VACUUM; PRAGMA wal_checkpoint(TRUNCATE);", nullptr, nullptr, nullptr);
}

void Store::remove(const std::string& kind, const Fingerprint& key) {
  std::lock_guard lock(mutex_);
  if (!db_) return;
  const std::string hex = key.hex();
  Statement(db_, "DELETE FROM records WHERE kind = ?1 AND key = ?2").text(1, kind).text(2, hex).step();
}

}  // namespace icefield
