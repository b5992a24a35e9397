#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <set>
#include <tuple>

#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "src/survey/pair_list.h"
#include "src/survey/survey_state.h"

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

}  // namespace

std::vector<std::string> shortest_names(const std::vector<fs::path>& files) {
  std::vector<std::vector<std::string>> parts(files.size());  // the last first
  for (std::size_t i = 0; i < files.size(); ++i) {
    for (const fs::path& part : fs::absolute(files[i]).lexically_normal())
      if (part != "/") parts[i].push_back(part.string());
    std::reverse(parts[i].begin(), parts[i].end());
  }
  std::vector<std::string> names(files.size()), ends(files.size());
  std::vector<std::uint8_t> named(files.size(), 0);
  for (std::size_t depth = 0, left = files.size(); left > 0; ++depth) {
    std::map<std::string, int> uses;
    for (std::size_t i = 0; i < files.size(); ++i) {
      if (depth >= parts[i].size()) continue;
      ends[i] = depth == 0 ? parts[i][0] : parts[i][depth] + "/" + ends[i];
      ++uses[ends[i]];
    }
    for (std::size_t i = 0; i < files.size(); ++i) {
      if (named[i] || (depth + 1 < parts[i].size() && uses[ends[i]] > 1)) continue;
      names[i] = ends[i];
      named[i] = 1;
      --left;
    }
  }
  return names;
}

std::vector<std::size_t> photos_named(const std::string& name, const std::vector<SurveyPhoto>& photos) {
  std::vector<std::size_t> fitting;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (photos[i].name == name) return {i};
    const std::string path = photos[i].file.string();
    if (path.size() > name.size() && path.ends_with(name) && path[path.size() - name.size() - 1] == '/')
      fitting.push_back(i);
  }
  return fitting;
}

std::size_t photo_index(const std::string& name, const std::vector<SurveyPhoto>& photos) {
  const std::vector<std::size_t> fitting = photos_named(name, photos);
  if (fitting.size() == 1) return fitting[0];
  if (fitting.empty())
    throw Error(ErrorKind::usage, name, "is no photo of this survey", "`icefield photos` lists them");
  std::string names;
  for (std::size_t k = 0; k < std::min<std::size_t>(fitting.size(), 3); ++k)
    names += (k > 0 ? ", " : "") + photos[fitting[k]].name;
  throw Error(ErrorKind::usage, name, fmt::format("fits {} photos ({})", fitting.size(), names),
              "write more of the path");
}

// A lens that zooms is a camera for each focal length, and the lengths that files state jitter: by photo, the shortest
// length of its group, in which no two differ by over one percent. 0 where none is stated.
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

const SurveyPhoto& Survey::photo(const std::string& name) {
  const PhotoList& list = photos();
  return list.photos[photo_index(name, list.photos)];
}

void Survey::warn_once(const std::string& message) {
  if (state_->said.insert(message).second) monitor_.log(LogLevel::warning, message);
}

const PhotoList& Survey::photos() {
  if (state_->list) return *state_->list;
  std::vector<fs::path> sources;
  for (const std::string& source : state_->file.sources)
    sources.push_back(fs::path(source).is_absolute() ? fs::path(source) : folder_ / source);
  const std::vector<fs::path> files = find_photo_files(sources);
  if (files.empty())
    throw Error(ErrorKind::input, sources.empty() ? folder_.string() : sources.front().string(), "has no photos",
                "add a folder with photos (JPEG, PNG, TIFF, HEIC, WebP, RAW ...): `icefield begin " + folder_.string() +
                    " FOLDER`");

  std::vector<SurveyPhoto> found(files.size());
  state_->file_records.assign(files.size(), {});
  state_->photo_records.assign(files.size(), {});
  const std::string settings_text = settings_.text({"photo"});
  executor_.run("read photos", files.size(), monitor_, [&](std::size_t i) {
    SurveyPhoto& photo = found[i];
    photo.file = files[i];
    // Size and time stand for the content as long as both stay; then the content itself is the key.
    struct ::stat info {};
    if (::stat(files[i].c_str(), &info) != 0) {
      photo.left_out = "cannot be read";
      return;
    }
    const Fingerprint file_key = Fingerprinter()
                                     .add(files[i].string())
                                     .add(static_cast<std::int64_t>(info.st_size))
                                     .add(static_cast<std::int64_t>(info.st_mtim.tv_sec))
                                     .add(static_cast<std::int64_t>(info.st_mtim.tv_nsec))
                                     .result();
    state_->file_records[i] = file_key;
    if (const auto known = state_->store.get("file", file_key)) {
      photo.content = ByteReader(*known).get<Fingerprint>();
    } else {
      std::string bytes;
      try {
        bytes = read_file(files[i], std::size_t{4} << 30);
      } catch (const Error& e) {
        photo.left_out = e.fault();
        return;
      }
      photo.content = fingerprint_bytes({reinterpret_cast<const std::byte*>(bytes.data()), bytes.size()});
      state_->store.put("file", file_key, ByteWriter().put(photo.content).take());
    }
    const Fingerprint key = Fingerprinter().add(kPhotoVersion).add(photo.content).add(settings_text).result();
    state_->photo_records[i] = key;
    if (const auto known = state_->store.get("photo", key)) {
      read_photo_record(*known, photo.metadata, photo.scores, photo.left_out);
      return;
    }
    try {
      photo.metadata = read_photo_metadata(files[i], settings_.photo);
      photo.scores = score_photo(read_photo_grey(files[i], settings_.photo));
    } catch (const Error& e) {
      photo.left_out = e.fault();
      photo.metadata.width = photo.metadata.height = 0;
    }
    state_->store.put("photo", key, photo_record(photo.metadata, photo.scores, photo.left_out));
  });

  const std::vector<std::string> names = shortest_names(files);
  for (std::size_t i = 0; i < found.size(); ++i) found[i].name = names[i];
  // A RAW beside the photo that the camera made of it is the same shot.
  std::map<std::string, std::size_t> developed;
  const auto shot = [](const fs::path& file) {
    std::string stem = fs::path(file).replace_extension().string();
    std::transform(stem.begin(), stem.end(), stem.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return stem;
  };
  std::map<Fingerprint, std::string> by_content;
  std::set<std::string> off;
  for (const std::string& name : state_->file.off) {
    const std::vector<std::size_t> fitting = photos_named(name, found);
    if (fitting.size() == 1) off.insert(found[fitting[0]].name);
    if (fitting.size() > 1)
      warn_once(
          fmt::format("survey.toml: off: '{}' fits {} photos ({}, {} ...) and switches none "
                      "off: write more of the path",
                      name, fitting.size(), found[fitting[0]].name, found[fitting[1]].name));
  }
  for (SurveyPhoto& photo : found) {
    if (!photo.left_out.empty()) continue;
    if (off.count(photo.name)) {
      photo.left_out = "switched off";
      continue;
    }
    const auto [other, fresh] = by_content.try_emplace(photo.content, photo.name);
    if (!fresh) photo.left_out = "is the same file as " + other->second;
  }
  for (std::size_t i = 0; i < found.size(); ++i)
    if (found[i].left_out.empty() && !is_raw_photo(found[i].file)) developed.emplace(shot(found[i].file), i);
  for (SurveyPhoto& photo : found) {
    if (!photo.left_out.empty() || !is_raw_photo(photo.file)) continue;
    const auto same = developed.find(shot(photo.file));
    if (same == developed.end()) continue;
    photo.left_out = "is the same shot as " + found[same->second].name + " (switch that off to take the RAW)";
    photo.raw_beside = true;
  }

  if (!state_->file.masks.empty()) {
    const fs::path masks =
        fs::path(state_->file.masks).is_absolute() ? fs::path(state_->file.masks) : folder_ / state_->file.masks;
    if (!fs::is_directory(masks))
      throw Error(ErrorKind::input, masks.string(), "is not there, though survey.toml names it for masks",
                  "bring the folder back, or take the line out of " + (folder_ / "survey.toml").string());
    executor_.run("read masks", found.size(), monitor_,
                  [&](std::size_t i) { find_mask(found[i], masks, settings_.photo); });
  }

  PhotoList list;
  SensorTable sensors = SensorTable::built_in();
  if (const fs::path own = folder_ / "sensors.txt"; fs::exists(own)) sensors.add(read_file(own), own.string());
  std::stable_partition(found.begin(), found.end(), [](const SurveyPhoto& p) { return p.left_out.empty(); });
  const std::vector<double> zoomed = zoom_groups(found);
  std::map<std::tuple<std::string, std::string, std::string, std::string, int, int, double>, std::size_t> cameras;
  for (std::size_t n = 0; n < found.size(); ++n) {
    SurveyPhoto& photo = found[n];
    if (photo.left_out.empty()) {
      ++list.used;
      const PhotoMetadata& m = photo.metadata;
      const auto [entry, fresh] =
          cameras.try_emplace({m.make, m.model, m.body, m.lens, m.width, m.height, zoomed[n]}, list.cameras.size());
      if (fresh) {
        SurveyCamera camera;
        const std::string model = m.model.empty()  ? "unknown camera"
                                  : m.make.empty() ? m.model
                                                   : m.make + " " + m.model;
        camera.name = fmt::format("{}{} {}x{}", model, m.focal_mm > 0 ? fmt::format(" {:.4g} mm", m.focal_mm) : "",
                                  m.width, m.height);
        const auto taken = [&] {
          return std::any_of(list.cameras.begin(), list.cameras.end(),
                             [&](const SurveyCamera& other) { return other.name == camera.name; });
        };
        if (taken() && !m.body.empty()) camera.name += ", body " + m.body;
        if (taken()) camera.name += fmt::format(" ({})", list.cameras.size() + 1);
        FocalGuess guess = guess_focal(m, sensors);
        const auto found_given = state_->file.cameras.find(camera.name);
        const GivenCamera given = found_given != state_->file.cameras.end() ? found_given->second : GivenCamera{};
        if (given.focal_px > 0) guess = {given.focal_px, given.uncertainty_percent, FocalSource::given};
        camera.prior = {make_camera(given.model.value_or(CameraModel::radial), m.width, m.height, guess.focal_px),
                        guess.uncertainty_percent};
        const auto parameters = camera_parameters(camera.prior.camera.model);
        for (std::size_t p = 1; p < parameters.size(); ++p)
          if (const auto value = given.parameters.find(parameters[p].name); value != given.parameters.end())
            camera.prior.camera.parameters[p] = value->second;
        camera.source = guess.source;
        list.cameras.push_back(std::move(camera));
      }
      if (!m.remark.empty()) warn_once(photo.file.string() + ": " + m.remark);
      photo.camera = CameraIndex(entry->second);
      ++list.cameras[entry->second].photos;
    }
    list.photos.push_back(std::move(photo));
  }
  for (std::size_t i = list.used; i < list.photos.size(); ++i)
    if (list.photos[i].left_out != "switched off" && !list.photos[i].raw_beside)
      warn_once(list.photos[i].file.string() + ": left out: " + list.photos[i].left_out);
  if (list.used < 2)
    throw Error(
        ErrorKind::input, sources.front().string(),
        fmt::format("has {} usable photo{}{}", list.used, list.used == 1 ? "" : "s",
                    list.photos.size() > list.used
                        ? fmt::format(" ({} left out: {})", list.photos.size() - list.used, list.photos.back().left_out)
                        : ""),
        "depth needs two photos at least, better twenty, that overlap by two thirds");
  if (const fs::path own = folder_ / "pairs.txt"; fs::exists(own)) list.listed = read_pair_list(own, list);
  state_->list = std::move(list);
  state_->feature_keys.clear();
  for (std::size_t i = 0; i < state_->list->used; ++i)
    state_->feature_keys.push_back(state_->feature_key(state_->list->photos[i], settings_));
  return *state_->list;
}

}  // namespace icefield
