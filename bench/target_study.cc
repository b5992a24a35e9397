// target_study --diameter 20 --tilt 30: coded targets in made-up photos; how many are found, how exact, how exact they
// are said to be, and how long it takes. target_study --photos FOLDER: all that is found in photos without targets.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>

#include "app/arguments.h"
#include "icefield/control/targets.h"
#include "icefield/io/photo_file.h"
#include "simulate/target_photo.h"

namespace {

using namespace icefield;

struct Request {
  simulate::TargetPhotoPlan plan;
  FindTargetsOptions find;
  std::string folder, keep;
  int seeds = 10, quality = 85;
  bool verbose = false;
};

void ask(Arguments& app, Request& r) {
  app.option("--photos", r.folder, "look through these photos, which have no targets, instead");
  app.option("--keep", r.keep, "write the first photo to this file");
  app.option("--seed", r.plan.seed, "the first").with_default();
  app.option("--seeds", r.seeds, "so many photos").with_default();
  app.option("--diameter", r.plan.diameter_px, "px").with_default();
  app.option("--tilt", r.plan.tilt_deg, "degrees").with_default();
  app.option("--targets", r.plan.targets, "in each photo").with_default();
  app.option("--width", r.plan.width).with_default();
  app.option("--height", r.plan.height).with_default();
  app.option("--focal", r.plan.focal_px, "px; a short one sees large targets in perspective").with_default();
  app.option("--blur", r.plan.blur_px, "px").with_default();
  app.option("--noise", r.plan.noise, "of 255").with_default();
  app.option("--white", r.plan.white).with_default();
  app.option("--black", r.plan.black).with_default();
  app.option("--quality", r.quality, "of the JPEG").with_default();
  app.flag("--verbose", r.verbose);
}

double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

void study(const Request& request) {
  double squares = 0, scaled = 0, seconds = 0, worst = 0, pixels = 0;
  std::size_t placed = 0, found = 0, wrong = 0;
  const auto file = std::filesystem::temp_directory_path() / "icefield_target_study.jpg";
  for (int k = 0; k < request.seeds; ++k) {
    simulate::TargetPhotoPlan plan = request.plan;
    plan.seed += static_cast<std::uint64_t>(k);
    const simulate::TargetPhoto made = simulate::make_target_photo(plan);
    write_photo(file, made.photo, {}, request.quality);
    if (k == 0 && !request.keep.empty()) write_photo(request.keep, made.photo, {}, request.quality);
    const ImageU8 photo = read_photo(file);
    const auto start = std::chrono::steady_clock::now();
    const std::vector<FoundTarget> targets = find_targets(photo, request.find);
    seconds += seconds_since(start);
    pixels += static_cast<double>(photo.width()) * photo.height();
    placed += made.targets.size();
    for (const FoundTarget& target : targets) {
      const auto same = std::find_if(made.targets.begin(), made.targets.end(), [&](const simulate::PlacedTarget& p) {
        return p.number == target.number && (p.pixel - target.pixel).norm() < 3;
      });
      if (same == made.targets.end()) {
        ++wrong;
        fmt::print("wrong: {} at {:.1f} {:.1f}, agreement {:.3f}, mended {}\n", target.number, target.pixel.x(),
                   target.pixel.y(), target.agreement, target.mended_teeth);
        continue;
      }
      const double off2 = (target.pixel - same->pixel).squaredNorm() / 2;
      ++found;
      squares += off2, scaled += off2 / (target.sigma_px * target.sigma_px);
      worst = std::max(worst, std::sqrt(off2));
      if (request.verbose)
        fmt::print("{:4} off {:+.3f} {:+.3f} said {:.3f} diameter {:.1f} agreement {:.3f} mended {}\n", target.number,
                   target.pixel.x() - same->pixel.x(), target.pixel.y() - same->pixel.y(), target.sigma_px,
                   target.diameter_px, target.agreement, target.mended_teeth);
    }
  }
  const double n = std::max<double>(1, static_cast<double>(found));
  fmt::print(
      "diameter {:.0f} px, tilt {:.0f}: {} of {} found, {} wrong, off {:.3f} px RMS, worst {:.3f}, true over said "
      "{:.2f}, {:.1f} ms a megapixel\n",
      request.plan.diameter_px, request.plan.tilt_deg, found, placed, wrong, std::sqrt(squares / n), worst,
      std::sqrt(scaled / n), 1e9 * seconds / pixels);
}

void look_through(const Request& request) {
  std::vector<std::filesystem::path> files;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(request.folder))
    if (entry.path().extension() == ".jpg") files.push_back(entry.path());
  std::sort(files.begin(), files.end());
  std::size_t found = 0;
  double seconds = 0, pixels = 0;
  for (const auto& file : files) {
    const ImageU8 photo = read_photo(file);
    const auto start = std::chrono::steady_clock::now();
    const std::vector<FoundTarget> targets = find_targets(photo, request.find);
    seconds += seconds_since(start);
    pixels += static_cast<double>(photo.width()) * photo.height();
    found += targets.size();
    for (const FoundTarget& t : targets)
      fmt::print("{}: {} at {:.2f} {:.2f}, diameter {:.1f}, agreement {:.3f}, mended {}\n", file.string(), t.number,
                 t.pixel.x(), t.pixel.y(), t.diameter_px, t.agreement, t.mended_teeth);
  }
  fmt::print("{} photos, {} targets found, {:.1f} ms a megapixel\n", files.size(), found, 1e9 * seconds / pixels);
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app("How well coded targets are found.");
  Request request;
  ask(app, request);
  if (!app.parse(argc, argv)) return app.status();
  if (request.folder.empty())
    study(request);
  else
    look_through(request);
  return 0;
}
