// Pairs that the user asks for.
#pragma once
#include <filesystem>
#include <vector>

#include "icefield/survey/survey.h"

namespace icefield {

// Lines PHOTO | PHOTO. Pairs with a photo that is left out are passed over. Throws Error(input) naming the line and the
// photo that the survey does not have.
std::vector<ProposedPair> read_pair_list(const std::filesystem::path& file, const PhotoList& list);

}  // namespace icefield
