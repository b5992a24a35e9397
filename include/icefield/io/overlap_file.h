// Overlaps of photos, as text.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "icefield/judge/compare.h"

namespace icefield {

// Lines PHOTO | PHOTO | PERCENT | DEGREES; '#' starts a comment. Throws Error(input) naming the line that is none.
std::vector<PhotoOverlap> read_overlap_file(const std::filesystem::path& file);
void write_overlap_file(const std::filesystem::path& file, const std::vector<PhotoOverlap>& overlaps);

}  // namespace icefield
