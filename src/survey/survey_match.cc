#include <fmt/format.h>

#include <algorithm>

#include "icefield/base/random.h"
#include "icefield/io/photo_file.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;

MatchReport Survey::match() {
  const auto start = std::chrono::steady_clock::now();
  const PhotoList& list = photos();
  State& state = *state_;
  MatchReport report;
  report.photos = list.used;
  report.photo_features.resize(list.used);
  report.photo_pairs.resize(list.used);

  std::vector<std::uint8_t> computed(list.used, 0);
  executor_.run("find features", list.used, monitor_, [&](std::size_t i) {
    if (state.store.has("features", state.feature_keys[i])) return;
    const Features features = find_features(to_grey(read_photo(list.photos[i].file, settings_.photo)), settings_.feature);
    state.store.put("features", state.feature_keys[i], features_record(features));
    computed[i] = 1;
  });
  report.computed_photos = static_cast<std::size_t>(std::count(computed.begin(), computed.end(), 1));

  // Pairs in tiles, so that the features of two tiles of photos are in memory and no more.
  constexpr std::size_t kTile = 128;
  const auto load = [&](std::size_t i) {
    auto bytes = state.store.get("features", state.feature_keys[i]);
    if (!bytes) {  // damaged between the round above and now
      const Features again = find_features(to_grey(read_photo(list.photos[i].file, settings_.photo)), settings_.feature);
      state.store.put("features", state.feature_keys[i], features_record(again));
      return again;
    }
    return read_features_record(*bytes);
  };
  const std::size_t total = list.used * (list.used - 1) / 2;
  std::size_t before = 0;
  struct Offset : Monitor {  // progress over all tiles
    Monitor& outer;
    std::size_t shift, all;
    Offset(Monitor& m, std::size_t s, std::size_t a) : outer(m), shift(s), all(a) {}
    void progress(std::string_view what, std::size_t done, std::size_t) override { outer.progress(what, shift + done, all); }
    void log(LogLevel level, const std::string& message) override { outer.log(level, message); }
    bool cancelled() const override { return outer.cancelled(); }
  };
  for (std::size_t row = 0; row < list.used; row += kTile)
    for (std::size_t column = row; column < list.used; column += kTile) {
      std::vector<std::pair<std::size_t, std::size_t>> wanted;
      std::size_t in_tile = 0;
      for (std::size_t i = row; i < std::min(row + kTile, list.used); ++i)
        for (std::size_t j = std::max(column, i + 1); j < std::min(column + kTile, list.used); ++j) {
          ++in_tile;
          if (!state.store.has("pair", state.pair_key(i, j, settings_))) wanted.emplace_back(i, j);
        }
      if (!wanted.empty()) {
        std::map<std::size_t, Features> held;
        for (const auto& [i, j] : wanted)
          for (const std::size_t k : {i, j})
            if (!held.count(k)) held.emplace(k, load(k));
        Offset progress(monitor_, before + in_tile - wanted.size(), total);
        executor_.run("match pairs", wanted.size(), progress, [&](std::size_t n) {
          const auto [i, j] = wanted[n];
          const Features &a = held.at(i), &b = held.at(j);
          const Fingerprint key = state.pair_key(i, j, settings_);
          const auto matches = match_descriptors(a, b, settings_.descriptor);
          PairMatches pair = verify_pair(a, b, matches, list.cameras[list.photos[i].camera.value].prior, list.cameras[list.photos[j].camera.value].prior, settings_.verify,
                                         combine_keys(list.photos[i].content.low, list.photos[j].content.low));
          state.store.put("pair", key, pair_record(pair));
        });
        report.computed_pairs += wanted.size();
      }
      before += in_tile;
    }

  for (std::size_t i = 0; i < list.used; ++i) report.photo_features[i] = load(i).size();
  for (std::size_t i = 0; i < list.used; ++i) {
    report.features += report.photo_features[i];
    for (std::size_t j = i + 1; j < list.used; ++j) {
      const auto bytes = state.store.get("pair", state.pair_key(i, j, settings_));
      if (!bytes) throw Error(ErrorKind::resource, (folder_ / "work").string(), "was changed during the run", "run the same command again");
      const PairMatches pair = read_pair_record(*bytes);
      ++report.pairs;
      if (!pair.verified()) continue;
      ++report.verified;
      ++report.photo_pairs[i];
      ++report.photo_pairs[j];
      report.matches += pair.matches.size();
    }
  }
  ByteWriter brief;
  brief.put(fmt::format("{} features, {} of {} pairs verified, {} matches", report.features, report.verified, report.pairs, report.matches));
  const Fingerprint key = state.pose_key(settings_);
  state.store.put("match report", key, brief.take());
  if (report.computed_photos + report.computed_pairs > 0 || !state.last("match")) state.remember("match", key, seconds_since(start));
  return report;
}

}  // namespace icefield
