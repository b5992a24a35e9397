// How results are written as JSON.
#pragma once
#include <nlohmann/json.hpp>

#include "icefield/block/bounds.h"

namespace icefield {

using Json = nlohmann::ordered_json;

inline Json json_of(const Eigen::Vector3d& v) {
  return Json{v.x(), v.y(), v.z()};
}
inline Json json_of(const Eigen::Quaterniond& q) {
  return Json{q.w(), q.x(), q.y(), q.z()};
}
inline Json json_of(const Bounds& b) {
  Json json = {{"centre", json_of(b.centre)},
               {"size", json_of(Eigen::Vector3d(2 * b.half_size))},
               {"orientation", json_of(b.orientation)}};
  for (const Eigen::Vector2d& corner : b.outline) json["outline"].push_back({corner.x(), corner.y()});
  return json;
}
inline std::string text_of(const Json& json) {
  return json.dump(1);
}

}  // namespace icefield
