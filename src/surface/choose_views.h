// From which photo each face takes its colours.
#pragma once
#include <cstdint>
#include <vector>

#include "src/surface/face_views.h"

namespace icefield {

inline constexpr std::uint32_t kUnseen = 0xffffffffu;

// By face a photo of the block, kUnseen where there is none. `sharpness`: by photo, relative, above 0.
std::vector<std::uint32_t> choose_views(const Mesh& mesh, const MeshEdges& edges, const FaceViews& views,
                                        const std::vector<double>& sharpness, const TextureOptions& options,
                                        Monitor& monitor);

}  // namespace icefield
