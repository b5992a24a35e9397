#include "icefield/io/map_tiles.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mutex>
#include <nlohmann/json.hpp>
#include <numbers>
#include <optional>

#include "icefield/base/error.h"
#include "icefield/io/raster_file.h"
#include "icefield/io/text_file.h"
#include "icefield/world/crs.h"
#include "src/io/page_codec.h"
#include "src/io/tile_page.h"

namespace icefield {
namespace fs = std::filesystem;

using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

constexpr int kSide = 256;    // pixels of a tile
constexpr int kTogether = 2;  // levels below a tile whose finest ones are made together, on all threads
constexpr double kEarth = 6378137;

// Red, green, blue and alpha, colours weighted by alpha while they are averaged.
ImageU8 halved(const std::array<ImageU8, 4>& quarters) {
  ImageU8 out(kSide, kSide, 4);
  for (int y = 0; y < kSide; ++y)
    for (int x = 0; x < kSide; ++x) {
      const ImageU8& from = quarters[static_cast<std::size_t>(2 * (2 * y >= kSide) + (2 * x >= kSide))];
      if (from.empty()) continue;
      int alpha = 0;
      std::array<int, 3> sum{};
      for (int v = 0; v < 2; ++v)
        for (int u = 0; u < 2; ++u) {
          const std::uint8_t* p = &from.at((2 * x + u) % kSide, (2 * y + v) % kSide, 0);
          alpha += p[3];
          for (std::size_t c = 0; c < 3; ++c) sum[c] += p[3] * p[c];
        }
      std::uint8_t* p = &out.at(x, y, 0);
      for (std::size_t c = 0; c < 3; ++c)
        p[c] = static_cast<std::uint8_t>(alpha > 0 ? (sum[c] + alpha / 2) / alpha : 0);
      p[3] = static_cast<std::uint8_t>((alpha + 2) / 4);
    }
  return out;
}

bool holds_something(const ImageU8& tile) {
  for (std::size_t i = 3; i < tile.values().size(); i += 4)
    if (tile.values()[i] > 0) return true;
  return false;
}

class Tiler {
 public:
  Tiler(const fs::path& raster, const fs::path& folder, const Executor& executor, Monitor& monitor)
      : reader_(raster), folder_(folder), executor_(executor), monitor_(monitor) {
    const RasterContent& content = reader_.content();
    if (content.values != RasterValues::picture)
      throw Error(ErrorKind::input, raster.string(), "is no picture",
                  "give one of red, green and blue, as orthomosaic.tif");
    const GridFrame& frame = content.frame;
    double cell = frame.cell;
    made_.on_earth = !content.datum.crs.empty();
    if (made_.on_earth) {
      into_.emplace("EPSG:3857", content.datum.crs);
      square_ = 2 * std::numbers::pi * kEarth;
      origin_ << -0.5 * square_, 0.5 * square_;
      low_.setConstant(1e300), high_.setConstant(-1e300);
      constexpr int kAlong = 20;
      const auto take = [&](int u, int v) {
        const double step = frame.cell / kAlong;
        const Vector3d place(frame.corner.x() + step * u * frame.columns, frame.corner.y() - step * v * frame.rows, 0);
        const auto there = into_->back(place);
        if (!there)
          throw Error(ErrorKind::input, raster.string(), "lies where the web Mercator net has no place",
                      "write a picture with a world file instead");
        low_ = low_.cwiseMin(there->head<2>()), high_ = high_.cwiseMax(there->head<2>());
      };
      for (int k = 0; k <= kAlong; ++k) take(k, 0), take(k, kAlong), take(0, k), take(kAlong, k);
      // Metres of the net for one of the ground, as it is there.
      const Vector2d middle = 0.5 * (low_ + high_);
      const auto a = (*into_)({middle.x(), middle.y(), 0}), b = (*into_)({middle.x() + 10, middle.y(), 0});
      if (a && b && (*b - *a).norm() > 0) cell *= 10 / (*b - *a).norm();
    } else {
      low_ = frame.corner;
      low_.y() -= frame.cell * frame.rows;
      high_ = frame.corner;
      high_.x() += frame.cell * frame.columns;
      // A square that the finest level's tiles divide.
      square_ = frame.cell * kSide;
      while (square_ < (high_ - low_).maxCoeff()) square_ *= 2;
      origin_ = frame.corner;
    }
    constexpr int kDeepest = 28;
    while (made_.highest < kDeepest && square_ / (kSide * std::ldexp(1.0, made_.highest)) > 1.0001 * cell)
      ++made_.highest;
    const auto [x0, y0, x1, y1] = range(made_.highest);
    constexpr double kMost = 1e7;
    if ((x1 - x0 + 1.0) * (y1 - y0 + 1.0) > kMost)
      throw Error(ErrorKind::usage, raster.string(),
                  fmt::format("makes {:.3g} tiles", (x1 - x0 + 1.0) * (y1 - y0 + 1.0)), "make larger cells");
    // The coarsest that shows all of it in one or two tiles each way.
    made_.lowest = made_.highest;
    while (made_.lowest > 0) {
      const auto [a, b, c, d] = range(made_.lowest);
      if (c - a < 2 && d - b < 2) break;
      --made_.lowest;
    }
    whole_ = static_cast<std::size_t>((x1 - x0 + 1) * (y1 - y0 + 1));
  }

  MapTiles run(const std::string& title) {
    const auto [x0, y0, x1, y1] = range(made_.lowest);
    for (std::int64_t y = y0; y <= y1; ++y)
      for (std::int64_t x = x0; x <= x1; ++x) make(made_.lowest, x, y);
    monitor_.progress("tiles", whole_, whole_);
    write_about(title);
    return made_;
  }

 private:
  std::array<std::int64_t, 4> range(int level) const {
    const double size = square_ / std::ldexp(1.0, level);
    const double most = std::ldexp(1.0, level) - 1;
    const auto tile = [&](double along) {
      return static_cast<std::int64_t>(std::clamp(std::floor(along / size), 0.0, most));
    };
    const double rim = 1e-9 * size;
    return {tile(low_.x() - origin_.x() + rim), tile(origin_.y() - high_.y() + rim),
            tile(high_.x() - origin_.x() - rim), tile(origin_.y() - low_.y() - rim)};
  }

  // A tile with all below it; nothing where it is empty.
  ImageU8 make(int level, std::int64_t x, std::int64_t y) {
    monitor_.check();
    const auto [x0, y0, x1, y1] = range(level);
    if (x < x0 || y < y0 || x > x1 || y > y1) return {};
    if (level + kTogether >= made_.highest) return make_together(level, x, y);
    std::array<ImageU8, 4> quarters;
    for (int q = 0; q < 4; ++q) quarters[static_cast<std::size_t>(q)] = make(level + 1, 2 * x + q % 2, 2 * y + q / 2);
    return finish(level, x, y, quarters);
  }

  ImageU8 make_together(int level, std::int64_t x, std::int64_t y) {
    const int deep = made_.highest - level, side = 1 << deep;
    std::vector<ImageU8> tiles(static_cast<std::size_t>(side * side));
    std::vector<Source> sources(tiles.size());
    const auto [x0, y0, x1, y1] = range(made_.highest);
    for (std::size_t i = 0; i < tiles.size(); ++i) {
      const std::int64_t u = x * side + static_cast<std::int64_t>(i) % side,
                         v = y * side + static_cast<std::int64_t>(i) / side;
      if (u < x0 || v < y0 || u > x1 || v > y1) continue;
      sources[i] = source_of(u, v);
      monitor_.progress("tiles", std::min(done_++, whole_), whole_);
    }
    executor_.blocks(tiles.size(), 1, [&](std::size_t i, std::size_t, std::size_t) {
      if (sources[i].picture.empty()) return;
      ImageU8 tile = sampled(sources[i]);
      if (!holds_something(tile)) return;
      write(made_.highest, x * side + static_cast<std::int64_t>(i) % side,
            y * side + static_cast<std::int64_t>(i) / side, tile);
      tiles[i] = std::move(tile);
    });
    for (int above = deep - 1, n = side / 2; above >= 0; --above, n /= 2) {
      std::vector<ImageU8> coarse(static_cast<std::size_t>(n * n));
      executor_.blocks(coarse.size(), 1, [&](std::size_t i, std::size_t, std::size_t) {
        const std::size_t u = i % static_cast<std::size_t>(n), v = i / static_cast<std::size_t>(n);
        std::array<ImageU8, 4> quarters;
        for (std::size_t q = 0; q < 4; ++q)
          quarters[q] = std::move(tiles[(2 * v + q / 2) * static_cast<std::size_t>(2 * n) + 2 * u + q % 2]);
        coarse[i] =
            finish(level + above, x * n + static_cast<std::int64_t>(u), y * n + static_cast<std::int64_t>(v), quarters);
      });
      tiles = std::move(coarse);
    }
    return std::move(tiles[0]);
  }

  ImageU8 finish(int level, std::int64_t x, std::int64_t y, const std::array<ImageU8, 4>& quarters) {
    if (std::all_of(quarters.begin(), quarters.end(), [](const ImageU8& q) { return q.empty(); })) return {};
    ImageU8 tile = halved(quarters);
    if (level >= made_.lowest) write(level, x, y, tile);
    return tile;
  }

  // Cells of the raster under a tile of the finest level, and where its pixels lie in them: known on a lattice, between
  // its nodes linear.
  static constexpr int kNodes = 9;
  struct Source {
    ImageU8 picture;
    std::array<Vector2d, kNodes * kNodes> at;  // in cells of `picture`
  };
  Source source_of(std::int64_t x, std::int64_t y) const {
    Source source;
    const GridFrame& frame = reader_.content().frame;
    const double size = square_ / std::ldexp(1.0, made_.highest);
    Vector2d low = Vector2d::Constant(1e300), high = -low;
    for (int v = 0; v < kNodes; ++v)
      for (int u = 0; u < kNodes; ++u) {
        Vector2d place = origin_;
        place.x() += size * (static_cast<double>(x) + u / (kNodes - 1.0));
        place.y() -= size * (static_cast<double>(y) + v / (kNodes - 1.0));
        if (into_) {
          const auto there = (*into_)({place.x(), place.y(), 0});
          if (!there) return {};
          place = there->head<2>();
        }
        const Vector2d cell = frame.at(place);
        source.at[static_cast<std::size_t>(kNodes * v + u)] = cell;
        low = low.cwiseMin(cell), high = high.cwiseMax(cell);
      }
    const auto clip = [](double value, int most) { return static_cast<int>(std::clamp(value, 0.0, 1.0 * most)); };
    const int x0 = clip(std::floor(low.x()) - 1, frame.columns), y0 = clip(std::floor(low.y()) - 1, frame.rows),
              x1 = clip(std::ceil(high.x()) + 1, frame.columns), y1 = clip(std::ceil(high.y()) + 1, frame.rows);
    if (x1 <= x0 || y1 <= y0) return {};
    source.picture = reader_.read_picture(x0, y0, x1 - x0, y1 - y0);
    for (Vector2d& at : source.at) at.x() -= x0, at.y() -= y0;
    return source;
  }

  static ImageU8 sampled(const Source& source) {
    const ImageU8& from = source.picture;
    const int channels = from.channels();
    ImageU8 tile(kSide, kSide, 4);
    constexpr double kStep = (kNodes - 1.0) / kSide;
    for (int y = 0; y < kSide; ++y)
      for (int x = 0; x < kSide; ++x) {
        const double u = kStep * (x + 0.5), v = kStep * (y + 0.5);
        const auto i = static_cast<std::size_t>(u), j = static_cast<std::size_t>(v);
        const double a = u - static_cast<double>(i), b = v - static_cast<double>(j);
        const auto node = [&](std::size_t m, std::size_t n) -> const Vector2d& { return source.at[kNodes * n + m]; };
        Vector2d at = (1 - b) * ((1 - a) * node(i, j) + a * node(i + 1, j)) +
                      b * ((1 - a) * node(i, j + 1) + a * node(i + 1, j + 1));
        at.array() -= 0.5;
        const int x0 = static_cast<int>(std::floor(at.x())), y0 = static_cast<int>(std::floor(at.y()));
        const double p = at.x() - x0, q = at.y() - y0;
        double alpha = 0;
        std::array<double, 3> sum{};
        for (int dy = 0; dy < 2; ++dy)
          for (int dx = 0; dx < 2; ++dx) {
            const int cx = x0 + dx, cy = y0 + dy;
            if (cx < 0 || cy < 0 || cx >= from.width() || cy >= from.height()) continue;
            const std::uint8_t* c = &from.at(cx, cy, 0);
            const double w = (dx ? p : 1 - p) * (dy ? q : 1 - q) * (channels > 3 ? c[3] : 255);
            alpha += w;
            for (std::size_t k = 0; k < 3; ++k) sum[k] += w * c[k];
          }
        // Half of what is there, or more.
        if (alpha < 127.5) continue;
        std::uint8_t* out = &tile.at(x, y, 0);
        for (std::size_t k = 0; k < 3; ++k) out[k] = static_cast<std::uint8_t>(std::lround(sum[k] / alpha));
        out[3] = 255;
      }
    return tile;
  }

  void write(int level, std::int64_t x, std::int64_t y, const ImageU8& tile) {
    const fs::path column = folder_ / std::to_string(level) / std::to_string(x);
    std::error_code fault;
    fs::create_directories(column, fault);
    write_file(column / (std::to_string(y) + ".png"), encode_page(tile, PageFormat::png, 100));
    const std::lock_guard lock(counting_);
    ++made_.tiles;
  }

  void write_about(const std::string& title) const {
    const RasterContent& content = reader_.content();
    nlohmann::ordered_json about = {{"tilejson", "3.0.0"},     {"name", title},
                                    {"scheme", "xyz"},         {"tiles", {"{z}/{x}/{y}.png"}},
                                    {"minzoom", made_.lowest}, {"maxzoom", made_.highest}};
    if (made_.on_earth) {
      const auto degrees = [](const Vector2d& p) -> Vector2d {
        const double lon = p.x() / kEarth, lat = 2 * std::atan(std::exp(p.y() / kEarth)) - std::numbers::pi / 2;
        return Vector2d(lon, lat) * 180 / std::numbers::pi;
      };
      const Vector2d a = degrees(low_), b = degrees(high_);
      about["bounds"] = {a.x(), a.y(), b.x(), b.y()};
    }
    write_file(folder_ / "tiles.json", about.dump(1) + "\n");
    TilePage page;
    page.title = title, page.on_earth = made_.on_earth, page.units = content.datum.units_name();
    page.lowest = made_.lowest, page.highest = made_.highest, page.side = kSide;
    page.square = square_, page.origin = origin_, page.low = low_, page.high = high_;
    write_file(folder_ / "index.html", tile_page(page));
  }

  RasterReader reader_;
  fs::path folder_;
  const Executor& executor_;
  Monitor& monitor_;
  MapTiles made_;
  std::optional<CrsTransform> into_;  // from the net into the raster's CRS
  double square_ = 0;                 // side of level 0's tile
  Vector2d origin_ = Vector2d::Zero(), low_ = Vector2d::Zero(), high_ = Vector2d::Zero();
  std::size_t whole_ = 0, done_ = 0;
  std::mutex counting_;
};

// What write_map_tiles made, and nothing else.
bool is_of_tiles(const fs::path& folder) {
  if (!fs::exists(folder / "tiles.json")) return fs::is_empty(folder);
  for (const auto& entry : fs::directory_iterator(folder)) {
    const std::string name = entry.path().filename().string();
    const bool level =
        !name.empty() && std::all_of(name.begin(), name.end(), [](char c) { return c >= '0' && c <= '9'; });
    if (name != "tiles.json" && name != "index.html" && !(level && entry.is_directory())) return false;
  }
  return true;
}

}  // namespace

MapTiles write_map_tiles(const fs::path& raster, const fs::path& folder, const std::string& title,
                         const Executor& executor, Monitor& monitor) {
  std::error_code fault;
  if (fs::exists(folder) && (!fs::is_directory(folder) || !is_of_tiles(folder)))
    throw Error(ErrorKind::usage, folder.string(), "is there and holds something else than tiles",
                "name a folder that is not there yet");
  const fs::path part = folder.string() + ".part";
  fs::remove_all(part, fault);
  struct Clean {
    fs::path folder;
    ~Clean() {
      std::error_code ignored;
      fs::remove_all(folder, ignored);
    }
  } const clean{part};
  Tiler tiler(raster, part, executor, monitor);
  fs::create_directories(part, fault);
  if (fault)
    throw Error(ErrorKind::resource, part.string(), "cannot be made: " + fault.message(),
                "name a folder that can be written to");
  const MapTiles made = tiler.run(title);
  fs::remove_all(folder, fault);
  fs::rename(part, folder, fault);
  if (fault)
    throw Error(ErrorKind::resource, folder.string(), "cannot be put in its place: " + fault.message(),
                "check the folder and its disk");
  return made;
}

}  // namespace icefield
