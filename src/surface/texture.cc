#include "icefield/surface/texture.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <Eigen/IterativeLinearSolvers>
#include <Eigen/SparseCore>
#include <algorithm>
#include <cmath>
#include <limits>
#include <optional>

#include "icefield/base/error.h"
#include "src/surface/chart_raster.h"
#include "src/surface/face_views.h"
#include "src/surface/fill_pages.h"
#include "src/surface/level_seams.h"
#include "src/surface/photo_samples.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

void check_options(const Mesh& mesh, const Block& block, const TextureOptions& o) {
  check_arrays(mesh);
  check_block(block);
  if (mesh.empty())
    throw Error(ErrorKind::usage, "texture", "is asked for of a mesh without faces", "give another mesh");
  if (block.photos.empty())
    throw Error(ErrorKind::usage, "texture", "is asked for without photos", "give a block with photos");
  if (o.page_size < 64 || o.page_size > 16384 || o.max_pages < 1 || o.max_pages > 999)
    throw Error(ErrorKind::usage, "texture", "is asked for with pages of no use",
                "give from 1 to 999 pages of 64 to 16384 texels");
  if (!(o.texel >= 0) || !std::isfinite(o.texel) || !(o.max_angle > 0 && o.max_angle < 1.5708) || !(o.seam_cost >= 0) ||
      !(o.colour_gap > 0) || o.gutter < 1 || o.gutter > 64)
    throw Error(ErrorKind::usage, "texture", "is asked for with a number out of range",
                "see the meanings in texture.h: texels not below 0, an angle below a right one, a gutter from 1 to 64");
}

// Edges may be a twelfth of the photo as long in which they are largest, whether it sees them or not.
MeshSplit split_large_faces(const Mesh& mesh, const Block& block) {
  constexpr double kShare = 12, kLeast = 1.0 / 2000;
  constexpr std::size_t kMore = 1'000'000;
  Eigen::AlignedBox3f box;
  for (const Vector3f& p : mesh.positions)
    if (p.allFinite()) box.extend(p);
  // Next to a camera nothing is parted for ever.
  const double least = box.isEmpty() ? 0 : kLeast * static_cast<double>(box.diagonal().norm());
  const auto limit_at = [&](const Vector3d& place) {
    double limit = std::numeric_limits<double>::infinity();
    for (const PosedPhoto& photo : block.photos) {
      const Camera& camera = block.camera_of(photo);
      const Vector3d p = photo.pose.to_camera(place);
      // Also where it lies a little beside the photo: the edge may reach into it.
      if (!(p.z() > 0) || std::abs(p.x()) * camera.focal() > camera.width * p.z() ||
          std::abs(p.y()) * camera.focal() > camera.height * p.z())
        continue;
      limit = std::min(limit, p.z() / camera.focal() * std::max(camera.width, camera.height) / kShare);
    }
    return std::max(limit, least);
  };
  return split_long_edges(mesh, limit_at, 4 * mesh.faces.size() + kMore);
}

class TextureMaker {
 public:
  TextureMaker(const Mesh& mesh, const Block& block, PhotoSource& photos, const TextureOptions& options,
               const Executor& executor, Monitor& monitor)
      : mesh_(mesh),
        block_(block),
        photos_(photos),
        options_(options),
        executor_(executor.watching(monitor)),
        monitor_(monitor),
        edges_(edges_of(mesh)) {}

  TextureResult run() {
    choose();
    make_layout();
    if (options_.level) level_seams();
    colour_vertices_for_filling();
    paint_photos();
    paint_filled();
    finish();
    return std::move(result_);
  }

 private:
  TextureSummary& summary() { return result_.summary; }
  Texture& texture() { return result_.texture; }

  void choose() {
    std::vector<std::uint8_t> usable;
    FaceViews views = find_face_views(mesh_, block_, photos_, options_, usable, summary(), executor_, monitor_);
    if (std::none_of(usable.begin(), usable.end(), [](std::uint8_t u) { return u; }))
      throw Error(ErrorKind::computation, "texture",
                  "has no photo that can be read: " + summary().photos_missing.front(),
                  "give the folder where the photos lie");
    gains_.assign(block_.photos.size(), Vector3f::Ones());
    if (options_.level) gains_ = level_exposures(views, block_.photos.size(), summary());
    find_views_apart(views, options_.colour_gap, summary(), executor_);
    std::vector<double> sharpness;
    for (const PosedPhoto& photo : block_.photos) sharpness.push_back(photos_.sharpness(photo.photo));
    // Relative to the sharpest; where it is not known all are alike.
    const double best = *std::max_element(sharpness.begin(), sharpness.end());
    for (double& s : sharpness) s = best > 0 && s > 0 ? std::max(0.2, s / best) : 1;
    choice_ = choose_views(mesh_, edges_, views, sharpness, options_, monitor_);
  }

  void make_layout() {
    charts_ = make_charts(mesh_, edges_, block_, choice_);
    chart_of_face_.resize(mesh_.faces.size());
    for (std::uint32_t c = 0; c < charts_.size(); ++c)
      for (const std::uint32_t f : charts_[c].faces) chart_of_face_[f] = c;
    size_ = lay_out(charts_, options_, executor_, monitor_);
    texture().pages.assign(static_cast<std::size_t>(size_.pages), ImageU8(size_.size, size_.size, 3));
    texture().origins.assign(static_cast<std::size_t>(size_.pages), ImageU8(size_.size, size_.size));
    texture().page.resize(mesh_.faces.size());
    texture().corners.resize(mesh_.faces.size());
    for (const Chart& chart : charts_)
      for (std::size_t i = 0; i < chart.faces.size(); ++i) {
        texture().page[chart.faces[i]] = static_cast<std::uint16_t>(chart.page);
        for (std::size_t k = 0; k < 3; ++k)
          texture().corners[chart.faces[i]][k] = chart.on_page(chart.on_chart(chart.corners[i][k])).cast<float>();
      }
    of_photo_.resize(block_.photos.size());
    for (std::uint32_t c = 0; c < charts_.size(); ++c)
      if (charts_[c].photo != kUnseen) of_photo_[charts_[c].photo].push_back(c);
  }

  // Calls work(photo, pixels) for each photo that charts are made of, one after the other.
  template <class Work>
  void with_photos(const char* what, const Work& work) {
    const auto needed = static_cast<std::size_t>(
        std::count_if(of_photo_.begin(), of_photo_.end(), [](const auto& charts) { return !charts.empty(); }));
    std::size_t done = 0;
    for (std::uint32_t p = 0; p < of_photo_.size(); ++p) {
      if (of_photo_[p].empty()) continue;
      monitor_.progress(what, done++, needed);
      monitor_.check();
      work(p, photos_.load(block_.photos[p].photo));
    }
    monitor_.progress(what, needed, needed);
  }

  void level_seams() {
    seams_.emplace(mesh_, edges_, charts_, chart_of_face_);
    with_photos("seams", [&](std::uint32_t p, const ImageU8& pixels) {
      seams_->sample(p, pixels, mesh_, block_, gains_[p], executor_);
    });
    seams_->level(mesh_, summary(), monitor_);
  }

  // Of a photo at a place of the mesh: a texel's colour before what seams add.
  class Sampler {
   public:
    Sampler(const ImageU8& pixels, const Camera& camera, const Pose& pose, const Vector3f& gain, double scale)
        : pixels_(pixels), camera_(camera), pose_(pose), gain_(gain), scale_(scale) {}
    // `across`, `down`: how the place moves with a texel.
    Vector3f at(const Vector3d& place, const Vector3d& across, const Vector3d& down) const {
      const auto value = [&](const Vector3d& p, bool fine) {
        const auto pixel = project(camera_, pose_.to_camera(p));
        if (!pixel) return Vector3f(Vector3f::Zero());
        const auto x = static_cast<float>(pixel->x()), y = static_cast<float>(pixel->y());
        return fine ? rgb_cubic(pixels_, x, y) : rgb_bilinear(pixels_, x, y);
      };
      Vector3f colour;
      if (scale_ > 0.8) {
        colour = value(place, true);
      } else {
        // A texel covers several pixels: their mean.
        const int n = std::min(6, static_cast<int>(std::ceil(1 / scale_)));
        Vector3f sum = Vector3f::Zero();
        for (int j = 0; j < n; ++j)
          for (int i = 0; i < n; ++i)
            sum += value(place + ((i + 0.5) / n - 0.5) * across + ((j + 0.5) / n - 0.5) * down, false);
        colour = sum / static_cast<float>(n * n);
      }
      return colour.cwiseProduct(gain_);
    }

   private:
    const ImageU8& pixels_;
    const Camera& camera_;
    const Pose& pose_;
    Vector3f gain_;
    double scale_;
  };

  void paint_photos() {
    with_photos("paint", [&](std::uint32_t p, const ImageU8& pixels) {
      const std::vector<std::uint32_t>& charts = of_photo_[p];
      executor_.run("", charts.size(), monitor_, [&](std::size_t i) { paint(charts[i], p, pixels); });
      ++summary().photos;
    });
  }
  void paint(std::uint32_t c, std::uint32_t p, const ImageU8& pixels) {
    const Chart& chart = charts_[c];
    const PosedPhoto& posed = block_.photos[p];
    ChartRaster raster(chart);
    const Image<std::uint32_t> faces = raster.owner();
    raster.widen(options_.gutter);
    const Sampler sampler(pixels, block_.camera_of(posed), posed.pose, gains_[p], chart.scale);
    ImageF colours(chart.width, chart.height, 3);
    raster.each([&](int x, int y, std::uint32_t i, const std::array<double, 3>& w) {
      const std::uint32_t f = chart.faces[i];
      const Face& face = mesh_.faces[f];
      const Vector3d a = mesh_.position(face[0]), ab = mesh_.position(face[1]) - a, ac = mesh_.position(face[2]) - a;
      Vector3d across = Vector3d::Zero(), down = Vector3d::Zero();
      if (chart.scale <= 0.8) {
        const Vector2d u = chart.scale * (chart.corners[i][1] - chart.corners[i][0]),
                       v = chart.scale * (chart.corners[i][2] - chart.corners[i][0]);
        const double turn = u.x() * v.y() - u.y() * v.x();
        across = (v.y() * ab - u.y() * ac) / turn, down = (u.x() * ac - v.x() * ab) / turn;
      }
      Vector3f colour = sampler.at(a + w[1] * ab + w[2] * ac, across, down);
      if (seams_)
        for (std::size_t k = 0; k < 3; ++k) colour += static_cast<float>(w[k]) * seams_->correction(f, k);
      for (int k = 0; k < 3; ++k) colours.at(x, y, k) = colour[k];
    });
    if (seams_) blend_rims(c, raster, colours);
    put_on_page(chart, raster, faces, colours, TexelOrigin::photo, texture());
  }

  // What levelling leaves at a seam is halved between both sides, less and less away from it.
  void blend_rims(std::uint32_t c, const ChartRaster& raster, ImageF& colours) const {
    const Chart& chart = charts_[c];
    const auto sides = seams_->of_chart(c);
    if (sides.empty()) return;
    constexpr double kReach = 7;  // texels
    Image<float> nearest(chart.width, chart.height, 1, static_cast<float>(kReach * kReach));
    ImageF moves(chart.width, chart.height, 3, 0.0f);
    for (const Seams::Side& side : sides) {
      const Seam& seam = seams_->all()[side.seam];
      Vector2d ends[2];
      if (!ends_on_chart(seam, c, ends)) continue;
      const Vector2d along = ends[1] - ends[0];
      const double length2 = along.squaredNorm();
      const Vector2d low = ends[0].cwiseMin(ends[1]).array() - kReach,
                     high = ends[0].cwiseMax(ends[1]).array() + kReach;
      const int x0 = std::max(0, static_cast<int>(std::floor(low.x()))),
                x1 = std::min(chart.width - 1, static_cast<int>(std::ceil(high.x()))),
                y0 = std::max(0, static_cast<int>(std::floor(low.y()))),
                y1 = std::min(chart.height - 1, static_cast<int>(std::ceil(high.y())));
      for (int y = y0; y <= y1; ++y)
        for (int x = x0; x <= x1; ++x) {
          if (raster.owner().at(x, y) == ChartRaster::kNoFace) continue;
          const Vector2d at(x + 0.5, y + 0.5);
          const double t = length2 > 0 ? std::clamp((at - ends[0]).dot(along) / length2, 0.0, 1.0) : 0.5;
          const auto distance2 = static_cast<float>((at - ends[0] - t * along).squaredNorm());
          if (!(distance2 < nearest.at(x, y))) continue;
          nearest.at(x, y) = distance2;
          // Between the two places around.
          const double place = std::clamp(t * seam.places - 0.5, 0.0, seam.places - 1.0);
          const auto before = static_cast<std::uint32_t>(place), behind = std::min(before + 1, seam.places - 1);
          const auto share = static_cast<float>(place - before);
          const Vector3f rest =
              (1 - share) * seams_->rest(seam, before, side.second) + share * seams_->rest(seam, behind, side.second);
          const float off = 1 - std::sqrt(distance2) / static_cast<float>(kReach);
          for (int k = 0; k < 3; ++k) moves.at(x, y, k) = off * off * rest[k];
        }
    }
    for (std::size_t i = 0; i < colours.data().size(); ++i) colours.data()[i] += moves.data()[i];
  }
  bool ends_on_chart(const Seam& seam, std::uint32_t c, Vector2d (&ends)[2]) const {
    const Chart& chart = charts_[c];
    // The face of this chart at the seam.
    const auto edge =
        std::lower_bound(edges_.edges.begin(), edges_.edges.end(), std::pair(seam.low, seam.high),
                         [](const MeshEdges::Edge& e, const auto& key) { return std::pair(e.low, e.high) < key; });
    if (edge == edges_.edges.end()) return false;
    for (std::uint32_t k = 0; k < edge->count; ++k) {
      const std::uint32_t f = edges_.faces[edge->first + k];
      if (chart_of_face_[f] != c) continue;
      const auto i =
          static_cast<std::size_t>(std::lower_bound(chart.faces.begin(), chart.faces.end(), f) - chart.faces.begin());
      for (std::size_t v = 0; v < 3; ++v) {
        if (mesh_.faces[f][v] == seam.low) ends[0] = chart.on_chart(chart.corners[i][v]);
        if (mesh_.faces[f][v] == seam.high) ends[1] = chart.on_chart(chart.corners[i][v]);
      }
      return true;
    }
    return false;
  }

  // Colours of vertices where no photo sees the faces around: as smooth as can be between those that photos say.
  void colour_vertices_for_filling() {
    const std::size_t n = mesh_.positions.size();
    std::vector<std::uint8_t> free(n, 0);
    for (std::size_t f = 0; f < mesh_.faces.size(); ++f)
      if (choice_[f] == kUnseen)
        for (const std::uint32_t v : mesh_.faces[f]) free[v] = 1;
    std::vector<std::uint8_t> rim(n, 0);
    for (std::size_t f = 0; f < mesh_.faces.size(); ++f)
      if (choice_[f] != kUnseen)
        for (const std::uint32_t v : mesh_.faces[f])
          if (free[v]) rim[v] = 1;
    vertex_colours_.assign(n, Vector3f::Zero());
    if (std::none_of(free.begin(), free.end(), [](std::uint8_t v) { return v; })) return;
    std::vector<std::uint32_t> votes(n, 0);
    with_photos("rims", [&](std::uint32_t p, const ImageU8& pixels) {
      const PosedPhoto& posed = block_.photos[p];
      for (const std::uint32_t c : of_photo_[p])
        for (const std::uint32_t f : charts_[c].faces)
          for (std::size_t k = 0; k < 3; ++k) {
            const std::uint32_t v = mesh_.faces[f][k];
            if (!rim[v]) continue;
            const auto pixel = project(block_.camera_of(posed), posed.pose.to_camera(mesh_.position(v)));
            if (!pixel) continue;
            vertex_colours_[v] += rgb_bilinear(pixels, static_cast<float>(pixel->x()), static_cast<float>(pixel->y()))
                                      .cwiseProduct(gains_[p]);
            if (seams_) vertex_colours_[v] += seams_->correction(f, k);
            ++votes[v];
          }
    });
    Vector3d mean = Vector3d::Zero();
    std::size_t known = 0;
    for (std::size_t v = 0; v < n; ++v)
      if (votes[v] > 0)
        vertex_colours_[v] /= static_cast<float>(votes[v]), mean += vertex_colours_[v].cast<double>(), ++known;
    if (known > 0)
      mean /= static_cast<double>(known);
    else
      mean.setConstant(128);
    std::vector<std::uint32_t> number(n, kUnseen), inner;
    for (std::uint32_t v = 0; v < n; ++v)
      if (free[v] && votes[v] == 0) number[v] = static_cast<std::uint32_t>(inner.size()), inner.push_back(v);
    if (inner.empty()) return;
    std::vector<Eigen::Triplet<double>> entries;
    const auto count = static_cast<Eigen::Index>(inner.size());
    Eigen::MatrixXd right(count, 3);
    // Where nothing is known all around it is the mean of all.
    constexpr double kMean = 1e-6;
    for (Eigen::Index i = 0; i < count; ++i) right.row(i) = kMean * mean.transpose();
    std::vector<double> diagonal(inner.size(), kMean);
    for (const MeshEdges::Edge& e : edges_.edges) {
      const std::uint32_t a = number[e.low], b = number[e.high];
      const auto tie = [&](std::uint32_t i, std::uint32_t other, std::uint32_t vertex) {
        if (i == kUnseen) return;
        if (other != kUnseen)
          entries.emplace_back(static_cast<int>(i), static_cast<int>(other), -1.0);
        else if (votes[vertex] > 0)
          right.row(static_cast<Eigen::Index>(i)) += vertex_colours_[vertex].cast<double>().transpose();
        else
          return;
        diagonal[i] += 1;
      };
      tie(a, b, e.high);
      tie(b, a, e.low);
    }
    for (std::size_t i = 0; i < inner.size(); ++i)
      entries.emplace_back(static_cast<int>(i), static_cast<int>(i), diagonal[i]);
    Eigen::SparseMatrix<double> matrix(count, count);
    matrix.setFromTriplets(entries.begin(), entries.end());
    Eigen::ConjugateGradient<Eigen::SparseMatrix<double>, Eigen::Lower | Eigen::Upper> solver(matrix);
    solver.setTolerance(1e-4);
    solver.setMaxIterations(2000);
    const Eigen::MatrixXd guess = mean.transpose().replicate(count, 1);
    for (int c = 0; c < 3; ++c) {
      const Eigen::VectorXd x = solver.solveWithGuess(right.col(c), guess.col(c));
      for (std::size_t i = 0; i < inner.size(); ++i)
        vertex_colours_[inner[i]][c] = static_cast<float>(x(static_cast<Eigen::Index>(i)));
    }
  }

  void paint_filled() {
    std::vector<std::uint32_t> charts;
    for (std::uint32_t c = 0; c < charts_.size(); ++c)
      if (charts_[c].photo == kUnseen) charts.push_back(c);
    executor_.run("fill", charts.size(), monitor_, [&](std::size_t i) {
      const Chart& chart = charts_[charts[i]];
      ChartRaster raster(chart);
      const Image<std::uint32_t> faces = raster.owner();
      raster.widen(options_.gutter);
      ImageF colours(chart.width, chart.height, 3);
      raster.each([&](int x, int y, std::uint32_t place, const std::array<double, 3>& w) {
        Vector3f colour = Vector3f::Zero();
        for (std::size_t k = 0; k < 3; ++k)
          colour += static_cast<float>(w[k]) * vertex_colours_[mesh_.faces[chart.faces[place]][k]];
        for (int k = 0; k < 3; ++k) colours.at(x, y, k) = colour[k];
      });
      put_on_page(chart, raster, faces, colours, TexelOrigin::filled, texture());
    });
  }

  void finish() {
    TextureSummary& s = summary();
    s.used_percent = fill_pages(texture());
    s.faces = mesh_.faces.size();
    double all = 0, filled = 0;
    std::vector<std::pair<double, double>> texels;  // size, area
    for (const Chart& chart : charts_) {
      double here = 0;
      for (const std::uint32_t f : chart.faces) here += face_area(mesh_, f);
      all += here;
      if (chart.photo == kUnseen)
        filled += here, s.faces_filled += chart.faces.size();
      else
        texels.emplace_back(chart.texel / chart.scale, here);
    }
    s.filled_percent = all > 0 ? 100 * filled / all : 0;
    std::sort(texels.begin(), texels.end());
    double below = 0;
    for (const auto& [size, area_of] : texels)
      if (below <= 0.5 * (all - filled)) s.texel = size, below += area_of;
    s.charts = charts_.size();
    s.pages = static_cast<std::size_t>(size_.pages), s.page_size = size_.size;
    s.outcome = s.photos == 0 ? "no photo sees the mesh" : "painted";
  }

  const Mesh& mesh_;
  const Block& block_;
  PhotoSource& photos_;
  const TextureOptions& options_;
  const Executor executor_;
  Monitor& monitor_;
  const MeshEdges edges_;
  std::vector<Vector3f> gains_, vertex_colours_;
  std::vector<std::uint32_t> choice_, chart_of_face_;
  std::vector<Chart> charts_;
  std::vector<std::vector<std::uint32_t>> of_photo_;  // charts
  std::optional<Seams> seams_;
  PageSize size_;
  TextureResult result_;
};

}  // namespace

void check_texture(const Mesh& mesh, const Texture& texture) {
  if (texture.page.size() != mesh.faces.size() || texture.corners.size() != mesh.faces.size() ||
      texture.origins.size() != texture.pages.size())
    throw Error(ErrorKind::usage, "texture", "is of another mesh", "give one entry for each face, and origins by page");
  for (const std::uint16_t page : texture.page)
    if (page >= texture.pages.size())
      throw Error(ErrorKind::usage, "texture", fmt::format("has {} pages, and a face on another", texture.pages.size()),
                  "count pages from 0");
  for (std::size_t p = 0; p < texture.pages.size(); ++p)
    if (texture.pages[p].empty() || texture.pages[p].channels() != 3 ||
        texture.origins[p].width() != texture.pages[p].width() ||
        texture.origins[p].height() != texture.pages[p].height())
      throw Error(ErrorKind::usage, "texture",
                  "has a page without pixels, not of three channels, or of another size "
                  "than its origins",
                  "give pages as RGB");
}

TextureResult make_texture(const Mesh& mesh, const Block& block, PhotoSource& photos, const TextureOptions& options,
                           const Executor& executor, Monitor& monitor) {
  check_options(mesh, block, options);
  MeshSplit split = split_large_faces(mesh, block);
  if (split.empty()) return TextureMaker(mesh, block, photos, options, executor, monitor).run();
  const Mesh parted = apply_split(mesh, split);
  TextureResult result = TextureMaker(parted, block, photos, options, executor, monitor).run();
  result.split = std::move(split);
  return result;
}

}  // namespace icefield
