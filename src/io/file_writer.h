// A file that is written piece by piece and only then takes its place.
#pragma once
#include <cstdint>
#include <filesystem>
#include <string>
#include <string_view>

namespace icefield {

// Writes beside the file (NAME.part); finish() makes it durable and puts it in place, and without finish() it is
// removed again. All throw Error(resource) naming the file when the disk is full or the folder cannot be written to.
class FileWriter {
 public:
  explicit FileWriter(std::filesystem::path file);
  ~FileWriter();
  FileWriter(const FileWriter&) = delete;
  FileWriter& operator=(const FileWriter&) = delete;

  void append(std::string_view bytes);
  void overwrite(std::uint64_t at, std::string_view bytes);  // what was appended before
  std::uint64_t size() const { return size_; }
  void finish();

 private:
  [[noreturn]] void fail(const char* what);
  void flush();
  std::filesystem::path file_, part_;
  std::string buffer_;
  std::uint64_t size_ = 0;
  int descriptor_ = -1;
  bool in_place_ = false;  // a device: nothing to put in place
};

}  // namespace icefield
