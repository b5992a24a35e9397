#include "src/adjust/block_cholesky.h"

#include <Eigen/Cholesky>
#include <algorithm>
#include <mutex>

#include "src/adjust/dense_kernels.h"

namespace icefield {
namespace {

constexpr int kPanel = 64;  // columns eliminated at once
constexpr int kTile = 192;  // rows and columns of a unit of work; a multiple of all strips

// Doubles at a multiple of 64 bytes.
class Scratch {
 public:
  double* get(std::size_t count) {
    if (values_.size() < count + 8) values_.resize(count + 8);
    return values_.data() + (64 - reinterpret_cast<std::uintptr_t>(values_.data()) % 64) % 64 / sizeof(double);
  }

 private:
  std::vector<double> values_;
};

// Lower triangle of a square matrix in strips of kTile columns, column-major, each from its first row on: little more
// than half of the square.
class Triangle {
 public:
  Triangle(double* values, int size) : values_(values), size_(size) {}
  static std::size_t count(int size) {
    std::size_t sum = 0;
    for (int first = 0; first < size; first += kTile)
      sum += static_cast<std::size_t>(std::min(kTile, size - first)) * static_cast<std::size_t>(size - first);
    return sum;
  }
  // Of the strip that starts at column `first`, a multiple of kTile: the place of row `first`, and from one column to
  // the next.
  double* strip(int first) const {
    return values_ + static_cast<std::ptrdiff_t>(first) * size_ -
           static_cast<std::ptrdiff_t>(first / kTile) * (first - kTile) / 2 * kTile;
  }
  int stride(int first) const { return size_ - first; }
  // Such that [row] is the value in that row, for rows from `column` on.
  double* column(int column) const {
    const int first = column / kTile * kTile;
    return strip(first) + static_cast<std::ptrdiff_t>(column - first) * stride(first) - first;
  }

 private:
  double* values_;
  int size_;
};

// Eliminates the pivots of a front. `front` holds its first `pivots` columns, lower triangle and column-major, `update`
// the rest x rest below and right of them. Units of work are independent of each other and each goes panel by panel:
// the same bytes with and without an executor.
bool eliminate(double* front, int size, int pivots, const Triangle& update, const Executor* executor) {
  const DenseKernels kernels = best_dense_kernels();
  const int rest = size - pivots;
  const auto each_tile = [&](int count, const std::function<void(int)>& work) {
    if (executor && count > 1) {
      executor->blocks(static_cast<std::size_t>(count), 1,
                       [&](std::size_t i, std::size_t, std::size_t) { work(static_cast<int>(i)); });
    } else {
      for (int i = 0; i < count; ++i) work(i);
    }
  };
  const auto tiles_of = [](int rows) { return (rows + kTile - 1) / kTile; };
  thread_local Scratch left_memory, right_memory, inverse_memory;
  for (int k = 0; k < pivots; k += kPanel) {
    const int width = std::min(kPanel, pivots - k), below = k + width;
    using Strided = Eigen::Map<Eigen::MatrixXd, 0, Eigen::OuterStride<>>;
    Strided diagonal(front + k + static_cast<std::ptrdiff_t>(k) * size, width, width, Eigen::OuterStride<>(size));
    Eigen::Ref<Eigen::MatrixXd> in_place(diagonal);
    const Eigen::LLT<Eigen::Ref<Eigen::MatrixXd>, Eigen::Lower> factor(in_place);
    if (factor.info() != Eigen::Success) return false;
    if (below == size) break;

    // The panel times the inverse of the small triangle, by the same product: panel = 0 - panel (-L^-1)^T.
    Eigen::MatrixXd inverse = -Eigen::MatrixXd::Identity(width, width);
    diagonal.triangularView<Eigen::Lower>().solveInPlace(inverse);
    double* const packed_inverse = inverse_memory.get(packed_size(width, width, kernels.column_strip));
    pack_strips(inverse.data(), width, width, width, kernels.column_strip, packed_inverse);
    const std::ptrdiff_t column = static_cast<std::ptrdiff_t>(k) * size;
    each_tile(tiles_of(size - below), [&](int tile) {
      thread_local Scratch memory;
      const int first = below + tile * kTile, rows = std::min(kTile, size - first);
      double* const packed = memory.get(packed_size(rows, width, kernels.row_strip));
      double* const panel = front + first + column;
      pack_strips(panel, size, rows, width, kernels.row_strip, packed);
      for (int j = 0; j < width; ++j) std::fill_n(panel + static_cast<std::ptrdiff_t>(j) * size, rows, 0.0);
      kernels.subtract_product(packed, packed_inverse, width, rows, width, false, panel, size);
    });

    // target (rows x columns from row `first` and the column of the same unknown) -= panel panel^T. `at(column)` tells
    // where a strip of columns has its first row, and its stride.
    const auto subtract = [&](int first, int columns, const auto& at_strip) {
      const int rows = size - first, down = tiles_of(rows), across = tiles_of(columns);
      if (columns <= 0) return;
      double* const left = left_memory.get(packed_size(rows, width, kernels.row_strip));
      double* const right = right_memory.get(packed_size(columns, width, kernels.column_strip));
      each_tile(down, [&](int tile) {
        const int at = tile * kTile;
        pack_strips(front + first + at + column, size, std::min(kTile, rows - at), width, kernels.row_strip,
                    left + static_cast<std::ptrdiff_t>(at) * width);
        if (at < columns)
          pack_strips(front + first + at + column, size, std::min(kTile, columns - at), width, kernels.column_strip,
                      right + static_cast<std::ptrdiff_t>(at) * width);
      });
      each_tile(down * across, [&](int index) {
        const int i = index / across, j = index % across;
        if (i < j) return;
        const auto [strip, stride] = at_strip(j * kTile);
        kernels.subtract_product(left + static_cast<std::ptrdiff_t>(i) * kTile * width,
                                 right + static_cast<std::ptrdiff_t>(j) * kTile * width, width,
                                 std::min(kTile, rows - i * kTile), std::min(kTile, columns - j * kTile), i == j,
                                 strip + (i - j) * kTile, stride);
      });
    };
    subtract(below, pivots - below, [&](int strip) {
      return std::pair(front + below + strip + static_cast<std::ptrdiff_t>(below + strip) * size, size);
    });
    subtract(pivots, rest, [&](int strip) { return std::pair(update.strip(strip), update.stride(strip)); });
  }
  return true;
}

// Where the nodes of a front stand in its dense matrix: pivots first. Both lists ascend, so that a search finds them.
class FrontPlaces {
 public:
  FrontPlaces(const Front& front, const std::vector<int>& sizes) : front_(front) {
    int at = 0;
    for (const auto* nodes : {&front.pivots, &front.rest})
      for (const std::uint32_t n : *nodes) at_.push_back(at), at += sizes[n];
  }
  int operator()(std::uint32_t node) const {
    const auto p = std::lower_bound(front_.pivots.begin(), front_.pivots.end(), node);
    if (p != front_.pivots.end() && *p == node) return at_[static_cast<std::size_t>(p - front_.pivots.begin())];
    return at_[front_.pivots.size() +
               static_cast<std::size_t>(std::lower_bound(front_.rest.begin(), front_.rest.end(), node) -
                                        front_.rest.begin())];
  }

 private:
  const Front& front_;
  std::vector<int> at_;
};

}  // namespace

// Memory of updates that were taken in, for those to come.
class BlockCholesky::Buffers {
 public:
  std::vector<double> take(std::size_t count) {
    std::vector<double> taken;
    {
      const std::lock_guard lock(mutex_);
      auto best = free_.end();
      for (auto it = free_.begin(); it != free_.end(); ++it)
        if (it->size() >= count && (best == free_.end() || it->size() < best->size())) best = it;
      if (best != free_.end() && best->size() <= 2 * count) {
        taken = std::move(*best);
        free_.erase(best);
        return taken;
      }
      // None fits: as much of what is free goes back, so that small ones do not pile up below the large ones.
      std::size_t freed = 0;
      while (!free_.empty() && freed < count) {
        freed += free_.back().size();
        free_.pop_back();
      }
    }
    return std::vector<double>(count);
  }
  void give_back(std::vector<double>&& buffer) {
    const std::lock_guard lock(mutex_);
    free_.push_back(std::move(buffer));
  }

 private:
  std::mutex mutex_;
  std::vector<std::vector<double>> free_;
};

struct BlockCholesky::Update {
  std::vector<double> values;  // a Triangle of the rest, and whatever the buffer has beyond
};

BlockCholesky::BlockCholesky(const BlockGraph& graph)
    : graph_(graph), fronts_(elimination_fronts(graph)), buffers_(std::make_shared<Buffers>()) {
  factor_at_.push_back(0);
  for (const Front& front : fronts_)
    factor_at_.push_back(factor_at_.back() +
                         static_cast<std::uint64_t>(front.pivot_unknowns) *
                             static_cast<std::uint64_t>(front.pivot_unknowns + front.rest_unknowns));

  offsets_.push_back(0);
  for (const int size : graph.sizes) offsets_.push_back(offsets_.back() + size);
  children_.resize(fronts_.size());
  std::vector<double> work(fronts_.size());
  for (std::size_t f = 0; f < fronts_.size(); ++f) {
    work[f] += elimination_cost(fronts_[f].pivot_unknowns, fronts_[f].rest_unknowns);
    if (fronts_[f].parent < 0) continue;
    children_[static_cast<std::size_t>(fronts_[f].parent)].push_back(static_cast<std::uint32_t>(f));
    work[static_cast<std::size_t>(fronts_[f].parent)] += work[f];
  }
  // Of the children first the one that needs the most beyond what it leaves (Liu, "On the storage requirement in the
  // out-of-core multifrontal method for sparse factorization", 1986).
  std::vector<std::size_t> left(fronts_.size()), peak(fronts_.size());
  for (std::size_t f = 0; f < fronts_.size(); ++f) {
    auto& children = children_[f];
    std::stable_sort(children.begin(), children.end(),
                     [&](std::uint32_t a, std::uint32_t b) { return peak[a] - left[a] > peak[b] - left[b]; });
    std::size_t waiting = 0;
    for (const std::uint32_t c : children) {
      peak[f] = std::max(peak[f], waiting + peak[c]);
      waiting += left[c];
    }
    left[f] = Triangle::count(fronts_[f].rest_unknowns);
    peak[f] = std::max(peak[f], waiting + left[f]);
  }
  // Subtrees of less than a sixteenth of the work are units, and those of less than a quarter a stage.
  double all = 0;
  for (std::size_t f = 0; f < fronts_.size(); ++f)
    if (fronts_[f].parent < 0) all += work[f];
  // A front right after its children.
  std::vector<std::uint32_t> open, order;
  for (std::size_t f = fronts_.size(); f-- > 0;)
    if (fronts_[f].parent < 0) open.push_back(static_cast<std::uint32_t>(f));
  while (!open.empty()) {  // parents before children, the later ones first; then turned round
    const std::uint32_t f = open.back();
    open.pop_back();
    order.push_back(f);
    open.insert(open.end(), children_[f].begin(), children_[f].end());
  }
  const auto root_of =
      [&](double share) {  // by front: the highest one above it, or itself, of at most that share of the work; -1: none
        std::vector<std::int32_t> root(fronts_.size(), -1);
        for (const std::uint32_t f : order) {
          const std::int32_t parent = fronts_[f].parent;
          if (parent >= 0 && root[static_cast<std::size_t>(parent)] >= 0)
            root[f] = root[static_cast<std::size_t>(parent)];
          else if (work[f] <= share * all)
            root[f] = static_cast<std::int32_t>(f);
        }
        return root;
      };
  const std::vector<std::int32_t> unit = root_of(1.0 / 16), stage = root_of(1.0 / 4);
  std::int32_t unit_before = -2, stage_before = -2;
  double stage_work = 0;
  std::reverse(order.begin(), order.end());
  for (const std::uint32_t f : order) {
    // Fronts above the stages stand between them, as a part of the one before.
    if (stages_.empty() || (stage[f] >= 0 && stage[f] != stage_before)) {
      const double own = stage[f] >= 0 ? work[static_cast<std::size_t>(stage[f])] : 0;
      if (stages_.empty() || stage_before < 0 || !stages_.back().top.empty() || stage_work + own > all / 4) {
        stages_.emplace_back();
        stage_work = 0;
      }
      stage_work += own;
      unit_before = -2;
    }
    stage_before = stage[f];
    Stage& now = stages_.back();
    if (unit[f] < 0) {
      now.top.push_back(f);
      continue;
    }
    if (unit[f] != unit_before) now.subtrees.emplace_back();
    unit_before = unit[f];
    now.subtrees.back().push_back(f);
  }
}

BlockCholesky::FactorMap BlockCholesky::factor(std::size_t front) const {
  return {factors_.data() + factor_at_[front], fronts_[front].pivot_unknowns + fronts_[front].rest_unknowns,
          fronts_[front].pivot_unknowns};
}

bool BlockCholesky::factorise_front(const BlockMatrix& matrix, std::size_t index, std::vector<Update>& updates,
                                    const Executor* executor) {
  const Front& front = fronts_[index];
  const int pivots = front.pivot_unknowns, rest = front.rest_unknowns, size = pivots + rest;
  const FrontPlaces place(front, graph_.sizes);
  double* const columns = factors_.data() + factor_at_[index];
  std::fill_n(columns, static_cast<std::size_t>(size) * static_cast<std::size_t>(pivots), 0.0);
  if (rest > 0) updates[index].values = buffers_->take(Triangle::count(rest));
  std::fill_n(updates[index].values.data(), Triangle::count(rest), 0.0);
  const Triangle update(updates[index].values.data(), rest);

  for (const std::uint32_t a : front.pivots) {
    const int from = place(a);
    for (std::uint64_t k = matrix.starts[a]; k < matrix.starts[a + 1]; ++k) {
      const std::uint32_t b = matrix.columns[k];
      const double* block = matrix.values.data() + matrix.places[k];
      double* to = columns + place(b) + static_cast<std::ptrdiff_t>(from) * size;
      for (int r = 0; r < graph_.sizes[a]; ++r, to += size, block += matrix.padded[b])
        std::copy_n(block, graph_.sizes[b], to);
    }
  }
  for (const std::uint32_t child : children_[index]) {
    const Front& from = fronts_[child];
    // Runs of nodes that stand side by side in both.
    struct Run {
      int from, to, count;
    };
    std::vector<Run> runs;
    int at = 0;
    for (const std::uint32_t n : from.rest) {
      const int to = place(n), count = graph_.sizes[n];
      if (!runs.empty() && runs.back().to + runs.back().count == to && (to != pivots))
        runs.back().count += count;
      else
        runs.push_back({at, to, count});
      at += count;
    }
    const Triangle source(updates[child].values.data(), from.rest_unknowns);
    for (std::size_t j = 0; j < runs.size(); ++j)
      for (int c = 0; c < runs[j].count; ++c) {
        const int to = runs[j].to + c;
        const double* const column = source.column(runs[j].from + c);
        double* const target =
            to < pivots ? columns + static_cast<std::ptrdiff_t>(to) * size : update.column(to - pivots) - pivots;
        for (std::size_t i = j; i < runs.size(); ++i) {
          const int skip = i == j ? c : 0;
          const double* s = column + runs[i].from;
          double* t = target + runs[i].to;
          for (int r = skip; r < runs[i].count; ++r) t[r] += s[r];
        }
      }
    buffers_->give_back(std::move(updates[child].values));
  }
  return eliminate(columns, size, pivots, update, size > kTile ? executor : nullptr);
}

bool BlockCholesky::factorise(const BlockMatrix& matrix, const Executor& executor) {
  factors_.resize(factor_at_.back());
  std::vector<Update> updates(fronts_.size());
  for (const Stage& stage : stages_) {
    std::vector<std::uint8_t> definite(stage.subtrees.size(), 1);
    executor.blocks(stage.subtrees.size(), 1, [&](std::size_t s, std::size_t, std::size_t) {
      for (const std::uint32_t f : stage.subtrees[s])
        if (!factorise_front(matrix, f, updates, nullptr)) {
          definite[s] = 0;
          return;
        }
    });
    for (const std::uint8_t good : definite)
      if (!good) return false;
    for (const std::uint32_t f : stage.top)
      if (!factorise_front(matrix, f, updates, &executor)) return false;
  }
  return true;
}

void BlockCholesky::solve(Eigen::VectorXd& x) const {
  Eigen::VectorXd part;
  // Calls work(place in x, place in the front, unknowns) for some nodes of a front, from a place on.
  const auto each = [&](const std::vector<std::uint32_t>& nodes, int at, const auto& work) {
    for (const std::uint32_t n : nodes) {
      work(offsets_[n], at, graph_.sizes[n]);
      at += graph_.sizes[n];
    }
  };
  const auto take = [&](int from, int at, int count) { part.segment(at, count) = x.segment(from, count); };
  const auto put = [&](int to, int at, int count) { x.segment(to, count) = part.segment(at, count); };
  const auto subtract = [&](int to, int at, int count) { x.segment(to, count) -= part.segment(at, count); };
  for (std::size_t f = 0; f < fronts_.size(); ++f) {
    const Front& front = fronts_[f];
    const FactorMap l = factor(f);
    const int pivots = front.pivot_unknowns, rest = front.rest_unknowns;
    part.resize(pivots + rest);
    each(front.pivots, 0, take);
    auto head = part.head(pivots);
    l.topRows(pivots).triangularView<Eigen::Lower>().solveInPlace(head);
    if (rest > 0) part.tail(rest).noalias() = l.bottomRows(rest) * head;
    each(front.pivots, 0, put);
    each(front.rest, pivots, subtract);
  }
  for (std::size_t f = fronts_.size(); f-- > 0;) {
    const Front& front = fronts_[f];
    const FactorMap l = factor(f);
    const int pivots = front.pivot_unknowns, rest = front.rest_unknowns;
    part.resize(pivots + rest);
    each(front.pivots, 0, take);
    each(front.rest, pivots, take);
    auto head = part.head(pivots);
    if (rest > 0) head.noalias() -= l.bottomRows(rest).transpose() * part.tail(rest);
    l.topRows(pivots).triangularView<Eigen::Lower>().transpose().solveInPlace(head);
    each(front.pivots, 0, put);
  }
}

void BlockCholesky::invert_front(std::size_t index, std::vector<Eigen::MatrixXd>& inverses, BlockMatrix& out) const {
  // With U = L21 L11^-1 and the inverse Z22 of what is eliminated later: Z21 = -Z22 U, Z11 = (L11 L11^T)^-1 - U^T Z21.
  const Front& front = fronts_[index];
  const int pivots = front.pivot_unknowns, rest = front.rest_unknowns;
  const auto lower = factor(index).topRows(pivots).triangularView<Eigen::Lower>();
  Eigen::MatrixXd& inverse = inverses[index];
  inverse.resize(pivots + rest, pivots + rest);
  Eigen::MatrixXd l = Eigen::MatrixXd::Identity(pivots, pivots);
  lower.solveInPlace(l);
  inverse.topLeftCorner(pivots, pivots).noalias() = l.transpose() * l;
  if (rest > 0) {
    const Front& parent = fronts_[static_cast<std::size_t>(front.parent)];
    const Eigen::MatrixXd& from = inverses[static_cast<std::size_t>(front.parent)];
    const FrontPlaces place(parent, graph_.sizes);
    int column = pivots;
    for (const std::uint32_t b : front.rest) {
      int row = pivots;
      for (const std::uint32_t a : front.rest) {
        inverse.block(row, column, graph_.sizes[a], graph_.sizes[b]) =
            from.block(place(a), place(b), graph_.sizes[a], graph_.sizes[b]);
        row += graph_.sizes[a];
      }
      column += graph_.sizes[b];
    }
    const Eigen::MatrixXd u = factor(index).bottomRows(rest) * l;
    inverse.bottomLeftCorner(rest, pivots).noalias() = -inverse.bottomRightCorner(rest, rest) * u;
    inverse.topLeftCorner(pivots, pivots).noalias() -= u.transpose() * inverse.bottomLeftCorner(rest, pivots);
    inverse.topRightCorner(pivots, rest) = inverse.bottomLeftCorner(rest, pivots).transpose();
  }
  const FrontPlaces place(front, graph_.sizes);
  for (const std::uint32_t a : front.pivots)
    for (std::uint64_t k = out.starts[a]; k < out.starts[a + 1]; ++k) {
      const std::uint32_t b = out.columns[k];
      for (int r = 0; r < out.sizes[a]; ++r)
        for (int c = 0; c < out.sizes[b]; ++c)
          out.values[out.places[k] + static_cast<std::uint64_t>(r * out.padded[b] + c)] =
              inverse(place(a) + r, place(b) + c);
    }
}

BlockMatrix BlockCholesky::inverse_blocks(const BlockMatrix& pattern, const Executor& executor) const {
  BlockMatrix out = pattern;
  std::fill(out.values.begin(), out.values.end(), 0.0);
  // From the last front down. A front's inverse is kept until its children have taken theirs from it.
  std::vector<Eigen::MatrixXd> inverses(fronts_.size());
  for (std::size_t n = stages_.size(); n-- > 0;) {
    const Stage& stage = stages_[n];
    for (std::size_t k = stage.top.size(); k-- > 0;) invert_front(stage.top[k], inverses, out);
    executor.blocks(stage.subtrees.size(), 1, [&](std::size_t s, std::size_t, std::size_t) {
      const auto& fronts = stage.subtrees[s];
      for (std::size_t k = fronts.size(); k-- > 0;) {
        invert_front(fronts[k], inverses, out);
        if (children_[fronts[k]].empty()) inverses[fronts[k]].resize(0, 0);
      }
      for (const std::uint32_t f : fronts) inverses[f].resize(0, 0);
    });
  }
  return out;
}

}  // namespace icefield
