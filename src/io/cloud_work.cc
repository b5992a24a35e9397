#include "icefield/io/cloud_work.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <fstream>
#include <limits>
#include <map>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "icefield/io/cloud_reader.h"
#include "icefield/io/tiled_cloud.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kPiece = std::size_t{1} << 18;  // points read at a time
constexpr int kGrid = 256;                            // cells of the grid that parts are made of, along the longer side
constexpr double kAround = 12;                        // what lies around a part, in spacings
constexpr int kNormalNeighbours = 12;

// The inputs one after the other, piece by piece, in one frame and cropped.
class Inputs {
 public:
  Inputs(std::span<const fs::path> files, const CloudWork& work) : files_(files), work_(work) {
    bool first = true;
    for (const fs::path& file : files) {
      const auto reader = open_cloud(file);
      PointCloud part;
      const bool has_points = reader->read(part, 1);
      const CloudContent content = reader->content();
      if (first) content_.datum = content.datum;
      if (content.datum != content_.datum)
        throw Error(ErrorKind::input, file.string(),
                    "has coordinates of another meaning than " + files.front().string(),
                    "merge clouds of one coordinate system and unit");
      first = false;
      if (!has_points) continue;
      if (points_ == 0) {
        content_ = content;
      } else {
        content_.normals &= content.normals, content_.colours &= content.colours, content_.views &= content.views;
        content_.gsd &= content.gsd, content_.counted &= content.counted, content_.errors &= content.errors;
        content_.conflicts &= content.conflicts, content_.faults &= content.faults;
        content_.classes &= content.classes, content_.class_confidence &= content.class_confidence;
      }
      points_ += reader->points();
    }
  }

  std::uint64_t points() const { return points_; }
  const CloudContent& content() const { return content_; }

  // `take` gets each piece as it is read, cropped. Counts what is left after each step.
  template <class Take>
  void each(CloudWorkResult& counts, Monitor& monitor, std::string_view what, const Take& take) const {
    counts.read = counts.in_box = counts.in_outline = counts.selected = 0;
    for (const fs::path& file : files_) {
      const auto reader = open_cloud(file);
      for (PointCloud part; reader->read(part, kPiece);) {
        monitor.check();
        bring(part);
        counts.read += part.size();
        if (work_.box) part = crop(part, *work_.box, work_.outside);
        counts.in_box += part.size();
        if (!work_.outline.empty()) part = crop(part, work_.outline, work_.outside);
        counts.in_outline += part.size();
        if (!work_.selection.empty()) part = crop(part, work_.selection);
        counts.selected += part.size();
        if (part.size() > 0) take(part);
        monitor.progress(what, static_cast<std::size_t>(counts.read), static_cast<std::size_t>(points_));
      }
    }
  }

  // The first of the points as they are in the files, at most so many.
  PointCloud beginning(std::size_t most) const {
    PointCloud part;
    for (const fs::path& file : files_)
      if (open_cloud(file)->read(part, most)) break;
    return part;
  }

 private:
  void bring(PointCloud& part) const {
    if (part.origin != content_.origin) {
      const Eigen::Vector3d shift = part.origin - content_.origin;
      for (Eigen::Vector3f& p : part.positions) p = (p.cast<double>() + shift).cast<float>();
      part.origin = content_.origin;
    }
    if (!content_.normals) part.normals = {};
    if (!content_.colours) part.colours = {};
    if (!content_.views) part.views = {};
    if (!content_.gsd) part.gsd = {};
    if (!content_.counted) part.counted = {};
    if (!content_.errors) part.errors = {};
    if (!content_.conflicts) part.conflicts = {};
    if (!content_.faults) part.faults = {};
    if (!content_.classes) part.classes = {};
    if (!content_.class_confidence) part.class_confidence = {};
  }

  std::span<const fs::path> files_;
  const CloudWork& work_;
  CloudContent content_;  // what all carry, in the frame of the first with points
  std::uint64_t points_ = 0;
};

// Rectangles of cells in plan that tile the cloud, each with a number of points that is not much over the one asked for
// unless a single cell holds more.
class Layout {
 public:
  static constexpr std::uint32_t kNone = std::numeric_limits<std::uint32_t>::max();
  // Cells of at least this size; where `tiles` is given, of whole tiles.
  Layout(const Eigen::Vector2d& low, const Eigen::Vector2d& high, double least, double tiles) {
    const double size = std::max({(high - low).maxCoeff() / kGrid, least, 1e-9});
    unit_ = tiles > 0 ? tiles : size;
    units_ = tiles > 0 ? static_cast<std::int64_t>(std::ceil(size / tiles)) : 1;
    first_column_ = cell(low.x()), first_row_ = cell(low.y());
    columns_ = static_cast<std::size_t>(cell(high.x()) - first_column_ + 1);
    rows_ = static_cast<std::size_t>(cell(high.y()) - first_row_ + 1);
    counts_.assign(columns_ * rows_, 0);
  }
  void count(const Eigen::Vector3d& p) { ++counts_[index(p.x(), p.y())]; }
  void divide(std::uint64_t most) {
    part_of_cell_.assign(counts_.size(), kNone);
    divide({0, 0, columns_, rows_}, most);
  }
  std::size_t parts() const { return parts_; }
  std::size_t part_at(double x, double y) const { return part_of_cell_[index(x, y)]; }  // kNone: where no point lies

 private:
  struct Rectangle {
    std::size_t left, top, right, bottom;
  };
  std::int64_t cell(double x) const {
    const auto unit = static_cast<std::int64_t>(std::floor(x / unit_));
    return unit >= 0 ? unit / units_ : -((-unit + units_ - 1) / units_);
  }
  std::size_t index(double x, double y) const {
    const auto within = [](std::int64_t at, std::size_t count) {
      return static_cast<std::size_t>(std::clamp<std::int64_t>(at, 0, static_cast<std::int64_t>(count) - 1));
    };
    return within(cell(y) - first_row_, rows_) * columns_ + within(cell(x) - first_column_, columns_);
  }
  void divide(const Rectangle& r, std::uint64_t most) {
    const bool wide = r.right - r.left >= r.bottom - r.top;
    const std::size_t lines = wide ? r.right - r.left : r.bottom - r.top;
    std::vector<std::uint64_t> by_line(lines, 0);
    std::uint64_t all = 0;
    for (std::size_t y = r.top; y < r.bottom; ++y)
      for (std::size_t x = r.left; x < r.right; ++x)
        by_line[wide ? x - r.left : y - r.top] += counts_[y * columns_ + x], all += counts_[y * columns_ + x];
    if (all <= most || lines < 2) {
      if (all == 0) return;
      for (std::size_t y = r.top; y < r.bottom; ++y)
        for (std::size_t x = r.left; x < r.right; ++x)
          part_of_cell_[y * columns_ + x] = static_cast<std::uint32_t>(parts_);
      ++parts_;
      return;
    }
    // Where the halves are most alike.
    std::size_t best = 1;
    std::uint64_t before = 0, least = std::numeric_limits<std::uint64_t>::max();
    for (std::size_t k = 1; k < lines; ++k) {
      before += by_line[k - 1];
      const std::uint64_t apart = 2 * before > all ? 2 * before - all : all - 2 * before;
      if (apart < least) least = apart, best = k;
    }
    Rectangle first = r, second = r;
    if (wide)
      first.right = second.left = r.left + best;
    else
      first.bottom = second.top = r.top + best;
    divide(first, most);
    divide(second, most);
  }

  double unit_ = 1;
  std::int64_t units_ = 1, first_column_ = 0, first_row_ = 0;
  std::size_t columns_ = 0, rows_ = 0, parts_ = 0;
  std::vector<std::uint64_t> counts_;
  std::vector<std::uint32_t> part_of_cell_;
};

// Points by part, in files of a folder that goes with it.
class PartFiles {
 public:
  PartFiles(const fs::path& beside, std::size_t parts) : buffers_(parts) {
    std::string name = beside.string() + ".parts-XXXXXX";
    if (!::mkdtemp(name.data()))
      throw Error(ErrorKind::resource, beside.string(), "has no room beside it for parts of the cloud",
                  "check the folder and its permissions");
    folder_ = name;
  }
  ~PartFiles() {
    std::error_code ignored;
    fs::remove_all(folder_, ignored);
  }
  PartFiles(const PartFiles&) = delete;
  PartFiles& operator=(const PartFiles&) = delete;

  void add(std::size_t part, const PointCloud& cloud, std::span<const std::uint32_t> points) {
    buffers_[part].append(pick(cloud, points));
    held_ += points.size();
    if (buffers_[part].size() >= kPiece) write(part);
    if (held_ >= 8 * kPiece)
      for (std::size_t p = 0; p < buffers_.size(); ++p) write(p);
  }
  PointCloud read(std::size_t part) {
    write(part);
    PointCloud cloud;
    std::ifstream in(file(part), std::ios::binary);
    for (std::uint64_t size = 0; in.read(reinterpret_cast<char*>(&size), sizeof size);) {
      Bytes bytes(size);
      in.read(reinterpret_cast<char*>(bytes.data()), static_cast<std::streamsize>(size));
      if (!in) throw Error(ErrorKind::resource, file(part).string(), "ends too early", "run the same command again");
      cloud.append(PointCloud::from_bytes(bytes));
    }
    std::error_code ignored;
    fs::remove(file(part), ignored);
    return cloud;
  }

 private:
  fs::path file(std::size_t part) const { return folder_ / fmt::format("{}", part); }
  void write(std::size_t part) {
    PointCloud& buffer = buffers_[part];
    if (buffer.size() == 0) return;
    const Bytes bytes = buffer.to_bytes();
    const std::uint64_t size = bytes.size();
    std::ofstream out(file(part), std::ios::binary | std::ios::app);
    out.write(reinterpret_cast<const char*>(&size), sizeof size);
    out.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(size));
    out.close();
    if (!out)
      throw Error(ErrorKind::resource, file(part).string(), "cannot be written",
                  "free some disk space: parts of the cloud take as much as the cloud");
    held_ -= buffer.size();
    buffer = {};
  }

  fs::path folder_;
  std::vector<PointCloud> buffers_;
  std::size_t held_ = 0;
};

// A file that is begun with its first points, and takes its place at the end.
class LateWriter {
 public:
  // `content`: of a file that gets no points.
  LateWriter(fs::path file, CloudFormat format, const CloudContent& content, bool tiled)
      : file_(std::move(file)), format_(format), content_(content), tiled_(tiled) {}
  void add(const PointCloud& cloud, double spacing) {
    if (cloud.size() == 0) return;
    if (!writer_) {
      CloudContent content = content_of(cloud);
      content.spacing = std::max(1e-6, spacing);
      content.tiled = tiled_ && format_ == CloudFormat::ply;
      writer_ = std::make_unique<CloudWriter>(file_, format_, content);
      tiled_ = content.tiled;
    }
    if (tiled_)
      writer_->add_tile(cloud, spacing);
    else
      writer_->add(cloud);
  }
  void finish() {
    if (!writer_) writer_ = std::make_unique<CloudWriter>(file_, format_, content_);
    writer_->finish();
  }

 private:
  fs::path file_;
  CloudFormat format_;
  CloudContent content_;
  bool tiled_;
  std::unique_ptr<CloudWriter> writer_;
};

class Work {
 public:
  Work(std::span<const fs::path> inputs, const fs::path& output, const CloudWork& work, const Executor& executor,
       Monitor& monitor)
      : input_files_(inputs),
        inputs_(inputs, work),
        output_(output),
        work_(work),
        executor_(executor),
        monitor_(monitor) {}

  CloudWorkResult run() {
    if (inputs_.points() <= work_.part_points)
      run_at_once();
    else
      run_in_parts();
    if (result_.written == 0)
      throw Error(ErrorKind::computation, output_.string(), "would have no point",
                  "check the box, the polygon and their side, or the selection");
    if (writer_) writer_->finish(), result_.files.push_back(output_.string());
    if (aside_) aside_->finish();
    if (!spacings_.empty()) result_.spacing = median(spacings_);
    return std::move(result_);
  }

 private:
  void run_at_once() {
    PointCloud cloud;
    inputs_.each(result_, monitor_, "read clouds", [&](const PointCloud& part) { cloud.append(part); });
    begin_files(1);
    work_on(std::move(cloud), nullptr, 0);
  }

  void run_in_parts() {
    Eigen::Vector3d low = Eigen::Vector3d::Constant(std::numeric_limits<double>::infinity()), high = -low;
    for (const fs::path& file : input_files_) {
      const TiledCloud cloud(file);
      for (const TiledCloud::Tile& tile : cloud.tiles())
        if (tile.points() > 0) low = low.cwiseMin(tile.low), high = high.cwiseMax(tile.high);
    }
    around_ = work_.clean || work_.normals || work_.thin > 0
                  ? kAround * std::max(work_.thin, typical_spacing(inputs_.beginning(4 * kPiece)))
                  : 0;
    Layout layout(low.head<2>(), high.head<2>(), around_, work_.tiles);
    inputs_.each(result_, monitor_, "count points", [&](const PointCloud& part) {
      for (std::size_t i = 0; i < part.size(); ++i) layout.count(part.position(i));
    });
    layout.divide(work_.part_points);
    begin_files(layout.parts());
    PartFiles files(output_, layout.parts());
    inputs_.each(result_, monitor_, "lay out parts", [&](const PointCloud& part) { lay_out(part, layout, files); });
    for (std::size_t part = 0; part < layout.parts(); ++part) {
      monitor_.check();
      work_on(files.read(part), &layout, part);
      monitor_.progress("work on parts", part + 1, layout.parts());
    }
  }

  // Each point to its part and to those that it lies around.
  void lay_out(const PointCloud& cloud, const Layout& layout, PartFiles& files) const {
    std::map<std::size_t, std::vector<std::uint32_t>> points;
    for (std::size_t i = 0; i < cloud.size(); ++i) {
      const Eigen::Vector3d p = cloud.position(i);
      std::array<std::size_t, 9> parts;
      std::size_t count = 0;
      for (const double dy : {0.0, -around_, around_})
        for (const double dx : {0.0, -around_, around_}) {
          const std::size_t part = layout.part_at(p.x() + dx, p.y() + dy);
          const auto end = parts.begin() + static_cast<std::ptrdiff_t>(count);
          if (part != Layout::kNone && std::find(parts.begin(), end, part) == end) parts[count++] = part;
        }
      for (std::size_t k = 0; k < count; ++k) points[parts[k]].push_back(static_cast<std::uint32_t>(i));
    }
    for (const auto& [part, indices] : points) files.add(part, cloud, indices);
  }

  void begin_files(std::size_t parts) {
    result_.parts = parts;
    if (!(work_.tiles > 0)) writer_.emplace(output_, work_.format, inputs_.content(), parts > 1);
    if (!work_.aside.empty()) aside_.emplace(work_.aside, work_.aside_format, inputs_.content(), parts > 1);
  }

  // `layout`: nullptr for a cloud that is all there is; else the cloud is a part of it with what lies around.
  void work_on(PointCloud cloud, const Layout* layout, std::size_t part) {
    const auto own = [&](PointCloud all) {
      if (!layout) return all;
      std::vector<std::uint32_t> indices;
      for (std::size_t i = 0; i < all.size(); ++i)
        if (const Eigen::Vector3d p = all.position(i); layout->part_at(p.x(), p.y()) == part)
          indices.push_back(static_cast<std::uint32_t>(i));
      return pick(all, indices);
    };
    if (work_.clean) {
      Cleaned cleaned =
          icefield::part(cloud, find_faults(cloud, work_.cleaning, executor_, goes_on(cloud, layout, part)));
      const PointCloud out = own(std::move(cleaned.aside));
      for (const std::uint8_t fault : out.faults) ++result_.faults[fault];
      if (aside_) aside_->add(out, out.size() > 1 ? typical_spacing(out) : 0);
      cloud = std::move(cleaned.kept);
      result_.cleaned += layout ? own(cloud).size() : cloud.size();
    }
    if (work_.thin > 0) {
      cloud = thin(cloud, work_.thin);
      result_.thinned += layout ? own(cloud).size() : cloud.size();
    }
    if (work_.normals) estimate_normals(cloud, kNormalNeighbours, Eigen::Vector3f::UnitZ(), executor_);
    cloud = own(std::move(cloud));
    if (cloud.size() == 0) return;
    result_.written += cloud.size();
    const double spacing = typical_spacing(cloud);
    spacings_.push_back(spacing);
    if (writer_)
      writer_->add(cloud, spacing);
    else
      write_tiles(cloud);
  }

  // Where the cloud goes on beyond what is at hand: the outer half of what lies around the part.
  std::vector<std::uint8_t> goes_on(const PointCloud& cloud, const Layout* layout, std::size_t part) const {
    std::vector<std::uint8_t> open(layout ? cloud.size() : 0, 1);
    for (std::size_t i = 0; i < open.size(); ++i) {
      const Eigen::Vector3d p = cloud.position(i);
      for (const double dy : {0.0, -around_ / 2, around_ / 2})
        for (const double dx : {0.0, -around_ / 2, around_ / 2})
          if (layout->part_at(p.x() + dx, p.y() + dy) == part) open[i] = 0;
    }
    return open;
  }

  // Parts are of whole tiles, so that each tile is written once.
  void write_tiles(const PointCloud& cloud) {
    for (const CloudTile& tile : split(cloud, work_.tiles)) {
      monitor_.check();
      const fs::path file = output_.parent_path() / fmt::format("{}_{}_{}{}", output_.stem().string(), tile.column,
                                                                tile.row, output_.extension().string());
      write_cloud(file, work_.format, tile.cloud, std::max(1e-6, spacings_.front()));
      result_.files.push_back(file.string());
    }
  }

  std::span<const fs::path> input_files_;
  Inputs inputs_;
  fs::path output_;
  const CloudWork& work_;
  const Executor& executor_;
  Monitor& monitor_;
  CloudWorkResult result_;
  double around_ = 0;
  std::vector<double> spacings_;  // by part
  std::optional<LateWriter> writer_, aside_;
};

}  // namespace

CloudWorkResult work_on_clouds(std::span<const fs::path> inputs, const fs::path& output, const CloudWork& work,
                               const Executor& executor, Monitor& monitor) {
  if (inputs.empty()) throw Error(ErrorKind::usage, "cloud", "has no input", "give one PLY file at least");
  return Work(inputs, output, work, executor, monitor).run();
}

}  // namespace icefield
