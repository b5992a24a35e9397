// Depth maps of a block as files in work/depth, each with a checksum.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "icefield/base/fingerprint.h"
#include "icefield/base/monitor.h"
#include "icefield/dense/dense.h"

namespace icefield {

// Content and its checksum; nothing where the file cannot be read or is damaged. Throws as write_file does.
std::optional<Bytes> read_checked_file(const std::filesystem::path& file);
void write_checked_file(const std::filesystem::path& file, const Bytes& content);

// A map is keyed by all that it is made from: the block, the bounds, the settings, the photo with its mask, and those
// of the neighbours that it is matched against; from the second round on by the keys of their maps of the round before.
class DepthFiles : public DepthMapStore {
 public:
  // What a map hangs on beside other photos and maps, by photo of the block: the same for all rounds.
  struct Photo {
    PhotoIndex photo;
    Fingerprint content;                    // photo and mask
    std::vector<std::uint32_t> neighbours;  // in the block, as densify chooses them; empty: no map
  };
  // `may_write`: a damaged file is removed, so that its map is computed again.
  DepthFiles(std::filesystem::path folder, const Fingerprint& shared, const std::vector<Photo>& photos, int rounds,
             bool may_write, Monitor& monitor);
  std::filesystem::path file(PhotoIndex photo, int round) const;
  // Of the last round, which the cloud is made of.
  std::vector<std::string> last_names() const;

  // Whether a photo of the block has a map at all.
  bool wanted(PhotoIndex photo) const { return has_map_[static_cast<std::size_t>(place_[photo.value])] != 0; }

  bool has(PhotoIndex photo, int round) override;
  std::optional<DepthMap> get(PhotoIndex photo, int round) override;
  void put(PhotoIndex photo, int round, const DepthMap& map) override;

 private:
  std::filesystem::path folder_;
  std::vector<std::int64_t> place_;             // in the block, by photo index; -1: not in it
  std::vector<std::vector<Fingerprint>> keys_;  // by round, then by place
  std::vector<std::uint8_t> has_map_;           // by place
  bool may_write_;
  Monitor& monitor_;
};

}  // namespace icefield
