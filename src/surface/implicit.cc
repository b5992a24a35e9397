#include "src/surface/implicit.h"

#include <Eigen/Core>
#include <algorithm>
#include <cmath>

#include "icefield/base/error.h"

namespace icefield {
namespace {

using Eigen::Vector3f;
using Vector8f = Eigen::Matrix<float, 8, 1>;
using Matrix8f = Eigen::Matrix<float, 8, 8>;
using Matrix8x3 = Eigen::Matrix<float, 8, 3>;

constexpr std::uint32_t kNone = Octree::kNone;
constexpr std::size_t kCells = 16384, kVertices = 16384;  // grains

std::size_t at(int level) {
  return static_cast<std::size_t>(level);
}

// Of the unit cube with its eight hat functions: products of gradients, and of a hat's gradient with a hat.
struct Element {
  Matrix8f stiffness;
  std::array<Matrix8f, 3> slope;  // (i, j): integral of d hat_i / d axis times hat_j
  Element() {
    const auto mass = [](int a, int b) { return a == b ? 1.0f / 3 : 1.0f / 6; };
    const auto stiff = [](int a, int b) { return a == b ? 1.0f : -1.0f; };
    const auto rise = [](int a, int) { return a == 1 ? 0.5f : -0.5f; };
    for (int i = 0; i < 8; ++i)
      for (int j = 0; j < 8; ++j) {
        const int a[] = {i & 1, i >> 1 & 1, i >> 2}, b[] = {j & 1, j >> 1 & 1, j >> 2};
        stiffness(i, j) = 0;
        for (int axis = 0; axis < 3; ++axis) {
          float k = 1, g = 1;
          for (int c = 0; c < 3; ++c) {
            k *= c == axis ? stiff(a[c], b[c]) : mass(a[c], b[c]);
            g *= c == axis ? rise(a[c], b[c]) : mass(a[c], b[c]);
          }
          stiffness(i, j) += k;
          slope[static_cast<std::size_t>(axis)](i, j) = g;
        }
      }
  }
};
const Element& element() {
  static const Element unit;
  return unit;
}

Vector8f hats(const Vector3f& t) {
  Vector8f n;
  for (int k = 0; k < 8; ++k)
    n[k] = (k & 1 ? t.x() : 1 - t.x()) * (k & 2 ? t.y() : 1 - t.y()) * (k & 4 ? t.z() : 1 - t.z());
  return n;
}

// Values of a cell's child at its corners by those of the cell: for child k, corner c, parent's corner p.
struct Refinement {
  std::array<Matrix8f, 8> child;
  Refinement() {
    for (std::size_t k = 0; k < 8; ++k)
      for (int c = 0; c < 8; ++c) {
        const auto half = [&](int axis) {
          return 0.5f * static_cast<float>((k >> axis & 1) + (static_cast<std::size_t>(c) >> axis & 1));
        };
        child[k].row(c) = hats({half(0), half(1), half(2)}).transpose();
      }
  }
};
const Refinement& refinement() {
  static const Refinement unit;
  return unit;
}

// Points of a cell taken together.
struct CellSamples {
  float weight = 0;
  Vector3f middle = Vector3f::Zero();  // in the cell, 0 to 1
};

class Fitting {
 public:
  Fitting(const Octree& octree, const ImplicitSamples& samples, double hold, const Executor& executor, Monitor& monitor)
      : octree_(octree), samples_(samples), hold_(static_cast<float>(hold)), executor_(executor), monitor_(monitor) {}

  ImplicitFunction run() {
    const int finest = octree_.finest();
    spread_normals();
    gather_divergence();
    ImplicitFunction f;
    f.values.resize(at(finest + 1));
    std::vector<Vector3f> field;  // of all coarser levels' points, at this level
    for (int level = 0; level <= finest; ++level) {
      monitor_.progress("surface", at(level), at(finest + 1));
      if (monitor_.cancelled()) throw Error(ErrorKind::interrupted, "surface", "was interrupted", "run it again");
      if (level > 0) {
        field = refined(level, field);
        f.values[at(level)] = refined(level, f.values[at(level - 1)]);
      } else {
        field.assign(levels()[0].vertices(), Vector3f::Zero());
        f.values[0].assign(levels()[0].vertices(), kOutside);
      }
      ask(level, field);
      if (level == finest) field = {};
      if (level < finest && !spread_[at(level)].empty())
        for (std::size_t v = 0; v < field.size(); ++v) field[v] += spread_[at(level)][v];
      spread_[at(level)] = {};
      solve(level, f.values[at(level)]);
      held_[at(level)] = {};
    }
    monitor_.progress("surface", at(finest + 1), at(finest + 1));
    f.surface = value_at_samples(f);
    return f;
  }

 private:
  const std::vector<Octree::Level>& levels() const { return octree_.levels(); }

  // Each point's normal, times its area, over the vertices of its leaf at its own level.
  void spread_normals() {
    spread_.resize(levels().size());
    const auto& leaf = octree_.leaf_of();
    for (std::size_t i = 0; i < samples_.positions.size(); ++i) {
      int level = octree_.leaf_level()[i];
      std::uint32_t cell = leaf[i];
      for (; level > samples_.levels[i]; --level) cell = levels()[at(level)].parent[cell / 8];
      std::vector<Vector3f>& field = spread_[at(level)];
      if (field.empty()) field.assign(levels()[at(level)].vertices(), Vector3f::Zero());
      const float h = octree_.cell_size(level);
      const Vector8f n = hats((samples_.positions[i] - octree_.corner_of(level, cell)) / h);
      const Vector3f all = samples_.areas[i] / (h * h * h) * samples_.normals[i];
      for (std::size_t k = 0; k < 8; ++k) field[levels()[at(level)].corner[cell][k]] += n[static_cast<int>(k)] * all;
    }
  }

  // By cell: what a field of vertices gives its corners as right-hand side.
  Vector8f divergence(int level, std::uint32_t cell, const std::vector<Vector3f>& field) const {
    Matrix8x3 v;
    const auto& corner = levels()[at(level)].corner[cell];
    for (int k = 0; k < 8; ++k) v.row(k) = field[corner[static_cast<std::size_t>(k)]].transpose();
    Vector8f sum = Vector8f::Zero();
    for (int axis = 0; axis < 3; ++axis) sum += element().slope[static_cast<std::size_t>(axis)] * v.col(axis);
    const float h = octree_.cell_size(level);
    return h * h * sum;
  }

  // From the finest level up: what its own points and those of all finer levels ask of a level, and its points by cell.
  void gather_divergence() {
    loads_.resize(levels().size());
    held_.resize(levels().size());
    for (std::size_t l = 0; l < levels().size(); ++l) held_[l].resize(levels()[l].cells());
    for (std::size_t i = 0; i < samples_.positions.size(); ++i) {
      const int level = octree_.leaf_level()[i];
      const std::uint32_t cell = octree_.leaf_of()[i];
      CellSamples& held = held_[at(level)][cell];
      const float w = samples_.areas[i];
      held.weight += w;
      held.middle += w * (samples_.positions[i] - octree_.corner_of(level, cell)) / octree_.cell_size(level);
    }
    for (int level = octree_.finest(); level >= 0; --level) {
      const Octree::Level& here = levels()[at(level)];
      loads_[at(level)].resize(here.cells());
      const bool own = !spread_[at(level)].empty();
      executor_.blocks(here.cells(), kCells, [&](std::size_t, std::size_t begin, std::size_t end) {
        for (std::size_t c = begin; c < end; ++c) {
          Vector8f sum = Vector8f::Zero();
          if (own) sum = divergence(level, static_cast<std::uint32_t>(c), spread_[at(level)]);
          CellSamples& held = held_[at(level)][c];
          if (here.child[c] != kNone) {
            for (std::size_t k = 0; k < 8; ++k) {
              const std::size_t child = 8 * std::size_t{here.child[c]} + k;
              sum += refinement().child[k].transpose() * loads_[at(level + 1)][child];
              const CellSamples& finer = held_[at(level + 1)][child];
              if (finer.weight == 0) continue;
              const Vector3f low(static_cast<float>(k & 1), static_cast<float>(k >> 1 & 1), static_cast<float>(k >> 2));
              held.weight += finer.weight;
              held.middle += 0.5f * (finer.weight * low + finer.middle);  // still times its weight
            }
          }
          loads_[at(level)][c] = sum;
        }
      });
    }
    for (std::size_t l = 0; l < levels().size(); ++l)
      for (CellSamples& held : held_[l])
        if (held.weight > 0) held.middle /= held.weight;
  }

  // A coarser level's function at this level's vertices.
  template <class T>
  std::vector<T> refined(int level, const std::vector<T>& coarse) const {
    const Octree::Level &here = levels()[at(level)], &before = levels()[at(level - 1)];
    std::vector<T> fine(here.vertices());
    executor_.blocks(here.vertices(), kVertices, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) {
        std::size_t q = 0;
        while (here.around[v][q] == kNone) ++q;
        const std::uint32_t cell = here.around[v][q];
        const auto weights = refinement().child[cell % 8].row(static_cast<int>(7 ^ q));
        const auto& corner = before.corner[here.parent[cell / 8]];
        T sum = weights[0] * coarse[corner[0]];
        for (std::size_t k = 1; k < 8; ++k) sum += weights[static_cast<int>(k)] * coarse[corner[k]];
        fine[v] = sum;
      }
    });
    return fine;
  }

  // Vertices amidst cells of the level: the others keep the coarser level's value, those at the cube's sides that of
  // outside.
  std::vector<std::uint8_t> free_vertices(int level) const {
    const Octree::Level& here = levels()[at(level)];
    std::vector<std::uint8_t> free(here.vertices());
    executor_.blocks(here.vertices(), kVertices, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v)
        free[v] = std::none_of(here.around[v].begin(), here.around[v].end(),
                               [](std::uint32_t cell) { return cell == kNone; });
    });
    return free;
  }

  double dot(const std::vector<float>& a, const std::vector<float>& b) const {
    std::vector<double> part(block_count(a.size(), kVertices), 0);
    executor_.blocks(a.size(), kVertices, [&](std::size_t block, std::size_t begin, std::size_t end) {
      double sum = 0;
      for (std::size_t i = begin; i < end; ++i) sum += static_cast<double>(a[i]) * b[i];
      part[block] = sum;
    });
    double sum = 0;
    for (const double p : part) sum += p;
    return sum;
  }

  // What the cells make of values at their corners.
  void times(int level, const std::vector<float>& x, std::vector<Vector8f>& of_cells) const {
    const Octree::Level& here = levels()[at(level)];
    const float h = octree_.cell_size(level), held_by = hold_ / h;
    const Matrix8f stiffness = h * element().stiffness;
    executor_.blocks(here.cells(), kCells, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t c = begin; c < end; ++c) {
        Vector8f u;
        for (int k = 0; k < 8; ++k) u[k] = x[here.corner[c][static_cast<std::size_t>(k)]];
        Vector8f y = stiffness * u;
        const CellSamples& held = held_[at(level)][c];
        if (held.weight > 0) {
          const Vector8f n = hats(held.middle);
          y += held_by * held.weight * n.dot(u) * n;
        }
        of_cells[c] = y;
      }
    });
  }

  static float gathered(const Octree::Level& here, const std::vector<Vector8f>& of_cells, std::size_t vertex) {
    float sum = 0;
    const auto& around = here.around[vertex];
    for (std::size_t q = 0; q < 8; ++q)
      if (around[q] != kNone) sum += of_cells[around[q]][static_cast<int>(7 ^ q)];
    return sum;
  }

  // What coarser levels' points ask of a level, added to what its own and finer ones do.
  void ask(int level, const std::vector<Vector3f>& field) {
    executor_.blocks(levels()[at(level)].cells(), kCells, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t c = begin; c < end; ++c)
        loads_[at(level)][c] += divergence(level, static_cast<std::uint32_t>(c), field);
    });
  }

  void solve(int level, std::vector<float>& u) {
    const Octree::Level& here = levels()[at(level)];
    const std::size_t n = here.vertices();
    const std::vector<std::uint8_t> free = free_vertices(level);
    const float h = octree_.cell_size(level);
    std::vector<float> r(n), z(n), p(n), inverse(n), ap(n);
    // What is asked for, less what the values of before give.
    executor_.blocks(n, kVertices, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) r[v] = free[v] ? gathered(here, loads_[at(level)], v) : 0;
    });
    loads_[at(level)] = {};
    std::vector<Vector8f> of_cells(here.cells());
    // The diagonal.
    executor_.blocks(here.cells(), kCells, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t c = begin; c < end; ++c) {
        Vector8f d = h * element().stiffness.diagonal();
        const CellSamples& held = held_[at(level)][c];
        if (held.weight > 0) d += hold_ / h * held.weight * hats(held.middle).cwiseAbs2();
        of_cells[c] = d;
      }
    });
    executor_.blocks(n, kVertices, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) inverse[v] = 1 / gathered(here, of_cells, v);
    });
    times(level, u, of_cells);
    executor_.blocks(n, kVertices, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) {
        if (free[v]) r[v] -= gathered(here, of_cells, v);
        z[v] = inverse[v] * r[v];
        p[v] = z[v];
      }
    });
    double rz = dot(r, z);
    const double first = rz;
    // Coarse levels, which are small, are solved well; of a finer one what is left is local.
    const int most = level <= kWhole ? 200 : kSteps;
    const double enough = level <= kWhole ? 1e-10 : 1e-5;
    for (int step = 0; step < most && rz > enough * first && rz > 0; ++step) {
      if (monitor_.cancelled()) throw Error(ErrorKind::interrupted, "surface", "was interrupted", "run it again");
      times(level, p, of_cells);
      executor_.blocks(n, kVertices, [&](std::size_t, std::size_t begin, std::size_t end) {
        for (std::size_t v = begin; v < end; ++v) ap[v] = free[v] ? gathered(here, of_cells, v) : 0;
      });
      const double pap = dot(p, ap);
      if (!(pap > 0)) break;
      const auto alpha = static_cast<float>(rz / pap);
      executor_.blocks(n, kVertices, [&](std::size_t, std::size_t begin, std::size_t end) {
        for (std::size_t v = begin; v < end; ++v) {
          u[v] += alpha * p[v];
          r[v] -= alpha * ap[v];
          z[v] = inverse[v] * r[v];
        }
      });
      const double next = dot(r, z);
      const auto beta = static_cast<float>(next / rz);
      executor_.blocks(n, kVertices, [&](std::size_t, std::size_t begin, std::size_t end) {
        for (std::size_t v = begin; v < end; ++v) p[v] = z[v] + beta * p[v];
      });
      rz = next;
    }
  }

  // The area-weighted mean over the points.
  float value_at_samples(const ImplicitFunction& f) const {
    const std::size_t n = samples_.positions.size();
    constexpr std::size_t kPoints = 65536;
    std::vector<std::array<double, 2>> part(block_count(n, kPoints), {0, 0});
    executor_.blocks(n, kPoints, [&](std::size_t block, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) {
        const int level = octree_.leaf_level()[i];
        const std::uint32_t cell = octree_.leaf_of()[i];
        const Vector8f w = hats((samples_.positions[i] - octree_.corner_of(level, cell)) / octree_.cell_size(level));
        float value = 0;
        for (std::size_t k = 0; k < 8; ++k)
          value += w[static_cast<int>(k)] * f.values[at(level)][levels()[at(level)].corner[cell][k]];
        part[block][0] += static_cast<double>(samples_.areas[i]) * value;
        part[block][1] += samples_.areas[i];
      }
    });
    double sum = 0, weight = 0;
    for (const auto& [s, w] : part) sum += s, weight += w;
    return weight > 0 ? static_cast<float>(sum / weight) : 0;
  }

  static constexpr int kWhole = 4;   // levels up to it are complete grids
  static constexpr int kSteps = 16;  // of conjugate gradients
  // Across the surface the function rises by 1, and it is about 0 there.
  static constexpr float kOutside = 0.1f;

  const Octree& octree_;
  const ImplicitSamples& samples_;
  float hold_;
  const Executor& executor_;
  Monitor& monitor_;
  std::vector<std::vector<Vector3f>> spread_;   // by level, by vertex
  std::vector<std::vector<Vector8f>> loads_;    // by level, by cell
  std::vector<std::vector<CellSamples>> held_;  // by level, by cell
};

}  // namespace

ImplicitFunction fit_implicit(const Octree& octree, const ImplicitSamples& samples, double hold,
                              const Executor& executor, Monitor& monitor) {
  return Fitting(octree, samples, hold, executor, monitor).run();
}

}  // namespace icefield
