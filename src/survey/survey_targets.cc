// Coded targets in the photos of a survey.
#include <algorithm>
#include <cmath>

#include "icefield/base/rounds.h"
#include "icefield/control/targets.h"
#include "icefield/io/target_sheet.h"
#include "src/survey/survey_state.h"

namespace icefield {

Fingerprint target_key(const SurveyPhoto& photo) {
  return Fingerprinter().add("targets").add(kTargetVersion).add(instruction_level()).add(photo.content).result();
}

namespace {

Bytes targets_record(const std::vector<FoundTarget>& targets) {
  ByteWriter out;
  out.put(static_cast<std::uint64_t>(targets.size()));
  for (const FoundTarget& t : targets) {
    out.put(static_cast<std::int32_t>(t.number)).put(static_cast<std::int32_t>(t.mended_teeth));
    out.put(t.pixel.x()).put(t.pixel.y()).put(t.sigma_px).put(t.diameter_px).put(t.agreement);
    for (int k = 0; k < 9; ++k) out.put(t.to_photo(k / 3, k % 3));
  }
  return out.take();
}

std::vector<FoundTarget> read_targets_record(const Bytes& bytes) {
  ByteReader in(bytes);
  std::vector<FoundTarget> targets;
  for (std::uint64_t n = in.get<std::uint64_t>(); n > 0; --n) {
    FoundTarget t;
    t.number = in.get<std::int32_t>(), t.mended_teeth = in.get<std::int32_t>();
    for (double* value : {&t.pixel.x(), &t.pixel.y(), &t.sigma_px, &t.diameter_px, &t.agreement})
      *value = in.get<double>();
    for (int k = 0; k < 9; ++k) t.to_photo(k / 3, k % 3) = in.get<double>();
    targets.push_back(t);
  }
  in.need_end();
  return targets;
}

class TargetRound : public UnitRound {
 public:
  TargetRound(Store& store, const PhotoList& list, PhotoSource& source) : store_(store), list_(list), source_(source) {}
  std::size_t size() const override { return list_.used; }
  bool is_kept(std::size_t photo) override { return kept(photo).has_value(); }
  std::uint64_t memory_bytes(std::size_t photo) const override {
    const PhotoMetadata& m = list_.photos[photo].metadata;
    constexpr std::uint64_t kBytes = 12;  // for each pixel: as decoded, its brightness and smaller copies, islands
    return kBytes * static_cast<std::uint64_t>(m.width) * static_cast<std::uint64_t>(m.height);
  }
  Bytes compute(std::size_t photo, const Executor&) override {
    return targets_record(find_targets(source_.load(PhotoIndex(photo))));
  }
  void keep(std::size_t photo, const Bytes& result) override {
    store_.put("targets", target_key(list_.photos[photo]), result);
  }
  std::optional<std::vector<FoundTarget>> kept(std::size_t photo) const {
    return store_.read("targets", target_key(list_.photos[photo]), read_targets_record);
  }

 private:
  Store& store_;
  const PhotoList& list_;
  PhotoSource& source_;
};

}  // namespace

TargetReport Survey::mark_targets() {
  photos();
  lock();
  const PhotoList& list = photos();
  PhotoFiles files(list, settings_.photo);
  TargetRound round(state_->store, list, files);
  TargetReport report;
  report.computed = run_round("find targets", round, executor_, monitor_);
  ControlLists lists = control_lists();
  for (std::size_t i = 0; i < list.used; ++i) {
    report.photos.push_back(round.kept(i).value_or(std::vector<FoundTarget>()));
    const std::vector<FoundTarget>& found = report.photos.back();
    for (std::size_t k = 0; k < found.size(); ++k) {
      const auto same = [&](std::size_t j) { return j < found.size() && found[j].number == found[k].number; };
      if (same(k + 1) || (k > 0 && same(k - 1))) {
        if (!same(k + 1)) report.twice.push_back({PhotoIndex(i), found[k].number});
        continue;
      }
      // Lenses and block are not known to a hundredth of a pixel.
      constexpr double kLeastSigma = 0.05;
      put_mark(lists, {0, list.photos[i].name, target_name(found[k].number), found[k].pixel,
                       std::max(kLeastSigma, found[k].sigma_px)});
      ++report.marks;
    }
  }
  if (report.marks > 0) set_control_lists(lists, {});
  return report;
}

}  // namespace icefield
