#include "src/surface/face_views.h"

#include <Eigen/Cholesky>
#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <optional>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "icefield/photo/filter.h"
#include "src/surface/face_tree.h"
#include "src/surface/photo_samples.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr std::size_t kGrain = 2048;

double mean_edge(const Mesh& mesh) {
  double sum = 0;
  for (const Face& f : mesh.faces)
    for (std::size_t k = 0; k < 3; ++k) sum += (mesh.positions[f[k]] - mesh.positions[f[(k + 1) % 3]]).norm();
  return sum / static_cast<double>(3 * mesh.faces.size());
}

struct SeenFace {
  std::uint32_t face;
  float pixels;
  Vector3f colour;
  bool at_step;
};

// One photo against all faces.
class PhotoSight {
 public:
  PhotoSight(const Mesh& mesh, const FaceTree& tree, const Block& block, std::size_t photo,
             const TextureOptions& options, double edge)
      : mesh_(mesh),
        tree_(tree),
        camera_(block.camera_of(block.photos[photo])),
        pose_(block.photos[photo].pose),
        least_cosine_(std::cos(options.max_angle)),
        // Nearer than this lies the surface that the ray starts from.
        skip_(0.1 * edge),
        centre_((pose_.centre - mesh.origin).cast<float>()) {}

  std::vector<SeenFace> faces(const ImageU8& pixels, const ImageU8& mask, const Executor& executor) {
    see_vertices(mask, executor);
    draw_depths();
    std::vector<std::vector<SeenFace>> parts(block_count(mesh_.faces.size(), kGrain));
    executor.blocks(mesh_.faces.size(), kGrain, [&](std::size_t b, std::size_t begin, std::size_t end) {
      for (std::size_t f = begin; f < end; ++f) {
        const double area = pixels_of(f);
        if (area > 0 && sees_inside(f, mask))
          parts[b].push_back(
              {static_cast<std::uint32_t>(f), static_cast<float>(area), Vector3f::Zero(), is_at_step(f)});
      }
    });
    std::vector<SeenFace> seen;
    for (const auto& part : parts) seen.insert(seen.end(), part.begin(), part.end());
    if (seen.empty()) return seen;
    colour(seen, pixels, executor);
    return seen;
  }

 private:
  bool in_photo(const Vector2d& p, const ImageU8& mask) const {
    constexpr double kMargin = 1;  // px, so that values between pixels have all their neighbours
    if (!(p.x() >= kMargin && p.y() >= kMargin && p.x() <= camera_.width - kMargin &&
          p.y() <= camera_.height - kMargin))
      return false;
    return mask.empty() || mask.at(static_cast<int>(p.x()), static_cast<int>(p.y())) != 0;
  }
  bool open_way(const Vector3f& from) const {
    FaceTree::Ray ray;
    ray.from = from;
    ray.along = centre_ - from;
    const float length = ray.along.norm();
    // Coordinates are as fine as floats are.
    ray.least = static_cast<float>(skip_) / length + 4e-6f * from.norm() / length;
    return ray.least < 1 && !tree_.blocked(ray);
  }
  void see_vertices(const ImageU8& mask, const Executor& executor) {
    // Only those of faces that are turned to the photo are worth a ray.
    std::vector<std::uint8_t> needed(mesh_.positions.size(), 0);
    turned_.assign(mesh_.faces.size(), 0);
    executor.blocks(mesh_.faces.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t f = begin; f < end; ++f) turned_[f] = is_turned(f);
    });
    for (std::size_t f = 0; f < mesh_.faces.size(); ++f)
      if (turned_[f])
        for (const std::uint32_t v : mesh_.faces[f]) needed[v] = 1;
    places_.assign(mesh_.positions.size(), Vector2d::Constant(-1));
    seen_.assign(mesh_.positions.size(), 0);
    executor.blocks(mesh_.positions.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) {
        if (!needed[v]) continue;
        const auto p = project(camera_, pose_.to_camera(mesh_.position(v)));
        if (!p || !in_photo(*p, mask)) continue;
        places_[v] = *p;
        seen_[v] = open_way(mesh_.positions[v]);
      }
    });
  }
  bool is_turned(std::size_t f) const {
    const Vector3f way = centre_ - mesh_.positions[mesh_.faces[f][0]], normal = face_normal(mesh_, f);
    return normal.dot(way) > least_cosine_ * way.norm();
  }
  // 0 where it is not seen from corner to corner.
  double pixels_of(std::size_t f) const {
    const Face& face = mesh_.faces[f];
    if (!turned_[f] || !seen_[face[0]] || !seen_[face[1]] || !seen_[face[2]]) return 0;
    const Vector2d ab = places_[face[1]] - places_[face[0]], ac = places_[face[2]] - places_[face[0]];
    // Corners go against the clock seen from outside; rows of a photo count down.
    return 0.5 * (ab.y() * ac.x() - ab.x() * ac.y());
  }
  // Corners alone do not tell of what stands before the middle of a large face.
  bool sees_inside(std::size_t f, const ImageU8& mask) const {
    const Face& face = mesh_.faces[f];
    const Vector3f &a = mesh_.positions[face[0]], &b = mesh_.positions[face[1]], &c = mesh_.positions[face[2]];
    double longest = 0;
    for (std::size_t k = 0; k < 3; ++k)
      longest = std::max(longest, (places_[face[k]] - places_[face[(k + 1) % 3]]).norm());
    constexpr double kEvery = 24;  // px
    const int parts = std::clamp(static_cast<int>(longest / kEvery), 1, 12);
    for (int i = 0; i < parts; ++i)
      for (int j = 0; i + j < parts; ++j) {
        const float u = (static_cast<float>(i) + 1.0f / 3) / static_cast<float>(parts),
                    v = (static_cast<float>(j) + 1.0f / 3) / static_cast<float>(parts);
        const Vector3f at = (1 - u - v) * a + u * b + v * c;
        if (!mask.empty() || parts > 1) {
          const auto p = project(camera_, pose_.to_camera(mesh_.origin + at.cast<double>()));
          if (!p || !in_photo(*p, mask)) return false;
        }
        if (!open_way(at)) return false;
      }
    return true;
  }
  // The nearest depths, by pixels of the photo shrunk.
  void draw_depths() {
    const int width = (camera_.width + kShrink - 1) / kShrink, height = (camera_.height + kShrink - 1) / kShrink;
    depths_ = ImageF(width, height, 1, std::numeric_limits<float>::infinity());
    std::vector<Eigen::Vector3f> at(mesh_.positions.size());
    for (std::size_t v = 0; v < at.size(); ++v) {
      const Vector3d in_camera = pose_.to_camera(mesh_.position(v));
      const auto p = project(camera_, in_camera);
      at[v] = p ? Vector3f(static_cast<float>(p->x() / kShrink), static_cast<float>(p->y() / kShrink),
                           static_cast<float>(in_camera.z()))
                : Vector3f(0, 0, -1);
    }
    for (const Face& face : mesh_.faces) {
      const Vector3f &a = at[face[0]], &b = at[face[1]], &c = at[face[2]];
      if (!(a.z() > 0 && b.z() > 0 && c.z() > 0)) continue;
      const auto range = [](float p, float q, float r, int most) {
        const float low = std::min({p, q, r}), high = std::max({p, q, r});
        return std::pair(low > 0 ? std::min(most, static_cast<int>(std::min<float>(low, 1e6f))) : 0,
                         high < 0 ? -1 : std::min(most, static_cast<int>(std::min<float>(high, 1e6f))));
      };
      const auto [x0, x1] = range(a.x(), b.x(), c.x(), width - 1);
      const auto [y0, y1] = range(a.y(), b.y(), c.y(), height - 1);
      const float turn = (b.x() - a.x()) * (c.y() - a.y()) - (b.y() - a.y()) * (c.x() - a.x());
      if (turn == 0) continue;
      for (int y = y0; y <= y1; ++y)
        for (int x = x0; x <= x1; ++x) {
          const float px = static_cast<float>(x) + 0.5f - a.x(), py = static_cast<float>(y) + 0.5f - a.y();
          const float v = (px * (c.y() - a.y()) - py * (c.x() - a.x())) / turn,
                      w = ((b.x() - a.x()) * py - (b.y() - a.y()) * px) / turn;
          if (v < 0 || w < 0 || v + w > 1) continue;
          const float depth = a.z() + v * (b.z() - a.z()) + w * (c.z() - a.z());
          depths_.at(x, y) = std::min(depths_.at(x, y), depth);
        }
    }
  }
  bool is_at_step(std::size_t f) const {
    const Face& face = mesh_.faces[f];
    const Vector2d middle = (places_[face[0]] + places_[face[1]] + places_[face[2]]) / (3 * kShrink);
    const int x = static_cast<int>(middle.x()), y = static_cast<int>(middle.y());
    const Vector3d centre = (mesh_.position(face[0]) + mesh_.position(face[1]) + mesh_.position(face[2])) / 3;
    const double depth = pose_.to_camera(centre).z();
    // What goes on in depth at the slope of the face is no step, nor what is less than some pixels of the photo.
    const Vector3d normal = pose_.orientation * face_normal(mesh_, f).cast<double>();
    constexpr double kPixels = 8;
    const double slope = normal.head<2>().norm() / std::max(0.1, std::abs(normal.z())),
                 step = (kPixels + 3 * kShrink * slope) * depth / camera_.focal();
    for (int dy = -1; dy <= 1; ++dy)
      for (int dx = -1; dx <= 1; ++dx) {
        const int u = x + dx, v = y + dy;
        if (u < 0 || v < 0 || u >= depths_.width() || v >= depths_.height()) continue;
        if (std::abs(static_cast<double>(depths_.at(u, v)) - depth) > step) return true;
      }
    return false;
  }
  void colour(std::vector<SeenFace>& seen, const ImageU8& pixels, const Executor& executor) const {
    std::vector<float> areas;
    areas.reserve(seen.size());
    for (const SeenFace& s : seen) areas.push_back(s.pixels);
    const int factor = std::clamp(static_cast<int>(std::sqrt(median(std::move(areas))) / 1.5), 1, 8);
    const ImageU8 small = shrink(pixels, factor);
    executor.blocks(seen.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) {
        const Face& face = mesh_.faces[seen[i].face];
        const Vector2d &a = places_[face[0]], &b = places_[face[1]], &c = places_[face[2]], middle = (a + b + c) / 3;
        Vector3f sum = Vector3f::Zero();
        for (const Vector2d& p :
             {middle, Vector2d(0.5 * (a + middle)), Vector2d(0.5 * (b + middle)), Vector2d(0.5 * (c + middle))})
          sum += rgb_bilinear(small, static_cast<float>(p.x() / factor), static_cast<float>(p.y() / factor));
        seen[i].colour = sum / 4;
      }
    });
  }

  const Mesh& mesh_;
  const FaceTree& tree_;
  const Camera& camera_;
  const Pose& pose_;
  double least_cosine_, skip_;
  Vector3f centre_;
  static constexpr int kShrink = 2;
  ImageF depths_;
  std::vector<Vector2d> places_;
  std::vector<std::uint8_t> turned_, seen_;
};

}  // namespace

const FaceView* FaceViews::find(std::size_t face, std::uint32_t photo) const {
  for (const FaceView& view : of(face))
    if (view.photo == photo) return &view;
  return nullptr;
}

FaceViews find_face_views(const Mesh& mesh, const Block& block, PhotoSource& photos, const TextureOptions& options,
                          std::vector<std::uint8_t>& usable, TextureSummary& summary, const Executor& executor,
                          Monitor& monitor) {
  const FaceTree tree(mesh);
  const double edge = mean_edge(mesh);
  const std::size_t count = block.photos.size();
  std::vector<std::vector<SeenFace>> seen(count);
  std::vector<std::string> faults(count);
  // As many photos at a time as threads and memory allow.
  std::size_t largest = 1;
  for (const PosedPhoto& photo : block.photos) {
    const Camera& camera = block.camera_of(photo);
    largest = std::max(largest, 5 * static_cast<std::size_t>(camera.width) * static_cast<std::size_t>(camera.height) +
                                    20 * mesh.positions.size() + 50 * mesh.faces.size());
  }
  const std::size_t together = std::clamp<std::size_t>(executor.memory_bytes() / (2 * largest), 1,
                                                       static_cast<std::size_t>(std::max(1, executor.threads())));
  for (std::size_t begin = 0; begin < count; begin += together) {
    monitor.progress("photos", begin, count);
    const std::size_t here = std::min(together, count - begin);
    const auto look = [&](std::size_t i) {
      const std::size_t p = begin + i;
      try {
        const ImageU8 pixels = photos.load(block.photos[p].photo);
        const Camera& camera = block.camera_of(block.photos[p]);
        if (pixels.width() != camera.width || pixels.height() != camera.height) {
          faults[p] = "is not of the size that its camera has";
          return;
        }
        const ImageU8 mask = photos.mask(block.photos[p].photo);
        seen[p] = PhotoSight(mesh, tree, block, p, options, edge).faces(pixels, mask, executor);
      } catch (const Error& e) {
        if (e.kind() != ErrorKind::input) throw;
        faults[p] = e.what();
      }
    };
    // A photo alone has all threads for its own loops.
    if (here == 1)
      look(0);
    else
      executor.run("", here, monitor, look);
  }
  monitor.progress("photos", count, count);
  usable.assign(count, 1);
  for (std::size_t p = 0; p < count; ++p)
    if (!faults[p].empty()) usable[p] = 0, summary.photos_missing.push_back(faults[p]);
  FaceViews views;
  views.starts.assign(mesh.faces.size() + 1, 0);
  const auto takes_part = [&](std::uint32_t f) { return mesh.kinds.empty() || mesh.kinds[f] == FaceKind::measured; };
  for (const auto& of_photo : seen)
    for (const SeenFace& s : of_photo)
      if (takes_part(s.face)) ++views.starts[s.face + 1];
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) views.starts[f + 1] += views.starts[f];
  views.views.resize(views.starts.back());
  std::vector<std::uint64_t> next(views.starts.begin(), views.starts.end() - 1);
  for (std::uint32_t p = 0; p < count; ++p) {
    for (const SeenFace& s : seen[p])
      if (takes_part(s.face)) views.views[next[s.face]++] = {p, s.pixels, s.colour, false, s.at_step};
    seen[p] = {};
  }
  summary.views = views.views.size();
  return views;
}

std::vector<Vector3f> level_exposures(FaceViews& views, std::size_t photos, TextureSummary& summary) {
  std::vector<Vector3f> gains(photos, Vector3f::Ones());
  if (photos == 0) return gains;
  const std::size_t faces = views.starts.size() - 1;
  // Every so many faces are enough: a hundred thousand views for a handful of unknowns.
  constexpr std::size_t kViews = 400000;
  const std::size_t every = std::max<std::size_t>(1, views.views.size() / kViews);
  const auto n = static_cast<Eigen::Index>(photos);
  const auto fit = [](const FaceView& v) { return v.colour.minCoeff() > 6 && v.colour.maxCoeff() < 249; };
  Eigen::MatrixXd logs = Eigen::MatrixXd::Zero(n, 3);
  const auto spread = [&] {
    // Of single views about the mean of their face.
    std::vector<double> off;
    std::vector<const FaceView*> taking;
    for (std::size_t f = 0; f < faces; f += every) {
      taking.clear();
      for (const FaceView& v : std::as_const(views).of(f))
        if (fit(v)) taking.push_back(&v);
      if (taking.size() < 2) continue;
      double mean = 0;
      const auto value = [&](const FaceView& v) {
        return std::log(v.colour.sum() / 3) + logs.row(static_cast<Eigen::Index>(v.photo)).mean();
      };
      for (const FaceView* v : taking) mean += value(*v) / static_cast<double>(taking.size());
      for (const FaceView* v : taking) off.push_back(std::abs(value(*v) - mean));
    }
    return 100 * 1.4826 * median(std::move(off));
  };
  summary.exposure_before_percent = spread();
  constexpr int kRounds = 6;
  constexpr double kUsual = 0.06;  // of the logarithm: differences above weigh less and less
  for (int round = 0; round < kRounds; ++round)
    for (int c = 0; c < 3; ++c) {
      Eigen::MatrixXd normal = Eigen::MatrixXd::Zero(n, n);
      Eigen::VectorXd right = Eigen::VectorXd::Zero(n);
      struct Taking {
        Eigen::Index photo;
        double value, weight;
      };
      std::vector<Taking> taking;
      std::vector<double> values;
      for (std::size_t f = 0; f < faces; f += every) {
        taking.clear(), values.clear();
        for (const FaceView& v : std::as_const(views).of(f)) {
          if (!fit(v)) continue;
          const auto photo = static_cast<Eigen::Index>(v.photo);
          taking.push_back({photo, std::log(static_cast<double>(v.colour[c])), 1});
          values.push_back(taking.back().value + logs(photo, c));
        }
        if (taking.size() < 2) continue;
        const double middle = median(values);
        double sum = 0;
        for (Taking& t : taking) {
          const double off = (t.value + logs(t.photo, c) - middle) / kUsual;
          t.weight = 1 / (1 + off * off);
          sum += t.weight;
        }
        // The face's own colour is eliminated.
        for (const Taking& a : taking) {
          normal(a.photo, a.photo) += a.weight;
          for (const Taking& b : taking) {
            normal(a.photo, b.photo) -= a.weight * b.weight / sum;
            right(a.photo) += a.weight * b.weight / sum * b.value;
          }
          right(a.photo) -= a.weight * a.value;
        }
      }
      // Photos of groups that share no face keep to 1.
      normal.diagonal().array() += 1e-3 * normal.diagonal().mean() + 1e-9;
      logs.col(c) = normal.ldlt().solve(right);
    }
  logs.rowwise() -= logs.colwise().mean().eval();
  constexpr double kMost = 1.5;  // exposures apart by more than 4.5 times are no longer a matter of levels
  for (Eigen::Index p = 0; p < n; ++p)
    for (int c = 0; c < 3; ++c)
      gains[static_cast<std::size_t>(p)][c] = static_cast<float>(std::exp(std::clamp(logs(p, c), -kMost, kMost)));
  summary.exposure_after_percent = spread();
  for (FaceView& v : views.views) v.colour = v.colour.cwiseProduct(gains[v.photo]);
  return gains;
}

void find_views_apart(FaceViews& views, double gap, TextureSummary& summary, const Executor& executor) {
  const std::size_t faces = views.starts.size() - 1;
  std::vector<std::size_t> apart(block_count(faces, kGrain), 0);
  executor.blocks(faces, kGrain, [&](std::size_t b, std::size_t begin, std::size_t end) {
    std::vector<float> values;
    for (std::size_t f = begin; f < end; ++f) {
      const std::span<FaceView> of = views.of(f);
      if (of.size() < 3) continue;  // two that differ do not say which is right
      Vector3f middle, spread;
      for (int c = 0; c < 3; ++c) {
        values.clear();
        for (const FaceView& v : of) values.push_back(v.colour[c]);
        middle[c] = quantile_in_place(std::span<float>(values), 1, 2);
        for (float& value : values) value = std::abs(value - middle[c]);
        spread[c] = 1.4826f * quantile_in_place(std::span<float>(values), 1, 2);
      }
      for (FaceView& v : of) {
        const float bound = std::max(static_cast<float>(gap), 3 * spread.maxCoeff());
        v.apart = (v.colour - middle).cwiseAbs().maxCoeff() > bound;
        apart[b] += v.apart;
      }
    }
  });
  for (const std::size_t a : apart) summary.views_apart += a;
}

}  // namespace icefield
