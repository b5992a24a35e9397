// What photos a survey is made of: found in its sources, read, named, sorted out, grouped by camera.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "icefield/survey/survey.h"
#include "src/survey/store.h"
#include "src/survey/survey_file.h"

namespace icefield {

struct Catalogue {
  PhotoList list;
  std::vector<Fingerprint> file_records, photo_records;  // keys of what the store knows of them
  std::vector<std::string> remarks;                      // what the user should be told, each a sentence
};

// Only new or changed files are read; what is known of the others comes from the store. Throws Error(input) where fewer
// than two photos can be used, and for folders of masks and lists of pairs that are not what survey.toml says.
Catalogue read_catalogue(const std::filesystem::path& survey, const SurveyFile& file, Store& store,
                         const Executor& executor, Monitor& monitor);

// One channel: 0 where all colours of the mask are 0 (alpha does not count).
ImageU8 mask_of(const ImageU8& image);

// The shortest end of each path that no other path ends with.
std::vector<std::string> shortest_names(const std::vector<std::filesystem::path>& files);
// The photo of this name, or else those whose path ends with it.
std::vector<std::size_t> photos_named(const std::string& name, const std::vector<SurveyPhoto>& photos);
// The only one. Throws Error(usage) where there is none, and where several fit, naming them.
std::size_t photo_index(const std::string& name, const std::vector<SurveyPhoto>& photos);

// A lens that zooms is a camera for each focal length, and the lengths that files state jitter: by photo, the shortest
// length of its group, in which no two differ by over one percent. 0 where none is stated.
std::vector<double> zoom_groups(const std::vector<SurveyPhoto>& photos);

}  // namespace icefield
