// feature_study: how well features of two photos find each other again under turns, scales, angles, blur, noise,
// compression, exposure and light, on made-up pairs whose truth is known. Prints a table (Markdown), or lines of JSON
// with --json.
//
//   repeated   keypoints of the first photo whose place is in the second and which are found there again (within 1.5 px
//   of the
//              coarser of the two photos, and a factor of 1.5 in scale), of the smaller number of keypoints in the
//              common part
//   right      matches (ratio and mutual check) within 3 px of the truth, measured in the second photo
//   precision  right ones of all matches whose truth is known
//   verified   matches after verification with unknown cameras, guided pass included; and how many of them are right
#include <fmt/format.h>

#include <Eigen/Dense>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <numbers>

#include "app/arguments.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "icefield/match/match.h"
#include "icefield/photo/filter.h"
#include "icefield/survey/settings.h"
#include "simulate/pairs.h"
#include "simulate/plan.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using simulate::PhotoPair;
using simulate::TrueMapping;
namespace fs = std::filesystem;

constexpr int kWidth = 800, kHeight = 534;
constexpr double kDegree = std::numbers::pi / 180;

struct Case {
  std::string group, name;
  PhotoPair pair;
  std::optional<Matrix3d> homography;  // first to second, of planar pairs
};

struct Result {
  std::size_t first = 0, second = 0, common = 0, repeated = 0, matches = 0, judged = 0, right = 0, verified = 0,
              verified_judged = 0, verified_right = 0;
};

// Keypoints that differ in nothing but their angle are one.
std::vector<Keypoint> places(const Features& features, std::size_t begin, std::size_t end) {
  std::vector<Keypoint> out;
  for (std::size_t i = begin; i < end; ++i) {
    const Keypoint& k = features.keypoints[i];
    if (out.empty() || out.back().x != k.x || out.back().y != k.y || out.back().scale != k.scale) out.push_back(k);
  }
  return out;
}

// Where the truth has no place for a spot, a match of it is wrong on planar pairs; on scenes it may be on the border of
// something, and is not judged.
Result study(const PhotoPair& pair, bool planar, const FeatureOptions& options, const VerifyOptions& verify) {
  Result result;
  const Features first = find_features(to_grey(pair.first), options),
                 second = find_features(to_grey(pair.second), options);
  result.first = first.size(), result.second = second.size();

  std::size_t in_first = 0, in_second = 0;
  std::vector<std::uint8_t> seen(second.size(), 0);
  const auto repeat = [&](const std::vector<Keypoint>& a, const std::vector<Keypoint>& b) {
    std::vector<std::uint8_t> taken(b.size(), 0), common(b.size(), 0);
    // Buckets of 8 px.
    const int columns = kWidth / 8 + 1, rows = kHeight / 8 + 1;
    std::vector<std::vector<std::uint32_t>> buckets(static_cast<std::size_t>(columns * rows));
    for (std::size_t j = 0; j < b.size(); ++j)
      buckets[static_cast<std::size_t>(std::clamp(static_cast<int>(b[j].y) / 8, 0, rows - 1) * columns +
                                       std::clamp(static_cast<int>(b[j].x) / 8, 0, columns - 1))]
          .push_back(static_cast<std::uint32_t>(j));
    for (const Keypoint& k : a) {
      const auto there = pair.mapping({k.x, k.y});
      if (!there) continue;
      ++in_first;
      const double reach = 1.5 * std::max(1.0, there->scale), scale = k.scale * there->scale;
      std::size_t best = b.size();
      double nearest = reach;
      const auto bucket = [](double v, int most) { return std::clamp(static_cast<int>(v / 8), 0, most - 1); };
      for (int by = bucket(there->place.y() - reach, rows); by <= bucket(there->place.y() + reach, rows); ++by)
        for (int bx = bucket(there->place.x() - reach, columns); bx <= bucket(there->place.x() + reach, columns); ++bx)
          for (const std::uint32_t j : buckets[static_cast<std::size_t>(by * columns + bx)]) {
            const double d = (Vector2d(b[j].x, b[j].y) - there->place).norm(), ratio = b[j].scale / scale;
            if (!taken[j] && d < nearest && ratio > 1 / 1.5 && ratio < 1.5) best = j, nearest = d;
          }
      if (best < b.size()) taken[best] = 1, ++result.repeated;
    }
  };
  repeat(places(first, 0, first.gradient_size()), places(second, 0, second.gradient_size()));
  repeat(places(first, first.gradient_size(), first.size()), places(second, second.gradient_size(), second.size()));
  // What of the second photo is common is counted from the first: each place of it that maps there.
  std::vector<std::uint8_t> covered(static_cast<std::size_t>(kWidth * kHeight), 0);
  for (int y = 0; y < 2 * kHeight; ++y)
    for (int x = 0; x < 2 * kWidth; ++x)
      if (const auto there = pair.mapping({0.5 * x + 0.25, 0.5 * y + 0.25})) {
        const int reach = static_cast<int>(std::ceil(0.5 * there->scale));
        const int px = static_cast<int>(there->place.x()), py = static_cast<int>(there->place.y());
        for (int qy = std::max(0, py - reach); qy <= std::min(kHeight - 1, py + reach); ++qy)
          for (int qx = std::max(0, px - reach); qx <= std::min(kWidth - 1, px + reach); ++qx)
            covered[static_cast<std::size_t>(qy * kWidth + qx)] = 1;
      }
  for (const auto& list :
       {places(second, 0, second.gradient_size()), places(second, second.gradient_size(), second.size())})
    for (const Keypoint& k : list)
      in_second += covered[static_cast<std::size_t>(std::clamp(static_cast<int>(k.y), 0, kHeight - 1) * kWidth +
                                                    std::clamp(static_cast<int>(k.x), 0, kWidth - 1))];
  result.common = std::min(in_first, in_second);

  const auto judge = [&](const std::vector<Match>& matches, std::size_t& judged, std::size_t& right) {
    for (const Match& m : matches) {
      const Keypoint &a = first.keypoints[m.first.value], &b = second.keypoints[m.second.value];
      const auto there = pair.mapping({a.x, a.y});
      judged += there || planar;
      right += there && (there->place - Vector2d(b.x, b.y)).norm() < 3;
    }
  };
  const std::vector<Match> matches = match_descriptors(first, second);
  result.matches = matches.size();
  judge(matches, result.judged, result.right);
  CameraPrior unknown;
  unknown.camera.width = kWidth, unknown.camera.height = kHeight;
  const PairMatches verified =
      verify_pair({PhotoIndex(0), first, unknown}, {PhotoIndex(1), second, unknown}, matches, verify, 1);
  result.verified = verified.matches.size();
  judge(verified.matches, result.verified_judged, result.verified_right);
  return result;
}

Matrix3d shift(double x, double y) {
  return (Matrix3d() << 1, 0, x, 0, 1, y, 0, 0, 1).finished();
}
Matrix3d zoom(double s) {
  return Eigen::Vector3d(s, s, 1).asDiagonal();
}

// About the middle of the picture to the middle of the view: turned, enlarged, and seen by so many degrees from the
// side with a field of view of 50 degrees.
Matrix3d view(const ImageU8& picture, double turn, double scale, double angle) {
  Matrix3d tilt = Matrix3d::Identity();
  if (angle > 0) {
    const double focal = kWidth / (2 * std::tan(25 * kDegree));
    const Matrix3d k = Eigen::Vector3d(focal, focal, 1).asDiagonal();
    Matrix3d r = Eigen::AngleAxisd(angle, Eigen::Vector3d(std::cos(0.5), std::sin(0.5), 0)).toRotationMatrix();
    // The plane z = 1 turned about its middle.
    const Matrix3d plane = (Matrix3d() << r(0, 0), r(0, 1), 0, r(1, 0), r(1, 1), 0, r(2, 0), r(2, 1), 1).finished();
    tilt = k * plane * k.inverse();
  }
  const Matrix3d rotation = Eigen::AngleAxisd(turn, Eigen::Vector3d::UnitZ()).toRotationMatrix();
  return shift(0.5 * kWidth, 0.5 * kHeight) * tilt * zoom(scale) * rotation *
         shift(-0.5 * picture.width(), -0.5 * picture.height());
}

ImageU8 compressed(const ImageU8& photo, int quality, const fs::path& folder) {
  const fs::path file = folder / "compressed.jpg";
  write_photo(file, photo, {}, quality);
  return read_photo(file);
}

std::vector<Case> planar_cases(const ImageU8& picture, const fs::path& folder, const Executor& executor) {
  std::vector<Case> cases;
  const Matrix3d a = view(picture, 0, 1, 0);
  const ImageU8 first = simulate::warp(picture, a, kWidth, kHeight, executor);
  const auto add = [&](std::string group, std::string name, double turn, double scale, double angle) {
    const Matrix3d b = view(picture, turn, scale, angle), across = b * a.inverse();
    cases.push_back({std::move(group),
                     std::move(name),
                     {first, simulate::warp(picture, b, kWidth, kHeight, executor),
                      simulate::planar_mapping(across, kWidth, kHeight)},
                     across});
  };
  for (int degrees = 15; degrees < 360; degrees += 15)
    add("rotation", fmt::format("{} deg", degrees), degrees * kDegree, 1, 0);
  for (const double s : {1.25, 1.5, 2.0, 3.0, 4.0}) add("scale", fmt::format("1 : {}", s), 0.3, 1 / s, 0);
  for (const int degrees : {20, 30, 40, 50, 60})
    add("viewing angle", fmt::format("{} deg", degrees), 0, 1, degrees * kDegree);
  // The rest on photos that differ by a small turn, so that pixels do not fall on pixels.
  const std::size_t none = cases.size();
  add("none", "", 0.1, 1, 0);
  const auto fault = [&](const std::string& group, const std::string& name,
                         const std::function<ImageU8(const ImageU8&)>& change) {
    Case c = cases[none];
    c.group = group, c.name = name;
    c.pair.second = change(c.pair.second);
    cases.push_back(std::move(c));
  };
  for (const double s : {1.0, 2.0, 3.0})
    fault("blur", fmt::format("{} px", s), [&](const ImageU8& p) { return simulate::blurred(p, s); });
  for (const double s : {5.0, 10.0, 20.0})
    fault("noise", fmt::format("{} of 255", s), [&](const ImageU8& p) { return simulate::with_noise(p, s, 5); });
  for (const int q : {80, 50})
    fault("JPEG", fmt::format("quality {}", q), [&](const ImageU8& p) { return compressed(p, q, folder); });
  for (const double s : {-2.0, -1.0, 1.0, 2.0})
    fault("exposure", fmt::format("{:+} EV", s), [&](const ImageU8& p) { return simulate::exposed(p, s); });
  return cases;
}

// Photos of the scenes: growing angles around the cairn, and the same places under sun and clouds.
std::vector<Case> scene_cases(const Executor& executor) {
  std::vector<Case> cases;
  for (const char* kind : {"cairn", "forefield"}) {
    simulate::PlanOptions plan;
    plan.scene.kind = kind;
    plan.scene.seed = 17;
    plan.photos = kind == std::string("cairn") ? 56 : 40;
    plan.width = kWidth, plan.height = kHeight;
    plan.exposure_jitter_ev = 0;
    const auto photos = simulate::plan_photos(plan);
    const simulate::Scene sunny(plan.scene);
    simulate::SceneOptions dull = plan.scene;
    dull.clouds = 0.9;
    const simulate::Scene cloudy(dull);
    const auto photo = [&](const simulate::Scene& scene, std::size_t i) {
      simulate::RenderOptions how;
      how.seed = i + 1;
      return render(scene, photos[i].shot, how, executor);
    };
    const auto depth = [&](std::size_t i) {
      return true_maps(sunny, photos[i].shot.camera, photos[i].shot.pose, executor).depth;
    };
    const ImageF depth0 = depth(0);
    const ImageU8 photo0 = photo(sunny, 0);
    const std::vector<std::size_t> others =
        kind == std::string("cairn") ? std::vector<std::size_t>{1, 2, 3, 4} : std::vector<std::size_t>{1, 2};
    for (const std::size_t i : others) {
      const double angle = std::acos(std::clamp(
          (photos[0].shot.pose.orientation * photos[i].shot.pose.orientation.conjugate().toRotationMatrix().col(2)).z(),
          -1.0, 1.0));
      const std::string name =
          kind == std::string("cairn")
              ? fmt::format("cairn, {:.0f} deg apart", angle / kDegree)
              : fmt::format("flight, {:.0f} m apart", (photos[0].shot.pose.centre - photos[i].shot.pose.centre).norm());
      cases.push_back(
          {"scene",
           name,
           {photo0, photo(sunny, i), simulate::scene_mapping(photos[0].shot, depth0, photos[i].shot, depth(i))},
           {}});
      if (i == 1) cases.push_back({"sun and clouds", name, {photo0, photo(cloudy, i), cases.back().pair.mapping}, {}});
    }
  }
  return cases;
}

}  // namespace
}  // namespace icefield

int main(int argc, char** argv) {
  using namespace icefield;
  Arguments app{"How well features find each other again, on made-up pairs with known truth"};
  bool json = false, nonlinear = false;
  int threads = 2, max_features = 6000;
  std::string write, picture_file;
  app.flag("--json", json, "a line for each pair");
  app.flag("--nonlinear", nonlinear, "the second kind alone");
  app.option("--max-features", max_features).with_default();
  app.option("--threads", threads).with_default();
  app.option("--picture", picture_file, "a photo of 3200x2134 or more for the planar pairs; rendered if not given");
  bool planar = false;
  app.flag("--planar", planar, "planar pairs only");
  app.option("--write", write, "a folder for the pairs and the homographies of planar ones");
  std::vector<std::string> sets;
  app.option("--set", sets, "feature and match settings, section.key=value").one_each();
  if (!app.parse(argc, argv)) return app.status();
  try {
    Settings settings;
    for (const std::string& entry : sets)
      settings.set(entry.substr(0, entry.find('=')), entry.substr(entry.find('=') + 1));
    const Executor executor(threads);
    const fs::path folder = write.empty() ? fs::temp_directory_path() : fs::path(write);
    fs::create_directories(folder);
    ImageU8 picture;
    if (!picture_file.empty()) {
      picture = read_photo(picture_file);
    } else {
      simulate::PlanOptions plan;
      plan.scene.kind = "forefield", plan.scene.seed = 17;
      plan.photos = 40, plan.width = 4 * kWidth, plan.height = 4 * kHeight;
      simulate::RenderOptions how;
      how.vignetting = 0;
      picture = render(simulate::Scene(plan.scene), simulate::plan_photos(plan)[12].shot, how, executor);
      if (!write.empty()) write_photo(folder / "picture.png", picture);
    }
    std::vector<Case> cases = planar_cases(picture, folder, executor);
    if (!planar)
      for (Case& c : scene_cases(executor)) cases.push_back(std::move(c));
    FeatureOptions options = settings.feature;
    options.max_features = max_features;
    options.gaussian = !nonlinear, options.nonlinear = nonlinear;
    if (!json)
      fmt::print(
          "| change | | features | in common | repeated % | matches | right | precision % | verified | of them right % "
          "|\n| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |\n");
    std::vector<Result> results(cases.size());
    Monitor silent;
    executor.run("", cases.size(), silent, [&](std::size_t i) {
      results[i] = study(cases[i].pair, cases[i].homography.has_value(), options, settings.verify);
    });
    for (std::size_t i = 0; i < cases.size(); ++i) {
      const Case& c = cases[i];
      const Result& r = results[i];
      const auto percent = [](std::size_t part, std::size_t all) {
        return all > 0 ? 100.0 * static_cast<double>(part) / static_cast<double>(all) : 0.0;
      };
      if (json)
        fmt::print("{}\n", nlohmann::ordered_json{{"change", c.group},
                                                  {"amount", c.name},
                                                  {"features", {r.first, r.second}},
                                                  {"common", r.common},
                                                  {"repeated", r.repeated},
                                                  {"matches", r.matches},
                                                  {"judged", r.judged},
                                                  {"right", r.right},
                                                  {"verified", r.verified},
                                                  {"verified_judged", r.verified_judged},
                                                  {"verified_right", r.verified_right}}
                               .dump());
      else
        fmt::print("| {} | {} | {}, {} | {} | {:.1f} | {} | {} | {:.1f} | {} | {:.1f} |\n", c.group, c.name, r.first,
                   r.second, r.common, percent(r.repeated, r.common), r.matches, r.right, percent(r.right, r.judged),
                   r.verified, percent(r.verified_right, r.verified_judged));
      if (write.empty()) continue;
      const fs::path stem = folder / fmt::format("{:02}", i);
      write_photo(stem.string() + "_first.png", c.pair.first);
      write_photo(stem.string() + "_second.png", c.pair.second);
      if (c.homography) {
        std::string text;
        for (int k = 0; k < 3; ++k)
          text += fmt::format("{:.12g} {:.12g} {:.12g}\n", (*c.homography)(k, 0), (*c.homography)(k, 1),
                              (*c.homography)(k, 2));
        write_file(stem.string() + "_homography.txt", text);
      }
    }
  } catch (const std::exception& error) {
    fmt::print(stderr, "feature_study: {}\n", error.what());
    return 1;
  }
  return 0;
}
