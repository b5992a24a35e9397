// Steps of colour where charts of two photos meet.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "src/surface/charts.h"

namespace icefield {

// An edge between two charts that photos see, with places along it. Sides are those of the edge's two faces.
struct Seam {
  std::uint32_t low = 0, high = 0;  // vertices
  std::array<std::uint32_t, 2> charts{};
  std::uint32_t first = 0, places = 0;  // of its colours
};

class Seams {
 public:
  Seams(const Mesh& mesh, const MeshEdges& edges, const std::vector<Chart>& charts,
        const std::vector<std::uint32_t>& chart_of_face);

  // Colours of the sides that this photo gives, levelled by its gain.
  void sample(std::uint32_t photo, const ImageU8& pixels, const Mesh& mesh, const Block& block,
              const Eigen::Vector3f& gain, const Executor& executor);
  // What is added to each chart at its vertices: smooth over a chart, and so that steps at seams become small
  // (Lempitsky and Ivanov 2007). Afterwards `correction` and `rest` may be asked.
  void level(const Mesh& mesh, TextureSummary& summary, Monitor& monitor);

  // Added at the corner of a face.
  const Eigen::Vector3f& correction(std::uint32_t face, std::size_t corner) const {
    return corrections_[node_[3 * static_cast<std::size_t>(face) + corner]];
  }
  // What a side still has to move for both to meet in the middle, at a place of a seam.
  Eigen::Vector3f rest(const Seam& seam, std::uint32_t place, bool second) const;
  // Seams of a chart: index, and which side it is.
  struct Side {
    std::uint32_t seam;
    bool second;
  };
  std::span<const Side> of_chart(std::uint32_t chart) const {
    return {sides_.data() + starts_[chart], sides_.data() + starts_[chart + 1]};
  }
  const std::vector<Seam>& all() const { return seams_; }

 private:
  const std::vector<Chart>& charts_;
  std::vector<Seam> seams_;
  std::vector<Side> sides_;
  std::vector<std::uint32_t> starts_;
  std::vector<std::array<Eigen::Vector3f, 2>> colours_;  // by place of a seam, of both sides
  std::vector<std::uint32_t> node_;                      // by corner: of a vertex in a chart
  std::vector<std::uint32_t> vertex_of_node_, chart_of_node_;
  std::vector<Eigen::Vector3f> corrections_;  // by node
};

}  // namespace icefield
