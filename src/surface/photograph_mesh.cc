#include "icefield/surface/photograph_mesh.h"

#include <algorithm>
#include <cmath>

#include "icefield/base/error.h"
#include "src/surface/face_tree.h"
#include "src/surface/photo_samples.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

struct Seen {
  Vector3f colour = Vector3f::Zero();
  float depth = 0;
  bool filled = false;
};

class MeshEye {
 public:
  MeshEye(const Mesh& mesh, const Texture* texture, const Camera& camera, const Pose& pose)
      : mesh_(mesh),
        texture_(texture && !texture->empty() ? texture : nullptr),
        camera_(camera),
        pose_(pose),
        tree_(mesh),
        centre_((pose.centre - mesh.origin).cast<float>()) {
    Vector3f low = Vector3f::Constant(std::numeric_limits<float>::infinity()), high = -low;
    for (const Vector3f& p : mesh.positions) low = low.cwiseMin(p), high = high.cwiseMax(p);
    // As far as any of it can be.
    for (int c = 0; c < 3; ++c) reach_ += std::max(std::abs(high[c] - centre_[c]), std::abs(low[c] - centre_[c]));
  }

  Seen look(const Vector2d& pixel) const {
    Seen seen;
    const auto way = unproject(camera_, pixel);
    if (!way) return seen;
    FaceTree::Ray ray;
    ray.from = centre_;
    // With z of 1 in the camera, so that distances are depths.
    ray.along = (pose_.orientation.conjugate() * Vector3d(way->x(), way->y(), 1)).cast<float>();
    ray.least = 1e-6f * reach_, ray.most = reach_;
    const auto hit = tree_.first_hit(ray);
    // Backs are seen through holes alone: what is there is not known.
    if (!hit || face_normal(mesh_, hit->face).dot(ray.along) > 0) return seen;
    seen.depth = hit->distance;
    const Face& face = mesh_.faces[hit->face];
    if (texture_) {
      Vector2f at = Vector2f::Zero();
      for (std::size_t k = 0; k < 3; ++k) at += hit->weights[k] * texture_->corners[hit->face][k];
      const std::size_t page = texture_->page[hit->face];
      seen.colour = rgb_bilinear(texture_->pages[page], at.x(), at.y());
      const ImageU8& origins = texture_->origins[page];
      const int x = std::clamp(static_cast<int>(at.x()), 0, origins.width() - 1),
                y = std::clamp(static_cast<int>(at.y()), 0, origins.height() - 1);
      seen.filled = origins.at(x, y) == static_cast<std::uint8_t>(TexelOrigin::filled);
    } else if (!mesh_.colours.empty()) {
      for (std::size_t k = 0; k < 3; ++k)
        for (int c = 0; c < 3; ++c)
          seen.colour[c] += hit->weights[k] * static_cast<float>(mesh_.colours[face[k]][static_cast<std::size_t>(c)]);
    } else {
      const Vector3f normal = face_normal(mesh_, hit->face);
      seen.colour.setConstant(60 + 160 * std::abs(normal.dot(ray.along)) / ray.along.norm());
    }
    return seen;
  }

 private:
  const Mesh& mesh_;
  const Texture* texture_;
  const Camera& camera_;
  const Pose& pose_;
  const FaceTree tree_;
  const Vector3f centre_;
  float reach_ = 0;
};

}  // namespace

MeshPhotograph photograph_mesh(const Mesh& mesh, const Texture* texture, const Camera& camera, const Pose& pose,
                               int rays, const Executor& executor) {
  check_arrays(mesh);
  if (rays < 1 || camera.width < 1 || camera.height < 1)
    throw Error(ErrorKind::usage, "photograph", "is asked for with no ray or no pixel", "give one at least");
  if (texture && !texture->empty()) check_texture(mesh, *texture);
  MeshPhotograph result{ImageU8(camera.width, camera.height, 3), ImageF(camera.width, camera.height),
                        ImageU8(camera.width, camera.height)};
  if (mesh.empty()) return result;
  const MeshEye eye(mesh, texture, camera, pose);
  executor.blocks(static_cast<std::size_t>(camera.height), 4, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < camera.width; ++x) {
        const Seen middle = eye.look(Vector2d(x + 0.5, y + 0.5));
        result.depth.at(x, y) = middle.depth;
        result.filled.at(x, y) = middle.filled ? 255 : 0;
        Vector3f colour = middle.colour;
        if (rays > 1) {
          // The mean of those that meet the mesh.
          Vector3f sum = Vector3f::Zero();
          int met = 0;
          for (int j = 0; j < rays; ++j)
            for (int i = 0; i < rays; ++i) {
              const Seen seen = eye.look(Vector2d(x + (i + 0.5) / rays, y + (j + 0.5) / rays));
              if (seen.depth > 0) sum += seen.colour, ++met;
            }
          if (met > 0) colour = sum / static_cast<float>(met);
        }
        for (int c = 0; c < 3; ++c)
          result.colour.at(x, y, c) = static_cast<std::uint8_t>(std::lround(std::clamp(colour[c], 0.0f, 255.0f)));
      }
  });
  return result;
}

}  // namespace icefield
