// Index types that cannot be mixed up.
#pragma once
#include <compare>
#include <cstdint>
#include <functional>

namespace icefield {

// A 32-bit index into one kind of thing. Default construction gives "none".
template <class Tag>
struct Index {
  static constexpr std::uint32_t kNone = 0xffffffffu;
  std::uint32_t value = kNone;

  constexpr Index() = default;
  constexpr explicit Index(std::size_t v) : value(static_cast<std::uint32_t>(v)) {}
  constexpr bool valid() const { return value != kNone; }
  constexpr auto operator<=>(const Index&) const = default;
};

// The same for things of a block, which are looked up all the time: it reads as a number, and is made of one only by
// name, so that an index into a job's list cannot slip in.
template <class Tag>
struct BlockIndex {
  std::uint32_t value = 0;

  constexpr BlockIndex() = default;
  constexpr explicit BlockIndex(std::size_t v) : value(static_cast<std::uint32_t>(v)) {}
  constexpr operator std::uint32_t() const { return value; }
};

using PosedIndex = BlockIndex<struct PosedTag>;  // into the photos of a block
using PointIndex = BlockIndex<struct PointTag>;  // into its points

using PhotoIndex = Index<struct PhotoTag>;      // into the photo list of a job
using CameraIndex = Index<struct CameraTag>;    // into the cameras of a job
using FeatureIndex = Index<struct FeatureTag>;  // into the features of one photo
using TrackIndex = Index<struct TrackTag>;      // into the tracks of a job, the tie points of a block

}  // namespace icefield

template <class Tag>
struct std::hash<icefield::Index<Tag>> {
  std::size_t operator()(icefield::Index<Tag> i) const noexcept { return i.value; }
};
