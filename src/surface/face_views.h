// Which photos see which faces of a mesh, and in what colour.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/surface/texture.h"

namespace icefield {

struct FaceView {
  std::uint32_t photo = 0;                           // PosedIndex
  float pixels = 0;                                  // of the photo that the face covers
  Eigen::Vector3f colour = Eigen::Vector3f::Zero();  // mean, 0 to 255
  bool apart = false;                                // other photos agree on another colour
  bool at_step = false;  // next to a step of depth in the photo, where colours of what is before or behind run over
};

// By face, each face's views by photo.
struct FaceViews {
  std::vector<std::uint64_t> starts{0};
  std::vector<FaceView> views;

  std::span<const FaceView> of(std::size_t face) const {
    return {views.data() + starts[face], views.data() + starts[face + 1]};
  }
  std::span<FaceView> of(std::size_t face) { return {views.data() + starts[face], views.data() + starts[face + 1]}; }
  const FaceView* find(std::size_t face, std::uint32_t photo) const;
};

// `usable`: by photo of the block; one that cannot be read gets 0 and a line in the summary. Faces that close a hole
// have no views.
FaceViews find_face_views(const Mesh& mesh, const Block& block, PhotoSource& photos, const TextureOptions& options,
                          std::vector<std::uint8_t>& usable, TextureSummary& summary, const Executor& executor,
                          Monitor& monitor);

// By photo of the block: what its colours are multiplied with so that photos agree where they see the same faces; the
// geometric mean of all is 1. The colours of the views are levelled as well.
std::vector<Eigen::Vector3f> level_exposures(FaceViews& views, std::size_t photos, TextureSummary& summary);

// Marks views whose colour is far from what the others of the face say.
void find_views_apart(FaceViews& views, double gap, TextureSummary& summary, const Executor& executor);

}  // namespace icefield
