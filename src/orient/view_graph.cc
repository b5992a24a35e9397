#include "src/orient/view_graph.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>
#include <queue>

#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "icefield/geometry/two_view.h"
#include "src/orient/block_checks.h"
#include "src/orient/rotation_log.h"
#include "src/orient/sparse_solver.h"

namespace icefield {
namespace {

using Eigen::Quaterniond;
using Eigen::Vector3d;
constexpr double kDegree = std::numbers::pi / 180;
constexpr double kCycleTurn = 4 * kDegree;  // three relative orientations of good pairs close to about a degree
constexpr double kOffAverage = 6 * kDegree;
constexpr std::size_t kMatchesLooked = 200;
constexpr double kExplained = 0.6;       // share of a pair's matches that the average must explain to keep it
constexpr double kWeakAgreement = 0.75;  // below it a pair may be of two places that look alike

bool relative_pose(const OrientInput& input, const std::vector<Camera>& cameras, std::uint32_t index, ViewEdge& edge) {
  const PairMatches& pair = input.pairs[index];
  edge.pair = index, edge.first = pair.first.value, edge.second = pair.second.value;
  edge.matches = static_cast<std::uint32_t>(pair.matches.size());
  const Camera &camera1 = cameras[input.photos[edge.first].camera.value],
               &camera2 = cameras[input.photos[edge.second].camera.value];
  std::vector<PointPair> points;
  const std::size_t stride = std::max<std::size_t>(1, pair.matches.size() / kMatchesLooked);
  for (std::size_t k = 0; k < pair.matches.size(); k += stride) {
    const auto a = unproject(camera1, input.pixel(pair.first, pair.matches[k].first)),
               b = unproject(camera2, input.pixel(pair.second, pair.matches[k].second));
    if (a && b) points.push_back({*a, *b});
  }
  if (points.size() < 10) return false;
  if (pair.geometry == PairGeometry::turned) {
    TwoViewOptions options;
    options.max_error = 6.0 / camera1.focal();
    options.max_samples = 100;
    const TwoViewFit fit = fit_rotation(points, options, combine_keys(0x70e, index));
    if (fit.inliers.size() < points.size() / 2) return false;
    edge.turn = Quaterniond(fit.matrix).normalized();
    return true;
  }
  Eigen::Matrix3d essential = pair.matrix;
  // The matrix of the pair holds while the focal length is what it was; else it is found again.
  const Camera &prior1 = input.priors[input.photos[edge.first].camera.value].camera,
               &prior2 = input.priors[input.photos[edge.second].camera.value].camera;
  if (pair.model != TwoViewModel::essential || !(prior1.focal() > 0) || !(prior2.focal() > 0)) {
    TwoViewOptions options;
    options.max_error = 3.0 / (0.5 * (camera1.focal() + camera2.focal()));
    options.max_samples = 200;
    const TwoViewFit fit = fit_essential(points, options, combine_keys(0x70e, index));
    if (fit.inliers.size() < points.size() / 2) return false;
    essential = fit.matrix;
  }
  const RelativePose relative = pose_from_essential(essential, points);
  if (relative.in_front < points.size() / 2) return false;
  edge.turn = relative.pose.orientation;
  std::vector<double> angles;
  for (const PointPair& p : points) {
    const Vector3d a = p.first.homogeneous().normalized(),
                   b = relative.pose.orientation.conjugate() * p.second.homogeneous().normalized();
    angles.push_back(std::atan2(a.cross(b).norm(), a.dot(b)));
  }
  edge.angle = median(angles);
  if (edge.angle > 1.0 * kDegree) edge.direction = relative.pose.centre.normalized();
  return true;
}

// Share of a pair's matches that some direction explains when the orientation is known: each is a plane that the
// direction lies in. Sets the direction.
double share_with_turn(const OrientInput& input, const std::vector<Camera>& cameras, ViewEdge& edge,
                       const Quaterniond& turn) {
  const PairMatches& pair = input.pairs[edge.pair];
  const Camera &camera1 = cameras[input.photos[edge.first].camera.value],
               &camera2 = cameras[input.photos[edge.second].camera.value];
  std::vector<Vector3d> planes;
  const std::size_t stride = std::max<std::size_t>(1, pair.matches.size() / kMatchesLooked);
  for (std::size_t k = 0; k < pair.matches.size(); k += stride) {
    const auto a = unproject(camera1, input.pixel(pair.first, pair.matches[k].first)),
               b = unproject(camera2, input.pixel(pair.second, pair.matches[k].second));
    if (a && b)
      planes.push_back(a->homogeneous().normalized().cross(Vector3d(turn.conjugate() * b->homogeneous().normalized())));
  }
  if (planes.size() < 10) return 0;
  // Errors in radians across the plane: a turn that is right to a degree leaves some of that.
  constexpr double kAcross = 1.0 * kDegree;
  std::size_t best = 0;
  CounterRandom random(combine_keys(0x5a4e, edge.pair));
  for (int sample = 0; sample < 60; ++sample) {
    const Vector3d direction = planes[random.below(static_cast<std::uint32_t>(planes.size()))].cross(
        planes[random.below(static_cast<std::uint32_t>(planes.size()))]);
    if (direction.norm() < 1e-9) continue;
    const Vector3d t = direction.normalized();
    std::size_t count = 0;
    for (const Vector3d& n : planes) count += std::abs(n.dot(t)) < kAcross;
    if (count > best) best = count, edge.direction = t;
  }
  // Its sign: points lie in front.
  double sign = 0;
  for (std::size_t k = 0; k < pair.matches.size(); k += stride) {
    const auto a = unproject(camera1, input.pixel(pair.first, pair.matches[k].first)),
               b = unproject(camera2, input.pixel(pair.second, pair.matches[k].second));
    if (!a || !b) continue;
    const Vector3d u = a->homogeneous().normalized(), v = turn.conjugate() * b->homogeneous().normalized(),
                   n = u.cross(v);
    sign += edge.direction.cross(v).dot(n) > 0 ? 1 : -1;
  }
  if (sign < 0) edge.direction = -edge.direction;
  return static_cast<double>(best) / static_cast<double>(planes.size());
}

// Edges of each photo, by the other photo.
struct Around {
  std::uint32_t other, edge;
  bool operator<(const Around& o) const { return other < o.other; }
};
std::vector<std::vector<Around>> edges_around(const std::vector<ViewEdge>& edges, std::size_t photos) {
  std::vector<std::vector<Around>> around(photos);
  for (std::uint32_t e = 0; e < edges.size(); ++e) {
    around[edges[e].first].push_back({edges[e].second, e});
    around[edges[e].second].push_back({edges[e].first, e});
  }
  for (auto& list : around) std::sort(list.begin(), list.end());
  return around;
}

Quaterniond turn_from(const ViewEdge& edge, std::uint32_t photo) {
  return edge.first == photo ? edge.turn : edge.turn.conjugate();
}

// Calls visit(edge to k from first, edge from k to second) for each third photo that closes a cycle with an edge.
template <class Visit>
void each_cycle(const std::vector<std::vector<Around>>& around, const ViewEdge& edge, Visit&& visit) {
  const auto &a = around[edge.first], &b = around[edge.second];
  for (std::size_t i = 0, j = 0; i < a.size() && j < b.size();) {
    if (a[i].other == b[j].other) visit(a[i].other, a[i].edge, b[j].edge);
    const bool first = a[i].other <= b[j].other, second = b[j].other <= a[i].other;
    i += first, j += second;
  }
}

struct Votes {
  std::uint32_t good = 0, bad = 0;
};

// Orientations from a spanning tree of the edges that most cycles confirm, then least absolute and Geman-McClure
// averages.
std::vector<Quaterniond> average(const std::vector<ViewEdge>& edges, const std::vector<std::vector<Around>>& around,
                                 const std::vector<Votes>& votes, std::vector<std::uint32_t>& part) {
  const std::size_t photos = around.size();
  std::vector<Quaterniond> orientations(photos, Quaterniond::Identity());
  part.assign(photos, 0xffffffffu);
  std::vector<std::uint32_t> anchors;
  const auto strength = [&](std::uint32_t e) {
    return std::min(1.0, edges[e].agreement) * (1.0 + votes[e].good) / (2.0 + votes[e].good + votes[e].bad);
  };
  std::uint32_t parts = 0;
  for (std::uint32_t start = 0; start < photos; ++start) {
    if (part[start] != 0xffffffffu) continue;
    anchors.push_back(start);
    part[start] = parts;
    using Reach = std::tuple<double, std::uint32_t, std::uint32_t>;  // strength, edge, from
    std::priority_queue<Reach> open;
    const auto reach = [&](std::uint32_t photo) {
      for (const Around& a : around[photo])
        if (part[a.other] == 0xffffffffu) open.emplace(strength(a.edge), a.edge, photo);
    };
    reach(start);
    while (!open.empty()) {
      const auto [s, e, from] = open.top();
      open.pop();
      const std::uint32_t to = edges[e].first == from ? edges[e].second : edges[e].first;
      if (part[to] != 0xffffffffu) continue;
      part[to] = parts;
      orientations[to] = (turn_from(edges[e], from) * orientations[from]).normalized();
      reach(to);
    }
    ++parts;
  }
  if (edges.empty()) return orientations;

  // R_j exp(d_j) = R_ij R_i exp(d_i): a Laplacian for the changes, the same for the three axes.
  std::vector<bool> anchored(photos, false);
  for (const std::uint32_t a : anchors) anchored[a] = true;
  std::vector<Vector3d> errors(edges.size());
  const auto compute = [&] {
    for (std::size_t e = 0; e < edges.size(); ++e)
      errors[e] =
          rotation_vector(orientations[edges[e].second].conjugate() * edges[e].turn * orientations[edges[e].first]);
  };
  SparseSolver solver(photos);
  constexpr int kAbsolute = 8, kRounds = 24;
  for (int round = 0; round < kRounds; ++round) {
    compute();
    const double sigma = std::max(1.0, 8.0 - 0.5 * (round - kAbsolute)) * kDegree;
    std::vector<Eigen::Triplet<double>> entries;
    Eigen::MatrixXd right = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(photos), 3);
    std::vector<double> diagonal(photos, 0);
    for (std::size_t e = 0; e < edges.size(); ++e) {
      const double size = errors[e].norm();
      const double share = round < kAbsolute ? 1 / std::max(size, 0.5 * kDegree)
                                             : std::pow(sigma * sigma / (sigma * sigma + size * size), 2) / sigma;
      const double w = share * std::min(200.0, static_cast<double>(edges[e].matches)) *
                       std::pow(std::min(1.0, edges[e].agreement), 4);
      const auto i = edges[e].first, j = edges[e].second;
      entries.emplace_back(std::max(i, j), std::min(i, j), -w);
      diagonal[i] += w, diagonal[j] += w;
      right.row(j) += w * errors[e].transpose();
      right.row(i) -= w * errors[e].transpose();
    }
    for (std::uint32_t i = 0; i < photos; ++i)
      entries.emplace_back(i, i, diagonal[i] * (1 + 1e-9) + (anchored[i] ? 1e3 : 1e-9));
    if (!solver.factorise(entries)) break;
    const Eigen::MatrixXd step = solver.solve(right);
    double largest = 0;
    for (std::uint32_t i = 0; i < photos; ++i) {
      const Vector3d d = step.row(i).transpose();
      largest = std::max(largest, d.norm());
      orientations[i] = (orientations[i] * rotation_from_vector(d)).normalized();
    }
    if (round > kAbsolute && sigma <= 1.0 * kDegree && largest < 1e-6) break;
  }
  return orientations;
}

// The pairs whose matches give a relative pose, with how well they agree with what photos see in common.
std::vector<ViewEdge> sound_edges(OrientInput& input, const TrackSet& tracks, const std::vector<Camera>& cameras) {
  std::vector<std::uint32_t> pairs;
  for (std::uint32_t i = 0; i < input.pairs.size(); ++i)
    if (input.usable(i)) pairs.push_back(i);
  std::vector<ViewEdge> tried(pairs.size()), edges;
  std::vector<std::uint8_t> sound(pairs.size(), 0);
  input.executor.run("check pairs", pairs.size(), input.monitor,
                     [&](std::size_t k) { sound[k] = relative_pose(input, cameras, pairs[k], tried[k]); });
  for (std::size_t k = 0; k < tried.size(); ++k)
    if (sound[k]) edges.push_back(tried[k]);
  std::vector<std::pair<std::uint32_t, double>> angles;
  for (const ViewEdge& edge : edges) angles.emplace_back(edge.pair, edge.angle);
  const std::vector<double> agreement = relative_shares(shared_sights(input, tracks, angles));
  for (std::size_t e = 0; e < edges.size(); ++e) edges[e].agreement = agreement[e];
  return edges;
}

// By edge: cycles of three orientations that close, and that do not.
std::vector<Votes> votes_of_turns(const OrientInput& input, const std::vector<ViewEdge>& edges,
                                  const std::vector<std::vector<Around>>& around) {
  std::vector<Votes> votes(edges.size());
  input.executor.blocks(edges.size(), 64, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t e = begin; e < end; ++e) {
      const ViewEdge& edge = edges[e];
      each_cycle(around, edge, [&](std::uint32_t, std::uint32_t to, std::uint32_t from) {
        const Quaterniond via = turn_from(edges[from], edge.second).conjugate() * turn_from(edges[to], edge.first);
        (rotation_angle(via, edge.turn) < kCycleTurn ? votes[e].good : votes[e].bad) += 1;
      });
    }
  });
  return votes;
}

// What contradicts the average, and with it most of its cycles. A pair of few matches, or of a plane, may have been
// given the wrong one of several poses: its matches decide, and it may get the other one.
std::vector<std::uint8_t> off_average(OrientInput& input, const std::vector<Camera>& cameras, ViewGraph& graph,
                                      const std::vector<Votes>& votes) {
  std::vector<std::uint8_t> out(graph.edges.size(), 0);
  for (std::size_t e = 0; e < graph.edges.size(); ++e) {
    ViewEdge& edge = graph.edges[e];
    const Quaterniond &first = graph.orientations[edge.first], &second = graph.orientations[edge.second];
    const double error = rotation_angle(second, edge.turn * first);
    if (error <= kOffAverage || (votes[e].bad <= 2 * votes[e].good && edge.agreement >= kWeakAgreement)) continue;
    const Quaterniond turn = second * first.conjugate();
    ViewEdge other = edge;
    out[e] = share_with_turn(input, cameras, other, turn) < kExplained;
    if (!out[e]) other.turn = turn, edge = other;
  }
  return out;
}

// Cycles of directions: three centres lie in a plane. Only those that meet at an angle say something.
std::vector<std::uint8_t> off_plane(const OrientInput& input, const ViewGraph& graph) {
  const auto around = edges_around(graph.edges, input.photos.size());
  std::vector<Vector3d> direction(graph.edges.size());
  for (std::size_t e = 0; e < graph.edges.size(); ++e)
    direction[e] = graph.orientations[graph.edges[e].first].conjugate() * graph.edges[e].direction;
  std::vector<std::uint8_t> out(graph.edges.size(), 0);
  input.executor.blocks(graph.edges.size(), 64, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t e = begin; e < end; ++e) {
      if (direction[e].isZero()) continue;
      std::uint32_t good = 0, bad = 0;
      each_cycle(around, graph.edges[e], [&](std::uint32_t, std::uint32_t to, std::uint32_t from) {
        const Vector3d normal = direction[to].cross(direction[from]);
        if (normal.norm() < 0.26) return;
        (std::abs(normal.normalized().dot(direction[e])) < 0.26 ? good : bad) += 1;
      });
      out[e] = bad >= 4 && bad > 4 * good;
    }
  });
  return out;
}

std::size_t cut(OrientInput& input, ViewGraph& graph, const std::vector<std::uint8_t>& out) {
  std::vector<ViewEdge> left;
  for (std::size_t e = 0; e < graph.edges.size(); ++e) {
    if (out[e])
      input.cut[graph.edges[e].pair] = 1;
    else
      left.push_back(graph.edges[e]);
  }
  const std::size_t dropped = graph.edges.size() - left.size();
  graph.edges = std::move(left);
  return dropped;
}

// The largest first.
void sort_parts(ViewGraph& graph) {
  const std::size_t parts = graph.part.empty() ? 0 : *std::max_element(graph.part.begin(), graph.part.end()) + 1;
  std::vector<std::size_t> sizes(parts, 0);
  for (const std::uint32_t p : graph.part) ++sizes[p];
  std::vector<std::uint32_t> order(parts), place(parts);
  std::iota(order.begin(), order.end(), 0u);
  std::stable_sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) { return sizes[a] > sizes[b]; });
  for (std::uint32_t k = 0; k < parts; ++k) place[order[k]] = k, graph.part_sizes.push_back(sizes[order[k]]);
  for (std::uint32_t& p : graph.part) p = place[p];
}

}  // namespace

ViewGraph check_view_graph(OrientInput& input, const TrackSet& tracks, const std::vector<Camera>& cameras) {
  ViewGraph graph;
  graph.edges = sound_edges(input, tracks, cameras);
  auto around = edges_around(graph.edges, input.photos.size());
  std::vector<Votes> votes = votes_of_turns(input, graph.edges, around);
  graph.orientations = average(graph.edges, around, votes, graph.part);
  graph.cut_by_turn = cut(input, graph, off_average(input, cameras, graph, votes));
  graph.cut_by_direction = cut(input, graph, off_plane(input, graph));
  around = edges_around(graph.edges, input.photos.size());
  votes.assign(graph.edges.size(), {1, 0});
  if (graph.cut_by_turn + graph.cut_by_direction > 0)
    graph.orientations = average(graph.edges, around, votes, graph.part);
  sort_parts(graph);
  for (const ViewEdge& edge : graph.edges)
    graph.turn_error.push_back(
        rotation_angle(graph.orientations[edge.second], edge.turn * graph.orientations[edge.first]));
  return graph;
}

}  // namespace icefield
