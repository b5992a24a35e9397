#include <fmt/format.h>

#include "icefield/control/likely_causes.h"
#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

Json json_of(const SurveyPhoto& photo, const PhotoList& list) {
  Json json = {{"name", photo.name},
               {"file", photo.file.string()},
               {"width", photo.metadata.width},
               {"height", photo.metadata.height},
               {"display_rotation", photo.metadata.display_rotation},
               {"sharpness", photo.scores.sharpness},
               {"mean_brightness", photo.scores.mean_brightness},
               {"mask", photo.mask.empty() ? Json(nullptr) : Json(photo.mask.string())}};
  if (!photo.left_out.empty()) {
    json["left_out"] = photo.left_out;
    return json;
  }
  const SurveyCamera& camera = list.cameras[photo.camera.value];
  const double focal = camera.prior.camera.focal();
  json["camera"] = camera.name;
  json["model"] = camera_model_name(camera.prior.camera.model);
  json["focal_px"] = focal > 0 ? Json(focal) : Json(nullptr);
  json["focal_source"] = describe(camera.source);
  json["focal_uncertainty_percent"] = focal > 0 ? Json(camera.prior.focal_uncertainty_percent) : Json(nullptr);
  return json;
}

// By photo that takes part: what is wrong with where it says that it was; empty: nothing, or it says nothing.
std::vector<std::string> position_faults(const PhotoList& list) {
  std::vector<std::optional<GpsPosition>> all;
  for (std::size_t i = 0; i < list.used; ++i) all.push_back(list.photos[i].metadata.gps);
  return faults_of_gps(all);
}

void add_positions(const PhotoList& list, const std::vector<std::string>& faults, Document& document, Json& json) {
  std::size_t with = 0, faulty = 0;
  std::string without;
  for (std::size_t i = 0; i < list.used; ++i) {
    const auto& gps = list.photos[i].metadata.gps;
    if (gps) {
      ++with, faulty += !faults[i].empty();
      json["photos"][i]["position"] = {{"latitude", gps->latitude_deg},
                                       {"longitude", gps->longitude_deg},
                                       {"height", gps->altitude_m},
                                       {"fault", faults[i].empty() ? Json(nullptr) : Json(faults[i])}};
      if (!faults[i].empty())
        document.warnings.push_back(
            fmt::format("the position of {} {}: it takes no part", list.photos[i].name, faults[i]));
    } else {
      without = without.empty() ? list.photos[i].name : without + ", " + list.photos[i].name;
    }
  }
  if (with == 0) return;
  document.say(fmt::format("{} of {} photos have a position{}{}", with, list.used,
                           faulty == 0 ? "" : fmt::format(", {} of them one that cannot be", faulty),
                           without.empty() || without.size() > 300 ? "" : "; none: " + without));
}

}  // namespace

Document photos_document(const PhotoList& list) {
  Document document;
  Json json;
  Table photos({"photo ", "size ", "camera", "sharpness", "brightness", "dark %", "burnt %", "left out "});
  for (const SurveyPhoto& p : list.photos) {
    json["photos"].push_back(json_of(p, list));
    photos.add({p.name, p.metadata.width > 0 ? fmt::format("{}x{}", p.metadata.width, p.metadata.height) : "-",
                p.camera.valid() ? fmt::format("{}", p.camera.value + 1) : "-",
                fmt::format("{:.2f}", p.scores.sharpness), fmt::format("{:.2f}", p.scores.mean_brightness),
                fmt::format("{:.1f}", 100 * p.scores.dark_share), fmt::format("{:.1f}", 100 * p.scores.bright_share),
                p.left_out});
  }
  document.show(std::move(photos));
  Table cameras({"camera", "name ", "photos", "model ", "focal px", "uncertain %", "source "});
  for (std::size_t c = 0; c < list.cameras.size(); ++c) {
    const SurveyCamera& camera = list.cameras[c];
    const bool known = camera.prior.camera.focal() > 0;
    cameras.add({fmt::format("{}", c + 1), camera.name, fmt::format("{}", camera.photos),
                 camera_model_name(camera.prior.camera.model),
                 known ? fmt::format("{:.1f}", camera.prior.camera.focal()) : "-",
                 known ? fmt::format("{:.1f}", camera.prior.focal_uncertainty_percent) : "-", describe(camera.source)});
  }
  document.show(std::move(cameras));
  add_positions(list, position_faults(list), document, json);
  document.json = text_of(json);
  return document;
}

Document settings_document(const Settings& settings) {
  Json list;
  Table table({"setting ", "value", "default", "unit ", "meaning "});
  for (const SettingInfo& info : settings.list()) {
    list.push_back({{"key", info.key},
                    {"value", info.value},
                    {"default", info.default_value},
                    {"unit", info.unit},
                    {"meaning", info.meaning}});
    table.add({info.key, info.value == info.default_value ? info.value : "* " + info.value, info.default_value,
               info.unit, info.meaning});
  }
  Document document;
  document.say(
      fmt::format("Effort: {} (draft, standard or fine; sets several of these at once). * differs from its default.",
                  effort_name(settings.effort)));
  document.show(std::move(table));
  document.json = text_of({{"effort", effort_name(settings.effort)}, {"settings", list}});
  return document;
}

}  // namespace icefield
