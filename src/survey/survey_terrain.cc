// Classes and height models of each block.
#include "icefield/base/statistics.h"
#include "icefield/survey/make_terrain.h"
#include "src/survey/block_products.h"
#include "src/survey/step_table.h"

namespace icefield {
namespace fs = std::filesystem;

std::vector<TerrainReport> Survey::terrain() {
  densify();
  State& state = *state_;
  BlockProduct<TerrainReport> what;
  what.step = "terrain";
  for (const std::string_view file : step_row("terrain").files) what.files.emplace_back(file);
  what.key = [&](std::size_t b) { return state.terrain_key(settings_, b); };
  what.read = read_terrain_record, what.record = terrain_record;
  what.prepare = [&] {
    lock();
    densify();
  };
  what.inputs = [&] { return state.inputs_of_terrain(settings_); };
  what.make = [&](std::size_t b, const std::string& fingerprint, const std::vector<fs::path>& files,
                  TerrainReport& report) {
    const TiledCloud cloud(cloud_file(b));
    std::vector<double> gsd;  // of the photos on the subject
    for (const CameraFile::Photo& photo : cameras_of(b).photos)
      if (photo.gsd > 0) gsd.push_back(photo.gsd);
    report = make_terrain(cloud, gsd.empty() ? 0 : median(gsd), settings_.terrain,
                          {files[4], files[0], files[1], files[2], files[3]}, fingerprint, executor_, monitor_);
  };
  return make_block_products(state, what, monitor_);
}

fs::path Survey::terrain_file(std::size_t block, const std::string& name) {
  this->block(block);
  return state_->current_file(settings_, folder_, block, "terrain", name.c_str(),
                              state_->terrain_key(settings_, block));
}

}  // namespace icefield
