// Who may write in a survey's folder.
#pragma once
#include <filesystem>

namespace icefield {

// Makes a folder and those above it. Throws Error(resource).
void make_folder(const std::filesystem::path& folder);

// A lock on a folder: held by the open file, so that it ends with the process however that ends.
class FolderLock {
 public:
  // `run`: of one run at a time; throws Error(resource) where another has it. `edit`: for the moment of changing
  // survey.toml; waits.
  enum class Kind { run, edit };
  FolderLock(const std::filesystem::path& folder, Kind kind);
  ~FolderLock();
  FolderLock(const FolderLock&) = delete;
  FolderLock& operator=(const FolderLock&) = delete;
  static bool is_held(const std::filesystem::path& folder);  // the lock of a run, by another process or object

 private:
  int fd_ = -1;
};

}  // namespace icefield
