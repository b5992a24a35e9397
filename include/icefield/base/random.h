// Random numbers by counter: the n-th number of a key is a pure function of key and n.
#pragma once
#include <cstdint>

namespace icefield {

// The finaliser of Steele, Lea and Flood, "Fast splittable pseudorandom number generators", 2014.
constexpr std::uint64_t mix_bits(std::uint64_t x) {
  x ^= x >> 30;
  x *= 0xbf58476d1ce4e5b9ull;
  x ^= x >> 27;
  x *= 0x94d049bb133111ebull;
  return x ^ (x >> 31);
}

constexpr std::uint64_t combine_keys(std::uint64_t a, std::uint64_t b) {
  return mix_bits(a + 0x9e3779b97f4a7c15ull * (mix_bits(b + 0x632be59bd9b4e019ull) | 1));
}

// A stream of random numbers for one unit of work. Give each unit its own key (a seed combined with the unit's
// indices); nothing is shared, so the order of units does not matter.
class CounterRandom {
 public:
  explicit constexpr CounterRandom(std::uint64_t key, std::uint64_t counter = 0)
      : key_(mix_bits(key)), counter_(counter) {}

  constexpr std::uint64_t bits() { return mix_bits(key_ + 0x9e3779b97f4a7c15ull * ++counter_); }
  constexpr double uniform() { return static_cast<double>(bits() >> 11) * 0x1.0p-53; }  // [0, 1)
  constexpr double uniform(double low, double high) { return low + (high - low) * uniform(); }
  constexpr float uniformf() { return static_cast<float>(bits() >> 40) * 0x1.0p-24f; }  // [0, 1)
  // An integer in [0, n); n > 0. The bias of the multiply-shift is below n / 2^32.
  constexpr std::uint32_t below(std::uint32_t n) { return static_cast<std::uint32_t>(((bits() >> 32) * n) >> 32); }
  double normal();  // mean 0, variance 1

 private:
  std::uint64_t key_, counter_;
};

}  // namespace icefield
