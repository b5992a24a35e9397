// The instruction-set level at which SIMD kernels run.
#pragma once
#include <string>
#include <vector>

namespace icefield {

// Name of the level in use, "avx2" or "avx512" on x86-64. Part of every fingerprint: results are the same bytes for one
// build at one level.
std::string instruction_level();

// Levels that this machine can run, lowest first.
std::vector<std::string> available_instruction_levels();

// Pins the level, for results that match those of a lesser machine. Call before any computing.
// Throws Error(usage) for a name that is unknown or beyond this machine.
void pin_instruction_level(const std::string& name);

// Throws Error(resource) on a processor below the build's baseline. Call it first in a program.
void require_baseline_instructions();

}  // namespace icefield
