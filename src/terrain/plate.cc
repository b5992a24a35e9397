#include "src/terrain/plate.h"

#include <algorithm>
#include <cmath>

namespace icefield {
namespace {

constexpr std::size_t kRows = 32;  // grain

// What bending asks of each cell: the gradient of the squares of second differences, halved. xx along rows, yy along
// columns, xy between four cells.
class Bending {
 public:
  Bending(int width, int height, const Executor& executor)
      : executor_(executor), xx_(width, height), yy_(width, height), xy_(width, height) {}

  void times(const ImageF& h, const ImageF& weights, ImageF& out) {
    const int width = h.width(), height = h.height();
    rows(height, [&](int y) {
      const float* row = h.row(y);
      const float* above = y > 0 ? h.row(y - 1) : nullptr;
      const float* below = y + 1 < height ? h.row(y + 1) : nullptr;
      float *xx = xx_.row(y), *yy = yy_.row(y), *xy = xy_.row(y);
      for (int x = 0; x < width; ++x) {
        xx[x] = x > 0 && x + 1 < width ? row[x - 1] - 2 * row[x] + row[x + 1] : 0;
        yy[x] = above && below ? above[x] - 2 * row[x] + below[x] : 0;
        xy[x] = below && x + 1 < width ? 2 * (row[x] - row[x + 1] - below[x] + below[x + 1]) : 0;
      }
    });
    rows(height, [&](int y) {
      const float *xx = xx_.row(y), *yy = yy_.row(y), *xy = xy_.row(y), *w = weights.row(y), *row = h.row(y);
      const float* yy_above = y > 0 ? yy_.row(y - 1) : nullptr;
      const float* xy_above = y > 0 ? xy_.row(y - 1) : nullptr;
      const float* yy_below = y + 1 < height ? yy_.row(y + 1) : nullptr;
      float* to = out.row(y);
      for (int x = 0; x < width; ++x) {
        float sum = w[x] * row[x] - 2 * xx[x] - 2 * yy[x] + xy[x];
        if (x > 0) sum += xx[x - 1] - xy[x - 1];
        if (x + 1 < width) sum += xx[x + 1];
        if (yy_above) {
          sum += yy_above[x] - xy_above[x];
          if (x > 0) sum += xy_above[x - 1];
        }
        if (yy_below) sum += yy_below[x];
        to[x] = sum;
      }
    });
  }

  template <class Each>
  void rows(int height, const Each& each) {
    executor_.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t y = begin; y < end; ++y) each(static_cast<int>(y));
    });
  }

  double dot(const ImageF& a, const ImageF& b) {
    std::vector<double> part(static_cast<std::size_t>(a.height()), 0);
    rows(a.height(), [&](int y) {
      double sum = 0;
      for (int x = 0; x < a.width(); ++x) sum += static_cast<double>(a.at(x, y)) * b.at(x, y);
      part[static_cast<std::size_t>(y)] = sum;
    });
    double sum = 0;
    for (const double p : part) sum += p;
    return sum;
  }

 private:
  const Executor& executor_;
  ImageF xx_, yy_, xy_;
};

}  // namespace

void bend_plate(ImageF& heights, const ImageF& wanted, const ImageF& weights, int steps, const Executor& executor,
                Monitor& monitor) {
  const int width = heights.width(), height = heights.height();
  Bending bending(width, height, executor);
  ImageF r(width, height), z(width, height), p(width, height), ap(width, height);
  const auto by_diagonal = [&](int y) {
    constexpr float kBending = 20;  // of a cell amidst others
    for (int x = 0; x < width; ++x) z.at(x, y) = r.at(x, y) / (kBending + weights.at(x, y));
  };
  bending.times(heights, weights, ap);
  bending.rows(height, [&](int y) {
    for (int x = 0; x < width; ++x) r.at(x, y) = weights.at(x, y) * wanted.at(x, y) - ap.at(x, y);
    by_diagonal(y);
    std::copy_n(z.row(y), width, p.row(y));
  });
  double rz = bending.dot(r, z);
  const double enough = 1e-10 * rz;
  for (int step = 0; step < steps && rz > enough && rz > 0; ++step) {
    monitor.check();
    bending.times(p, weights, ap);
    const double pap = bending.dot(p, ap);
    if (!(pap > 0)) break;
    const auto alpha = static_cast<float>(rz / pap);
    bending.rows(height, [&](int y) {
      for (int x = 0; x < width; ++x) {
        heights.at(x, y) += alpha * p.at(x, y);
        r.at(x, y) -= alpha * ap.at(x, y);
      }
      by_diagonal(y);
    });
    const double next = bending.dot(r, z);
    const auto beta = static_cast<float>(next / rz);
    bending.rows(height, [&](int y) {
      for (int x = 0; x < width; ++x) p.at(x, y) = z.at(x, y) + beta * p.at(x, y);
    });
    rz = next;
  }
}

namespace {

// The lower envelope of parabolas that stand on the values of a row.
void nearest_along(std::vector<double>& f, std::vector<double>& out, std::vector<int>& at, std::vector<double>& from) {
  const int n = static_cast<int>(f.size());
  at.resize(f.size()), from.resize(f.size() + 1), out.resize(f.size());
  const auto value = [&](int q) { return f[static_cast<std::size_t>(q)]; };
  int k = 0;
  at[0] = 0, from[0] = -1e30, from[1] = 1e30;
  for (int q = 1; q < n; ++q) {
    double s = 0;
    for (;; --k) {
      const int v = at[static_cast<std::size_t>(k)];
      s = (value(q) + 1.0 * q * q - value(v) - 1.0 * v * v) / (2.0 * (q - v));
      if (s > from[static_cast<std::size_t>(k)] || k == 0) break;
    }
    if (s <= from[static_cast<std::size_t>(k)]) {
      at[0] = q;  // k is 0
      continue;
    }
    ++k;
    at[static_cast<std::size_t>(k)] = q;
    from[static_cast<std::size_t>(k)] = s, from[static_cast<std::size_t>(k) + 1] = 1e30;
  }
  k = 0;
  for (int q = 0; q < n; ++q) {
    while (from[static_cast<std::size_t>(k) + 1] < q) ++k;
    const int v = at[static_cast<std::size_t>(k)];
    out[static_cast<std::size_t>(q)] = 1.0 * (q - v) * (q - v) + value(v);
  }
}

}  // namespace

ImageF distances_to(const ImageU8& cells, const Executor& executor) {
  constexpr double kFar = 1e18;
  const int width = cells.width(), height = cells.height();
  ImageF result(width, height);
  Image<double> across(width, height);
  executor.blocks(static_cast<std::size_t>(height), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
    std::vector<double> f(static_cast<std::size_t>(width)), out, from;
    std::vector<int> at;
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y) {
      for (int x = 0; x < width; ++x) f[static_cast<std::size_t>(x)] = cells.at(x, y) ? 0 : kFar;
      nearest_along(f, out, at, from);
      std::copy(out.begin(), out.end(), across.row(y));
    }
  });
  executor.blocks(static_cast<std::size_t>(width), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
    std::vector<double> f(static_cast<std::size_t>(height)), out, from;
    std::vector<int> at;
    for (int x = static_cast<int>(begin); x < static_cast<int>(end); ++x) {
      for (int y = 0; y < height; ++y) f[static_cast<std::size_t>(y)] = across.at(x, y);
      nearest_along(f, out, at, from);
      for (int y = 0; y < height; ++y)
        result.at(x, y) = static_cast<float>(std::min(1e9, std::sqrt(out[static_cast<std::size_t>(y)])));
    }
  });
  return result;
}

ImageF twice_as_fine(const ImageF& coarse, int width, int height, const Executor& executor) {
  ImageF fine(width, height);
  executor.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y) {
      const int y0 = std::clamp((y + 1) / 2 - 1, 0, coarse.height() - 1),
                y1 = std::min((y + 1) / 2, coarse.height() - 1);
      const float v = y % 2 == 0 ? 0.75f : 0.25f;
      for (int x = 0; x < width; ++x) {
        const int x0 = std::clamp((x + 1) / 2 - 1, 0, coarse.width() - 1),
                  x1 = std::min((x + 1) / 2, coarse.width() - 1);
        const float u = x % 2 == 0 ? 0.75f : 0.25f;
        const float upper = coarse.at(x0, y0) + u * (coarse.at(x1, y0) - coarse.at(x0, y0)),
                    lower = coarse.at(x0, y1) + u * (coarse.at(x1, y1) - coarse.at(x0, y1));
        fine.at(x, y) = upper + v * (lower - upper);
      }
    }
  });
  return fine;
}

void fill_by_plate(ImageF& heights, const ImageU8& known, const Executor& executor, Monitor& monitor) {
  struct Level {
    ImageF wanted, weights;
  };
  constexpr float kHeld = 100;  // against bending, whose own weight is 20
  std::vector<Level> levels(1);
  levels[0] = {heights, ImageF(heights.width(), heights.height())};
  bool any = false;
  for (std::size_t i = 0; i < known.data().size(); ++i) {
    levels[0].weights.data()[i] = known.data()[i] ? kHeld : 0;
    if (!known.data()[i]) levels[0].wanted.data()[i] = 0;
    any = any || known.data()[i];
  }
  if (!any) {
    std::fill(heights.data().begin(), heights.data().end(), 0.0f);
    return;
  }
  constexpr int kCoarsest = 4;
  while (std::max(levels.back().wanted.width(), levels.back().wanted.height()) > kCoarsest) {
    const Level& fine = levels.back();
    const int width = (fine.wanted.width() + 1) / 2, height = (fine.wanted.height() + 1) / 2;
    Level coarse{ImageF(width, height), ImageF(width, height)};
    executor.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < width; ++x) {
          float sum = 0, weight = 0;
          for (int k = 0; k < 4; ++k) {
            const int fx = 2 * x + (k & 1), fy = 2 * y + (k >> 1);
            if (fx >= fine.wanted.width() || fy >= fine.wanted.height()) continue;
            sum += fine.weights.at(fx, fy) * fine.wanted.at(fx, fy), weight += fine.weights.at(fx, fy);
          }
          // What is known of a part alone lies aside of the middle, and draws little.
          constexpr float kPart = 0.01f;
          if (weight > 0)
            coarse.wanted.at(x, y) = sum / weight,
                                coarse.weights.at(x, y) = weight >= 4 * kHeld ? kHeld : kPart * weight;
        }
    });
    levels.push_back(std::move(coarse));
  }
  double sum = 0, weight = 0;
  for (std::size_t i = 0; i < levels.back().wanted.data().size(); ++i) {
    sum += static_cast<double>(levels.back().weights.data()[i]) * levels.back().wanted.data()[i];
    weight += levels.back().weights.data()[i];
  }
  ImageF filled(levels.back().wanted.width(), levels.back().wanted.height(), 1, static_cast<float>(sum / weight));
  for (std::size_t l = levels.size(); l-- > 0;) {
    const Level& level = levels[l];
    if (filled.width() != level.wanted.width() || filled.height() != level.wanted.height())
      filled = twice_as_fine(filled, level.wanted.width(), level.wanted.height(), executor);
    constexpr int kSteps = 120;
    bend_plate(filled, level.wanted, level.weights, kSteps, executor, monitor);
  }
  for (std::size_t i = 0; i < known.data().size(); ++i)
    if (!known.data()[i]) heights.data()[i] = filled.data()[i];
}

}  // namespace icefield
