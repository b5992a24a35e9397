#include "icefield/terrain/orthomosaic.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "src/base/recently_used.h"
#include "src/surface/photo_samples.h"
#include "src/terrain/blend.h"
#include "src/terrain/seam_grid.h"
#include "src/terrain/sight.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr int kStripe = 1024;  // rows of heights that are read at a time
// Photos of a cell that are looked at; more where one is wanted for all of a roof.
constexpr std::size_t kMostViews = 8, kMostOverRaised = 24;
constexpr double kMostSeamCells = 1e6;    // of the coarse grid
constexpr double kMostSightCells = 64e6;  // of the heights that rays go over
constexpr double kMargin = 2;             // px of a photo's border that are not used
constexpr std::size_t kGrain = 8;         // rows

void check_options(const OrthomosaicScene& scene, const Block& block, const OrthomosaicOptions& o) {
  check_block(block);
  if (block.photos.empty())
    throw Error(ErrorKind::usage, "orthomosaic", "is asked for without photos", "give a block with photos");
  if (block.photos.size() > 65535)
    throw Error(ErrorKind::usage, "orthomosaic", fmt::format("is asked for of {} photos", block.photos.size()),
                "give a part of the block: no more than 65,535");
  if (!(o.max_angle_deg > 0 && o.max_angle_deg < 90) || !(o.seam_cost >= 0) || !(o.colour_gap > 0) ||
      !(o.raised >= 0) || o.blend < 0 || o.blend > 8)
    throw Error(ErrorKind::usage, "orthomosaic", "is asked for with a number out of range",
                "see the meanings in orthomosaic.h: an angle under 90 degrees, costs not below 0, blend from 0 to 8");
  if (scene.frame.columns < 1 || scene.frame.rows < 1 || !scene.heights)
    throw Error(ErrorKind::usage, "orthomosaic", "is asked for without heights", "give a surface or terrain model");
}

// A photo's pixels, shrunk to the size of the cells.
struct PhotoPixels {
  ImageU8 pixels, mask;  // the mask in full size
  int factor = 1;
};

class PhotoSight {
 public:
  PhotoSight(const Block& block, std::uint32_t photo, const Vector3d& eye, double max_angle_deg)
      : camera_(block.camera_of(block.photos[photo])),
        pose_(block.photos[photo].pose),
        eye_(eye),
        steepest_(std::tan(max_angle_deg * std::numbers::pi / 180)) {
    for (const double x : {0.0, static_cast<double>(camera_.width)})
      for (const double y : {0.0, static_cast<double>(camera_.height)}) {
        const auto ray = unproject(camera_, {x, y});
        widest_ = std::max(widest_, ray ? std::atan(ray->norm()) : std::numbers::pi);
      }
  }

  // Pixel of a place that lies within the photo.
  std::optional<Vector2d> pixel(const Vector3d& in_block) const {
    const auto p = project(camera_, pose_.to_camera(in_block));
    if (!p || !(p->x() >= kMargin && p->y() >= kMargin && p->x() <= camera_.width - kMargin &&
                p->y() <= camera_.height - kMargin))
      return std::nullopt;
    return p;
  }
  // Tangent of the angle from straight up, in the raster's coordinates; nothing where that is too much.
  std::optional<double> slant(const Vector3d& in_raster) const {
    const Vector3d way = eye_ - in_raster;
    if (!(way.z() > 0)) return std::nullopt;
    const double slant = way.head<2>().norm() / way.z();
    return slant <= steepest_ ? std::optional(slant) : std::nullopt;
  }
  double radius(const Vector2d& pixel) const {
    return (pixel - 0.5 * Vector2d(camera_.width, camera_.height)).norm() /
           (0.5 * Vector2d(camera_.width, camera_.height).norm());
  }
  const Vector3d& eye() const { return eye_; }
  double widest() const { return widest_; }  // angle from the axis to the farthest corner, without its own bend
  const Camera& camera() const { return camera_; }
  const Pose& pose() const { return pose_; }

 private:
  const Camera& camera_;
  const Pose& pose_;
  Vector3d eye_;
  double steepest_, widest_ = 0;
};

bool masked(const ImageU8& mask, const Vector2d& pixel) {
  return !mask.empty() && mask.at(std::min(static_cast<int>(pixel.x()), mask.width() - 1),
                                  std::min(static_cast<int>(pixel.y()), mask.height() - 1)) == 0;
}

}  // namespace

struct OrthomosaicMaker::State {
  State(const OrthomosaicScene& s, const Block& b, PhotoSource& p, const OrthomosaicOptions& o, const Executor& e)
      : scene(s), block(b), photos(p), options(o), executor(e) {
    for (std::uint32_t i = 0; i < block.photos.size(); ++i)
      sights.emplace_back(block, i, scene.eyes.empty() ? block.photos[i].pose.centre : scene.eyes[i],
                          options.max_angle_deg);
    usable.assign(block.photos.size(), 1);
    factors.assign(block.photos.size(), 1);
  }

  const OrthomosaicScene& scene;
  const Block& block;
  PhotoSource& photos;
  OrthomosaicOptions options;
  Executor executor;
  std::vector<PhotoSight> sights;
  std::vector<std::uint8_t> usable;
  std::vector<int> factors;  // that photos are shrunk by
  std::optional<Sight> sight;
  SeamGrid grid;
  PhotoLevels levels;
  OrthomosaicSummary summary;
  std::vector<SeamLine> seams;
  void to_block(std::span<Vector3d> places) const {
    if (scene.to_block) scene.to_block(places);
  }
  std::unique_ptr<RecentlyUsed<std::uint32_t, PhotoPixels>> kept;

  // Heights for rays, and of the coarse grid's cells; what stands on the ground.
  ImageF cell_heights;
  void read_heights(Monitor& monitor) {
    const GridFrame& frame = scene.frame;
    const auto cells = static_cast<double>(frame.cells());
    grid.factor = std::max(4, static_cast<int>(std::ceil(std::sqrt(cells / kMostSeamCells))));
    const int f = grid.factor;
    grid.frame = frame;
    grid.frame.cell = f * frame.cell;
    grid.frame.columns = (frame.columns + f - 1) / f, grid.frame.rows = (frame.rows + f - 1) / f;
    summary.seam_cell = grid.frame.cell;
    const int coarser = std::max(1, static_cast<int>(std::ceil(std::sqrt(cells / kMostSightCells))));
    GridFrame sight_frame = frame;
    sight_frame.cell = coarser * frame.cell;
    sight_frame.columns = (frame.columns + coarser - 1) / coarser;
    sight_frame.rows = (frame.rows + coarser - 1) / coarser;
    constexpr float kLow = -std::numeric_limits<float>::infinity(), kNone = std::numeric_limits<float>::quiet_NaN();
    ImageF highest(sight_frame.columns, sight_frame.rows, 1, kLow);
    cell_heights = ImageF(grid.frame.columns, grid.frame.rows, 1, kNone);
    grid.raised = ImageU8(grid.frame.columns, grid.frame.rows);
    const double raised = options.raised > 0 ? options.raised : 15 * frame.cell;
    for (int top = 0; top < frame.rows; top += kStripe) {
      monitor.progress("heights", static_cast<std::size_t>(top), static_cast<std::size_t>(frame.rows));
      monitor.check();
      const Window window{0, top, frame.columns, std::min(kStripe, frame.rows - top)};
      const ImageF heights = scene.heights(window);
      const ImageF ground = scene.ground ? scene.ground(window) : ImageF();
      for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x) {
          const float z = heights.at(x, y);
          if (!std::isfinite(z)) continue;
          float& high = highest.at(x / coarser, (top + y) / coarser);
          high = std::max(high, z);
          const int u = x / f, v = (top + y) / f;
          // The cell in the middle, or else the first that there is.
          float& of_cell = cell_heights.at(u, v);
          if (std::isfinite(of_cell) && !(x % f == f / 2 && (top + y) % f == f / 2)) continue;
          of_cell = z;
          grid.raised.at(u, v) =
              !ground.empty() && static_cast<double>(z) - static_cast<double>(ground.at(x, y)) > raised;
        }
    }
    monitor.progress("heights", static_cast<std::size_t>(frame.rows), static_cast<std::size_t>(frame.rows));
    sight.emplace(std::move(highest), sight_frame, executor);
  }

  Vector3d cell_place(int x, int y) const {
    const Vector2d p = grid.frame.middle(x, y);
    return {p.x(), p.y(), static_cast<double>(cell_heights.at(x, y))};
  }

  // Photos that see each cell of the coarse grid, the best of them.
  void find_views(Monitor& monitor) {
    const int columns = grid.frame.columns, rows = grid.frame.rows;
    std::vector<double> sharpness;
    for (const PosedPhoto& photo : block.photos) sharpness.push_back(photos.sharpness(photo.photo));
    const double sharpest = *std::max_element(sharpness.begin(), sharpness.end());
    for (double& s : sharpness) s = sharpest > 0 && s > 0 ? std::max(0.2, s / sharpest) : 1;
    constexpr int kSquare = 32;  // cells that are looked at together
    const int across = (columns + kSquare - 1) / kSquare, down = (rows + kSquare - 1) / kSquare;
    std::vector<std::vector<std::vector<CellView>>> found(static_cast<std::size_t>(across) *
                                                          static_cast<std::size_t>(down));
    executor.run("photos of cells", found.size(), monitor, [&](std::size_t square) {
      const int x0 = static_cast<int>(square) % across * kSquare, y0 = static_cast<int>(square) / across * kSquare,
                x1 = std::min(x0 + kSquare, columns), y1 = std::min(y0 + kSquare, rows);
      std::vector<std::vector<CellView>>& views = found[square];
      views.resize(static_cast<std::size_t>((x1 - x0) * (y1 - y0)));
      std::vector<Vector3d> in_raster, in_block;
      std::vector<std::size_t> of;
      Eigen::AlignedBox3d box;
      for (int y = y0; y < y1; ++y)
        for (int x = x0; x < x1; ++x)
          if (std::isfinite(cell_heights.at(x, y))) {
            in_raster.push_back(cell_place(x, y));
            of.push_back(static_cast<std::size_t>((y - y0) * (x1 - x0) + x - x0));
          }
      if (in_raster.empty()) return;
      in_block = in_raster;
      to_block(in_block);
      for (const Vector3d& p : in_block) box.extend(p);
      const Vector3d middle = box.center();
      const double reach = 0.5 * box.diagonal().norm();
      for (std::uint32_t p = 0; p < sights.size(); ++p) {
        if (!usable[p] || !may_see(p, middle, reach)) continue;
        for (std::size_t i = 0; i < in_raster.size(); ++i) {
          const auto slant = sights[p].slant(in_raster[i]);
          if (!slant) continue;
          const auto pixel = sights[p].pixel(in_block[i]);
          if (!pixel || !sight->open_way(in_raster[i], sights[p].eye())) continue;
          CellView view;
          view.photo = p;
          view.slant = static_cast<float>(*slant);
          view.radius = static_cast<float>(sights[p].radius(*pixel));
          // Pixels to a unit of level area.
          const double depth = sights[p].pose().to_camera(in_block[i]).z(), focal = sights[p].camera().focal(),
                       above = sights[p].eye().z() - in_raster[i].z();
          view.worth =
              static_cast<float>(focal * focal * above / (depth * depth * depth) * sharpness[p] * sharpness[p]);
          views[of[i]].push_back(view);
        }
      }
      for (std::size_t i = 0; i < views.size(); ++i) {
        std::vector<CellView>& list = views[i];
        const bool raised =
            grid.raised.at(x0 + static_cast<int>(i) % (x1 - x0), y0 + static_cast<int>(i) / (x1 - x0)) != 0;
        const std::size_t most = raised ? kMostOverRaised : kMostViews;
        if (list.size() <= most) continue;
        const auto better = [](const CellView& a, const CellView& b) {
          const double of_a = static_cast<double>(a.worth) / std::pow(1 + static_cast<double>(a.slant), 2),
                       of_b = static_cast<double>(b.worth) / std::pow(1 + static_cast<double>(b.slant), 2);
          return of_a != of_b ? of_a > of_b : a.photo < b.photo;
        };
        std::sort(list.begin(), list.end(), better);
        list.resize(most);
        std::sort(list.begin(), list.end(), [](const CellView& a, const CellView& b) { return a.photo < b.photo; });
      }
    });
    // By rows.
    grid.starts.assign(static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows) + 1, 0);
    std::size_t sum = 0;
    const auto list_of = [&](int x, int y) -> std::span<const CellView> {
      const auto& lists = found[static_cast<std::size_t>(y / kSquare) * static_cast<std::size_t>(across) +
                                static_cast<std::size_t>(x / kSquare)];
      if (lists.empty()) return {};
      const int x0 = x / kSquare * kSquare, y0 = y / kSquare * kSquare, width = std::min(kSquare, columns - x0);
      return lists[static_cast<std::size_t>((y - y0) * width + x - x0)];
    };
    for (int y = 0; y < rows; ++y)
      for (int x = 0; x < columns; ++x) {
        sum += list_of(x, y).size();
        grid.starts[static_cast<std::size_t>(y) * static_cast<std::size_t>(columns) + static_cast<std::size_t>(x) + 1] =
            sum;
      }
    grid.views.reserve(sum);
    for (int y = 0; y < rows; ++y)
      for (int x = 0; x < columns; ++x) {
        const auto list = list_of(x, y);
        grid.views.insert(grid.views.end(), list.begin(), list.end());
      }
  }
  // Whether something within `reach` of a place may lie in the photo.
  bool may_see(std::uint32_t p, const Vector3d& middle, double reach) const {
    const Vector3d in_camera = sights[p].pose().to_camera(middle);
    const double distance = in_camera.norm();
    if (distance <= reach) return true;
    constexpr double kRoom = 0.02;
    return std::acos(std::clamp(in_camera.z() / distance, -1.0, 1.0)) <=
           sights[p].widest() + std::asin(std::min(1.0, reach / distance)) + kRoom;
  }

  // What photos say of the cells; photos that cannot be read and places under masks go.
  void find_colours(Monitor& monitor) {
    std::vector<std::vector<std::size_t>> of_photo(block.photos.size());
    std::vector<std::uint32_t> cell_of(grid.views.size());
    for (std::size_t c = 0; c + 1 < grid.starts.size(); ++c)
      for (std::size_t i = grid.starts[c]; i < grid.starts[c + 1]; ++i) {
        of_photo[grid.views[i].photo].push_back(i);
        cell_of[i] = static_cast<std::uint32_t>(c);
      }
    std::vector<std::string> missing(block.photos.size());
    std::vector<std::uint8_t> gone(grid.views.size(), 0);
    executor.run("colours", block.photos.size(), monitor, [&](std::size_t p) {
      const std::vector<std::size_t>& list = of_photo[p];
      if (list.empty()) return;
      ImageU8 pixels, mask;
      try {
        pixels = photos.load(block.photos[p].photo);
        const Camera& camera = sights[p].camera();
        if (pixels.width() != camera.width || pixels.height() != camera.height)
          throw Error(ErrorKind::input, fmt::format("photo {} of the block", p + 1),
                      fmt::format("is of {} x {} pixels, its camera of {} x {}", pixels.width(), pixels.height(),
                                  camera.width, camera.height),
                      "give the photos that the cameras are of");
        mask = photos.mask(block.photos[p].photo);
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::input) throw;
        missing[p] = error.what();
        for (const std::size_t i : list) gone[i] = 1;
        return;
      }
      // Side of a cell of the picture in pixels, the middle of all.
      std::vector<double> scales;
      std::vector<Vector3d> in_block;
      for (const std::size_t i : list) {
        const int x = static_cast<int>(cell_of[i]) % grid.frame.columns,
                  y = static_cast<int>(cell_of[i]) / grid.frame.columns;
        in_block.push_back(cell_place(x, y));
      }
      to_block(in_block);
      for (const Vector3d& place : in_block)
        scales.push_back(sights[p].camera().focal() / sights[p].pose().to_camera(place).z());
      const double scale = median(std::move(scales)) * scene.frame.cell;
      constexpr double kWhole = 0.7;  // a photo is shrunk where cells have nearly so many pixels
      factors[p] = std::max(1, static_cast<int>(scale + 1 - kWhole));
      const int shrunk = std::max(1, static_cast<int>(0.5 * scale * grid.factor));
      const ImageU8 small = shrink(pixels, shrunk);
      for (std::size_t k = 0; k < list.size(); ++k) {
        const auto pixel = sights[p].pixel(in_block[k]);
        if (!pixel || masked(mask, *pixel)) {
          gone[list[k]] = 1;
          continue;
        }
        grid.views[list[k]].colour =
            rgb_bilinear(small, static_cast<float>(pixel->x() / shrunk), static_cast<float>(pixel->y() / shrunk));
      }
    });
    for (std::size_t p = 0; p < missing.size(); ++p)
      if (!missing[p].empty()) summary.photos_missing.push_back(missing[p]), usable[p] = 0;
    std::vector<std::size_t> starts{0};
    std::vector<CellView> views;
    for (std::size_t c = 0; c + 1 < grid.starts.size(); ++c) {
      for (std::size_t i = grid.starts[c]; i < grid.starts[c + 1]; ++i)
        if (!gone[i]) views.push_back(grid.views[i]);
      starts.push_back(views.size());
    }
    const bool any_readable = std::any_of(usable.begin(), usable.end(), [](std::uint8_t u) { return u; });
    if (!any_readable)
      throw Error(ErrorKind::computation, "orthomosaic",
                  "has no photo that can be read: " + summary.photos_missing.front(),
                  "give the folder where the photos lie");
    if (views.empty())
      throw Error(
          ErrorKind::computation, "orthomosaic", "has no cell that a photo sees",
          fmt::format(
              "check that heights and photos are of one place; photos that look at it from more than {:g} degrees "
              "from straight above take no part (orthomosaic.max_angle)",
              options.max_angle_deg));
    grid.starts = std::move(starts), grid.views = std::move(views);
  }

  void prepare_pixels() {
    std::uint64_t largest = 1;
    for (const Camera& camera : block.cameras)
      largest = std::max(largest, std::uint64_t{4} * static_cast<std::uint64_t>(camera.width) *
                                      static_cast<std::uint64_t>(camera.height));
    const auto room = std::max<std::uint64_t>(2, executor.memory_bytes() / 3 / largest);
    kept = std::make_unique<RecentlyUsed<std::uint32_t, PhotoPixels>>(
        static_cast<std::size_t>(room), [this](std::uint32_t p) {
          auto made = std::make_shared<PhotoPixels>();
          made->factor = factors[p];
          made->pixels = shrink(photos.load(block.photos[p].photo), made->factor);
          made->mask = photos.mask(block.photos[p].photo);
          return made;
        });
  }

  // Colour of a photo at a pixel, levelled.
  Vector3f colour(std::uint32_t p, const PhotoPixels& photo, const Vector2d& pixel) const {
    const Vector3f found = rgb_cubic(photo.pixels, static_cast<float>(pixel.x() / photo.factor),
                                     static_cast<float>(pixel.y() / photo.factor));
    return found.cwiseProduct(levels.factor(p, block.photos[p].camera.value, sights[p].radius(pixel)));
  }
  // Where it is seen, by a photo.
  std::optional<Vector2d> seen_at(std::uint32_t p, const Vector3d& in_raster, const Vector3d& in_block) const {
    if (!sights[p].slant(in_raster)) return std::nullopt;
    const auto pixel = sights[p].pixel(in_block);
    return pixel && sight->open_way(in_raster, sights[p].eye()) ? pixel : std::nullopt;
  }

  // Photos of a cell of the picture in the order in which they are tried: what most of the coarse cells around have
  // chosen,
  void chosen_around(int column, int row, std::vector<std::uint32_t>& list) const {
    list.clear();
    const double u = (column + 0.5) / grid.factor - 0.5, v = (row + 0.5) / grid.factor - 0.5;
    const int x0 = static_cast<int>(std::floor(u)), y0 = static_cast<int>(std::floor(v));
    const double fx = u - x0, fy = v - y0;
    struct Vote {
      std::uint32_t photo;
      double weight;
    };
    Vote votes[4];
    int count = 0;
    for (int k = 0; k < 4; ++k) {
      const int x = x0 + (k & 1), y = y0 + (k >> 1);
      if (x < 0 || y < 0 || x >= grid.frame.columns || y >= grid.frame.rows) continue;
      const std::uint32_t p = grid.choice[index(x, y)];
      if (p == kNoPhoto) continue;
      const double weight = (k & 1 ? fx : 1 - fx) * (k >> 1 ? fy : 1 - fy);
      int at = 0;
      while (at < count && votes[at].photo != p) ++at;
      if (at == count) votes[count++] = {p, 0};
      votes[at].weight += weight;
    }
    std::sort(votes, votes + count, [](const Vote& a, const Vote& b) {
      return a.weight != b.weight ? a.weight > b.weight : a.photo < b.photo;
    });
    for (int k = 0; k < count; ++k) list.push_back(votes[k].photo);
  }
  // then the others that see it: of the nearest coarse cells, those that do not contradict before those that do.
  void add_others(int column, int row, std::vector<std::uint32_t>& list) const {
    const auto add = [&](std::uint32_t p) {
      if (std::find(list.begin(), list.end(), p) == list.end()) list.push_back(p);
    };
    const int cx = std::min(column / grid.factor, grid.frame.columns - 1),
              cy = std::min(row / grid.factor, grid.frame.rows - 1);
    for (const bool apart : {false, true})
      for (int ring = 0; ring <= 1; ++ring)
        for (int y = std::max(0, cy - ring); y <= std::min(grid.frame.rows - 1, cy + ring); ++y)
          for (int x = std::max(0, cx - ring); x <= std::min(grid.frame.columns - 1, cx + ring); ++x)
            for (const CellView& view : grid.of(index(x, y)))
              if (view.apart == apart) add(view.photo);
  }
  std::size_t index(int x, int y) const {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(grid.frame.columns) + static_cast<std::size_t>(x);
  }

  OrthomosaicPart part(const Window& window, Monitor& monitor) const;
};

OrthomosaicPart OrthomosaicMaker::State::part(const Window& window, Monitor& monitor) const {
  const GridFrame& frame = scene.frame;
  if (window.column < 0 || window.row < 0 || window.width < 1 || window.height < 1 ||
      window.column + window.width > frame.columns || window.row + window.height > frame.rows)
    throw Error(ErrorKind::usage, "orthomosaic", "is asked for a window that it does not have",
                "give one of its cells");
  const Executor watched = executor.watching(monitor);
  // Wider, so that all that has a part in the window is there, and whole squares of the coarsest band.
  const int reach = blend_reach(options.blend), square = 1 << options.blend;
  const auto down_to = [&](int v) { return std::max(0, v / square * square); };
  const int x0 = down_to(std::max(0, window.column - reach)), y0 = down_to(std::max(0, window.row - reach));
  const auto up_to = [&](int v) { return (v + square - 1) / square * square; };
  const int width = up_to(window.column + window.width + reach - x0),
            height = up_to(window.row + window.height + reach - y0);
  const int inside_x = std::min(width, frame.columns - x0), inside_y = std::min(height, frame.rows - y0);
  const ImageF heights = scene.heights({x0, y0, inside_x, inside_y});
  // Places, and the photo of each cell.
  Image<std::uint32_t> photo(width, height, 1, kNoPhoto);
  std::vector<Vector3d> in_block(static_cast<std::size_t>(inside_x) * static_cast<std::size_t>(inside_y));
  const auto at = [&](int x, int y) {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(inside_x) + static_cast<std::size_t>(x);
  };
  const auto in_raster = [&](int x, int y) {
    const Vector2d p = frame.middle(x0 + x, y0 + y);
    return Vector3d(p.x(), p.y(), static_cast<double>(heights.at(x, y)));
  };
  watched.blocks(static_cast<std::size_t>(inside_y), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < inside_x; ++x) {
        in_block[at(x, y)] = in_raster(x, y);
        if (!std::isfinite(heights.at(x, y))) in_block[at(x, y)].z() = 0;
      }
    to_block(std::span(in_block).subspan(at(0, static_cast<int>(begin)),
                                         (end - begin) * static_cast<std::size_t>(inside_x)));
  });
  // Masks are looked at where the choice falls; the photos of all choices around are loaded first.
  std::vector<std::uint8_t> wanted(block.photos.size(), 0);
  for (int y = y0 / grid.factor - 1; y <= (y0 + inside_y) / grid.factor + 1; ++y)
    for (int x = x0 / grid.factor - 1; x <= (x0 + inside_x) / grid.factor + 1; ++x)
      if (x >= 0 && y >= 0 && x < grid.frame.columns && y < grid.frame.rows)
        if (const std::uint32_t p = grid.choice[index(x, y)]; p != kNoPhoto) wanted[p] = 1;
  std::vector<std::uint32_t> first;
  for (std::uint32_t p = 0; p < wanted.size(); ++p)
    if (wanted[p]) first.push_back(p);
  std::vector<std::shared_ptr<const PhotoPixels>> held(block.photos.size());
  watched.run("", first.size(), monitor, [&](std::size_t i) { held[first[i]] = kept->get(first[i]); });
  std::vector<std::vector<std::uint32_t>> others(block_count(static_cast<std::size_t>(inside_y), kGrain));
  ImageF composite(width, height, 3);
  const auto paint = [&](int x, int y, std::uint32_t p, const Vector2d& pixel) {
    photo.at(x, y) = p;
    const Vector3f found = colour(p, *held[p], pixel);
    for (int k = 0; k < 3; ++k) composite.at(x, y, k) = found[k];
  };
  // The photos that see a cell, until one is taken.
  const auto try_photos = [&](int x, int y, std::vector<std::uint32_t>& list, const auto& take) {
    const Vector3d place = in_raster(x, y);
    chosen_around(x0 + x, y0 + y, list);
    bool all = false;
    for (std::size_t i = 0;; ++i) {
      if (i == list.size() && !all) add_others(x0 + x, y0 + y, list), all = true;
      if (i == list.size()) return;
      if (const auto pixel = seen_at(list[i], place, in_block[at(x, y)]); pixel && take(list[i], *pixel)) return;
    }
  };
  struct Left {
    int x, y;
  };
  std::vector<std::vector<Left>> left(others.size());
  watched.blocks(static_cast<std::size_t>(inside_y), kGrain, [&](std::size_t b, std::size_t begin, std::size_t end) {
    std::vector<std::uint32_t> list;
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < inside_x; ++x) {
        if (!std::isfinite(heights.at(x, y))) continue;
        bool waits = false;
        try_photos(x, y, list, [&](std::uint32_t p, const Vector2d& pixel) {
          if (!held[p]) {  // no cell around has chosen it: it is loaded afterwards
            others[b].push_back(p);
            return !(waits = true);
          }
          if (masked(held[p]->mask, pixel)) return false;
          if (!waits) paint(x, y, p, pixel);
          return true;
        });
        if (waits) left[b].push_back({x, y});
      }
  });
  // Cells that the chosen photos do not see.
  std::vector<Left> rest;
  for (const std::vector<Left>& list : left) rest.insert(rest.end(), list.begin(), list.end());
  if (!rest.empty()) {
    std::vector<std::uint32_t> second;
    for (const std::vector<std::uint32_t>& list : others) second.insert(second.end(), list.begin(), list.end());
    std::sort(second.begin(), second.end());
    second.erase(std::unique(second.begin(), second.end()), second.end());
    watched.run("", second.size(), monitor, [&](std::size_t i) { held[second[i]] = kept->get(second[i]); });
    constexpr std::size_t kCells = 256;
    watched.blocks(rest.size(), kCells, [&](std::size_t, std::size_t begin, std::size_t end) {
      std::vector<std::uint32_t> list;
      for (std::size_t i = begin; i < end; ++i) {
        const int x = rest[i].x, y = rest[i].y;
        try_photos(x, y, list, [&](std::uint32_t p, const Vector2d& pixel) {
          if (!held[p] || masked(held[p]->mask, pixel)) return false;
          paint(x, y, p, pixel);
          return true;
        });
      }
    });
  }
  // Differences of the photos at their seams, blended in.
  ImageF added(width, height, 3);
  if (options.blend > 0) {
    std::vector<Eigen::AlignedBox2i> boxes(block.photos.size());
    for (int y = 0; y < inside_y; ++y)
      for (int x = 0; x < inside_x; ++x)
        if (photo.at(x, y) != kNoPhoto) boxes[photo.at(x, y)].extend(Eigen::Vector2i(x, y));
    for (std::uint32_t p = 0; p < boxes.size(); ++p) {
      if (boxes[p].isEmpty()) continue;
      monitor.check();
      const int u0 = down_to(std::max(0, boxes[p].min().x() - reach)),
                v0 = down_to(std::max(0, boxes[p].min().y() - reach)),
                u1 = std::min(width, up_to(boxes[p].max().x() + 1 + reach)),
                v1 = std::min(height, up_to(boxes[p].max().y() + 1 + reach));
      ImageF differs(u1 - u0, v1 - v0, 3), mask(u1 - u0, v1 - v0, 1);
      std::vector<std::uint8_t> any(block_count(static_cast<std::size_t>(v1 - v0), kGrain), 0);
      watched.blocks(static_cast<std::size_t>(v1 - v0), kGrain, [&](std::size_t b, std::size_t begin, std::size_t end) {
        for (int y = v0 + static_cast<int>(begin); y < v0 + static_cast<int>(end); ++y)
          for (int x = u0; x < u1; ++x) {
            const std::uint32_t here = photo.at(x, y);
            if (here == p) mask.at(x - u0, y - v0) = 1;
            if (here == p || here == kNoPhoto) continue;
            const auto pixel = seen_at(p, in_raster(x, y), in_block[at(x, y)]);
            if (!pixel || masked(held[p]->mask, *pixel)) continue;
            const Vector3f found = colour(p, *held[p], *pixel);
            for (int k = 0; k < 3; ++k) differs.at(x - u0, y - v0, k) = found[k] - composite.at(x, y, k);
            any[b] = 1;
          }
      });
      if (std::none_of(any.begin(), any.end(), [](std::uint8_t a) { return a; })) continue;
      const ImageF more = blend_in(differs, mask, options.blend, watched);
      for (int y = v0; y < v1; ++y)
        for (int x = 3 * u0; x < 3 * u1; ++x) added.row(y)[x] += more.row(y - v0)[x - 3 * u0];
    }
  }
  OrthomosaicPart result{ImageU8(window.width, window.height, 4), Image<std::uint16_t>(window.width, window.height)};
  for (int y = 0; y < window.height; ++y)
    for (int x = 0; x < window.width; ++x) {
      const int u = window.column - x0 + x, v = window.row - y0 + y;
      const std::uint32_t p = photo.at(u, v);
      if (p == kNoPhoto) continue;
      result.photo.at(x, y) = static_cast<std::uint16_t>(p + 1);
      for (int k = 0; k < 3; ++k)
        result.picture.at(x, y, k) =
            static_cast<std::uint8_t>(std::clamp(composite.at(u, v, k) + added.at(u, v, k) + 0.5f, 0.0f, 255.0f));
      result.picture.at(x, y, 3) = 255;
    }
  return result;
}

OrthomosaicMaker::OrthomosaicMaker(const OrthomosaicScene& scene, const Block& block, PhotoSource& photos,
                                   const OrthomosaicOptions& options, const Executor& executor, Monitor& monitor) {
  check_options(scene, block, options);
  state_ = std::make_unique<State>(scene, block, photos, options, executor);
  State& s = *state_;
  const Executor whole = s.executor;
  s.executor = executor.watching(monitor);
  s.read_heights(monitor);
  s.find_views(monitor);
  s.find_colours(monitor);
  s.levels = options.level ? level_photos(s.grid, block, s.summary) : no_levels(block);
  find_views_apart(s.grid, s.levels, block, options.colour_gap, s.summary, s.executor);
  choose_photos(s.grid, s.levels, block, options, monitor);
  s.seams = seam_lines(s.grid, s.summary);
  std::vector<std::uint8_t> taken(block.photos.size(), 0);
  for (const std::uint32_t p : s.grid.choice)
    if (p != kNoPhoto) taken[p] = 1;
  s.summary.photos = static_cast<std::size_t>(std::count(taken.begin(), taken.end(), 1));
  s.summary.outcome = "made";
  s.executor = whole;
  s.prepare_pixels();
}

OrthomosaicMaker::~OrthomosaicMaker() = default;

OrthomosaicPart OrthomosaicMaker::part(const Window& window, Monitor& monitor) const {
  return state_->part(window, monitor);
}
const std::vector<SeamLine>& OrthomosaicMaker::seams() const {
  return state_->seams;
}
const OrthomosaicSummary& OrthomosaicMaker::summary() const {
  return state_->summary;
}

}  // namespace icefield
