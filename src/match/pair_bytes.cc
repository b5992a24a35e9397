#include "icefield/match/match.h"

namespace icefield {

Bytes pair_to_bytes(const PairMatches& pair) {
  ByteWriter out;
  out.put(pair.geometry)
      .put(pair.fault)
      .put(pair.model)
      .put(pair.candidates)
      .put(pair.fixed)
      .put(pair.guided)
      .put(pair.near)
      .put(pair.turned_deg)
      .put(pair.matches);
  for (int i = 0; i < 9; ++i) out.put(pair.matrix(i / 3, i % 3));
  return out.take();
}

PairMatches pair_from_bytes(std::span<const std::byte> bytes) {
  ByteReader in(bytes);
  PairMatches pair;
  pair.geometry = in.get<PairGeometry>();
  pair.fault = in.get<PairFault>();
  pair.model = in.get<TwoViewModel>();
  pair.candidates = in.get<std::uint32_t>();
  pair.fixed = in.get<std::uint32_t>();
  pair.guided = in.get<std::uint32_t>();
  pair.near = in.get<std::uint32_t>();
  pair.turned_deg = in.get<float>();
  pair.matches = in.get_array<Match>();
  for (int i = 0; i < 9; ++i) pair.matrix(i / 3, i % 3) = in.get<double>();
  return pair;
}

}  // namespace icefield
