// What depth maps are tested and measured with: photos of a folder, maps in memory, a block with true cameras and
// points.
#pragma once
#include <filesystem>
#include <map>
#include <mutex>

#include "icefield/base/random.h"
#include "icefield/dense/dense.h"
#include "icefield/io/photo_file.h"
#include "simulate/plan.h"

namespace icefield::test {

class Photos : public PhotoSource {
 public:
  explicit Photos(const std::filesystem::path& folder) : files_(find_photo_files({folder})) {}
  ImageU8 load(PhotoIndex photo) override { return read_photo(files_.at(photo.value)); }

 private:
  std::vector<std::filesystem::path> files_;
};

class Maps : public DepthMapStore {
 public:
  bool has(PhotoIndex photo, int round) override {
    const std::lock_guard lock(mutex_);
    return maps_.count({photo.value, round}) > 0;
  }
  std::optional<DepthMap> get(PhotoIndex photo, int round) override {
    const std::lock_guard lock(mutex_);
    const auto found = maps_.find({photo.value, round});
    return found == maps_.end() ? std::nullopt : std::optional(found->second);
  }
  void put(PhotoIndex photo, int round, const DepthMap& map) override {
    const std::lock_guard lock(mutex_);
    maps_[{photo.value, round}] = map;
  }
  bool empty() const { return maps_.empty(); }
  void remove(PhotoIndex photo, int round) {
    const std::lock_guard lock(mutex_);
    maps_.erase({photo.value, round});
  }

 private:
  std::mutex mutex_;
  std::map<std::pair<std::uint32_t, int>, DepthMap> maps_;
};

// True cameras and points of the true surface, up to `farthest` metres away, as far as two photos see them.
inline Block true_block(const simulate::Scene& scene, const std::vector<simulate::PlannedPhoto>& planned,
                        int points_a_photo, float farthest = 1e9f) {
  Block block;
  for (std::size_t i = 0; i < planned.size(); ++i) {
    if (block.cameras.empty() || !(block.cameras.back() == planned[i].shot.camera))
      block.cameras.push_back(planned[i].shot.camera);
    block.photos.push_back({PhotoIndex(i), CameraIndex(block.cameras.size() - 1), planned[i].shot.pose});
  }
  CounterRandom random(1);
  for (std::size_t i = 0; i < planned.size(); ++i)
    for (int k = 0; k < points_a_photo; ++k) {
      const Camera& camera = planned[i].shot.camera;
      const auto d = unproject(camera, {random.uniform(0, camera.width), random.uniform(0, camera.height)});
      const Eigen::Vector3d line = planned[i].shot.pose.orientation.conjugate() * d->homogeneous();
      const auto hit = scene.trace(planned[i].shot.pose.centre.cast<float>(), line.cast<float>());
      if (!hit || hit->distance > farthest) continue;
      const Eigen::Vector3d p = hit->position.cast<double>();
      std::vector<Observation> seen;
      for (std::uint32_t j = 0; j < planned.size(); ++j) {
        const Camera& other = planned[j].shot.camera;
        const auto pixel = project(other, planned[j].shot.pose.to_camera(p));
        if (!pixel || pixel->x() < 0 || pixel->y() < 0 || pixel->x() > other.width || pixel->y() > other.height)
          continue;
        const Eigen::Vector3f to = (planned[j].shot.pose.centre - p).cast<float>();
        if (!scene.blocked(hit->position + 0.01f * hit->geometric_normal, to, 0.99f))
          seen.push_back({PosedIndex(j), FeatureIndex(), *pixel});
      }
      if (seen.size() >= 2) block.add_point(p, seen);
    }
  return block;
}

}  // namespace icefield::test
