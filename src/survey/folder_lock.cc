#include "src/survey/folder_lock.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "icefield/base/error.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

fs::path lock_file(const fs::path& folder, FolderLock::Kind kind) {
  return folder / "work" / (kind == FolderLock::Kind::run ? "lock" : "edit.lock");
}

}  // namespace

void make_folder(const fs::path& folder) {
  std::error_code error;
  fs::create_directories(folder, error);
  if (error)
    throw Error(ErrorKind::resource, folder.string(), "cannot be made (" + error.message() + ")",
                "check permissions and free space");
}

FolderLock::FolderLock(const fs::path& folder, Kind kind) {
  const fs::path file = lock_file(folder, kind);
  make_folder(folder / "work");
  fd_ = ::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666);
  if (fd_ < 0)
    throw Error(ErrorKind::resource, file.string(), std::string("cannot be written (") + std::strerror(errno) + ")",
                "check permissions and free space");
  int result = 0;
  do result = ::flock(fd_, kind == Kind::run ? LOCK_EX | LOCK_NB : LOCK_EX);
  while (result != 0 && errno == EINTR);
  if (result == 0) return;
  ::close(fd_);
  throw Error(ErrorKind::resource, folder.string(), "is in use by another run",
              "wait for it to end, or stop it; `status`, `view`, `pair`, `compare` and `export` work meanwhile");
}

FolderLock::~FolderLock() {
  ::close(fd_);
}

bool FolderLock::is_held(const fs::path& folder) {
  const int fd = ::open(lock_file(folder, Kind::run).c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) return false;
  const bool held = ::flock(fd, LOCK_SH | LOCK_NB) != 0;
  ::close(fd);
  return held;
}

}  // namespace icefield
