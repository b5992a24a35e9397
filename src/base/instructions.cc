#include "icefield/base/instructions.h"

#include <hwy/highway.h>

#include <algorithm>
#include <atomic>

#include "icefield/base/error.h"

namespace icefield {
namespace {

std::atomic<int> pinned{-1};  // index into kLevels

struct Level {
  const char* name;
  std::int64_t target;
};

// Only levels for which kernels are compiled; the baseline is the first.
constexpr Level kLevels[] = {
#if HWY_ARCH_X86
    {"avx2", HWY_AVX2},
    {"avx512", HWY_AVX3},
#else
    {"native", HWY_STATIC_TARGET},
#endif
};

int best_level() {
  static const int best = [] {
    const std::int64_t supported = hwy::SupportedTargets();
    int found = 0;
    for (int i = 0; i < static_cast<int>(std::size(kLevels)); ++i)
      if (supported & kLevels[i].target) found = i;
    return found;
  }();
  return best;
}

int level_in_use() {
  const int p = pinned.load(std::memory_order_relaxed);
  return p >= 0 ? p : best_level();
}

}  // namespace

std::string instruction_level() {
  return kLevels[level_in_use()].name;
}

std::vector<std::string> available_instruction_levels() {
  std::vector<std::string> names;
  for (int i = 0; i <= best_level(); ++i) names.emplace_back(kLevels[i].name);
  return names;
}

void pin_instruction_level(const std::string& name) {
  const auto names = available_instruction_levels();
  const auto found = std::find(names.begin(), names.end(), name);
  if (found == names.end()) {
    std::string list;
    for (const std::string& n : names) list += (list.empty() ? "" : ", ") + n;
    throw Error(ErrorKind::usage, "instruction level '" + name + "'", "not available on this machine",
                "choose one of: " + list);
  }
  pinned = static_cast<int>(found - names.begin());
  std::int64_t too_high = 0;
  for (std::size_t i = pinned + 1; i < std::size(kLevels); ++i) too_high |= kLevels[i].target;
  hwy::DisableTargets(too_high);
}

void require_baseline_instructions() {
#if HWY_ARCH_X86
  if (!(hwy::SupportedTargets() & HWY_AVX2))
    throw Error(ErrorKind::resource, "processor", "has no AVX2, which this build needs",
                "run on a processor from 2013 or later, or build with another -march");
#endif
}

}  // namespace icefield
