#include <fmt/format.h>

#include <algorithm>

#include "src/survey/photo_catalogue.h"

namespace icefield {
namespace fs = std::filesystem;

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

}  // namespace icefield
