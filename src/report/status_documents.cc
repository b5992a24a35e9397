#include <fmt/format.h>

#include <algorithm>

#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

// By part; gives what no present result needs.
std::uintmax_t add_disk_use(const DiskUse& use, Document& document, Json& json) {
  std::uintmax_t idle = 0;
  const auto size = [](std::uintmax_t bytes) { return size_text(static_cast<double>(bytes)); };
  Table table({"on disk ", "number", "size", "not needed", "size of it"});
  for (const DiskUse::Part& part : use.parts) {
    idle += part.idle_bytes;
    json.push_back({{"part", part.what},
                    {"count", part.count},
                    {"bytes", part.bytes},
                    {"idle", part.idle},
                    {"idle_bytes", part.idle_bytes}});
    table.add({part.what, fmt::format("{}", part.count), size(part.bytes), fmt::format("{}", part.idle),
               part.idle > 0 ? size(part.idle_bytes) : "-"});
  }
  document.show(std::move(table));
  return idle;
}

Json step_json(const StepStatus& s) {
  Json files = Json::array();
  for (const ProductFile& file : s.files)
    files.push_back({{"file", file.file.string()}, {"state", describe(file.state)}, {"bytes", file.bytes}});
  return {{"step", s.step},       {"state", describe(s.state)}, {"seconds", s.seconds}, {"result", s.result},
          {"reasons", s.reasons}, {"history", s.history},       {"files", files}};
}

void say_why(const StepStatus& s, Document& document) {
  constexpr std::size_t kNamed = 4;
  for (std::size_t i = 0; i < std::min(s.reasons.size(), kNamed); ++i)
    document.say(fmt::format("{} is stale: {}", s.step, s.reasons[i]));
  if (s.reasons.size() > kNamed)
    document.say(fmt::format("{} is stale: {} more reasons (--json lists all)", s.step, s.reasons.size() - kNamed));
}

}  // namespace

Document status_document(Survey& survey) {
  const PhotoList& list = survey.photos();
  const Settings& settings = survey.settings();
  Document document;
  Json json = {{"photos", list.used},
               {"left_out", list.photos.size() - list.used},
               {"effort", effort_name(settings.effort)},
               {"step_effort", Json::object()},
               {"in_use", survey.is_in_use()},
               {"steps", Json::array()},
               {"disk", Json::array()}};
  std::string efforts = effort_name(settings.effort);
  for (const auto& [step, effort] : settings.step_effort) {
    json["step_effort"][step] = effort_name(effort);
    efforts += fmt::format(", {} of {}", effort_name(effort), step);
  }
  document.say(fmt::format("{} photos ({} left out), {} camera{}, effort {}", list.used, list.photos.size() - list.used,
                           list.cameras.size(), list.cameras.size() == 1 ? "" : "s", efforts));
  if (survey.is_in_use()) document.say("A run is going on; this is what it found when this command began.");
  const std::vector<StepStatus> steps = survey.status();
  Table table({"step ", "state ", "took", "result "});
  for (const StepStatus& s : steps) {
    json["steps"].push_back(step_json(s));
    table.add({s.step, describe(s.state), s.seconds > 0 ? duration_text(s.seconds) : "-", s.result});
  }
  document.show(std::move(table));
  for (const StepStatus& s : steps) say_why(s, document);
  const std::uintmax_t idle = add_disk_use(survey.disk_use(), document, json["disk"]);
  if (idle > 0)
    document.say(
        fmt::format("`icefield tidy {}` frees {}", survey.folder().string(), size_text(static_cast<double>(idle))));
  document.json = text_of(json);
  return document;
}

Document disk_document(const DiskUse& use, bool freed) {
  Document document;
  Json parts = Json::array();
  const std::uintmax_t idle = add_disk_use(use, document, parts);
  document.say(fmt::format("{} that no present result needs {}", size_text(static_cast<double>(idle)),
                           freed ? "freed; going back to other settings computes it again" : "would be freed"));
  document.json = text_of({{"parts", parts}, {"idle_bytes", idle}, {"freed", freed}});
  return document;
}

}  // namespace icefield
