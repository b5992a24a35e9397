#include "src/surface/face_tree.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <limits>
#include <numeric>

#include "icefield/base/error.h"

namespace icefield {
namespace {

using Eigen::Vector3f;

float distance2_to_box(const Vector3f& p, const Vector3f& low, const Vector3f& high) {
  const Vector3f d = (low - p).cwiseMax(p - high).cwiseMax(0.0f);
  return d.squaredNorm();
}

// The nearest place of a triangle (Ericson, "Real-time collision detection", 2005, 5.1.5).
Vector3f nearest_on(const Vector3f& p, const Vector3f& a, const Vector3f& b, const Vector3f& c) {
  const Vector3f ab = b - a, ac = c - a, ap = p - a;
  const float d1 = ab.dot(ap), d2 = ac.dot(ap);
  if (d1 <= 0 && d2 <= 0) return a;
  const Vector3f bp = p - b;
  const float d3 = ab.dot(bp), d4 = ac.dot(bp);
  if (d3 >= 0 && d4 <= d3) return b;
  const float vc = d1 * d4 - d3 * d2;
  if (vc <= 0 && d1 >= 0 && d3 <= 0) return a + d1 / (d1 - d3) * ab;
  const Vector3f cp = p - c;
  const float d5 = ab.dot(cp), d6 = ac.dot(cp);
  if (d6 >= 0 && d5 <= d6) return c;
  const float vb = d5 * d2 - d1 * d6;
  if (vb <= 0 && d2 >= 0 && d6 <= 0) return a + d2 / (d2 - d6) * ac;
  const float va = d3 * d6 - d5 * d4;
  if (va <= 0 && d4 >= d3 && d5 >= d6) return b + (d4 - d3) / ((d4 - d3) + (d5 - d6)) * (c - b);
  const float sum = va + vb + vc;
  if (!(sum > 0)) return a;
  return a + vb / sum * ab + vc / sum * ac;
}

}  // namespace

FaceTree::FaceTree(const Mesh& mesh) : mesh_(mesh), order_(mesh.faces.size()), middles_(mesh.faces.size()) {
  for (const Vector3f& p : mesh.positions)
    if (!p.allFinite())
      throw Error(ErrorKind::usage, "mesh", "has a vertex whose place is no number",
                  "mend it first, as `icefield reshape` does");
  std::iota(order_.begin(), order_.end(), 0u);
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const Face& face = mesh.faces[f];
    middles_[f] = (mesh.positions[face[0]] + mesh.positions[face[1]] + mesh.positions[face[2]]) / 3;
  }
  nodes_.reserve(mesh.faces.size() / 2 + 2);
  if (!order_.empty()) build(0, static_cast<std::uint32_t>(order_.size()));
  middles_ = {};
}

std::uint32_t FaceTree::build(std::uint32_t begin, std::uint32_t end) {
  const auto index = static_cast<std::uint32_t>(nodes_.size());
  nodes_.emplace_back();
  Eigen::AlignedBox3f box, middles;
  for (std::uint32_t i = begin; i < end; ++i) {
    for (const std::uint32_t v : mesh_.faces[order_[i]]) box.extend(mesh_.positions[v]);
    middles.extend(middles_[order_[i]]);
  }
  nodes_[index].low = box.min(), nodes_[index].high = box.max();
  constexpr std::uint32_t kLeaf = 4;
  if (end - begin <= kLeaf) {
    nodes_[index].first = begin, nodes_[index].count = end - begin;
    return index;
  }
  int axis;
  middles.sizes().maxCoeff(&axis);
  const std::uint32_t middle = begin + (end - begin) / 2;
  std::nth_element(order_.begin() + begin, order_.begin() + middle, order_.begin() + end,
                   [&](std::uint32_t a, std::uint32_t b) {
                     return middles_[a][axis] != middles_[b][axis] ? middles_[a][axis] < middles_[b][axis] : a < b;
                   });
  build(begin, middle);  // stands right behind
  nodes_[index].first = build(middle, end);
  return index;
}

FaceTree::Nearest FaceTree::nearest(const Vector3f& query) const {
  Nearest best;
  best.distance2 = std::numeric_limits<float>::infinity();
  struct Open {
    std::uint32_t node;
    float distance2;
  };
  std::array<Open, 64> stack;
  std::size_t depth = 0;
  stack[depth++] = {0, distance2_to_box(query, nodes_[0].low, nodes_[0].high)};
  while (depth > 0) {
    const Open open = stack[--depth];
    if (open.distance2 >= best.distance2) continue;
    const Node& node = nodes_[open.node];
    if (node.count > 0) {
      for (std::uint32_t i = node.first; i < node.first + node.count; ++i) {
        const Face& face = mesh_.faces[order_[i]];
        const Vector3f at =
            nearest_on(query, mesh_.positions[face[0]], mesh_.positions[face[1]], mesh_.positions[face[2]]);
        const float d = (at - query).squaredNorm();
        if (d < best.distance2) best = {order_[i], d, at};
      }
      continue;
    }
    Open a = {open.node + 1, 0}, b = {node.first, 0};
    a.distance2 = distance2_to_box(query, nodes_[a.node].low, nodes_[a.node].high);
    b.distance2 = distance2_to_box(query, nodes_[b.node].low, nodes_[b.node].high);
    if (a.distance2 < b.distance2) std::swap(a, b);  // the nearer one is taken next
    stack[depth++] = a;
    stack[depth++] = b;
  }
  return best;
}

namespace {

// Where a ray enters a box; infinite where it misses it.
float entry(const FaceTree::Ray& ray, const Vector3f& inverse, const Vector3f& low, const Vector3f& high) {
  float near = ray.least, far = ray.most;
  for (int c = 0; c < 3; ++c) {
    float a = (low[c] - ray.from[c]) * inverse[c], b = (high[c] - ray.from[c]) * inverse[c];
    if (a > b) std::swap(a, b);
    // Comparisons with what is no number are false: a ray within a side's plane is kept.
    if (a > near) near = a;
    if (b < far) far = b;
  }
  // A little wider, for what rounding takes away.
  return near <= far * (1 + 4e-7f) ? near : std::numeric_limits<float>::infinity();
}

// Moeller and Trumbore, "Fast, minimum storage ray-triangle intersection", 1997.
bool meets(const FaceTree::Ray& ray, const Vector3f& a, const Vector3f& b, const Vector3f& c, FaceTree::Hit& hit) {
  const Vector3f ab = b - a, ac = c - a, p = ray.along.cross(ac);
  const float det = ab.dot(p);
  if (!(det != 0)) return false;
  const float inverse = 1 / det;
  const Vector3f from = ray.from - a;
  constexpr float kSlack = 1e-6f;  // so that nothing slips through between two faces
  const float u = from.dot(p) * inverse;
  if (!(u >= -kSlack && u <= 1 + kSlack)) return false;
  const Vector3f q = from.cross(ab);
  const float v = ray.along.dot(q) * inverse;
  if (!(v >= -kSlack && u + v <= 1 + kSlack)) return false;
  const float distance = ac.dot(q) * inverse;
  if (!(distance >= ray.least && distance <= ray.most)) return false;
  hit.distance = distance;
  hit.weights = {1 - u - v, u, v};
  return true;
}

}  // namespace

template <class Take>
void FaceTree::trace(Ray& ray, const Take& take) const {
  if (nodes_.empty()) return;
  const Vector3f inverse = ray.along.cwiseInverse();
  struct Open {
    std::uint32_t node;
    float near;
  };
  std::array<Open, 64> stack;
  std::size_t depth = 0;
  const float whole = entry(ray, inverse, nodes_[0].low, nodes_[0].high);
  if (whole > ray.most) return;
  stack[depth++] = {0, whole};
  while (depth > 0) {
    const Open open = stack[--depth];
    if (open.near > ray.most) continue;
    const Node& node = nodes_[open.node];
    if (node.count > 0) {
      for (std::uint32_t i = node.first; i < node.first + node.count; ++i) {
        const Face& face = mesh_.faces[order_[i]];
        Hit hit;
        if (!meets(ray, mesh_.positions[face[0]], mesh_.positions[face[1]], mesh_.positions[face[2]], hit)) continue;
        hit.face = order_[i];
        if (take(hit)) return;
      }
      continue;
    }
    Open a = {open.node + 1, 0}, b = {node.first, 0};
    a.near = entry(ray, inverse, nodes_[a.node].low, nodes_[a.node].high);
    b.near = entry(ray, inverse, nodes_[b.node].low, nodes_[b.node].high);
    if (a.near < b.near) std::swap(a, b);  // the nearer one is taken next
    if (a.near <= ray.most) stack[depth++] = a;
    if (b.near <= ray.most) stack[depth++] = b;
  }
}

std::optional<FaceTree::Hit> FaceTree::first_hit(const Ray& ray) const {
  std::optional<Hit> first;
  Ray left = ray;
  trace(left, [&](const Hit& hit) {
    // Of two at one distance that with the lower number, whatever the order of the tree.
    if (!first || hit.distance < first->distance || (hit.distance == first->distance && hit.face < first->face))
      first = hit, left.most = hit.distance;
    return false;
  });
  return first;
}

bool FaceTree::blocked(const Ray& ray) const {
  bool met = false;
  Ray left = ray;
  trace(left, [&](const Hit&) { return met = true; });
  return met;
}

}  // namespace icefield
