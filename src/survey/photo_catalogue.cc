#include "src/survey/photo_catalogue.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <set>
#include <tuple>

#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "src/survey/pair_list.h"
#include "src/survey/records.h"
#include "src/survey/versions.h"

namespace icefield {
namespace fs = std::filesystem;

ImageU8 mask_of(const ImageU8& image) {
  ImageU8 mask(image.width(), image.height());
  const int colours = image.channels() >= 3 ? 3 : 1;
  for (int y = 0; y < image.height(); ++y)
    for (int x = 0; x < image.width(); ++x)
      for (int c = 0; c < colours; ++c) mask.at(x, y) = std::max(mask.at(x, y), image.at(x, y, c));
  return mask;
}

namespace {

// The mask lies where the photo does, in a tree of the same shape; the longest end of the photo's path that has one.
// Shorter than the photo's name, it could be another photo's as well. A mask that does not fit leaves the photo out:
// without it, what was to be hidden would be used.
void find_mask(SurveyPhoto& photo, const fs::path& masks, const PhotoReadLimits& limits) {
  if (!photo.left_out.empty()) return;
  std::vector<fs::path> ends = {photo.file.filename()};
  for (fs::path folder = fs::absolute(photo.file).lexically_normal().parent_path(); folder.has_filename();
       folder = folder.parent_path())
    ends.push_back(folder.filename() / ends.back());
  const auto depth = static_cast<std::size_t>(std::count(photo.name.begin(), photo.name.end(), '/'));
  for (std::size_t k = ends.size(); k-- > 0 && photo.mask.empty();)
    for (const fs::path& name : {fs::path(ends[k]).replace_extension(".png"), fs::path(ends[k].string() + ".png")})
      if (photo.mask.empty() && fs::exists(masks / name)) {
        photo.mask = masks / name;
        if (k < depth)
          photo.left_out = "its mask " + photo.mask.string() +
                           " could be that of another photo of the same name: put masks into folders as the photos are";
      }
  if (photo.mask.empty()) return;
  try {
    const PhotoMetadata size = read_photo_metadata(photo.mask, limits);
    if (size.width != photo.metadata.width || size.height != photo.metadata.height)
      photo.left_out = fmt::format("its mask {} is of {}x{} px, the photo as stored of {}x{}", photo.mask.string(),
                                   size.width, size.height, photo.metadata.width, photo.metadata.height);
    const std::string bytes = read_file(photo.mask, std::size_t{1} << 30);
    photo.mask_content = fingerprint_bytes({reinterpret_cast<const std::byte*>(bytes.data()), bytes.size()});
  } catch (const Error& e) {
    photo.left_out = "its mask " + photo.mask.string() + " " + e.fault();
  }
}

// Photos of one lens at one focal length, of one size.
using CameraKey = std::tuple<std::string, std::string, std::string, std::string, int, int, double>;

class CatalogueReader {
 public:
  CatalogueReader(const fs::path& survey, const SurveyFile& file, Store& store, const Executor& executor,
                  Monitor& monitor)
      : survey_(survey),
        file_(file),
        limits_(file.settings.photo),
        settings_text_(file.settings.text({"photo"})),
        store_(store),
        executor_(executor),
        monitor_(monitor) {}

  Catalogue read() {
    find_files();
    executor_.run("read photos", found_.size(), monitor_, [&](std::size_t i) { read_photo_file(i); });
    switch_off();
    leave_out_copies();
    leave_out_raw_beside();
    find_masks();
    std::stable_partition(found_.begin(), found_.end(), [](const SurveyPhoto& p) { return p.left_out.empty(); });
    group_by_camera();
    PhotoList& list = result_.list;
    for (std::size_t i = list.used; i < list.photos.size(); ++i)
      if (list.photos[i].left_out != kSwitchedOff && !list.photos[i].raw_beside)
        result_.remarks.push_back(list.photos[i].file.string() + ": left out: " + list.photos[i].left_out);
    need_two();
    if (const fs::path own = survey_ / "pairs.txt"; fs::exists(own)) list.listed = read_pair_list(own, list);
    return std::move(result_);
  }

 private:
  static constexpr const char* kSwitchedOff = "switched off";

  fs::path in_survey(const std::string& path) const {
    return fs::path(path).is_absolute() ? fs::path(path) : survey_ / path;
  }

  void find_files() {
    for (const std::string& source : file_.sources) sources_.push_back(in_survey(source));
    const std::vector<fs::path> files = find_photo_files(sources_);
    if (files.empty())
      throw Error(ErrorKind::input, sources_.empty() ? survey_.string() : sources_.front().string(), "has no photos",
                  "add a folder with photos (JPEG, PNG, TIFF, HEIC, WebP, RAW ...): `icefield begin " +
                      survey_.string() + " FOLDER`");
    found_.resize(files.size());
    result_.file_records.resize(files.size());
    result_.photo_records.resize(files.size());
    const std::vector<std::string> names = shortest_names(files);
    for (std::size_t i = 0; i < files.size(); ++i) found_[i].file = files[i], found_[i].name = names[i];
  }

  // Size and time stand for the content as long as both stay; then the content itself is the key.
  bool find_content(std::size_t i) {
    SurveyPhoto& photo = found_[i];
    struct ::stat info {};
    if (::stat(photo.file.c_str(), &info) != 0) {
      photo.left_out = "cannot be read";
      return false;
    }
    const Fingerprint key = Fingerprinter()
                                .add(photo.file.string())
                                .add(static_cast<std::int64_t>(info.st_size))
                                .add(static_cast<std::int64_t>(info.st_mtim.tv_sec))
                                .add(static_cast<std::int64_t>(info.st_mtim.tv_nsec))
                                .result();
    result_.file_records[i] = key;
    if (const auto known = store_.read("file", key, [](const Bytes& b) { return ByteReader(b).get<Fingerprint>(); })) {
      photo.content = *known;
      return true;
    }
    try {
      const std::string bytes = read_file(photo.file, std::size_t{4} << 30);
      photo.content = fingerprint_bytes({reinterpret_cast<const std::byte*>(bytes.data()), bytes.size()});
    } catch (const Error& e) {
      photo.left_out = e.fault();
      return false;
    }
    store_.put("file", key, ByteWriter().put(photo.content).take());
    return true;
  }

  void read_photo_file(std::size_t i) {
    if (!find_content(i)) return;
    SurveyPhoto& photo = found_[i];
    const Fingerprint key = Fingerprinter().add(kPhotoVersion).add(photo.content).add(settings_text_).result();
    result_.photo_records[i] = key;
    if (const auto known = store_.read("photo", key, read_photo_record)) {
      photo.metadata = known->metadata, photo.scores = known->scores, photo.left_out = known->fault;
      return;
    }
    try {
      photo.metadata = read_photo_metadata(photo.file, limits_);
      photo.scores = score_photo(read_photo_grey(photo.file, limits_));
    } catch (const Error& e) {
      photo.left_out = e.fault();
      photo.metadata.width = photo.metadata.height = 0;
    }
    store_.put("photo", key, photo_record(photo.metadata, photo.scores, photo.left_out));
  }

  void switch_off() {
    std::set<std::string> off;
    for (const std::string& name : file_.off) {
      const std::vector<std::size_t> fitting = photos_named(name, found_);
      if (fitting.size() == 1) off.insert(found_[fitting[0]].name);
      if (fitting.size() > 1)
        result_.remarks.push_back(fmt::format(
            "survey.toml: off: '{}' fits {} photos ({}, {} ...) and switches none off: write more of the path", name,
            fitting.size(), found_[fitting[0]].name, found_[fitting[1]].name));
    }
    for (SurveyPhoto& photo : found_)
      if (photo.left_out.empty() && off.count(photo.name)) photo.left_out = kSwitchedOff;
  }

  void leave_out_copies() {
    std::map<Fingerprint, std::string> by_content;
    for (SurveyPhoto& photo : found_) {
      if (!photo.left_out.empty()) continue;
      const auto [other, fresh] = by_content.try_emplace(photo.content, photo.name);
      if (!fresh) photo.left_out = "is the same file as " + other->second;
    }
  }

  // A RAW beside the photo that the camera made of it is the same shot.
  void leave_out_raw_beside() {
    const auto shot = [](const fs::path& file) {
      std::string stem = fs::path(file).replace_extension().string();
      std::transform(stem.begin(), stem.end(), stem.begin(),
                     [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
      return stem;
    };
    std::map<std::string, std::size_t> developed;
    for (std::size_t i = 0; i < found_.size(); ++i)
      if (found_[i].left_out.empty() && !is_raw_photo(found_[i].file)) developed.emplace(shot(found_[i].file), i);
    for (SurveyPhoto& photo : found_) {
      if (!photo.left_out.empty() || !is_raw_photo(photo.file)) continue;
      const auto same = developed.find(shot(photo.file));
      if (same == developed.end()) continue;
      photo.left_out = "is the same shot as " + found_[same->second].name + " (switch that off to take the RAW)";
      photo.raw_beside = true;
    }
  }

  void find_masks() {
    if (file_.masks.empty()) return;
    const fs::path masks = in_survey(file_.masks);
    if (!fs::is_directory(masks))
      throw Error(ErrorKind::input, masks.string(), "is not there, though survey.toml names it for masks",
                  "bring the folder back, or take the line out of " + (survey_ / "survey.toml").string());
    executor_.run("read masks", found_.size(), monitor_, [&](std::size_t i) { find_mask(found_[i], masks, limits_); });
  }

  // No two cameras have one name.
  std::string name_of_camera(const PhotoMetadata& m) const {
    const std::string model = m.model.empty() ? "unknown camera" : m.make.empty() ? m.model : m.make + " " + m.model;
    std::string name = fmt::format("{}{} {}x{}", model, m.focal_mm > 0 ? fmt::format(" {:.4g} mm", m.focal_mm) : "",
                                   m.width, m.height);
    const auto taken = [&] {
      return std::any_of(result_.list.cameras.begin(), result_.list.cameras.end(),
                         [&](const SurveyCamera& other) { return other.name == name; });
    };
    if (taken() && !m.body.empty()) name += ", body " + m.body;
    if (taken()) name += fmt::format(" ({})", result_.list.cameras.size() + 1);
    return name;
  }

  // As its photos' metadata tell it, and as survey.toml knows better.
  SurveyCamera first_camera(const PhotoMetadata& m, const SensorTable& sensors) const {
    SurveyCamera camera;
    camera.name = name_of_camera(m);
    FocalGuess guess = guess_focal(m, sensors);
    const auto known = file_.cameras.find(camera.name);
    const GivenCamera given = known != file_.cameras.end() ? known->second : GivenCamera{};
    if (given.focal_px > 0) guess = {given.focal_px, given.uncertainty_percent, FocalSource::given};
    camera.prior = {make_camera(given.model.value_or(CameraModel::radial), m.width, m.height, guess.focal_px),
                    guess.uncertainty_percent};
    const auto parameters = camera_parameters(camera.prior.camera.model);
    for (std::size_t p = 1; p < parameters.size(); ++p)
      if (const auto value = given.parameters.find(parameters[p].name); value != given.parameters.end())
        camera.prior.camera.parameters[p] = value->second;
    camera.source = guess.source;
    return camera;
  }

  void group_by_camera() {
    SensorTable sensors = SensorTable::built_in();
    if (const fs::path own = survey_ / "sensors.txt"; fs::exists(own)) sensors.add(read_file(own), own.string());
    PhotoList& list = result_.list;
    const std::vector<double> zoomed = zoom_groups(found_);
    std::map<CameraKey, std::size_t> cameras;
    for (std::size_t n = 0; n < found_.size(); ++n) {
      SurveyPhoto& photo = found_[n];
      if (photo.left_out.empty()) {
        ++list.used;
        const PhotoMetadata& m = photo.metadata;
        const auto [entry, fresh] =
            cameras.try_emplace({m.make, m.model, m.body, m.lens, m.width, m.height, zoomed[n]}, list.cameras.size());
        if (fresh) list.cameras.push_back(first_camera(m, sensors));
        if (!m.remark.empty()) result_.remarks.push_back(photo.file.string() + ": " + m.remark);
        photo.camera = CameraIndex(entry->second);
        ++list.cameras[entry->second].photos;
      }
      list.photos.push_back(std::move(photo));
    }
  }

  void need_two() const {
    const PhotoList& list = result_.list;
    if (list.used >= 2) return;
    const std::size_t out = list.photos.size() - list.used;
    throw Error(ErrorKind::input, sources_.front().string(),
                fmt::format("has {} usable photo{}{}", list.used, list.used == 1 ? "" : "s",
                            out > 0 ? fmt::format(" ({} left out: {})", out, list.photos.back().left_out) : ""),
                "depth needs two photos at least, better twenty, that overlap by two thirds");
  }

  const fs::path& survey_;
  const SurveyFile& file_;
  const PhotoReadLimits& limits_;
  std::string settings_text_;
  Store& store_;
  const Executor& executor_;
  Monitor& monitor_;
  std::vector<fs::path> sources_;
  std::vector<SurveyPhoto> found_;
  Catalogue result_;
};

}  // namespace

std::vector<double> zoom_groups(const std::vector<SurveyPhoto>& photos) {
  constexpr double kSame = 1.01;
  const auto length = [](const PhotoMetadata& m) { return m.focal_mm > 0 ? m.focal_mm : m.focal_35mm; };
  using Lens = std::tuple<std::string, std::string, std::string, std::string, int, int, bool>;
  std::map<Lens, std::vector<std::pair<double, std::size_t>>> lenses;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const PhotoMetadata& m = photos[i].metadata;
    if (photos[i].left_out.empty() && length(m) > 0)
      lenses[{m.make, m.model, m.body, m.lens, m.width, m.height, m.focal_mm > 0}].emplace_back(length(m), i);
  }
  std::vector<double> group(photos.size(), 0);
  for (auto& [lens, lengths] : lenses) {
    std::sort(lengths.begin(), lengths.end());
    double shortest = 0;
    for (const auto& [mm, photo] : lengths) {
      if (!(mm <= kSame * shortest)) shortest = mm;
      group[photo] = shortest;
    }
  }
  return group;
}

Catalogue read_catalogue(const fs::path& survey, const SurveyFile& file, Store& store, const Executor& executor,
                         Monitor& monitor) {
  return CatalogueReader(survey, file, store, executor, monitor).read();
}

}  // namespace icefield
