#include "src/draw/parts.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;

std::optional<Vector2d> draw_photo_glyph(Canvas& canvas, const Eye& eye, const Pose& pose, double size, bool doubtful) {
  // Corners of the plate, the ends of the ray and of the tick, in the photo's own frame.
  const Vector3d corners[] = {{-0.5, -0.34, 0}, {0.5, -0.34, 0}, {0.5, 0.34, 0}, {-0.5, 0.34, 0},
                              {0, 0, 0},        {0, 0, 1.1},     {0, -0.34, 0},  {0, -0.62, 0}};
  Vector2d at[8];
  for (int k = 0; k < 8; ++k) {
    const Vector3d place = eye.place(pose.to_world(size * corners[k]));
    if (eye.perspective && !(place.z() > 0.2 * size)) return std::nullopt;
    at[k] = place.head<2>();
  }
  const Tone tone = doubtful ? kRust : kCrevasse;
  if (!doubtful) canvas.area({at, 4}, tone, 0.55);
  for (int k = 0; k < 4; ++k) {
    const Vector2d &a = at[k], &b = at[(k + 1) % 4];
    canvas.line(a.x(), a.y(), b.x(), b.y(), tone, doubtful ? 1.8 : 1);
  }
  if (doubtful) canvas.line(at[0].x(), at[0].y(), at[2].x(), at[2].y(), tone, 1.8);
  canvas.line(at[4].x(), at[4].y(), at[5].x(), at[5].y(), tone, 1.2);
  canvas.dot(at[5].x(), at[5].y(), 1.8, tone);
  canvas.line(at[6].x(), at[6].y(), at[7].x(), at[7].y(), tone, 1.2);
  return at[4];
}

}  // namespace icefield
