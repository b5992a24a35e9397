// A spot in all photos at once.
#pragma once
#include <optional>
#include <span>
#include <string>

#include "icefield/control/predict_marks.h"
#include "icefield/draw/draw.h"

namespace icefield {

struct DrawnMark {
  ImageU8 part;  // of the photo, around the spot
  std::string photo, remark;
  std::optional<Eigen::Vector2d> marked;     // in the part's pixels
  std::optional<Eigen::Vector2d> predicted;  // with its ellipse
  Ellipse ellipse;
};

// Each enlarged, side by side: a cross where it is marked, a ring where it is predicted.
ImageU8 draw_marks(std::span<const DrawnMark> marks, const DrawOptions& options);

}  // namespace icefield
