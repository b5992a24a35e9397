// Selections as JSON (docs/formats.md).
#pragma once
#include <filesystem>

#include "icefield/block/selection.h"

namespace icefield {

// Throws Error(input) naming the file, the place in it and the fault.
Selection read_selection_file(const std::filesystem::path& file);
// There whole or not at all. Throws Error(resource).
void write_selection_file(const std::filesystem::path& file, const Selection& selection);

}  // namespace icefield
