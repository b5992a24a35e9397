// Classes, height models and orthomosaic of each block.
#include <fmt/format.h>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "icefield/survey/make_elevation.h"
#include "icefield/survey/make_orthomosaic.h"
#include "icefield/survey/make_terrain.h"
#include "icefield/world/local_lattice.h"
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

OverlapReport Survey::overlap(std::size_t block, const OverlapOptions& options) {
  const OrientResult* result = posed();
  if (!result) result = &need_free_blocks();
  if (block >= result->blocks.size())
    throw Error(ErrorKind::usage, fmt::format("block {}", block + 1), "does not exist",
                fmt::format("the survey has {}", result->blocks.size()));
  const Block& of = result->blocks[block];
  const WorldFrame frame(of.datum, of.origin);
  OverlapScene scene{of, of.points, {}, {}, {}};
  // Bounds in coordinates that the block does not have yet hold nothing of it.
  const Bounds bounds = state_->holds_subject(of) ? state_->bounds_of(of) : state_->automatic_of(of);
  for (const Eigen::Vector3d& p : of.points) scene.counted.push_back(bounds.contains(p));
  frame.to_world(scene.points);
  for (const PosedPhoto& photo : of.photos) scene.eyes.push_back(frame.to_world(photo.pose.centre));
  std::optional<LocalLattice> lattice;
  if (frame.curved() && !scene.points.empty()) {
    Eigen::Vector2d low = scene.points[0].head<2>(), high = low;
    for (const Eigen::Vector3d& p : scene.points) low = low.cwiseMin(p.head<2>()), high = high.cwiseMax(p.head<2>());
    const Eigen::Vector2d rim = 0.5 * (high - low);
    lattice.emplace(frame, low - rim, high + rim);
    scene.to_block = [&](std::span<Eigen::Vector3d> places) { lattice->to_local(places); };
  } else {
    scene.to_block = [&](std::span<Eigen::Vector3d> places) {
      for (Eigen::Vector3d& p : places) p = frame.to_local(p);
    };
  }
  Overlap made = overlap_of(scene, options, executor_, monitor_);
  OverlapReport report{block, std::move(made.map), std::move(made.summary), of.datum, {}};
  for (const PosedPhoto& photo : of.photos) report.names.push_back(photo_name(photo.photo));
  return report;
}

std::vector<OrthomosaicReport> Survey::orthomosaic() {
  terrain();
  State& state = *state_;
  BlockProduct<OrthomosaicReport> what;
  what.step = "orthomosaic";
  for (const std::string_view file : step_row("orthomosaic").files) what.files.emplace_back(file);
  what.key = [&](std::size_t b) { return state.orthomosaic_key(settings_, b); };
  what.read = read_orthomosaic_record, what.record = orthomosaic_record;
  what.prepare = [&] {
    lock();
    terrain();
  };
  what.inputs = [&] { return state.inputs_of_orthomosaic(settings_); };
  what.make = [&](std::size_t b, const std::string& fingerprint, const std::vector<fs::path>& files,
                  OrthomosaicReport& report) {
    const auto photos = source();
    const WorldFrame frame = world_frame(b);
    const fs::path surface = terrain_file(b, "dsm.tif"), ground = terrain_file(b, "dtm.tif");
    OrthomosaicSource from{settings_.orthomosaic.over_ground ? ground : surface, ground, block(b), *photos, frame, {}};
    for (const PosedPhoto& photo : block(b).photos) from.names.push_back(photo_name(photo.photo));
    report =
        make_orthomosaic(from, settings_.orthomosaic, {files[0], files[1], files[2]}, fingerprint, executor_, monitor_);
    for (const std::string& missing : report.summary.photos_missing)
      monitor_.log(LogLevel::warning, missing + "; the orthomosaic is made without it");
  };
  return make_block_products(state, what, monitor_);
}

ElevationReport Survey::elevation(std::size_t block, const ElevationOptions& options, const fs::path& picture,
                                  const fs::path& relief) {
  const TiledCloud cloud(cloud_file(block));
  const auto photos = source();
  const WorldFrame frame = world_frame(block);
  ElevationSource from{cloud, this->block(block), *photos, frame, {}, 0};
  std::vector<double> gsd;
  for (const CameraFile::Photo& photo : cameras_of(block).photos)
    if (photo.gsd > 0) gsd.push_back(photo.gsd);
  if (!gsd.empty()) from.gsd = median(gsd);
  for (const PosedPhoto& photo : from.block.photos) from.names.push_back(photo_name(photo.photo));
  return make_elevation(from, options, settings_.orthomosaic, {picture, relief}, executor_, monitor_);
}

OrthomosaicReport Survey::lay_out_photo(std::size_t block, std::uint32_t photo, const fs::path& file) {
  terrain();
  const auto photos = source();
  const WorldFrame frame = world_frame(block);
  Block one = this->block(block).without_points();
  one.photos = {one.photos.at(photo)};
  const fs::path ground = terrain_file(block, "dtm.tif");
  OrthomosaicSource from{settings_.orthomosaic.over_ground ? ground : terrain_file(block, "dsm.tif"),
                         ground,
                         one,
                         *photos,
                         frame,
                         {photo_name(one.photos[0].photo)}};
  OrthomosaicReport report = make_orthomosaic(from, settings_.orthomosaic, {file, {}, {}}, "", executor_, monitor_);
  report.block = block, report.file = file;
  return report;
}

fs::path Survey::orthomosaic_file(std::size_t block, const std::string& name) {
  this->block(block);
  return state_->current_file(settings_, folder_, block, "orthomosaic", name.c_str(),
                              state_->orthomosaic_key(settings_, block));
}

}  // namespace icefield
