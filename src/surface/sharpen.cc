#include "icefield/surface/sharpen.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <map>
#include <memory>
#include <optional>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "src/surface/bend_less.h"
#include "src/surface/mesh_in_photo.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr std::size_t kRows = 32;  // of a photo that a thread works on at a time
constexpr std::size_t kGrain = 8192;
constexpr float kHold = 0.03f;    // of where a vertex began, against what photos usually say
constexpr float kOwnBend = 0.3f;  // of the bending at the start, that costs nothing
constexpr float kNothing = std::numeric_limits<float>::quiet_NaN();

void check_options(const Mesh& mesh, const Block& block, const SharpenOptions& o) {
  check_arrays(mesh);
  check_block(block);
  if (mesh.empty())
    throw Error(ErrorKind::usage, "sharpen", "is asked for of a mesh without faces", "give another mesh");
  if (o.coarse_rounds < 0 || o.rounds < 0 || o.coarse_rounds + o.rounds > 100 || o.partners < 1 || o.window < 1 ||
      o.window > 16 || !(o.smoothness >= 0) || !(o.max_angle > 0 && o.max_angle < 1.5708))
    throw Error(ErrorKind::usage, "sharpen", "is asked for with a number out of range",
                "see the meanings in sharpen.h: up to 100 rounds, a window from 1 to 16, an angle below a right one");
}

// Cubic convolution with a = -1/2 (Keys, "Cubic convolution interpolation for digital image processing", 1981): between
// pixels bilinear values are blurred, and what one photo shows blurred does not agree with what another shows sharp.
// Two pixels around must be there.
float sample_cubic(const ImageF& image, float x, float y) {
  x -= 0.5f, y -= 0.5f;
  const float left = std::floor(x), top = std::floor(y);
  const auto weights = [](float t) {
    const float t2 = t * t, t3 = t2 * t;
    return std::array<float, 4>{0.5f * (2 * t2 - t3 - t), 0.5f * (3 * t3 - 5 * t2 + 2), 0.5f * (4 * t2 - 3 * t3 + t),
                                0.5f * (t3 - t2)};
  };
  const std::array<float, 4> wx = weights(x - left), wy = weights(y - top);
  float sum = 0;
  for (int j = 0; j < 4; ++j) {
    const float* const row = image.row(static_cast<int>(top) - 1 + j) + (static_cast<int>(left) - 1);
    sum += wy[static_cast<std::size_t>(j)] * (wx[0] * row[0] + wx[1] * row[1] + wx[2] * row[2] + wx[3] * row[3]);
  }
  return sum;
}

// Grey photos of one size with the depths of the mesh as it is, as many at a time as memory allows. Used by one thread.
class Sights {
 public:
  Sights(const Mesh& mesh, const Block& block, PhotoSource& photos, int shrink, const Executor& executor)
      : mesh_(mesh), block_(block), photos_(photos), executor_(executor), shrink_(shrink), held_(block.photos.size()) {}

  void mesh_has_moved() {
    for (Held& held : held_) held.drawn.reset();
    count();
  }
  std::shared_ptr<const ImageF> grey(std::size_t photo) {
    Held& held = use(photo);
    if (!held.grey) {
      held.grey = std::make_shared<const ImageF>(load(photo));
      make_room(photo);
    }
    return held_[photo].grey;
  }
  std::shared_ptr<const MeshInPhoto> drawn(std::size_t photo) {
    Held& held = use(photo);
    if (!held.drawn) {
      const PosedPhoto& posed = block_.photos[photo];
      held.drawn = std::make_shared<const MeshInPhoto>(
          draw_in_photo(mesh_, block_.camera_of(posed), posed.pose, shrink_, true, executor_));
      make_room(photo);
    }
    return held_[photo].drawn;
  }
  // Directions of the pixels' middles.
  const Image<float>& rays(std::size_t photo) {
    const std::uint32_t c = block_.photos[photo].camera.value;
    if (const auto found = rays_.find(c); found != rays_.end()) return found->second;
    const Camera& camera = block_.cameras[c];
    Image<float> rays(camera.width / shrink_, camera.height / shrink_, 2, kNothing);
    executor_.blocks(
        static_cast<std::size_t>(rays.height()), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
          for (auto y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
            for (int x = 0; x < rays.width(); ++x)
              if (const auto way = unproject(camera, {(x + 0.5) * shrink_, (y + 0.5) * shrink_}))
                rays.at(x, y, 0) = static_cast<float>(way->x()), rays.at(x, y, 1) = static_cast<float>(way->y());
        });
    return rays_.emplace(c, std::move(rays)).first->second;
  }

 private:
  struct Held {
    std::shared_ptr<const ImageF> grey;
    std::shared_ptr<const MeshInPhoto> drawn;
    std::uint64_t used = 0;
    std::uint64_t bytes() const {
      return sizeof(float) * ((grey ? grey->pixels() : 0) + (drawn ? 2 * drawn->depth.pixels() : 0));
    }
  };
  Held& use(std::size_t photo) {
    held_[photo].used = ++clock_;
    return held_[photo];
  }
  void count() {
    bytes_ = 0;
    for (const Held& held : held_) bytes_ += held.bytes();
  }
  // Others give way, those that were used longest ago first.
  void make_room(std::size_t photo) {
    count();
    while (bytes_ > executor_.memory_bytes() / 2) {
      std::size_t oldest = photo;
      for (std::size_t i = 0; i < held_.size(); ++i)
        if (i != photo && held_[i].bytes() > 0 && (oldest == photo || held_[i].used < held_[oldest].used)) oldest = i;
      if (oldest == photo) return;
      held_[oldest].grey.reset(), held_[oldest].drawn.reset();
      count();
    }
  }
  // No numbers where a mask covers it.
  ImageF load(std::size_t photo) const {
    const PhotoIndex index = block_.photos[photo].photo;
    ImageF grey = photos_.grey(index);
    const ImageU8 mask = photos_.mask(index);
    if (!mask.empty())
      for (std::size_t i = 0; i < grey.values().size(); ++i)
        if (mask.values()[i] == 0) grey.values()[i] = kNothing;
    if (shrink_ == 1) return grey;
    ImageF small(grey.width() / shrink_, grey.height() / shrink_);
    for (int y = 0; y < small.height(); ++y)
      for (int x = 0; x < small.width(); ++x) {
        float sum = 0;
        for (int j = 0; j < shrink_; ++j)
          for (int i = 0; i < shrink_; ++i) sum += grey.at(shrink_ * x + i, shrink_ * y + j);
        small.at(x, y) = sum / static_cast<float>(shrink_ * shrink_);
      }
    return small;
  }

  const Mesh& mesh_;
  const Block& block_;
  PhotoSource& photos_;
  const Executor& executor_;
  int shrink_;
  std::vector<Held> held_;
  std::map<std::uint32_t, Image<float>> rays_;
  std::uint64_t clock_ = 0, bytes_ = 0;
};

// Which photos each photo is held against: those that see what it sees, from a useful angle and from as near.
std::vector<std::vector<std::uint32_t>> choose_partners(const Mesh& mesh, const Block& block,
                                                        const std::vector<std::uint8_t>& usable, int count,
                                                        const Executor& executor) {
  constexpr std::size_t kSamples = 20000;
  constexpr int kShrink = 4;
  const std::size_t photos = block.photos.size(), every = std::max<std::size_t>(1, mesh.positions.size() / kSamples),
                    samples = (mesh.positions.size() + every - 1) / every;
  std::vector<std::vector<std::uint32_t>> seen_by(photos), sees(samples);  // samples; photos
  for (std::size_t p = 0; p < photos; ++p) {
    if (!usable[p]) continue;
    const PosedPhoto& photo = block.photos[p];
    const Camera& camera = block.camera_of(photo);
    const ImageF depth = draw_in_photo(mesh, camera, photo.pose, kShrink, false, executor).depth;
    for (std::size_t k = 0; k < samples; ++k) {
      const Vector3d at = photo.pose.to_camera(mesh.position(k * every));
      const auto pixel = project(camera, at);
      if (!pixel) continue;
      const double x = pixel->x() / kShrink, y = pixel->y() / kShrink;
      if (!(x >= 0 && y >= 0 && x < depth.width() && y < depth.height())) continue;
      const double room = 4 * kShrink * at.z() / camera.focal();
      if (at.z() > static_cast<double>(depth.at(static_cast<int>(x), static_cast<int>(y))) + room) continue;
      seen_by[p].push_back(static_cast<std::uint32_t>(k));
      sees[k].push_back(static_cast<std::uint32_t>(p));
    }
  }
  const auto useful = [](double angle) {  // degrees
    constexpr double kNone = 2, kFull = 10, kStill = 30, kEnd = 60;
    if (angle <= kNone || angle >= kEnd) return 0.0;
    return angle < kFull ? (angle - kNone) / (kFull - kNone) : angle < kStill ? 1.0 : (kEnd - angle) / (kEnd - kStill);
  };
  std::vector<std::vector<std::uint32_t>> partners(photos);
  executor.blocks(photos, 1, [&](std::size_t, std::size_t begin, std::size_t end) {
    std::vector<double> scores(photos);
    std::vector<int> covered;
    for (std::size_t p = begin; p < end; ++p) {
      covered.assign(seen_by[p].size(), 0);
      const Camera& camera = block.camera_of(block.photos[p]);
      const auto worth = [&](const Vector3d& place, std::uint32_t other) {
        const Vector3d own = block.photos[p].pose.centre - place, way = block.photos[other].pose.centre - place;
        const double near = own.norm() / camera.focal(),
                     far = way.norm() / block.camera_of(block.photos[other]).focal();
        const double angle = std::acos(std::clamp(own.normalized().dot(way.normalized()), -1.0, 1.0)) * 57.2957795;
        return useful(angle) * std::pow(std::min(near, far) / std::max(near, far), 2);
      };
      for (int round = 0; round < count; ++round) {
        std::fill(scores.begin(), scores.end(), 0.0);
        for (std::size_t k = 0; k < seen_by[p].size(); ++k) {
          const std::uint32_t sample = seen_by[p][k];
          const Vector3d place = mesh.position(sample * every);
          for (const std::uint32_t other : sees[sample])
            if (other != p) scores[other] += worth(place, other) / (1 << std::min(covered[k], 16));
        }
        for (const std::uint32_t taken : partners[p]) scores[taken] = 0;
        const auto best = std::max_element(scores.begin(), scores.end());
        if (!(*best > 0)) break;
        const auto chosen = static_cast<std::uint32_t>(best - scores.begin());
        partners[p].push_back(chosen);
        for (std::size_t k = 0; k < seen_by[p].size(); ++k) {
          const std::uint32_t sample = seen_by[p][k];
          if (std::binary_search(sees[sample].begin(), sees[sample].end(), chosen) &&
              worth(mesh.position(sample * every), chosen) > 0.2)
            ++covered[k];
        }
      }
    }
  });
  return partners;
}

// What a photo shows of the surface, pixel by pixel.
struct Base {
  std::shared_ptr<const MeshInPhoto> drawn;
  Image<float> place;   // from the mesh's origin; no numbers where nothing is to be compared
  Image<float> move;    // of the place where the surface moves outwards by 1
  Image<float> shares;  // of the face's second and third corner
};

// Over windows of one photo: brightness there and as another photo shows it carried over.
struct Windows {
  ImageF value;           // of the other photo; no number where it does not see the place
  ImageF slope;           // its change where the surface moves outwards by 1
  ImageF weight, wanted;  // sums over the partners: of squared slopes, and of slopes times what they should make up for
};

class Sharpening {
 public:
  Sharpening(Mesh& mesh, const Block& block, PhotoSource& photos, const SharpenOptions& options,
             const Executor& executor, Monitor& monitor)
      : mesh_(mesh),
        block_(block),
        photos_(photos),
        options_(options),
        executor_(executor.watching(monitor)),
        monitor_(monitor),
        rings_(mesh),
        least_cosine_(static_cast<float>(std::cos(options.max_angle))),
        started_(mesh.positions) {}

  SharpenSummary run() {
    find_usable();
    if (std::count(usable_.begin(), usable_.end(), 1) < 2) {
      summary_.outcome = "fewer than two photos can be read";
      return std::move(summary_);
    }
    partners_ = choose_partners(mesh_, block_, usable_, options_.partners, executor_);
    for (const auto& of : partners_) summary_.photos += !of.empty(), summary_.pairs += of.size();
    if (summary_.pairs == 0) {
      summary_.outcome = "no two photos see the same part of the mesh from different sides";
      return std::move(summary_);
    }
    if (mesh_.normals.empty()) set_normals(mesh_);
    total_ = static_cast<std::size_t>(options_.coarse_rounds + options_.rounds) * block_.photos.size();
    for (const int shrink : {2, 1}) {
      const int rounds = shrink == 1 ? options_.rounds : options_.coarse_rounds;
      if (rounds == 0) continue;
      Sights sights(mesh_, block_, photos_, shrink, executor_);
      for (int k = 0; k < rounds; ++k) {
        round(sights, shrink);
        if (shrink == 1 && k == 0) summary_.agreement_before = agreement_;
        ++summary_.rounds;
      }
      summary_.agreement_after = agreement_;
    }
    tell_moves();
    summary_.outcome = "sharpened";
    return std::move(summary_);
  }

 private:
  void find_usable() {
    usable_.assign(block_.photos.size(), 1);
    std::vector<std::string> faults(usable_.size());
    executor_.blocks(usable_.size(), 1, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t p = begin; p < end; ++p) {
        try {
          const ImageU8 pixels = photos_.load(block_.photos[p].photo);
          const Camera& camera = block_.camera_of(block_.photos[p]);
          if (pixels.width() != camera.width || pixels.height() != camera.height)
            throw Error(ErrorKind::input, fmt::format("photo {}", p + 1), "has another size than its camera",
                        "give the photos as they were posed");
        } catch (const Error& e) {
          if (e.kind() == ErrorKind::interrupted) throw;
          usable_[p] = 0;
          faults[p] = e.what();
        }
      }
    });
    for (const std::string& fault : faults)
      if (!fault.empty()) summary_.photos_missing.push_back(fault);
  }

  void round(Sights& sights, int shrink) {
    const std::size_t n = mesh_.positions.size();
    weights_.assign(n, 0), wanted_.assign(n, 0), pixel_.assign(n, std::numeric_limits<float>::infinity());
    double agreement = 0, compared = 0;
    sights.mesh_has_moved();
    for (std::size_t p = 0; p < block_.photos.size(); ++p) {
      monitor_.check();
      monitor_.progress("sharpen", done_++, total_);
      if (partners_[p].empty()) continue;
      const std::shared_ptr<const ImageF> grey = sights.grey(p);
      const Base base = make_base(sights, p);
      Windows windows;
      windows.weight = windows.wanted = ImageF(grey->width(), grey->height());
      for (const std::uint32_t other : partners_[p]) {
        carry_over(base, p, other, shrink, sights, windows);
        const auto [sum, count] = compare(*grey, windows);
        agreement += sum, compared += count;
      }
      spread(base, p, shrink, windows);
    }
    agreement_ = compared > 0 ? agreement / compared : 0;
    move(shrink);
  }

  Base make_base(Sights& sights, std::size_t p) {
    const PosedPhoto& photo = block_.photos[p];
    Base base;
    base.drawn = sights.drawn(p);
    const ImageF& depth = base.drawn->depth;
    const int width = depth.width(), height = depth.height();
    base.place = base.move = Image<float>(width, height, 3, kNothing);
    base.shares = Image<float>(width, height, 2);
    const Image<float>& rays = sights.rays(p);
    const Vector3d centre = photo.pose.centre - mesh_.origin;
    const Eigen::Matrix3d to_world = photo.pose.orientation.conjugate().toRotationMatrix();
    executor_.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (auto y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < width; ++x) {
          const std::uint32_t f = base.drawn->faces.at(x, y);
          if (f == MeshInPhoto::kNoFace || std::isnan(rays.at(x, y))) continue;
          const Vector3d ray = to_world * Vector3d(rays.at(x, y, 0), rays.at(x, y, 1), 1);
          const Vector3f at = (centre + static_cast<double>(base.drawn->depth.at(x, y)) * ray).cast<float>();
          const Face& face = mesh_.faces[f];
          const Vector3f &a = mesh_.positions[face[0]], ab = mesh_.positions[face[1]] - a,
                         ac = mesh_.positions[face[2]] - a, ap = at - a;
          const float bb = ab.squaredNorm(), cc = ac.squaredNorm(), bc = ab.dot(ac), pb = ap.dot(ab), pc = ap.dot(ac),
                      area = bb * cc - bc * bc;
          if (!(area > 0)) continue;
          const float v = std::clamp((cc * pb - bc * pc) / area, 0.0f, 1.0f),
                      w = std::clamp((bb * pc - bc * pb) / area, 0.0f, 1.0f - v);
          const Vector3f normal =
              ((1 - v - w) * mesh_.normals[face[0]] + v * mesh_.normals[face[1]] + w * mesh_.normals[face[2]])
                  .normalized();
          const Vector3f way = ray.cast<float>();
          const float turned = normal.dot(way);
          if (!(-turned > least_cosine_ * way.norm())) continue;
          // The ray meets the surface elsewhere when this moves along its normal.
          const Vector3f move = way / turned;
          for (int k = 0; k < 3; ++k) base.place.at(x, y, k) = at[k], base.move.at(x, y, k) = move[k];
          base.shares.at(x, y, 0) = v, base.shares.at(x, y, 1) = w;
        }
    });
    return base;
  }

  // The other photo on the pixels of the first one, by the surface as it is.
  void carry_over(const Base& base, std::size_t p, std::size_t other, int shrink, Sights& sights, Windows& to) {
    const PosedPhoto& photo = block_.photos[other];
    const Camera& camera = block_.camera_of(photo);
    const std::shared_ptr<const ImageF> grey_held = sights.grey(other);
    const std::shared_ptr<const MeshInPhoto> drawn_held = sights.drawn(other);
    const ImageF &grey = *grey_held, &depth = drawn_held->depth;
    const int width = base.place.width(), height = base.place.height();
    to.value = to.slope = ImageF(width, height, 1, kNothing);
    const double own_pixel = shrink / block_.camera_of(block_.photos[p]).focal();
    executor_.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (auto y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < width; ++x) {
          if (std::isnan(base.place.at(x, y))) continue;
          const Vector3d place = mesh_.origin +
                                 Vector3d(base.place.at(x, y, 0), base.place.at(x, y, 1), base.place.at(x, y, 2)),
                         move(base.move.at(x, y, 0), base.move.at(x, y, 1), base.move.at(x, y, 2));
          const Vector3d at = photo.pose.to_camera(place);
          const auto pixel = project(camera, at);
          if (!pixel) continue;
          const Vector2d u = *pixel / shrink;
          constexpr double kMargin = 2.5;
          if (!(u.x() > kMargin && u.y() > kMargin && u.x() < grey.width() - kMargin &&
                u.y() < grey.height() - kMargin))
            continue;
          // Hidden: farther than what the photo sees there by more than the surface slopes within a pixel.
          const double room = 4 * shrink * at.z() / camera.focal();
          if (!(at.z() < static_cast<double>(depth.at(static_cast<int>(u.x()), static_cast<int>(u.y()))) + room))
            continue;
          const double step = own_pixel * static_cast<double>(base.drawn->depth.at(x, y));
          const auto moved = project(camera, photo.pose.to_camera(place + step * move));
          if (!moved) continue;
          const Vector2d way = (*moved / shrink - u) / step;
          const double length = way.norm();
          if (!(length > 0)) continue;
          const Vector2d one = way / length;
          const auto sample = [&](double k) {
            return sample_bilinear(grey, static_cast<float>(u.x() + k * one.x()),
                                   static_cast<float>(u.y() + k * one.y()));
          };
          to.value.at(x, y) = sample_cubic(grey, static_cast<float>(u.x()), static_cast<float>(u.y()));
          to.slope.at(x, y) = static_cast<float>(length) * 0.5f * (sample(1) - sample(-1));
        }
    });
  }

  // Adds what windows say; the sum of their correlations, and their number.
  std::pair<double, double> compare(const ImageF& grey, Windows& w) const {
    const int width = grey.width(), height = grey.height(), r = options_.window;
    const std::size_t parts = block_count(static_cast<std::size_t>(height), kRows);
    std::vector<std::pair<double, double>> sums(parts);
    executor_.blocks(
        static_cast<std::size_t>(height), kRows, [&](std::size_t part, std::size_t begin, std::size_t end) {
          constexpr std::size_t kSums = 7;  // count, a, a^2, b, b^2, a b, slope
          const int top = std::max(0, static_cast<int>(begin) - r),
                    bottom = std::min(height, static_cast<int>(end) + r);
          const auto columns = static_cast<std::size_t>(width), padded = columns + 2 * static_cast<std::size_t>(r);
          std::vector<float> across(kSums * columns * static_cast<std::size_t>(bottom - top), 0.0f),
              line(kSums * padded);
          for (int y = top; y < bottom; ++y) {
            std::fill(line.begin(), line.end(), 0.0f);
            for (int x = 0; x < width; ++x) {
              const float a = grey.at(x, y), b = w.value.at(x, y), s = w.slope.at(x, y);
              if (std::isnan(a + b + s)) continue;
              const float values[kSums] = {1, a, a * a, b, b * b, a * b, s};
              for (std::size_t q = 0; q < kSums; ++q) line[q * padded + static_cast<std::size_t>(x + r)] = values[q];
            }
            float* const row = across.data() + kSums * columns * static_cast<std::size_t>(y - top);
            for (std::size_t q = 0; q < kSums; ++q)
              for (std::size_t k = 0; k <= 2 * static_cast<std::size_t>(r); ++k)
                for (std::size_t x = 0; x < columns; ++x) row[q * columns + x] += line[q * padded + x + k];
          }
          std::vector<float> total(kSums * columns);
          for (auto y = static_cast<int>(begin); y < static_cast<int>(end); ++y) {
            std::fill(total.begin(), total.end(), 0.0f);
            for (int j = std::max(0, y - r); j <= std::min(height - 1, y + r); ++j) {
              const float* const row = across.data() + kSums * columns * static_cast<std::size_t>(j - top);
              for (std::size_t k = 0; k < total.size(); ++k) total[k] += row[k];
            }
            for (int x = 0; x < width; ++x) {
              const float a = grey.at(x, y), b = w.value.at(x, y), s = w.slope.at(x, y);
              if (std::isnan(a + b + s)) continue;
              const auto sum = [&](std::size_t q) { return total[q * columns + static_cast<std::size_t>(x)]; };
              const float n = sum(0);
              if (2 * n < static_cast<float>((2 * r + 1) * (2 * r + 1))) continue;
              constexpr float kNoise2 = 1e-4f;  // (0.01)^2: contrast below the photos' noise says little
              const float ma = sum(1) / n, mb = sum(3) / n, ms = sum(6) / n,
                          va = std::max(0.0f, sum(2) / n - ma * ma) + kNoise2,
                          vb = std::max(0.0f, sum(4) / n - mb * mb) + kNoise2, ab = sum(5) / n - ma * mb;
              const float alike = std::clamp(ab / std::sqrt(va * vb), 0.0f, 1.0f);
              sums[part].first += alike, sums[part].second += 1;
              const float left = (a - ma) / std::sqrt(va) - (b - mb) / std::sqrt(vb), turn = (s - ms) / std::sqrt(vb),
                          trust = alike * alike / std::max(1.0f, std::abs(left));
              w.weight.at(x, y) += trust * turn * turn;
              w.wanted.at(x, y) += trust * turn * left;
            }
          }
        });
    std::pair<double, double> all{0, 0};
    for (const auto& [sum, count] : sums) all.first += sum, all.second += count;
    return all;
  }

  // From pixels to the corners of their faces; in one thread, so that sums have one order.
  void spread(const Base& base, std::size_t p, int shrink, const Windows& w) {
    const auto scale = static_cast<float>(shrink / block_.camera_of(block_.photos[p]).focal());
    for (int y = 0; y < w.weight.height(); ++y)
      for (int x = 0; x < w.weight.width(); ++x) {
        const float weight = w.weight.at(x, y);
        if (!(weight > 0)) continue;
        const Face& face = mesh_.faces[base.drawn->faces.at(x, y)];
        const float b = base.shares.at(x, y, 0), c = base.shares.at(x, y, 1), shares[3] = {1 - b - c, b, c};
        for (std::size_t k = 0; k < 3; ++k) {
          weights_[face[k]] += shares[k] * weight;
          wanted_[face[k]] += shares[k] * w.wanted.at(x, y);
          pixel_[face[k]] = std::min(pixel_[face[k]], scale * base.drawn->depth.at(x, y));
        }
      }
  }

  void move(int shrink) {
    const std::size_t n = mesh_.positions.size();
    std::vector<float> known, pixels;
    for (std::size_t v = 0; v < n; ++v)
      if (weights_[v] > 0) known.push_back(weights_[v]), pixels.push_back(pixel_[v]);
    if (known.empty()) return;
    const float usual = quantile_in_place(std::span<float>(known), 1, 2),
                pixel = quantile_in_place(std::span<float>(pixels), 1, 2);
    std::vector<float> bend(n, 0.0f);
    executor_.blocks(n, kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) {
        const std::span<const std::uint32_t> ring = rings_.of(v);
        float around = weights_[v];
        for (const std::uint32_t u : ring) around += weights_[u];
        // Of the surface as it is, but for a part of what it had from the start: thin things keep their thickness. What
        // no photo sees keeps its own shape.
        const float own = around > 1e-2f * usual ? kOwnBend : 1.0f;
        Vector3f bent = Vector3f::Zero();
        for (const std::uint32_t u : ring) bent += mesh_.positions[u] - own * started_[u];
        bent =
            bent / static_cast<float>(std::max<std::size_t>(1, ring.size())) - (mesh_.positions[v] - own * started_[v]);
        bend[v] = mesh_.normals[v].dot(bent);
      }
    });
    executor_.blocks(n, kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) {
        // Where photos say little the start is worth more than what they say.
        weights_[v] += kHold * usual;
        wanted_[v] -= kHold * usual * mesh_.normals[v].dot(mesh_.positions[v] - started_[v]);
      }
    });
    std::vector<float> moves =
        moves_with_least_bending(rings_, weights_, wanted_, bend, options_.smoothness * static_cast<double>(usual),
                                 1e-2 * static_cast<double>(usual), executor_);
    // Brightness tells of the next pixel, not of those beyond.
    const std::vector<Vector3f> before = mesh_.positions;
    for (std::size_t v = 0; v < n; ++v) {
      const float most = std::isfinite(pixel_[v]) ? pixel_[v] : pixel;
      moves[v] = std::clamp(moves[v], -most, most);
      mesh_.positions[v] += moves[v] * mesh_.normals[v];
    }
    keep_faces_unturned(before);
    last_pixel_ = pixel_, last_shrink_ = shrink;
    set_normals(mesh_);
  }

  // A face that would turn over keeps its place.
  void keep_faces_unturned(const std::vector<Vector3f>& before) {
    for (int round = 0; round < 4; ++round) {
      bool any = false;
      std::vector<std::uint8_t> back(mesh_.positions.size(), 0);
      for (const Face& f : mesh_.faces) {
        const Vector3f was = (before[f[1]] - before[f[0]]).cross(before[f[2]] - before[f[0]]),
                       is = (mesh_.positions[f[1]] - mesh_.positions[f[0]])
                                .cross(mesh_.positions[f[2]] - mesh_.positions[f[0]]);
        if (is.dot(was) > 0.3f * is.norm() * was.norm()) continue;
        for (const std::uint32_t v : f) back[v] = 1;
        any = true;
      }
      if (!any) return;
      for (std::size_t v = 0; v < back.size(); ++v)
        if (back[v]) mesh_.positions[v] = round < 3 ? Vector3f(0.5f * (mesh_.positions[v] + before[v])) : before[v];
    }
  }

  void tell_moves() {
    std::vector<double> moved;
    double pixels = 0;
    for (std::size_t v = 0; v < last_pixel_.size(); ++v) {
      if (!std::isfinite(last_pixel_[v])) continue;
      moved.push_back(static_cast<double>((mesh_.positions[v] - started_[v]).norm()));
      summary_.moved_mean += moved.back();
      pixels += moved.back() * last_shrink_ / static_cast<double>(last_pixel_[v]);
    }
    summary_.vertices_seen = moved.size();
    if (moved.empty()) return;
    summary_.moved_mean /= static_cast<double>(moved.size());
    summary_.moved_mean_px = pixels / static_cast<double>(moved.size());
    summary_.moved_q95 = quantile(moved, 19 * moved.size(), 20 * moved.size());
  }

  Mesh& mesh_;
  const Block& block_;
  PhotoSource& photos_;
  const SharpenOptions& options_;
  const Executor executor_;
  Monitor& monitor_;
  const VertexRings rings_;
  const float least_cosine_;
  const std::vector<Vector3f> started_;
  std::vector<std::uint8_t> usable_;
  std::vector<std::vector<std::uint32_t>> partners_;
  // By vertex: of the round's least squares; the size of a pixel of the (shrunk) photo that sees it best.
  std::vector<float> weights_, wanted_, pixel_, last_pixel_;
  int last_shrink_ = 1;
  double agreement_ = 0;
  std::size_t done_ = 0, total_ = 0;
  SharpenSummary summary_;
};

}  // namespace

SharpenSummary sharpen(Mesh& mesh, const Block& block, PhotoSource& photos, const SharpenOptions& options,
                       const Executor& executor, Monitor& monitor) {
  check_options(mesh, block, options);
  return Sharpening(mesh, block, photos, options, executor, monitor).run();
}

}  // namespace icefield
