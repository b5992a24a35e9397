#include "src/survey/photo_files.h"
#include "src/survey/survey_state.h"

namespace icefield {

ImageU8 PhotoFiles::mask(PhotoIndex photo) {
  const std::filesystem::path& file = list_.photos[photo.value].mask;
  return file.empty() ? ImageU8() : mask_of(read_photo(file, limits_));
}

std::unique_ptr<PhotoSource> Survey::source() {
  return std::make_unique<PhotoFiles>(photos(), settings_.photo);
}

const SurveyPhoto& Survey::photo(const std::string& name) {
  const PhotoList& list = photos();
  return list.photos[icefield::photo_index(name, list.photos)];
}

void Survey::warn_once(const std::string& message) {
  if (state_->said.insert(message).second) monitor_.log(LogLevel::warning, message);
}

// Photos are read whole, which takes its time: what was learned is kept from the first time on, though looking alone
// makes no records. Where a run holds the lock, or nothing may be written, it is not.
Catalogue Survey::read_photos() {
  State& state = *state_;
  const std::filesystem::path records = folder_ / "work" / "records.sqlite";
  std::error_code ignored;
  if (!state.lock && !state.settings_file.trying_out() && !std::filesystem::exists(records, ignored)) {
    try {
      const FolderLock held(folder_, FolderLock::Kind::run);
      Store store(records, monitor_);
      Catalogue read = read_catalogue(folder_, state.file, store, executor_, monitor_);
      state.store.look_again();
      return read;
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::resource) throw;
    }
  }
  return read_catalogue(folder_, state.file, state.store, executor_, monitor_);
}

const PhotoList& Survey::photos() {
  State& state = *state_;
  if (state.list) return *state.list;
  Catalogue read = read_photos();
  for (const std::string& remark : read.remarks) warn_once(remark);
  state.file_records = std::move(read.file_records);
  state.photo_records = std::move(read.photo_records);
  state.list = std::make_shared<const PhotoList>(std::move(read.list));
  state.lists.push_back(state.list);
  state.match_records.emplace(state.store, *state.list, settings_);
  return *state.list;
}

}  // namespace icefield
