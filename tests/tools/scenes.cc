#include "tests/tools/scenes.h"

#include <unistd.h>

#include <cstdlib>

namespace icefield::test {
namespace fs = std::filesystem;

const fs::path& scratch_folder() {
  struct Scratch {
    fs::path path;
    Scratch() {
      std::string pattern = (fs::temp_directory_path() / "icefield-test-XXXXXX").string();
      path = ::mkdtemp(pattern.data());
    }
    ~Scratch() {
      std::error_code ignored;
      fs::remove_all(path, ignored);
    }
  };
  static const Scratch scratch;
  return scratch.path;
}

fs::path rendered(const std::string& name, const simulate::PlanOptions& plan, int samples) {
  const fs::path folder = scratch_folder() / name;
  if (!fs::exists(folder / "truth" / "scene.json")) {
    Monitor silent;
    simulate::RenderOptions options;
    options.samples = samples;
    simulate::write_survey(folder, plan, options, 92, Executor(), silent);
  }
  return folder;
}

simulate::PlanOptions small_cairn() {
  simulate::PlanOptions plan;
  plan.scene = {"cairn", 21, 0.3};
  plan.photos = 14;
  plan.extent = 0.36;
  plan.width = 480;
  plan.height = 320;
  return plan;
}

simulate::PlanOptions small_flight() {
  simulate::PlanOptions plan = small_cairn();
  plan.scene = {"forefield", 22, 0.3};
  plan.photos = 15;
  plan.extent = 0.5;
  return plan;
}

std::vector<NamedPose> named(const CameraFile& file) {
  std::vector<NamedPose> poses;
  for (const CameraFile::Photo& photo : file.photos)
    poses.push_back({photo.name, file.cameras[photo.camera], photo.pose, photo.gsd});
  return poses;
}

}  // namespace icefield::test
