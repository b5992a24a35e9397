// Points of a cloud that are likely no surface.
#pragma once
#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/cloud/cloud.h"

namespace icefield {

enum class Fault : std::uint8_t {
  none,
  see_through,  // photos see well-supported surface behind it
  lonely,       // much farther from its neighbours than these are from theirs
  island,       // one of a few that hang together and touch nothing else
};
inline constexpr std::size_t kFaults = 4;
const char* describe(Fault fault);

struct CleanOptions {
  // Photos that see past a point (its `conflicts`), for each photo that agrees on it, beyond which it is out; 0: not
  // asked.
  double max_conflicts_per_view = 0.5;
  // Distance to its neighbours against the middle of what they have, beyond which a point is out; 0: not asked.
  double max_loneliness = 2.5;
  int neighbours = 8;
  // Fewer connected points are an island; 0: none is.
  int min_island_points = 100;
  // Points are connected over this many times their distance to their neighbours (and no more than four times as far as
  // nineteen in twenty are from theirs).
  double reach = 3;
};

// One entry for each point. Conflicts first, then the lonely among the rest, then islands of the rest. Free-space votes
// need `conflicts` and `views`, as `densify` counts them; without these that part is passed over. `open`: 1 where the
// cloud goes on though it is not here (the border of a tile): what hangs together with such a point is no island. The
// same for any number of threads.
std::vector<Fault> find_faults(const PointCloud& cloud, const CleanOptions& options, const Executor& executor,
                               std::span<const std::uint8_t> open = {});

struct Cleaned {
  PointCloud kept, aside;                     // `aside` carries `faults`
  std::array<std::size_t, kFaults> counts{};  // by fault
};
Cleaned part(const PointCloud& cloud, std::span<const Fault> faults);

// Both in one call.
Cleaned clean(const PointCloud& cloud, const CleanOptions& options, const Executor& executor);

}  // namespace icefield
