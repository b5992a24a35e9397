#include "src/orient/progress.h"

namespace icefield {
namespace {

void put_summary(ByteWriter& out, const OrientSummary& s) {
  out.put(s.adjustments)
      .put(s.loops_closed)
      .put(s.blocks_joined)
      .put(static_cast<std::uint64_t>(s.cut_by_turn))
      .put(static_cast<std::uint64_t>(s.cut_by_direction))
      .put(static_cast<std::uint64_t>(s.cut_as_twins));
  out.put(s.held);
  out.put(static_cast<std::uint32_t>(s.focal_search.size()));
  for (const std::string& line : s.focal_search) out.put(line);
}

void get_summary(ByteReader& in, OrientSummary& s) {
  s.adjustments = in.get<int>();
  s.loops_closed = in.get<int>();
  s.blocks_joined = in.get<int>();
  s.cut_by_turn = in.get<std::uint64_t>();
  s.cut_by_direction = in.get<std::uint64_t>();
  s.cut_as_twins = in.get<std::uint64_t>();
  s.held = in.get_array<HeldParameter>();
  s.focal_search.clear();
  for (auto count = in.get<std::uint32_t>(); count > 0; --count) s.focal_search.push_back(in.get_string());
}

void put_blocks(ByteWriter& out, const std::vector<Block>& blocks) {
  out.put(static_cast<std::uint32_t>(blocks.size()));
  for (const Block& block : blocks) out.put(block_to_bytes(block));
}

std::vector<Block> get_blocks(ByteReader& in) {
  std::vector<Block> blocks;
  for (auto count = in.get<std::uint32_t>(); count > 0; --count)
    blocks.push_back(block_from_bytes(in.get_array<std::byte>()));
  return blocks;
}

}  // namespace

Bytes to_bytes(const Progress& progress, const GrowingBlock* growing) {
  ByteWriter out;
  out.put(static_cast<std::uint32_t>(progress.cameras.size()));
  for (const Camera& camera : progress.cameras) out.put(camera.parameters);
  out.put(progress.attempts)
      .put(progress.agreed)
      .put(progress.cut)
      .put(progress.cut_before)
      .put(progress.cut_before_check);
  put_summary(out, progress.summary);
  put_summary(out, progress.summary_before);
  put_blocks(out, progress.blocks);
  put_blocks(out, progress.blocks_before);
  for (const auto* reasons : {&progress.reasons, &progress.reasons_before}) {
    out.put(static_cast<std::uint32_t>(reasons->size()));
    for (const std::string& reason : *reasons) out.put(reason);
  }
  out.put(static_cast<std::uint8_t>(growing != nullptr));
  if (growing) growing->write(out);
  return out.take();
}

bool from_bytes(ByteReader& in, std::span<const CameraPrior> priors, Progress& progress) {
  if (in.get<std::uint32_t>() != priors.size())
    throw Error(ErrorKind::input, "checkpoint", "is of other cameras", "it is computed again");
  progress.cameras.resize(priors.size());
  for (std::size_t c = 0; c < priors.size(); ++c) {
    progress.cameras[c] = priors[c].camera;
    progress.cameras[c].parameters = in.get<decltype(progress.cameras[c].parameters)>();
  }
  progress.attempts = in.get<int>();
  progress.agreed = in.get<double>();
  progress.cut = in.get_array<std::uint8_t>();
  progress.cut_before = in.get_array<std::uint8_t>();
  progress.cut_before_check = in.get_array<std::uint8_t>();
  get_summary(in, progress.summary);
  get_summary(in, progress.summary_before);
  progress.blocks = get_blocks(in);
  progress.blocks_before = get_blocks(in);
  for (auto* reasons : {&progress.reasons, &progress.reasons_before}) {
    reasons->clear();
    for (auto count = in.get<std::uint32_t>(); count > 0; --count) reasons->push_back(in.get_string());
  }
  return in.get<std::uint8_t>() != 0;
}

}  // namespace icefield
