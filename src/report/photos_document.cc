#include <fmt/format.h>

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
