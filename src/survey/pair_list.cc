#include "src/survey/pair_list.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "src/survey/survey_state.h"

namespace icefield {

std::vector<ProposedPair> read_pair_list(const std::filesystem::path& file, const PhotoList& list) {
  std::map<std::string, std::size_t> by_name;
  for (std::size_t i = 0; i < list.photos.size(); ++i) by_name.emplace(list.photos[i].name, i);
  std::vector<ProposedPair> pairs;
  for (const TextRow& row : read_rows(file)) {
    const std::string place = fmt::format("{}, line {}", file.string(), row.line);
    if (row.cells.size() != 2) throw Error(ErrorKind::input, place, "is no pair", "write PHOTO | PHOTO");
    std::size_t index[2];
    for (int k = 0; k < 2; ++k) {
      const std::string& name = row.cells[static_cast<std::size_t>(k)];
      if (const auto found = by_name.find(name); found != by_name.end()) {
        index[k] = found->second;
        continue;
      }
      const std::vector<std::size_t> fitting = photos_named(name, list.photos);
      if (fitting.size() != 1)
        throw Error(ErrorKind::input, place,
                    fitting.empty() ? "names a photo that the survey does not have: '" + name + "'"
                                    : fmt::format("names a photo that could be {} or {}: '{}'",
                                                  list.photos[fitting[0]].name, list.photos[fitting[1]].name, name),
                    "correct it; `icefield photos` shows the names");
      index[k] = fitting[0];
    }
    if (index[0] == index[1])
      throw Error(ErrorKind::input, place, "pairs a photo with itself", "write two different photos");
    if (std::max(index[0], index[1]) >= list.used) continue;
    ProposedPair pair;
    pair.first = PhotoIndex(std::min(index[0], index[1]));
    pair.second = PhotoIndex(std::max(index[0], index[1]));
    pair.add(PairSource::listed);
    pairs.push_back(pair);
  }
  return pairs;
}

}  // namespace icefield
