#include "icefield/adjust/adjust.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "src/adjust/block_cholesky.h"
#include "src/adjust/conjugate_gradients.h"
#include "src/adjust/normal_equations.h"

namespace icefield {
namespace {

// Products with the matrix that conjugate gradients need, and further steps included, for each step from neighbour to
// neighbour through the block, since a product carries a change no farther. Measured: up to 9 a step of the adjustment
// where photos share points at random (depth 1 and 2), 82 to 400 in flights of 200 to 3,000 photos (6 to 21), 450 in a
// gorge (44).
constexpr double kProductsForDepth = 40;

constexpr std::size_t kObservationsForThreads = 4000;

bool takes_conjugate_gradients(const Unknowns& unknowns, const BlockMatrix& matrix, const BlockCholesky& factor,
                               Elimination wanted) {
  if (wanted != Elimination::automatic) return wanted == Elimination::iterative;
  // A product is bound by memory and makes a multiply-add an entry and side; a factor makes several times as many a
  // second.
  const double products = factor.multiply_adds() / (2 * static_cast<double>(matrix.values.size()) * 4);
  if (products < kProductsForDepth) return false;
  std::vector<bool> no_way(unknowns.node_kind.size());
  for (std::size_t n = 0; n < no_way.size(); ++n) no_way[n] = unknowns.node_kind[n] != Unknowns::Kind::photo;
  return products >
         kProductsForDepth * static_cast<double>(std::max<std::size_t>(1, graph_depth(unknowns.graph, no_way)));
}

}  // namespace

std::string AdjustSummary::in_a_line() const {
  return fmt::format("{}: {} observations, {} parameters, {} iterations, RMS {:.3f} -> {:.3f} px", outcome,
                     observations, parameters, iterations, rms_before_px, rms_after_px);
}

AdjustResult adjust(const Block& block, const AdjustOptions& options, const Executor& all_threads, Monitor& monitor) {
  AdjustSummary summary;
  summary.observations = block.observations.size();
  if (block.observations.empty()) {
    summary.outcome = "nothing to adjust";
    return {block, summary};
  }
  // Rounds of a small block are over before a second thread has woken up, and on a busy machine wait for it.
  const Executor one_thread(1);
  const Executor& executor = block.observations.size() < kObservationsForThreads ? one_thread : all_threads;
  NormalEquations equations(block, options, executor);
  AdjustState state = equations.start();
  BlockCholesky factor(equations.unknowns().graph);
  const bool iterative =
      takes_conjugate_gradients(equations.unknowns(), equations.matrix(), factor, options.elimination);
  if (iterative) equations.matrix().prepare_multiply();
  summary.parameters = equations.unknowns().count() + (options.fix_points ? 0 : 3 * block.points.size());
  auto [cost, squares] = equations.cost(state);
  const auto rms = [&](double sum) { return std::sqrt(sum / static_cast<double>(summary.observations)); };
  summary.cost_before = summary.cost_after = cost;
  summary.rms_before_px = rms(squares);
  summary.outcome = "reached the limit of iterations";

  // Damping after Nielsen, "Damping parameter in Marquardt's method", 1999.
  double damping = 1e-5, growth = 2;
  const auto tell = [&](bool accepted, int inner) {
    if (options.on_iteration) options.on_iteration({summary.iterations, cost, damping, accepted, inner});
  };
  tell(true, 0);
  bool fresh = false;
  Eigen::VectorXd step;
  while (summary.iterations < options.max_iterations) {
    monitor.check();
    if (!fresh) equations.linearise(state);
    fresh = true;
    ++summary.iterations;
    equations.reduce(damping);
    bool solved = true, accepted = false;
    int inner = 0;
    if (iterative) {
      const ConjugateGradients gradients =
          conjugate_gradients(equations.matrix(), equations.right(), 0.1, 500, executor, step);
      solved = gradients.definite;
      inner = gradients.iterations;
    } else {
      solved = factor.factorise(equations.matrix(), executor);
      if (solved) {
        step = equations.right();
        factor.solve(step);
      }
    }
    if (solved && step.allFinite()) {
      AdjustState next = equations.stepped(state, step);
      const auto [next_cost, next_squares] = equations.cost(next);
      const double predicted = equations.predicted_decrease(step, damping), actual = cost - next_cost;
      if (actual > 0 && predicted > 0) {
        accepted = true;
        const double quality = actual / predicted;
        damping *= quality > 0.9 ? 0.1 : std::max(1.0 / 3.0, 1 - std::pow(2 * quality - 1, 3));
        damping = std::max(damping, 1e-10);
        growth = 2;
        const bool converged = actual <= options.cost_tolerance * cost;
        cost = next_cost;
        squares = next_squares;
        state = std::move(next);
        fresh = false;
        tell(true, inner);
        if (converged) {
          summary.outcome = "converged";
          break;
        }
      } else if (predicted <= std::max(options.cost_tolerance * cost, 1e-16 * summary.cost_before)) {
        tell(false, inner);
        summary.outcome = "converged";
        break;
      }
    }
    if (!accepted) {
      tell(false, inner);
      ++summary.rejected_steps;
      damping *= growth;
      growth *= 2;
      if (damping > 1e12) {
        summary.outcome = "stalled";
        break;
      }
    }
  }
  summary.cost_after = cost;
  summary.rms_after_px = rms(squares);
  summary.valid = std::isfinite(cost);
  return {equations.block_at(state), summary};
}

}  // namespace icefield
