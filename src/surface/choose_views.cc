#include "src/surface/choose_views.h"

#include <algorithm>
#include <cmath>

#include "src/surface/expand_label.h"

namespace icefield {
namespace {

constexpr double kUnit = 1000;  // costs are whole numbers of 1 / kUnit

// The energy of a choice: what each face loses beside its best photo, and what seams cost.
class ViewChoice {
 public:
  ViewChoice(const Mesh& mesh, const MeshEdges& edges, const FaceViews& views, const std::vector<double>& sharpness,
             const TextureOptions& options)
      : views_(views), options_(options), loss_(views.views.size()), choice_(mesh.faces.size(), kUnseen) {
    weigh_views(mesh, sharpness);
    weigh_edges(mesh, edges);
  }

  std::vector<std::uint32_t> run(std::size_t photos, Monitor& monitor) {
    begin_with_best();
    std::vector<std::vector<std::uint32_t>> seen_by(photos);
    for (std::uint32_t f = 0; f < choice_.size(); ++f)
      for (const FaceView& v : views_.of(f)) seen_by[v.photo].push_back(f);
    constexpr std::size_t kSweeps = 3;
    expand_labels(*this, seen_by, kSweeps, monitor);
    return choice_;
  }

  // The problem, for expand_label.
  std::vector<std::uint32_t>& choice() { return choice_; }
  std::int64_t loss(std::uint32_t face, std::uint32_t photo) const {
    for (std::size_t i = views_.starts[face]; i < views_.starts[face + 1]; ++i)
      if (views_.views[i].photo == photo) return loss_[i];
    return 0;
  }
  template <class Visit>
  void around(std::uint32_t face, const Visit& visit) const {
    for (std::uint32_t k = first_[face]; k < first_[face + 1]; ++k) visit(around_[k].face, around_[k].weight);
  }
  std::int64_t seam(std::uint32_t f, std::uint32_t g, float weight, std::uint32_t of_f, std::uint32_t of_g) const {
    if (of_f == of_g) return 0;
    constexpr double kAny = 0.9, kApart = 3;  // where both photos agree; where they do not at all (bench/texture_study)
    return std::llround(kUnit * weight * (kAny + 0.5 * kApart * (apart(f, of_f, of_g) + apart(g, of_f, of_g))));
  }

 private:
  struct Neighbour {
    std::uint32_t face;
    float weight;
  };

  void weigh_views(const Mesh& mesh, const std::vector<double>& sharpness) {
    double whole = 0;
    std::size_t seen = 0;
    for (std::size_t f = 0; f < choice_.size(); ++f)
      if (!views_.of(f).empty()) whole += face_area(mesh, f), ++seen;
    const double usual = whole / static_cast<double>(std::max<std::size_t>(1, seen));
    for (std::size_t f = 0; f < choice_.size(); ++f) {
      const auto of = views_.of(f);
      // The best of those that agree; of all where none does.
      double best = 0;
      const auto worth = [&](const FaceView& v) { return v.pixels * sharpness[v.photo] * sharpness[v.photo]; };
      for (const FaceView& v : of)
        if (!v.apart) best = std::max(best, worth(v));
      for (const FaceView& v : of)
        if (best == 0) best = std::max(best, worth(v));
      const double size = std::clamp(face_area(mesh, f) / usual, 0.05, 20.0);
      for (std::size_t i = views_.starts[f]; i < views_.starts[f + 1]; ++i) {
        const FaceView& v = views_.views[i];
        constexpr double kMostLost = 3, kApart = 6, kStep = 1;
        const double lost = std::clamp(0.5 * std::log(best / std::max(1e-12, worth(v))), 0.0, kMostLost);
        loss_[i] = std::llround(kUnit * size * (lost + (v.apart ? kApart : 0) + (v.at_step ? kStep : 0)));
      }
    }
  }
  void weigh_edges(const Mesh& mesh, const MeshEdges& edges) {
    first_.assign(choice_.size() + 1, 0);
    double whole = 0;
    std::size_t count = 0;
    const auto counts = [&](const MeshEdges::Edge& e) {
      return e.count == 2 && !views_.of(edges.faces[e.first]).empty() && !views_.of(edges.faces[e.first + 1]).empty();
    };
    for (const MeshEdges::Edge& e : edges.edges) {
      if (!counts(e)) continue;
      for (std::uint32_t k = 0; k < 2; ++k) ++first_[edges.faces[e.first + k] + 1];
      whole += (mesh.positions[e.low] - mesh.positions[e.high]).norm(), ++count;
    }
    for (std::size_t f = 0; f < choice_.size(); ++f) first_[f + 1] += first_[f];
    around_.resize(first_.back());
    const double usual = whole / static_cast<double>(std::max<std::size_t>(1, count));
    std::vector<std::uint32_t> next(first_.begin(), first_.end() - 1);
    for (const MeshEdges::Edge& e : edges.edges) {
      if (!counts(e)) continue;
      const auto weight = static_cast<float>(
          options_.seam_cost *
          std::clamp<double>((mesh.positions[e.low] - mesh.positions[e.high]).norm() / usual, 0.1, 10));
      const std::uint32_t a = edges.faces[e.first], b = edges.faces[e.first + 1];
      around_[next[a]++] = {b, weight};
      around_[next[b]++] = {a, weight};
    }
  }
  void begin_with_best() {
    for (std::uint32_t f = 0; f < choice_.size(); ++f) {
      std::int64_t least = 0;
      for (std::size_t i = views_.starts[f]; i < views_.starts[f + 1]; ++i)
        if (choice_[f] == kUnseen || loss_[i] < least) choice_[f] = views_.views[i].photo, least = loss_[i];
    }
  }
  // Between 0 and 1: how far two photos are apart in what they say of a face. A metric.
  double apart(std::uint32_t face, std::uint32_t a, std::uint32_t b) const {
    const FaceView *u = views_.find(face, a), *v = views_.find(face, b);
    constexpr double kWhole = 24;  // of 255
    return u && v ? std::min(1.0, static_cast<double>((u->colour - v->colour).cwiseAbs().mean()) / kWhole) : 1.0;
  }

  const FaceViews& views_;
  const TextureOptions& options_;
  std::vector<std::int64_t> loss_;
  std::vector<std::uint32_t> first_;  // of each face's neighbours
  std::vector<Neighbour> around_;
  std::vector<std::uint32_t> choice_;
};

}  // namespace

std::vector<std::uint32_t> choose_views(const Mesh& mesh, const MeshEdges& edges, const FaceViews& views,
                                        const std::vector<double>& sharpness, const TextureOptions& options,
                                        Monitor& monitor) {
  return ViewChoice(mesh, edges, views, sharpness, options).run(sharpness.size(), monitor);
}

}  // namespace icefield
