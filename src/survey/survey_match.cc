#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "icefield/world/local_frame.h"
#include "src/survey/pair_list.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

// Progress of one round as part of a larger whole.
struct Offset : Monitor {
  Monitor& outer;
  std::size_t shift, all;
  Offset(Monitor& m, std::size_t s, std::size_t a) : outer(m), shift(s), all(a) {}
  void progress(std::string_view what, std::size_t done, std::size_t) override {
    outer.progress(what, shift + done, all);
  }
  void log(LogLevel level, const std::string& message) override { outer.log(level, message); }
  bool cancelled() const override { return outer.cancelled(); }
};

// Of each kind.
Features strongest_of(const Features& features, int count) {
  Features out;
  const std::size_t gradient = features.gradient_size(), g = std::min(gradient, static_cast<std::size_t>(count)),
                    b = std::min(features.binary_size(), static_cast<std::size_t>(count));
  out.keypoints.assign(features.keypoints.begin(), features.keypoints.begin() + static_cast<std::ptrdiff_t>(g));
  out.keypoints.insert(out.keypoints.end(), features.keypoints.begin() + static_cast<std::ptrdiff_t>(gradient),
                       features.keypoints.begin() + static_cast<std::ptrdiff_t>(gradient + b));
  out.descriptors.assign(features.descriptors.begin(),
                         features.descriptors.begin() + static_cast<std::ptrdiff_t>(g * kDescriptorSize));
  out.bits.assign(features.bits.begin(), features.bits.begin() + static_cast<std::ptrdiff_t>(b * kBitWords));
  return out;
}

// Positions in metres, and sequences of one camera by time; where times are alike or missing, by name.
std::vector<ChoicePhoto> choice_photos(const PhotoList& list) {
  std::vector<ChoicePhoto> photos(list.used);
  std::optional<LocalFrame> frame;
  std::vector<std::size_t> order(list.used);
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    return list.photos[a].metadata.time < list.photos[b].metadata.time;
  });
  for (std::size_t place = 0; place < order.size(); ++place)
    photos[order[place]].place = static_cast<std::uint32_t>(place);
  for (std::size_t i = 0; i < list.used; ++i) {
    photos[i].sequence = list.photos[i].camera.value;
    const PhotoMetadata& metadata = list.photos[i].metadata;
    const auto& gps = metadata.gps;
    if (!gps) continue;
    photos[i].direction = view_direction(metadata);
    if (!frame) frame.emplace(*gps);
    photos[i].position = frame->to_local(*gps);
  }
  return photos;
}

// Why a photo has few matches, likely.
std::string likely_reason(const PhotoList& list, const MatchReport& report, std::size_t photo) {
  std::vector<double> sharpness, features;
  for (std::size_t i = 0; i < list.used; ++i)
    sharpness.push_back(list.photos[i].scores.sharpness),
        features.push_back(static_cast<double>(report.photo_features[i]));
  if (report.photo_features[photo] == 0 && !list.photos[photo].mask.empty())
    return "its mask hides all that has texture";
  const PhotoScores& scores = list.photos[photo].scores;
  if (scores.mean_brightness < 0.12 || scores.dark_share > 0.6)
    return fmt::format("dark (mean brightness {:.2f})", scores.mean_brightness);
  if (scores.bright_share > 0.5)
    return fmt::format("overexposed ({:.0f} percent burnt out)", 100 * scores.bright_share);
  if (scores.sharpness < 0.6 * median(sharpness))
    return fmt::format("blurred (sharpness {:.2f}, {:.2f} in the middle)", scores.sharpness, median(sharpness));
  if (static_cast<double>(report.photo_features[photo]) < 0.3 * median(features))
    return fmt::format("little texture ({} features, {:.0f} in the middle)", report.photo_features[photo],
                       median(features));
  return "no overlap with the others";
}

// Photos that were there when `match` last ended and are gone or of other content: what rests on them is made again
// without them, which nobody may have meant.
void warn_of_changes(const PhotoList& list, Store& store, Monitor& monitor) {
  const auto bytes = store.get("matched photos", named_key("matched photos"));
  if (!bytes) return;
  ByteReader in(*bytes);
  for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
    const std::string name = in.get_string();
    const auto content = in.get<Fingerprint>();
    const auto of_name =
        std::find_if(list.photos.begin(), list.photos.end(), [&](const SurveyPhoto& p) { return p.name == name; });
    if (std::any_of(list.photos.begin(), list.photos.end(), [&](const SurveyPhoto& p) { return p.content == content; }))
      continue;  // perhaps under another name
    if (of_name == list.photos.end())
      monitor.log(
          LogLevel::warning,
          name + ": was matched and is gone; all is made again without it. Put it back for what was there before");
    else
      monitor.log(LogLevel::warning, name + ": has changed since it was matched; what rests on it is made again");
  }
}

}  // namespace

Features found_features(const SurveyPhoto& photo, const Settings& settings) {
  ImageU8 mask;
  if (!photo.mask.empty()) mask = mask_of(read_photo(photo.mask, settings.photo));
  return find_features(read_photo_grey(photo.file, settings.photo), settings.feature, mask.empty() ? nullptr : &mask);
}

std::vector<Features> found_in_narrowed(const SurveyPhoto& photo, const Settings& settings) {
  ImageU8 mask;
  if (!photo.mask.empty()) mask = mask_of(read_photo(photo.mask, settings.photo));
  return find_narrowed_features(read_photo_grey(photo.file, settings.photo), settings.feature,
                                mask.empty() ? nullptr : &mask);
}

bool Survey::is_matched() {
  photos();
  return state_->store.has("match report", state_->match_key(settings_));
}

void Survey::list_pairs(const fs::path& file) {
  read_pair_list(file, photos());  // throws before anything is changed
  write_file(folder_ / "pairs.txt", read_file(file, 100u << 20));
  state_->forget();
}

MatchReport Survey::match() {
  const auto start = std::chrono::steady_clock::now();
  photos();
  State& state = *state_;
  if (state.store.has("match report", state.match_key(settings_))) {
    bool complete = true;
    MatchReport report = report_of_match(complete);
    if (complete) return report;
  }
  lock();
  const PhotoList& list = photos();
  warn_of_changes(list, state.store, monitor_);
  std::size_t computed_photos = 0, computed_pairs = 0;

  const auto find = [&](std::size_t i) {
    const Features features = found_features(list.photos[i], settings_);
    state.store.put("features", state.feature_keys[i], features_record(features));
    return features;
  };
  std::vector<std::uint8_t> computed(list.used, 0);
  executor_.run("find features", list.used, monitor_, [&](std::size_t i) {
    if (state.store.has("features", state.feature_keys[i])) return;
    find(i);
    computed[i] = 1;
  });
  const double finding = seconds_since(start);
  double matching = 0;
  computed_photos = static_cast<std::size_t>(std::count(computed.begin(), computed.end(), 1));
  // What was damaged between the round above and now is found again.
  const auto load = [&](std::size_t i) {
    const auto bytes = state.store.get("features", state.feature_keys[i]);
    return bytes ? read_features_record(*bytes) : find(i);
  };

  const Fingerprint settings_key = State::pair_settings_key(settings_);
  const auto match_all = [&](const std::vector<ProposedPair>& pairs) {
    const auto begun = std::chrono::steady_clock::now();
    std::vector<ProposedPair> missing;
    for (const ProposedPair& pair : pairs)
      if (!state.store.has("pair", state.pair_key(pair.first.value, pair.second.value, settings_key)))
        missing.push_back(pair);
    // By tiles, so that the features of two tiles of photos are in memory and no more.
    constexpr std::uint32_t kTile = 64;
    std::stable_sort(missing.begin(), missing.end(), [](const ProposedPair& a, const ProposedPair& b) {
      return std::pair(a.first.value / kTile, a.second.value / kTile) <
             std::pair(b.first.value / kTile, b.second.value / kTile);
    });
    std::map<std::uint32_t, Features> held;
    for (std::size_t begin = 0; begin < missing.size();) {
      std::size_t end = begin;
      const auto tile = [&](std::size_t k) {
        return std::pair(missing[k].first.value / kTile, missing[k].second.value / kTile);
      };
      while (end < missing.size() && tile(end) == tile(begin)) ++end;
      std::map<std::uint32_t, Features> needed;
      for (std::size_t k = begin; k < end; ++k)
        for (const std::uint32_t i : {missing[k].first.value, missing[k].second.value})
          if (!needed.count(i)) {
            const auto before = held.find(i);
            needed.emplace(i, before != held.end() ? std::move(before->second) : load(i));
          }
      held = std::move(needed);
      Offset progress(monitor_, begin, missing.size());
      executor_.run("match pairs", end - begin, progress, [&](std::size_t n) {
        const std::size_t i = missing[begin + n].first.value, j = missing[begin + n].second.value;
        const Features &a = held.at(missing[begin + n].first.value), &b = held.at(missing[begin + n].second.value);
        const PairMatches pair = verify_pair(a, b, match_descriptors(a, b, settings_.descriptor),
                                             list.cameras[list.photos[i].camera.value].prior,
                                             list.cameras[list.photos[j].camera.value].prior, settings_.verify,
                                             combine_keys(list.photos[i].content.low, list.photos[j].content.low));
        state.store.put("pair", state.pair_key(i, j, settings_key), pair_record(pair));
      });
      begin = end;
    }
    computed_pairs += missing.size();
    matching += seconds_since(begun);
  };
  const auto result_of = [&](const ProposedPair& tried) {
    std::optional<PairMatches> pair = state.tried_pair(tried, settings_key);
    if (!pair)
      throw Error(ErrorKind::resource, (folder_ / "work").string(), "was changed during the run",
                  "run the same command again");
    return std::move(*pair);
  };
  // Pairs that are matched anew with narrowed copies; a copy of what was there stays where that shows no more.
  const auto match_wide = [&](const std::vector<ProposedPair>& pairs) {
    const auto begun = std::chrono::steady_clock::now();
    std::vector<ProposedPair> missing;
    std::vector<std::uint32_t> photos;
    for (const ProposedPair& pair : pairs) {
      if (!pair.wide) continue;
      if (!state.store.has("wide pair", state.wide_key(pair.first.value, pair.second.value, settings_key)))
        missing.push_back(pair);
      for (const std::uint32_t i : {pair.first.value, pair.second.value})
        if (!state.store.has("narrowed", state.narrowed_key(i))) photos.push_back(i);
    }
    std::sort(photos.begin(), photos.end());
    photos.erase(std::unique(photos.begin(), photos.end()), photos.end());
    const auto narrow = [&](std::size_t i) {
      std::vector<Features> copies = found_in_narrowed(list.photos[i], settings_);
      state.store.put("narrowed", state.narrowed_key(i), narrowed_record(copies));
      return copies;
    };
    executor_.run("find features in narrowed copies", photos.size(), monitor_,
                  [&](std::size_t k) { narrow(photos[k]); });
    const auto load_wide = [&](std::size_t i) {
      const auto bytes = state.store.get("narrowed", state.narrowed_key(i));
      return WideFeatures{load(i), bytes ? read_narrowed_record(*bytes) : narrow(i)};
    };
    executor_.run("match photos far apart", missing.size(), monitor_, [&](std::size_t k) {
      const std::size_t i = missing[k].first.value, j = missing[k].second.value;
      ProposedPair plain = missing[k];
      plain.wide = false;
      PairMatches pair = result_of(plain);
      PairMatches wide = verify_wide_pair(load_wide(i), load_wide(j), pair, settings_.descriptor,
                                          list.cameras[list.photos[i].camera.value].prior,
                                          list.cameras[list.photos[j].camera.value].prior, settings_.verify,
                                          combine_keys(list.photos[i].content.low, list.photos[j].content.low));
      state.store.put("wide pair", state.wide_key(i, j, settings_key), pair_record(wide));
    });
    matching += seconds_since(begun);
  };

  const StepInputs inputs = state.inputs_of_match(settings_);
  const Fingerprint key = key_of(inputs);
  PairChoice choice;
  if (const auto known = state.store.get("pairs", key)) {
    choice = read_pairs_record(*known);
    match_all(choice.pairs);
    match_wide(choice.pairs);
  } else {
    std::vector<ChoicePhoto> photos = choice_photos(list);
    std::vector<Features> strongest(list.used);
    if (static_cast<int>(list.used) > settings_.pairs.all_up_to)
      executor_.run("choose pairs", list.used, monitor_,
                    [&](std::size_t i) { strongest[i] = strongest_of(load(i), settings_.pairs.probe_features); });
    for (std::size_t i = 0; i < list.used; ++i) photos[i].strongest = &strongest[i];
    choice = choose_pairs(photos, list.listed, settings_.pairs, executor_, monitor_);
    match_all(choice.pairs);
    const bool all = static_cast<int>(list.used) <= settings_.pairs.all_up_to;
    for (int round = 0; round < settings_.pairs.via_rounds && !all; ++round) {
      std::vector<PairMatches> verified;
      for (const ProposedPair& tried : choice.pairs)
        if (PairMatches pair = result_of(tried); pair.verified()) {
          // The strongest features tell enough and hold memory down.
          std::erase_if(pair.matches, [](const Match& m) { return std::max(m.first.value, m.second.value) >= 3000; });
          verified.push_back(std::move(pair));
        }
      const std::vector<ProposedPair> more = choose_via(list.used, choice.pairs, verified, settings_.pairs, executor_);
      if (more.empty()) break;
      match_all(more);
      choice.pairs.insert(choice.pairs.end(), more.begin(), more.end());
      std::sort(choice.pairs.begin(), choice.pairs.end(), [](const ProposedPair& a, const ProposedPair& b) {
        return std::pair(a.first, a.second) < std::pair(b.first, b.second);
      });
    }
    {
      std::vector<PairOutline> tried;
      for (const ProposedPair& pair : choice.pairs) tried.push_back(outline_of(result_of(pair)));
      for (const std::size_t p : choose_wide(tried, list.used)) choice.pairs[p].wide = true;
    }
    match_wide(choice.pairs);
    state.store.put("pairs", key, pairs_record(choice));
  }
  monitor_.log(LogLevel::detail, fmt::format("features took {:.1f} s, choosing pairs {:.1f} s, matching them {:.1f} s",
                                             finding, seconds_since(start) - finding - matching, matching));

  std::size_t all_features = 0;
  std::vector<std::uint64_t> counts;
  State::RecordNames needs = {{"pairs", key}, {"match report", key}};
  for (std::size_t i = 0; i < list.used; ++i) {
    counts.push_back(load(i).size());
    all_features += counts.back();
    needs.emplace_back("features", state.feature_keys[i]);
  }
  std::size_t verified = 0, matches = 0;
  for (const ProposedPair& tried : choice.pairs) {
    const PairMatches pair = result_of(tried);
    verified += pair.verified();
    if (pair.verified()) matches += pair.matches.size();
    needs.emplace_back("pair", state.pair_key(tried.first.value, tried.second.value, settings_key));
    if (!tried.wide) continue;
    needs.emplace_back("wide pair", state.wide_key(tried.first.value, tried.second.value, settings_key));
    for (const PhotoIndex photo : {tried.first, tried.second})
      needs.emplace_back("narrowed", state.narrowed_key(photo.value));
  }
  state.store.put("match report", key,
                  ByteWriter()
                      .put(fmt::format("{} features, {} of {} pairs verified, {} matches", all_features, verified,
                                       choice.pairs.size(), matches))
                      .put(counts)
                      .take());
  if (computed_photos + computed_pairs > 0 || !state.last("match") || state.last("match")->key != key)
    state.remember("match", inputs, seconds_since(start));
  state.remember_needs("match", needs);
  ByteWriter matched;
  matched.put(static_cast<std::uint64_t>(list.used));
  for (std::size_t i = 0; i < list.used; ++i) matched.put(list.photos[i].name).put(list.photos[i].content);
  state.store.put("matched photos", named_key("matched photos"), matched.take());
  bool complete = true;
  MatchReport report = report_of_match(complete);
  if (!complete)
    throw Error(ErrorKind::resource, (folder_ / "work").string(), "was changed during the run",
                "run the same command again");
  report.computed_photos = computed_photos;
  report.computed_pairs = computed_pairs;
  return report;
}

// From the records alone. Not complete: some are missing or damaged.
MatchReport Survey::report_of_match(bool& complete) {
  const PhotoList& list = photos();
  State& state = *state_;
  MatchReport report;
  report.photos = list.used;
  report.photo_pairs.resize(list.used);
  report.photo_matches.resize(list.used);
  complete = false;
  const auto record = state.store.get("match report", state.match_key(settings_)),
             chosen = state.store.get("pairs", state.match_key(settings_));
  if (!record || !chosen) return report;
  ByteReader in(*record);
  (void)in.get_string();
  if (in.at_end()) return report;  // of an older layout
  for (const std::uint64_t count : in.get_array<std::uint64_t>()) report.photo_features.push_back(count);
  if (report.photo_features.size() != list.used) return report;
  for (std::size_t i = 0; i < list.used; ++i) {
    if (!state.store.has("features", state.feature_keys[i])) return report;
    report.features += report.photo_features[i];
  }
  const PairChoice choice = read_pairs_record(*chosen);
  const Fingerprint settings_key = State::pair_settings_key(settings_);
  report.looked_at = choice.looked_at;
  report.pairs = choice.pairs.size();
  for (const ProposedPair& tried : choice.pairs) {
    const auto found = state.tried_pair(tried, settings_key);
    if (!found) return report;
    const PairMatches& pair = *found;
    report.wide += tried.wide;
    for (const PhotoIndex photo : {tried.first, tried.second})
      if (tried.wide && !state.store.has("narrowed", state.narrowed_key(photo.value))) return report;
    ++report.by_geometry[static_cast<std::size_t>(pair.geometry)];
    ++report.by_fault[static_cast<std::size_t>(pair.fault)];
    for (int s = 0; s < kPairSources; ++s)
      if (tried.has(static_cast<PairSource>(s))) {
        ++report.tried_by_source[static_cast<std::size_t>(s)];
        report.verified_by_source[static_cast<std::size_t>(s)] += pair.verified();
      }
    if (!pair.verified()) continue;
    ++report.verified;
    report.matches += pair.matches.size();
    report.guided += pair.guided;
    for (const PhotoIndex photo : {tried.first, tried.second}) {
      ++report.photo_pairs[photo.value];
      report.photo_matches[photo.value] += pair.matches.size();
    }
  }
  const std::size_t middle = median(report.photo_matches);
  report.weak.resize(list.used);
  for (std::size_t i = 0; i < list.used; ++i)
    if (report.photo_pairs[i] < 2 || 20 * report.photo_matches[i] < middle)
      report.weak[i] = likely_reason(list, report, i);
  complete = true;
  return report;
}

}  // namespace icefield
