// orthomosaic_study FOLDER: an orthomosaic of a forefield that `icefield-simulate photos` made, from its photos with
// their true cameras over the true surface or one that was measured, against what is seen from straight above.
#include <fmt/format.h>

#include <chrono>

#include "app/arguments.h"
#include "bench/true_heights.h"
#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/raster_file.h"
#include "icefield/terrain/orthomosaic.h"
#include "simulate/plan.h"

using namespace icefield;
using Clock = std::chrono::steady_clock;

namespace {

struct Request {
  std::string folder, heights, ground, picture, truth;
  OrthomosaicOptions options;
  double cell = 0, noise = 0, half_side = 0;
  int threads = 2, tile = 1024;
  bool no_level = false, show_hut = false;
};

class Files : public PhotoSource {
 public:
  explicit Files(std::vector<std::string> files) : files_(std::move(files)) {}
  ImageU8 load(PhotoIndex photo) override { return read_photo(files_[photo.value]); }

 private:
  std::vector<std::string> files_;
};

double grey(const ImageU8& picture, int x, int y) {
  return (picture.at(x, y, 0) + picture.at(x, y, 1) + picture.at(x, y, 2)) / 3.0;
}

// Where a piece of the picture lies in the truth: the shift in cells by which they are most alike; nothing where there
// is too little to see.
struct Piece {
  int x, y, side;
  std::uint16_t photo;  // only its cells; 0: all
};
std::optional<Eigen::Vector2d> shift_of(const ImageU8& picture, const Image<std::uint16_t>& photo, const ImageU8& truth,
                                        const Piece& piece) {
  constexpr int kReach = 4;
  constexpr double kAlike = 0.7;
  const auto alike = [&](int dx, int dy) {
    double n = 0, a = 0, b = 0, aa = 0, bb = 0, ab = 0;
    for (int y = piece.y; y < piece.y + piece.side; ++y)
      for (int x = piece.x; x < piece.x + piece.side; ++x) {
        if (photo.at(x, y) == 0 || (piece.photo && photo.at(x, y) != piece.photo)) continue;
        const double u = grey(picture, x, y), v = grey(truth, x + dx, y + dy);
        ++n, a += u, b += v, aa += u * u, bb += v * v, ab += u * v;
      }
    const double spread = std::sqrt((aa - a * a / n) * (bb - b * b / n));
    return n > 300 && spread > 8 * n ? (ab - a * b / n) / spread : 0.0;
  };
  double best = 0;
  int bx = 0, by = 0;
  for (int dy = -kReach; dy <= kReach; ++dy)
    for (int dx = -kReach; dx <= kReach; ++dx)
      if (const double r = alike(dx, dy); r > best) best = r, bx = dx, by = dy;
  if (best < kAlike || std::abs(bx) == kReach || std::abs(by) == kReach) return std::nullopt;
  const auto between = [&](double before, double after) {
    const double bend = before - 2 * best + after;
    return bend < 0 ? std::clamp(0.5 * (before - after) / bend, -0.5, 0.5) : 0;
  };
  // The picture lies against the truth by the opposite.
  return Eigen::Vector2d(-(bx + between(alike(bx - 1, by), alike(bx + 1, by))),
                         -(by + between(alike(bx, by - 1), alike(bx, by + 1))));
}

int run(const Request& request) {
  const simulate::PlanOptions plan = simulate::read_plan(request.folder);
  const simulate::Scene scene(plan.scene);
  const std::vector<simulate::PlannedPhoto> planned = simulate::plan_photos(plan);
  const Executor executor(request.threads);
  Block block;
  std::vector<std::string> files;
  std::vector<double> gsd;
  for (const simulate::PlannedPhoto& photo : planned) {
    if (block.cameras.empty()) block.cameras.push_back(photo.shot.camera);
    block.photos.push_back({PhotoIndex(static_cast<std::uint32_t>(files.size())), CameraIndex(0), photo.shot.pose});
    files.push_back(request.folder + "/photos/" + photo.name);
    gsd.push_back((photo.shot.pose.centre.z() - scene.subject().centre.z()) / photo.shot.camera.focal());
  }
  OrthomosaicScene over;
  ImageF heights, ground;
  TrueHeights truth;
  if (request.heights.empty()) {
    const double cell = request.cell > 0 ? request.cell : median(gsd);
    const double side = request.half_side > 0 ? request.half_side : scene.subject().half_size.x();
    const Eigen::Vector2d middle = scene.subject().centre.head<2>(), half = Eigen::Vector2d::Constant(side);
    over.frame = grid_over(middle - half, middle + half, cell);
    truth = true_heights(scene, over.frame, executor);
    heights = truth.surface, ground = truth.ground;
    CounterRandom random(combine_keys(plan.scene.seed, 77));
    for (float& z : heights.values()) z += static_cast<float>(request.noise * cell * random.normal());
  } else {
    const RasterReader reader(request.heights);
    over.frame = reader.content().frame;
    heights = reader.read();
    if (!request.ground.empty()) ground = RasterReader(request.ground).read();
    truth = true_heights(scene, over.frame, executor);
  }
  const auto window_of = [](const ImageF& all, const Window& w) {
    ImageF part(w.width, w.height);
    for (int y = 0; y < w.height; ++y) std::copy_n(all.row(w.row + y) + w.column, w.width, part.row(y));
    return part;
  };
  over.heights = [&](const Window& w) { return window_of(heights, w); };
  if (!ground.empty()) over.ground = [&](const Window& w) { return window_of(ground, w); };
  OrthomosaicOptions options = request.options;
  options.level = !request.no_level;
  Files photos(files);
  const auto start = Clock::now();
  const OrthomosaicMaker maker(over, block, photos, options, executor);
  const double choosing = std::chrono::duration<double>(Clock::now() - start).count();
  const int columns = over.frame.columns, rows = over.frame.rows;
  ImageU8 picture(columns, rows, 4);
  Image<std::uint16_t> photo(columns, rows);
  for (int y = 0; y < rows; y += request.tile)
    for (int x = 0; x < columns; x += request.tile) {
      const Window w{x, y, std::min(request.tile, columns - x), std::min(request.tile, rows - y)};
      const OrthomosaicPart part = maker.part(w);
      for (int v = 0; v < w.height; ++v) {
        std::copy_n(part.picture.row(v), 4 * w.width, picture.row(y + v) + 4 * x);
        std::copy_n(part.photo.row(v), w.width, photo.row(y + v) + x);
      }
    }
  const double seconds = std::chrono::duration<double>(Clock::now() - start).count();
  const OrthomosaicSummary& s = maker.summary();
  fmt::print(
      "{} x {} cells of {:.3g}, {} photos of {}, {} seams of {:.0f} in all, {:.1f} over what stands; exposure "
      "{:.2f} % apart, then {:.2f}; corners lose {:.1f} %; apart {:.2f} % of {} views; {:.1f} s, of it {:.1f} "
      "choosing\n",
      columns, rows, over.frame.cell, s.photos, block.photos.size(), s.seams, s.seam_length, s.seam_length_raised,
      s.exposure_before_percent, s.exposure_after_percent, s.corner_loss_percent,
      100.0 * static_cast<double>(s.views_apart) / static_cast<double>(std::max<std::size_t>(1, s.views)), s.views,
      seconds, choosing);
  // From straight above.
  ImageU8 seen(columns, rows, 4);
  executor.blocks(static_cast<std::size_t>(rows), 4, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < columns; ++x) {
        constexpr float kAbove = 200;
        const Eigen::Vector2d p = over.frame.middle(x, y);
        const auto colour =
            simulate::colour_seen(scene, Eigen::Vector3f(static_cast<float>(p.x()), static_cast<float>(p.y()), kAbove),
                                  -Eigen::Vector3f::UnitZ(), static_cast<float>(over.frame.cell) / kAbove);
        for (int c = 0; c < 3; ++c) seen.at(x, y, c) = colour[static_cast<std::size_t>(c)];
        seen.at(x, y, 3) = 255;
      }
  });
  if (!request.picture.empty()) write_photo(request.picture, picture);
  if (!request.truth.empty()) write_photo(request.truth, seen);
  // Colours, by one gain.
  double both = 0, own = 0, sum = 0, true_sum = 0;
  std::size_t cells = 0, none = 0;
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < columns; ++x) {
      if (!std::isfinite(truth.surface.at(x, y))) continue;
      if (photo.at(x, y) == 0) {
        ++none;
        continue;
      }
      ++cells;
      for (int c = 0; c < 3; ++c)
        both += picture.at(x, y, c) * seen.at(x, y, c), own += picture.at(x, y, c) * picture.at(x, y, c);
      sum += grey(picture, x, y), true_sum += grey(seen, x, y);
    }
  const double gain = both / own;
  double squares = 0, near = 0, near_cells = 0;
  const int reach = std::max(1, static_cast<int>(2 / over.frame.cell));
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < columns; ++x) {
      if (photo.at(x, y) == 0) continue;
      double off = 0;
      for (int c = 0; c < 3; ++c) off += std::pow(gain * picture.at(x, y, c) - seen.at(x, y, c), 2);
      squares += off;
      if (truth.kind.at(x, y) != 0) continue;
      bool by_hut = false;
      for (int dy = -reach; dy <= reach && !by_hut; dy += reach)
        for (int dx = -reach; dx <= reach; dx += reach)
          if (x + dx >= 0 && y + dy >= 0 && x + dx < columns && y + dy < rows)
            by_hut |= truth.kind.at(x + dx, y + dy) == 1;
      if (by_hut) near += off, ++near_cells;
    }
  const auto psnr = [](double all, double count) { return 10 * std::log10(255.0 * 255.0 * 3 * count / all); };
  fmt::print(
      "  {:.2f} % of the cells without a photo; PSNR {:.2f} dB after a gain of {:.3f} (brightness {:+.2f} %), "
      "on the ground within 2 m of the hut {:.2f}\n",
      100.0 * static_cast<double>(none) / static_cast<double>(cells + none), psnr(squares, static_cast<double>(cells)),
      gain, 100 * (sum / true_sum - 1), psnr(near, near_cells));
  // Places.
  constexpr int kSide = 48, kReach = 5;
  double shift2 = 0, far = 0;
  std::size_t pieces = 0, plain = 0;
  std::vector<double> steps;
  for (int y = kReach; y + kSide + kReach < rows; y += kSide)
    for (int x = kReach; x + kSide + kReach < columns; x += kSide) {
      const auto shift = shift_of(picture, photo, seen, {x, y, kSide, 0});
      if (!shift) {
        ++plain;
        continue;
      }
      ++pieces;
      shift2 += 0.5 * shift->squaredNorm();
      far = std::max(far, shift->norm());
      std::vector<std::uint16_t> there;
      for (int v = y; v < y + kSide; v += 4)
        for (int u = x; u < x + kSide; u += 4)
          if (const std::uint16_t p = photo.at(u, v); p && std::find(there.begin(), there.end(), p) == there.end())
            there.push_back(p);
      if (there.size() != 2) continue;
      const auto a = shift_of(picture, photo, seen, {x, y, kSide, there[0]}),
                 b = shift_of(picture, photo, seen, {x, y, kSide, there[1]});
      if (a && b) steps.push_back((*a - *b).norm());
    }
  std::sort(steps.begin(), steps.end());
  const auto at = [&](double share) {
    return steps.empty() ? 0 : steps[static_cast<std::size_t>(share * static_cast<double>(steps.size() - 1))];
  };
  fmt::print(
      "  places: {:.3f} cells RMS along an axis, at most {:.2f}, of {} pieces ({} too plain); steps across seams "
      "{:.2f} {:.2f} {:.2f} cells (50, 95, 100 percent) of {}\n",
      std::sqrt(shift2 / static_cast<double>(std::max<std::size_t>(1, pieces))), far, pieces, plain, at(0.5), at(0.95),
      at(1), steps.size());
  // Steps of brightness from cell to cell, across seams and one beside them; in the truth too.
  double across = 0, true_across = 0, inside = 0, true_inside = 0;
  std::size_t sides = 0, insides = 0, on_hut = 0;
  for (int y = 0; y + 1 < rows; ++y)
    for (int x = 1; x + 2 < columns; ++x) {
      const std::uint16_t a = photo.at(x, y), b = photo.at(x + 1, y);
      if (a && b && a != b) {
        const std::uint16_t before = photo.at(x - 1, y), after = photo.at(x + 2, y);
        ++sides;
        across += std::abs(grey(picture, x, y) - grey(picture, x + 1, y));
        true_across += std::abs(grey(seen, x, y) - grey(seen, x + 1, y)) / gain;
        for (const auto& [u, p, q] : {std::tuple(x - 1, before, a), {x + 1, b, after}})
          if (p == q) {
            ++insides;
            inside += std::abs(grey(picture, u, y) - grey(picture, u + 1, y));
            true_inside += std::abs(grey(seen, u, y) - grey(seen, u + 1, y)) / gain;
          }
      }
      for (const auto& [u, v] : {std::pair(x + 1, y), {x, y + 1}})
        on_hut += a && photo.at(u, v) && a != photo.at(u, v) && truth.kind.at(x, y) == 1 && truth.kind.at(u, v) == 1;
    }
  fmt::print(
      "  brightness: {:.2f} across {} sides of seams, {:.2f} beside them (truth {:.2f}, {:.2f}); {} sides of "
      "seams on the hut's roof\n",
      across / static_cast<double>(std::max<std::size_t>(1, sides)), sides,
      inside / static_cast<double>(std::max<std::size_t>(1, insides)),
      true_across / static_cast<double>(std::max<std::size_t>(1, sides)),
      true_inside / static_cast<double>(std::max<std::size_t>(1, insides)), on_hut);
  if (request.show_hut) {
    std::map<std::uint16_t, std::size_t> of;
    int low_x = columns, low_y = rows, high_x = 0, high_y = 0;
    for (int y = 0; y < rows; ++y)
      for (int x = 0; x < columns; ++x)
        if (truth.kind.at(x, y) == 1) {
          ++of[photo.at(x, y)];
          low_x = std::min(low_x, x), high_x = std::max(high_x, x), low_y = std::min(low_y, y),
          high_y = std::max(high_y, y);
        }
    for (std::size_t i = 0; i < block.photos.size(); ++i) {
      std::size_t within = 0, all = 0;
      double slant = 0;
      for (int y = low_y; y <= high_y; ++y)
        for (int x = low_x; x <= high_x; ++x) {
          if (truth.kind.at(x, y) != 1) continue;
          const Eigen::Vector2d p = over.frame.middle(x, y);
          const Eigen::Vector3d place(p.x(), p.y(), truth.surface.at(x, y));
          const auto pixel = project(block.cameras[0], block.photos[i].pose.to_camera(place));
          ++all;
          within += pixel && pixel->x() >= 0 && pixel->y() >= 0 && pixel->x() < block.cameras[0].width &&
                    pixel->y() < block.cameras[0].height;
          const Eigen::Vector3d way = block.photos[i].pose.centre - place;
          slant += way.head<2>().norm() / way.z();
        }
      if (within > 0)
        fmt::print("  photo {}: {:.1f} % of the hut within it, slant {:.2f}\n", i + 1,
                   100.0 * static_cast<double>(within) / static_cast<double>(all), slant / static_cast<double>(all));
    }
    for (const auto& [p, n] : of) fmt::print("  {} cells of the hut from photo {}\n", n, p);
    for (int y = low_y - 4; y <= high_y + 4; y += 4) {
      for (int x = low_x - 4; x <= high_x + 4; x += 2)
        fmt::print("{}", truth.kind.at(x, y) == 1 ? static_cast<char>('A' + photo.at(x, y) % 26)
                                                  : static_cast<char>('a' + photo.at(x, y) % 26));
      fmt::print("\n");
    }
  }
  return 0;
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app("An orthomosaic against what is seen from straight above");
  Request request;
  app.option("FOLDER", request.folder, "of a made-up set: photos/ and truth/").required();
  app.option("--heights", request.heights, "a DSM (GeoTIFF) in the scene's frame in place of the true surface");
  app.option("--ground", request.ground, "its DTM");
  app.option("--cell", request.cell, "of the true surface, metres; 0: the photos' GSD").with_default();
  app.option("--half", request.half_side, "of the true surface, metres; 0: the whole subject").with_default();
  app.option("--noise", request.noise, "of the true surface, cells").with_default();
  app.option("--picture", request.picture, "PNG of the mosaic");
  app.option("--truth", request.truth, "PNG of the truth");
  app.option("--max-angle", request.options.max_angle_deg).with_default();
  app.option("--seam-cost", request.options.seam_cost).with_default();
  app.option("--blend", request.options.blend).with_default();
  app.option("--tile", request.tile).with_default();
  app.option("--threads", request.threads).with_default();
  app.flag("--no-level", request.no_level, "exposures as they are");
  app.flag("--show-hut", request.show_hut, "photos of the cells about the hut");
  if (!app.parse(argc, argv)) return app.status();
  return run(request);
}
