#include "icefield/survey/photos_by_name.h"

#include <fmt/format.h>

#include "icefield/base/error.h"
#include "icefield/io/photo_file.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

class NamedPhotos : public PhotoSource {
 public:
  NamedPhotos(std::vector<std::string> names, const fs::path& folder) : names_(std::move(names)), folder_(folder) {
    const std::vector<fs::path> all = find_photo_files({folder});
    for (const std::string& name : names_) {
      std::vector<fs::path>& found = files_.emplace_back();
      for (const fs::path& file : all) {
        const std::string path = file.string();
        if (path == name ||
            (path.size() > name.size() && path.ends_with(name) && path[path.size() - name.size() - 1] == '/'))
          found.push_back(file);
      }
    }
  }
  ImageU8 load(PhotoIndex photo) override {
    const std::vector<fs::path>& found = files_.at(photo.value);
    if (found.size() == 1) return read_photo(found[0]);
    throw Error(ErrorKind::input, names_[photo.value],
                found.empty() ? "is not below " + folder_.string()
                              : fmt::format("is the name of {} photos below {}", found.size(), folder_.string()),
                found.empty() ? "name the folder that it lies in" : "give the cameras names with more of the path");
  }

 private:
  std::vector<std::string> names_;
  std::vector<std::vector<fs::path>> files_;
  fs::path folder_;
};

}  // namespace

PosedPhotos photos_by_name(const CameraFile& cameras, const fs::path& folder) {
  PosedPhotos result{Block(), WorldFrame(cameras.datum, cameras.origin), nullptr};
  result.block.cameras = cameras.cameras;
  std::vector<std::string> names;
  for (std::size_t i = 0; i < cameras.photos.size(); ++i) {
    const CameraFile::Photo& photo = cameras.photos[i];
    Pose pose = photo.pose;
    if (result.frame.curved()) {
      pose.centre = result.frame.to_local(cameras.origin + pose.centre);
      pose.orientation = (pose.orientation * Eigen::Quaterniond(result.frame.axes_at(pose.centre))).normalized();
    }
    result.block.photos.push_back({PhotoIndex(i), CameraIndex(photo.camera), pose});
    names.push_back(photo.name);
  }
  result.photos = std::make_unique<NamedPhotos>(std::move(names), folder);
  return result;
}

}  // namespace icefield
