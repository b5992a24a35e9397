#include "src/surface/bend_less.h"

#include <cmath>

namespace icefield {

namespace {
constexpr std::size_t kGrain = 8192;
constexpr int kMostSteps = 60;
constexpr double kEnough = 1e-3;  // of the first residual: what is left comes with the next round
}  // namespace

VertexRings::VertexRings(const Mesh& mesh) : starts_(mesh.positions.size() + 1, 0), rim_(mesh.positions.size(), 0) {
  const MeshEdges edges = edges_of(mesh);
  for (const MeshEdges::Edge& e : edges.edges) {
    ++starts_[e.low + 1], ++starts_[e.high + 1];
    if (e.count != 2) rim_[e.low] = rim_[e.high] = 1;
  }
  for (std::size_t v = 0; v + 1 < starts_.size(); ++v) starts_[v + 1] += starts_[v];
  neighbours_.resize(starts_.back());
  std::vector<std::uint64_t> next(starts_.begin(), starts_.end() - 1);
  for (const MeshEdges::Edge& e : edges.edges) neighbours_[next[e.low]++] = e.high, neighbours_[next[e.high]++] = e.low;
}

std::vector<float> moves_with_least_bending(const VertexRings& rings, std::span<const float> weights,
                                            std::span<const float> wanted, std::span<const float> bend,
                                            double smoothness, double least, const Executor& executor) {
  const std::size_t n = rings.size();
  const auto s = static_cast<float>(smoothness), floor = static_cast<float>(least);
  // (L x) of a vertex; 0 at rims.
  std::vector<float> share(n);  // 1 / neighbours, 0 at rims
  for (std::size_t v = 0; v < n; ++v)
    share[v] = rings.on_rim(v) || rings.of(v).empty() ? 0.0f : 1.0f / static_cast<float>(rings.of(v).size());
  const auto each = [&](const auto& of_vertex) {
    executor.blocks(n, kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) of_vertex(v);
    });
  };
  std::vector<double> parts(block_count(n, kGrain));
  const auto dot = [&](const std::vector<float>& a, const std::vector<float>& b) {
    executor.blocks(n, kGrain, [&](std::size_t k, std::size_t begin, std::size_t end) {
      double sum = 0;
      for (std::size_t v = begin; v < end; ++v) sum += static_cast<double>(a[v]) * b[v];
      parts[k] = sum;
    });
    double sum = 0;
    for (const double part : parts) sum += part;
    return sum;
  };
  std::vector<float> bent(n);
  const auto bend_of = [&](const std::vector<float>& x) {
    each([&](std::size_t v) {
      float sum = 0;
      for (const std::uint32_t u : rings.of(v)) sum += x[u];
      bent[v] = share[v] > 0 ? sum * share[v] - x[v] : 0.0f;
    });
  };
  // The transposed of L, of `bent`.
  const auto bend_back = [&](std::size_t v) {
    float sum = share[v] > 0 ? -bent[v] : 0.0f;
    for (const std::uint32_t u : rings.of(v)) sum += share[u] * bent[u];
    return sum;
  };
  std::vector<float> scale(n), residual(n), moves(n, 0.0f), direction(n), product(n), scaled(n);
  each([&](std::size_t v) {
    float around = share[v] > 0 ? 1.0f : 0.0f;
    for (const std::uint32_t u : rings.of(v)) around += share[u] * share[u];
    scale[v] = 1 / (weights[v] + floor + s * around);
    bent[v] = share[v] > 0 ? bend[v] : 0.0f;
  });
  each([&](std::size_t v) {
    residual[v] = wanted[v] - s * bend_back(v);
    scaled[v] = direction[v] = scale[v] * residual[v];
  });
  double left = dot(residual, scaled);
  const double enough = kEnough * kEnough * left;
  for (int step = 0; step < kMostSteps && left > enough && left > 0; ++step) {
    bend_of(direction);
    each([&](std::size_t v) { product[v] = (weights[v] + floor) * direction[v] + s * bend_back(v); });
    const double curved = dot(direction, product);
    if (!(curved > 0)) break;
    const auto length = static_cast<float>(left / curved);
    each([&](std::size_t v) {
      moves[v] += length * direction[v];
      residual[v] -= length * product[v];
      scaled[v] = scale[v] * residual[v];
    });
    const double now = dot(residual, scaled);
    const auto turn = static_cast<float>(now / left);
    left = now;
    each([&](std::size_t v) { direction[v] = scaled[v] + turn * direction[v]; });
  }
  return moves;
}

}  // namespace icefield
