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

// Photos are read whole, which takes its time: what was learned is kept from the first time on, in records that a run
// adds to later. It takes no lock: a run may begin meanwhile. Where nothing may be written, nothing is kept.
Catalogue Survey::State::read_photos(const std::filesystem::path& folder, const Executor& executor, Monitor& monitor) {
  const std::filesystem::path records = folder / "work" / "records.sqlite";
  std::error_code ignored;
  if (!settings_file.trying_out() && !std::filesystem::exists(records, ignored)) {
    try {
      make_folder(records.parent_path());
      Store first(records, monitor);
      Catalogue read = read_catalogue(folder, file, first, executor, monitor);
      store.look_again();
      return read;
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::resource) throw;
    }
  }
  return read_catalogue(folder, file, store, executor, monitor);
}

const PhotoList& Survey::photos() {
  State& state = *state_;
  if (state.list) return *state.list;
  Catalogue read = state.read_photos(folder_, executor_, monitor_);
  for (const std::string& remark : read.remarks) warn_once(remark);
  state.file_records = std::move(read.file_records);
  state.photo_records = std::move(read.photo_records);
  state.list = std::make_shared<const PhotoList>(std::move(read.list));
  state.lists.push_back(state.list);
  state.match_records.emplace(state.store, *state.list, settings_);
  return *state.list;
}

}  // namespace icefield
