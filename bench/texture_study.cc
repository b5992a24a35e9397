// texture_study FOLDER CLOUD: a mesh of a cloud of a set that `icefield-simulate photos` made, textured from the photos
// with their true cameras but for each tenth, and held against these; and the same with the true mesh of the scene.
#include <fmt/format.h>

#include <chrono>

#include "app/arguments.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/cloud_reader.h"
#include "icefield/surface/fit_surface.h"
#include "icefield/judge/compare.h"
#include "icefield/base/statistics.h"
#include "icefield/surface/photograph_mesh.h"
#include "icefield/surface/sharpen.h"
#include "icefield/surface/sample_mesh.h"
#include "icefield/surface/simplify.h"
#include "icefield/surface/texture.h"
#include "simulate/render.h"
#include "tests/tools/dense.h"

using namespace icefield;
using Clock = std::chrono::steady_clock;

namespace {

struct Request {
  std::string folder, cloud, pages, truth;
  SharpenOptions sharpening;
  bool sharpened = false;
  TextureOptions options;
  std::size_t faces = 400000, every = 10, sharpen_faces = 0;
  int threads = 2, rays = 2;
  bool no_level = false, no_truth = false, no_texture = false;
};

double since(Clock::time_point start) {
  return std::chrono::duration<double>(Clock::now() - start).count();
}

// What the scene is made of, as far as it lies in its subject.
Mesh true_mesh(const simulate::Scene& scene) {
  const simulate::Mesh& source = scene.mesh();
  Mesh mesh;
  mesh.positions = source.vertices;
  for (std::size_t i = 0; i + 2 < source.triangles.size(); i += 3) {
    const Face face{source.triangles[i], source.triangles[i + 1], source.triangles[i + 2]};
    if (std::all_of(face.begin(), face.end(),
                    [&](std::uint32_t v) { return scene.subject().contains(source.vertices[v].cast<double>()); }))
      mesh.faces.push_back(face);
  }
  drop_unused_vertices(mesh);
  return mesh;
}

struct Score {
  double squares = 0, pixels = 0;
  Eigen::Vector3d gain = Eigen::Vector3d::Zero();
  double psnr() const { return 10 * std::log10(255.0 * 255.0 / (squares / (3 * pixels))); }
};

// Of a photo that took no part: what the mesh shows against it where the scene's subject is to be seen.
Score score(const MeshPhotograph& shown, const ImageU8& photo, const ImageF& true_depth, const Bounds& subject,
            const Camera& camera, const Pose& pose) {
  Score s;
  Eigen::Vector3d both = Eigen::Vector3d::Zero(), own = Eigen::Vector3d::Zero();
  std::vector<std::pair<Eigen::Vector3d, Eigen::Vector3d>> pairs;
  for (int y = 0; y < photo.height(); ++y)
    for (int x = 0; x < photo.width(); ++x) {
      const double t = true_depth.at(x, y);
      if (!(t > 0) || shown.depth.at(x, y) == 0 || shown.filled.at(x, y)) continue;
      const auto way = unproject(camera, {x + 0.5, y + 0.5});
      if (!way || !subject.contains(pose.to_world(t * Eigen::Vector3d(way->x(), way->y(), 1)))) continue;
      Eigen::Vector3d a, b;
      for (int c = 0; c < 3; ++c) a[c] = shown.colour.at(x, y, c), b[c] = photo.at(x, y, c);
      both += a.cwiseProduct(b), own += a.cwiseProduct(a);
      pairs.emplace_back(a, b);
    }
  s.gain = both.cwiseQuotient(own);
  for (const auto& [a, b] : pairs) s.squares += (a.cwiseProduct(s.gain) - b).squaredNorm();
  s.pixels = static_cast<double>(pairs.size());
  return s;
}

// Every photo but each tenth, with the true cameras.
Block given_photos(const Block& all, std::size_t every) {
  Block given = all;
  given.photos.clear();
  given.points.clear(), given.observations.clear(), given.tracks.clear(), given.starts = {0};
  for (std::size_t i = 0; i < all.photos.size(); ++i)
    if (i % every != every / 2) given.photos.push_back(all.photos[i]);
  return given;
}

void hold_against(const PointCloud& truth, const Mesh& mesh, const char* what, const Executor& executor) {
  std::vector<double> gsd(truth.gsd.begin(), truth.gsd.end());
  Eigen::AlignedBox3d around;
  for (std::size_t i = 0; i < truth.size(); ++i) around.extend(truth.position(i));
  Bounds box;
  box.centre = around.center(), box.half_size = 0.5 * around.sizes();
  const CloudComparison c = compare_clouds(sample_mesh(mesh, median(gsd), executor), truth, box, executor);
  fmt::print("{}: median {:.3f} GSD, over 5 GSD {:.2f} %", what, c.median_distance_gsd,
             100 - c.scores.back().accuracy_percent);
  for (const CloudScore& s : c.scores)
    fmt::print("; at {:g}: {:.1f} {:.1f} {:.3f}", s.at_gsd, s.accuracy_percent, s.completeness_percent, s.f1);
  fmt::print("\n");
}

void study(const char* name, const Mesh& mesh, const Request& r, const simulate::Scene& scene,
           const std::vector<simulate::PlannedPhoto>& planned, const Executor& executor) {
  const Block all = test::true_block(scene, planned, 10), given = given_photos(all, r.every);
  std::vector<std::size_t> kept_out;
  for (std::size_t i = r.every / 2; i < all.photos.size(); i += r.every) kept_out.push_back(i);
  test::Photos photos(std::filesystem::path(r.folder) / "photos");
  const auto start = Clock::now();
  const TextureResult made = make_texture(mesh, given, photos, r.options, executor);
  const double seconds = since(start);
  const TextureSummary& t = made.summary;
  const Mesh painted = apply_split(mesh, made.split);
  fmt::print(
      "{}: {}, {} faces, {:.1f} s; {} charts from {} photos on {} pages of {}, {:.1f} % used, texel {:.4g}; {} "
      "faces filled ({:.2f} % of the area); {} views, {} apart\n",
      name, t.outcome, t.faces, seconds, t.charts, t.photos, t.pages, t.page_size, t.used_percent, t.texel,
      t.faces_filled, t.filled_percent, t.views, t.views_apart);
  const TextureSteps steps = measure_steps(painted, made.texture, t.texel);
  fmt::print(
      "  exposure {:.2f} -> {:.2f} %; seams {:.2f} -> {:.2f}; steps across charts {:.2f} ({} edges), inside {:.2f} "
      "({}): {:.2f} times\n",
      t.exposure_before_percent, t.exposure_after_percent, t.seam_before, t.seam_after, steps.across_mean, steps.across,
      steps.inside_mean, steps.inside, steps.across_mean / steps.inside_mean);
  Score whole;
  for (const std::size_t i : kept_out) {
    const Camera& camera = all.camera_of(all.photos[i]);
    const MeshPhotograph shown = photograph_mesh(painted, &made.texture, camera, all.photos[i].pose, r.rays, executor);
    const simulate::TrueMaps truth = simulate::true_maps(scene, camera, all.photos[i].pose, executor);
    const Score s = score(shown, photos.load(PhotoIndex(i)), truth.depth, scene.subject(), camera, all.photos[i].pose);
    fmt::print("  {}: {:.2f} dB over {} pixels, gain {:.3f} {:.3f} {:.3f}\n", planned[i].name, s.psnr(), s.pixels,
               s.gain.x(), s.gain.y(), s.gain.z());
    whole.squares += s.squares, whole.pixels += s.pixels, whole.gain += s.gain / static_cast<double>(kept_out.size());
    if (!r.pages.empty()) {
      write_photo(fmt::format("{}_{}_{}.png", r.pages, name, i), shown.colour);
      // What differs, four times as bright.
      ImageU8 off = photos.load(PhotoIndex(i));
      for (int y = 0; y < off.height(); ++y)
        for (int x = 0; x < off.width(); ++x)
          for (int c = 0; c < 3; ++c)
            off.at(x, y, c) = static_cast<std::uint8_t>(
                shown.depth.at(x, y) == 0 ? 0
                                          : std::min(255, 4 * std::abs(off.at(x, y, c) - shown.colour.at(x, y, c))));
      write_photo(fmt::format("{}_{}_{}_off.png", r.pages, name, i), off);
    }
  }
  fmt::print("  all: {:.2f} dB, gain {:.3f}\n", whole.psnr(), whole.gain.mean());
  if (!r.pages.empty())
    for (std::size_t p = 0; p < made.texture.pages.size(); ++p)
      write_photo(fmt::format("{}_{}_page{}.png", r.pages, name, p), made.texture.pages[p]);
}

}  // namespace

int main(int argc, char** argv) {
  Request r;
  Arguments app("Textures against photos that took no part");
  app.option("folder", r.folder).required();
  app.option("cloud", r.cloud).required();
  app.option("--faces", r.faces).with_default();
  app.option("--every", r.every, "each so many photos is kept out").with_default();
  app.option("--page", r.options.page_size).with_default();
  app.option("--pages", r.options.max_pages).with_default();
  app.option("--seam", r.options.seam_cost).with_default();
  app.option("--angle", r.options.max_angle).with_default();
  app.option("--gap", r.options.colour_gap).with_default();
  app.option("--threads", r.threads).with_default();
  app.option("--rays", r.rays).with_default();
  app.option("--pictures", r.pages, "where pages and pictures go: the beginning of their names");
  app.option("--surface", r.truth, "the true surface, as `icefield-simulate surface` writes it");
  app.flag("--sharpen", r.sharpened, "the mesh by the photos that take part");
  app.option("--sharpen-faces", r.sharpen_faces, "lightened to so many before; 0: not").with_default();
  app.option("--coarse", r.sharpening.coarse_rounds).with_default();
  app.option("--rounds", r.sharpening.rounds).with_default();
  app.option("--partners", r.sharpening.partners).with_default();
  app.option("--window", r.sharpening.window).with_default();
  app.option("--smooth", r.sharpening.smoothness).with_default();
  app.flag("--no-texture", r.no_texture);
  app.flag("--no-level", r.no_level);
  app.flag("--no-truth", r.no_truth);
  if (!app.parse(argc, argv)) return app.status();
  try {
    r.options.level = !r.no_level;
    const Executor executor(r.threads);
    const simulate::PlanOptions plan = simulate::read_plan(r.folder);
    const simulate::Scene scene{plan.scene};
    const std::vector<simulate::PlannedPhoto> planned = simulate::plan_photos(plan);
    FittedSurface fitted = fit_surface(read_cloud(r.cloud), {}, std::nullopt, executor);
    std::optional<PointCloud> truth;
    if (!r.truth.empty()) truth = read_cloud(r.truth);
    if (truth) hold_against(*truth, fitted.mesh, "fitted", executor);
    SimplifyOptions lighter;
    lighter.faces = r.faces;
    if (r.sharpen_faces > 0) {
      SimplifyOptions first;
      first.faces = r.sharpen_faces;
      simplify(fitted.mesh, first);
    }
    if (r.sharpened) {
      test::Photos photos(std::filesystem::path(r.folder) / "photos");
      const Block given = given_photos(test::true_block(scene, planned, 10), r.every);
      const auto start = Clock::now();
      const SharpenSummary done = sharpen(fitted.mesh, given, photos, r.sharpening, executor);
      fmt::print(
          "{}: {} faces, {} photos, {} pairs, {} rounds, {:.1f} s; agreement {:.4f} -> {:.4f}; moved {:.4g} "
          "(mean), {:.4g} (95 %), {:.3f} px\n",
          done.outcome, fitted.mesh.faces.size(), done.photos, done.pairs, done.rounds, since(start),
          done.agreement_before, done.agreement_after, done.moved_mean, done.moved_q95, done.moved_mean_px);
      if (truth) hold_against(*truth, fitted.mesh, "sharpened", executor);
    }
    if (r.no_texture) return 0;
    simplify(fitted.mesh, lighter);
    if (truth) hold_against(*truth, fitted.mesh, "lightened", executor);
    study("fitted", fitted.mesh, r, scene, planned, executor);
    if (!r.no_truth) study("true", true_mesh(scene), r, scene, planned, executor);
  } catch (const Error& e) {
    fmt::print(stderr, "texture_study: {}\n", e.what());
    return 1;
  }
  return 0;
}
