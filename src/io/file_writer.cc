#include "src/io/file_writer.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <utility>

#include "icefield/base/error.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {
constexpr std::size_t kBuffer = std::size_t{1} << 20;
}

FileWriter::FileWriter(fs::path file) : file_(std::move(file)) {
  std::error_code ignored;
  in_place_ = fs::exists(file_, ignored) && !fs::is_regular_file(file_, ignored);
  part_ = in_place_ ? file_ : fs::path(file_.string() + ".part");
  descriptor_ = ::open(part_.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
  if (descriptor_ < 0) fail("cannot be written");
  buffer_.reserve(kBuffer);
}

FileWriter::~FileWriter() {
  if (descriptor_ < 0) return;
  ::close(descriptor_);
  std::error_code ignored;
  if (!in_place_) fs::remove(part_, ignored);
}

void FileWriter::fail(const char* what) {
  const std::string why = std::strerror(errno);
  if (descriptor_ >= 0) ::close(descriptor_);
  descriptor_ = -1;
  std::error_code ignored;
  if (!in_place_) fs::remove(part_, ignored);
  throw Error(ErrorKind::resource, file_.string(), std::string(what) + " (" + why + ")",
              "check free space and permissions");
}

void FileWriter::flush() {
  for (std::string_view left = buffer_; !left.empty();) {
    const ssize_t n = ::write(descriptor_, left.data(), left.size());
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) fail("cannot be written");
    left.remove_prefix(static_cast<std::size_t>(n));
  }
  buffer_.clear();
}

void FileWriter::append(std::string_view bytes) {
  buffer_.append(bytes);
  size_ += bytes.size();
  if (buffer_.size() >= kBuffer) flush();
}

void FileWriter::overwrite(std::uint64_t at, std::string_view bytes) {
  flush();
  while (!bytes.empty()) {
    const ssize_t n = ::pwrite(descriptor_, bytes.data(), bytes.size(), static_cast<off_t>(at));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) fail("cannot be written");
    bytes.remove_prefix(static_cast<std::size_t>(n));
    at += static_cast<std::uint64_t>(n);
  }
}

void FileWriter::finish() {
  flush();
  const bool flushed = in_place_ || ::fsync(descriptor_) == 0;
  const int descriptor = std::exchange(descriptor_, -1);
  if (::close(descriptor) != 0 || !flushed) fail("cannot be written");
  if (!in_place_ && ::rename(part_.c_str(), file_.c_str()) != 0) fail("cannot be put in place");
}

}  // namespace icefield
