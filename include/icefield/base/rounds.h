// Rounds of units that could run anywhere.
#pragma once
#include <cstdint>
#include <string_view>

#include "icefield/base/bytes.h"
#include "icefield/base/parallel.h"

namespace icefield {

// A photo, a pair, a depth map: a unit is told by its number in the round, reads what stores hold, and gives bytes that
// are kept. It leaves nothing else behind, so that another process, or another machine with the same stores, could work
// it out as well. Calls may come from several threads; those for one unit come one after the other.
class UnitRound {
 public:
  virtual ~UnitRound() = default;
  virtual std::size_t size() const = 0;
  virtual bool is_kept(std::size_t unit) = 0;
  // While it is in work, all that it reads included.
  virtual std::uint64_t memory_bytes(std::size_t unit) const = 0;
  // Ahead of the unit's turn: what takes long to read may be read now. A hint; it may never come.
  virtual void look_ahead(std::size_t) {}
  // `inner`: for the unit's own loops, which stop when the round is to stop.
  virtual Bytes compute(std::size_t unit, const Executor& inner) = 0;
  virtual void keep(std::size_t unit, const Bytes& result) = 0;
};

// Computes the units that are not kept yet, in their order, as many at a time as the threads and the memory of the
// executor allow, and never fewer than one: a unit that asks for more than that runs by itself. Where only one fits,
// or there is only one, the threads work inside of it and the next one's look ahead runs beside. Returns how many were
// computed. Progress counts all units. Exceptions are those of the lowest unit; what was kept stays.
std::size_t run_round(std::string_view what, UnitRound& round, const Executor& executor, Monitor& monitor);

}  // namespace icefield
