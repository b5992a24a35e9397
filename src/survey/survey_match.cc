#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "icefield/base/rounds.h"
#include "icefield/base/statistics.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "icefield/match/match_set.h"
#include "icefield/world/local_frame.h"
#include "src/survey/pair_list.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

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
  const auto matched = store.read("matched photos", named_key("matched photos"), [](const Bytes& bytes) {
    ByteReader in(bytes);
    std::vector<std::pair<std::string, Fingerprint>> all;
    for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
      std::string name = in.get_string();
      all.emplace_back(std::move(name), in.get<Fingerprint>());
    }
    return all;
  });
  if (!matched) return;
  for (const auto& [name, content] : *matched) {
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

bool Survey::is_matched() {
  photos();
  return state_->store.has("match report", state_->match_key(settings_));
}

Fingerprint Survey::key_of_match() {
  photos();
  return state_->match_key(settings_);
}

void Survey::list_pairs(const fs::path& file) {
  read_pair_list(file, photos());  // throws before anything is changed
  write_file(folder_ / "pairs.txt", read_file(file, 100u << 20));
  state_->forget();
}

namespace {

void count_pair(const PairMatches& pair, const ProposedPair& tried, MatchReport& report) {
  report.wide += tried.wide;
  ++report.by_geometry[static_cast<std::size_t>(pair.geometry)];
  ++report.by_fault[static_cast<std::size_t>(pair.fault)];
  for (int s = 0; s < kPairSources; ++s)
    if (tried.has(static_cast<PairSource>(s))) {
      ++report.tried_by_source[static_cast<std::size_t>(s)];
      report.verified_by_source[static_cast<std::size_t>(s)] += pair.verified();
    }
  if (!pair.verified()) return;
  ++report.verified;
  report.matches += pair.matches.size();
  report.guided += pair.guided;
  for (const PhotoIndex photo : {tried.first, tried.second}) {
    ++report.photo_pairs[photo.value];
    report.photo_matches[photo.value] += pair.matches.size();
  }
}

void find_weak_photos(const PhotoList& list, MatchReport& report) {
  const std::size_t middle = median(report.photo_matches);
  report.weak.assign(list.used, {});
  for (std::size_t i = 0; i < list.used; ++i)
    if (report.photo_pairs[i] < 2 || 20 * report.photo_matches[i] < middle)
      report.weak[i] = likely_reason(list, report, i);
}

// Features of the photos that take part.
class FeatureRound : public UnitRound {
 public:
  FeatureRound(MatchRecords& records, const PhotoList& list, const Settings& settings)
      : records_(records), list_(list), settings_(settings) {}
  std::size_t size() const override { return list_.used; }
  bool is_kept(std::size_t photo) override { return records_.lists_features(PhotoIndex(photo)); }
  std::uint64_t memory_bytes(std::size_t photo) const override {
    const PhotoMetadata& m = list_.photos[photo].metadata;
    constexpr std::uint64_t kReading = 12;  // bytes for each pixel: as decoded, and its brightness
    return kReading * static_cast<std::uint64_t>(m.width) * static_cast<std::uint64_t>(m.height) +
           find_features_memory(m.width, m.height, settings_.feature);
  }
  Bytes compute(std::size_t photo, const Executor& inner) override {
    return features_to_bytes(found_features(records_.files(), PhotoIndex(photo), settings_.feature, inner));
  }
  void keep(std::size_t photo, const Bytes& result) override { records_.keep_features(PhotoIndex(photo), result); }

 private:
  MatchRecords& records_;
  const PhotoList& list_;
  const Settings& settings_;
};

std::vector<SetPhoto> set_photos(const PhotoList& list) {
  const std::vector<ChoicePhoto> choice = choice_photos(list);
  std::vector<SetPhoto> photos;
  for (std::size_t i = 0; i < list.used; ++i)
    photos.push_back({choice[i], list.cameras[list.photos[i].camera.value].prior, list.photos[i].content.low});
  return photos;
}

}  // namespace

MatchReport Survey::match() {
  const auto start = std::chrono::steady_clock::now();
  photos();
  State& state = *state_;
  if (auto known = kept_match_report()) return std::move(*known);
  lock();
  const PhotoList& list = photos();
  warn_of_changes(list, state.store, monitor_);
  MatchRecords& records = *state.match_records;

  FeatureRound finding_round(records, list, settings_);
  const std::size_t computed_photos = run_round("find features", finding_round, executor_, monitor_);
  const double finding = seconds_since(start);

  const StepInputs inputs = state.inputs_of_match(settings_);
  const Fingerprint key = key_of(inputs);
  const MatchSetOptions options{settings_.pairs, settings_.descriptor, settings_.verify};
  const std::vector<SetPhoto> set = set_photos(list);
  MatchSetResult matched;
  if (auto known = state.choice(settings_)) {
    matched.choice = std::move(*known);
    matched.computed = match_pairs(matched.choice.pairs, set, options, records, executor_, monitor_);
  } else {
    matched = match_set(set, list.listed, options, records, executor_, monitor_);
    state.store.put("pairs", key, pairs_record(matched.choice));
  }
  monitor_.log(LogLevel::detail, fmt::format("features took {:.1f} s, choosing and matching pairs {:.1f} s", finding,
                                             seconds_since(start) - finding));

  state.known_wide.clear();
  MatchReport report = write_match_report(matched.choice);
  report.computed_photos = computed_photos;
  report.computed_pairs = matched.computed;
  if (report.computed_photos + report.computed_pairs > 0 || !state.last("match") || state.last("match")->key != key)
    state.remember("match", inputs, seconds_since(start));
  return report;
}

// What `match` rests on and what it found, as later runs read it.
MatchReport Survey::write_match_report(const PairChoice& choice) {
  const PhotoList& list = photos();
  State& state = *state_;
  const Fingerprint key = state.match_key(settings_);
  MatchRecords& records = *state.match_records;
  State::RecordNames needs = {{"pairs", key}, {"match report", key}};
  MatchReport report;
  report.photos = list.used;
  report.photo_pairs.resize(list.used);
  report.photo_matches.resize(list.used);
  for (std::size_t i = 0; i < list.used; ++i) {
    report.photo_features.push_back(records.feature_count(PhotoIndex(i)));
    report.features += report.photo_features.back();
    needs.emplace_back("features", records.feature_key(PhotoIndex(i)));
  }
  report.looked_at = choice.looked_at;
  report.pairs = choice.pairs.size();
  for (ProposedPair tried : choice.pairs) {
    count_pair(records.get(tried), tried, report);
    if (tried.wide) {
      needs.emplace_back("wide pair", records.key_of(tried));
      for (const PhotoIndex photo : {tried.first, tried.second})
        needs.emplace_back("narrowed", records.narrowed_key(photo));
    }
    tried.wide = false;
    needs.emplace_back("pair", records.key_of(tried));
  }
  find_weak_photos(list, report);
  state.store.put("match report", key, match_report_record(report));
  state.remember_needs("match", needs);
  ByteWriter photo_names;
  photo_names.put(static_cast<std::uint64_t>(list.used));
  for (std::size_t i = 0; i < list.used; ++i) photo_names.put(list.photos[i].name).put(list.photos[i].content);
  state.store.put("matched photos", named_key("matched photos"), photo_names.take());
  return report;
}

// Of a `match` that has ended and whose records are all there. That they are whole shows when they are read.
std::optional<MatchReport> Survey::kept_match_report() {
  const PhotoList& list = photos();
  State& state = *state_;
  MatchRecords& records = *state.match_records;
  auto report = state.store.read("match report", state.match_key(settings_), read_match_report_record);
  const auto choice = state.choice(settings_);
  if (!choice) return std::nullopt;
  if (!report || report->photos != list.used) return std::nullopt;
  for (std::size_t i = 0; i < list.used; ++i)
    if (!records.lists_features(PhotoIndex(i))) return std::nullopt;
  for (const ProposedPair& tried : choice->pairs) {
    if (!records.lists(tried)) return std::nullopt;
    for (const PhotoIndex photo : {tried.first, tried.second})
      if (tried.wide && !records.lists_narrowed(photo)) return std::nullopt;
  }
  find_weak_photos(list, *report);
  return report;
}

}  // namespace icefield
