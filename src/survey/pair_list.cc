#include "src/survey/pair_list.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"

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
      const auto found = by_name.find(row.cells[static_cast<std::size_t>(k)]);
      if (found == by_name.end())
        throw Error(ErrorKind::input, place,
                    "names a photo that the survey does not have: '" + row.cells[static_cast<std::size_t>(k)] + "'",
                    "correct it; `icefield photos` shows the names");
      index[k] = found->second;
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
