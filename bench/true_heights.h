// What a made-up scene has in plan.
#pragma once
#include <cmath>

#include "icefield/base/parallel.h"
#include "icefield/photo/image.h"
#include "icefield/terrain/grid.h"
#include "simulate/scene.h"

namespace icefield {

// Heights at the middles of cells as the scene has them: of all that stands there, and of the ground below.
struct TrueHeights {
  ImageF surface, ground;
  ImageU8 kind;  // of the surface: 0 ground, 1 hut, 2 bush, 4 stones
};
inline TrueHeights true_heights(const simulate::Scene& scene, const GridFrame& frame, const Executor& executor) {
  TrueHeights truth{ImageF(frame.columns, frame.rows, 1, NAN), ImageF(frame.columns, frame.rows, 1, NAN),
                    ImageU8(frame.columns, frame.rows)};
  executor.blocks(static_cast<std::size_t>(frame.rows), 4, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < frame.columns; ++x) {
        const Eigen::Vector2d p = frame.middle(x, y);
        Eigen::Vector3f from(static_cast<float>(p.x()), static_cast<float>(p.y()), 200);
        for (bool first = true;; first = false) {
          const auto hit = scene.trace(from, -Eigen::Vector3f::UnitZ());
          if (!hit) break;
          if (first) {
            truth.surface.at(x, y) = hit->position.z();
            truth.kind.at(x, y) = hit->object == 0                                                                 ? 0
                                  : hit->object >= simulate::kHut && hit->object <= simulate::kLastOfHut           ? 1
                                  : hit->object >= simulate::kFirstBush && hit->object < simulate::kFirstOfSubject ? 2
                                                                                                                   : 4;
          }
          if (hit->object == 0) {
            truth.ground.at(x, y) = hit->position.z();
            break;
          }
          from.z() = hit->position.z() - 1e-3f;
        }
      }
  });
  return truth;
}

}  // namespace icefield
