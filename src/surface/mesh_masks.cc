#include "icefield/surface/mesh_masks.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "icefield/base/error.h"
#include "src/surface/face_tree.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

// Squared distances along a row of values, in place: each becomes the least of value(j) + (i - j)^2 (Felzenszwalb and
// Huttenlocher, "Distance transforms of sampled functions", 2012).
void lower_envelope(std::vector<float>& values, std::vector<int>& place, std::vector<float>& from) {
  const int n = static_cast<int>(values.size());
  const float infinite = std::numeric_limits<float>::infinity();
  place.assign(values.size(), 0);
  from.assign(values.size() + 1, infinite);
  int last = -1;
  const auto at = [&](int i) { return values[static_cast<std::size_t>(i)]; };
  for (int j = 0; j < n; ++j) {
    if (at(j) == infinite) continue;
    float meets = -infinite;
    while (last >= 0) {
      const int k = place[static_cast<std::size_t>(last)];
      meets = ((at(j) + static_cast<float>(j) * static_cast<float>(j)) -
               (at(k) + static_cast<float>(k) * static_cast<float>(k))) /
              (2.0f * static_cast<float>(j - k));
      if (meets > from[static_cast<std::size_t>(last)]) break;
      --last;
      meets = -infinite;
    }
    ++last;
    place[static_cast<std::size_t>(last)] = j;
    from[static_cast<std::size_t>(last)] = meets;
  }
  if (last < 0) return;
  std::vector<float> least(values.size());
  int k = 0;
  for (int i = 0; i < n; ++i) {
    while (k < last && from[static_cast<std::size_t>(k) + 1] < static_cast<float>(i)) ++k;
    const int j = place[static_cast<std::size_t>(k)];
    least[static_cast<std::size_t>(i)] = at(j) + static_cast<float>(i - j) * static_cast<float>(i - j);
  }
  values = std::move(least);
}

// Pixels within `radius` of one that is not 0.
ImageU8 grown(const ImageU8& mask, double radius) {
  if (radius <= 0) return mask;
  ImageF squared(mask.width(), mask.height());
  std::vector<float> line, from;
  std::vector<int> place;
  for (int x = 0; x < mask.width(); ++x) {
    line.resize(static_cast<std::size_t>(mask.height()));
    for (int y = 0; y < mask.height(); ++y)
      line[static_cast<std::size_t>(y)] = mask.at(x, y) ? 0.0f : std::numeric_limits<float>::infinity();
    lower_envelope(line, place, from);
    for (int y = 0; y < mask.height(); ++y) squared.at(x, y) = line[static_cast<std::size_t>(y)];
  }
  ImageU8 result(mask.width(), mask.height());
  for (int y = 0; y < mask.height(); ++y) {
    line.assign(squared.row(y), squared.row(y) + mask.width());
    lower_envelope(line, place, from);
    for (int x = 0; x < mask.width(); ++x)
      result.at(x, y) = line[static_cast<std::size_t>(x)] <= static_cast<float>(radius * radius) ? 255 : 0;
  }
  return result;
}
ImageU8 turned_over(ImageU8 mask) {
  for (std::uint8_t& value : mask.values()) value = value ? 0 : 255;
  return mask;
}

}  // namespace

void mesh_masks(const Mesh& mesh, const Block& block, const MeshMaskOptions& options,
                const std::function<void(std::size_t photo, const ImageU8& mask)>& take, const Executor& executor,
                Monitor& monitor) {
  check_arrays(mesh);
  check_block(block);
  if (mesh.empty() || !(options.close_px >= 0) || !(options.grow_px >= 0) || options.longest < 1)
    throw Error(ErrorKind::usage, "masks", "are asked for of a mesh without faces, or with sizes below 0",
                "give a mesh with faces, and sizes in pixels");
  const FaceTree tree(mesh);
  Vector3f low = Vector3f::Constant(std::numeric_limits<float>::infinity()), high = -low;
  for (const Vector3f& p : mesh.positions) low = low.cwiseMin(p), high = high.cwiseMax(p);
  const Executor watched = executor.watching(monitor);
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    monitor.progress("masks", i, block.photos.size());
    const Camera& camera = block.camera_of(block.photos[i]);
    const Pose& pose = block.photos[i].pose;
    const int factor = std::max(1, (std::max(camera.width, camera.height) + options.longest - 1) / options.longest);
    const Vector3f centre = (pose.centre - mesh.origin).cast<float>();
    float reach = 0;
    for (int c = 0; c < 3; ++c) reach += std::max(std::abs(high[c] - centre[c]), std::abs(low[c] - centre[c]));
    ImageU8 seen((camera.width + factor - 1) / factor, (camera.height + factor - 1) / factor);
    watched.blocks(static_cast<std::size_t>(seen.height()), 4, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < seen.width(); ++x) {
          const auto way = unproject(camera, Vector2d((x + 0.5) * factor, (y + 0.5) * factor));
          if (!way) continue;
          FaceTree::Ray ray;
          ray.from = centre;
          ray.along = (pose.orientation.conjugate() * Vector3d(way->x(), way->y(), 1)).cast<float>();
          ray.least = 1e-6f * reach, ray.most = reach;
          seen.at(x, y) = tree.blocked(ray) ? 255 : 0;
        }
    });
    const double close = options.close_px / factor, grow = options.grow_px / factor;
    if (close > 0) seen = turned_over(grown(turned_over(grown(seen, close)), close));
    seen = grown(seen, grow);
    ImageU8 mask(camera.width, camera.height);
    for (int y = 0; y < mask.height(); ++y)
      for (int x = 0; x < mask.width(); ++x) mask.at(x, y) = seen.at(x / factor, y / factor);
    take(i, mask);
  }
  monitor.progress("masks", block.photos.size(), block.photos.size());
}

}  // namespace icefield
