// A mesh as one page that any browser shows, from disk.
#pragma once
#include <Eigen/Core>
#include <string>
#include <utility>
#include <vector>

#include "icefield/photo/image.h"

namespace icefield {

struct MeshPage {
  std::string title;
  std::vector<std::pair<std::string, std::string>> facts;  // what is said of it: name and value
  std::string units = "units";
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();  // that coordinates in the .glb count from
  std::string glb;                                   // the bytes of a glTF file
  std::string still;                                 // of a PNG, for browsers that draw no 3D; may be empty
};

// One HTML file with all that it needs: nothing is fetched. The mesh turns by hand or by itself, is painted by texture,
// shape, edges, support and expected error as far as it carries them, and two clicks measure a distance. Without
// scripts or without WebGL it shows the still picture and the facts.
std::string mesh_page(const MeshPage& page);

// Bytes as base64 (RFC 4648).
std::string base64(std::string_view bytes);

}  // namespace icefield
