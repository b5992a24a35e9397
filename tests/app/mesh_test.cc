// The mesh step and the commands around it, by the tool.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>
#include <set>

#include "icefield/io/mesh_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "icefield/base/statistics.h"
#include "icefield/surface/check_mesh.h"
#include "icefield/surface/sample_mesh.h"
#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using test::colours_in;
using test::icefield;
using test::icefield_json;
using testing::HasSubstr;

// The cairn, posed and densified once.
const fs::path& cairn() {
  static const fs::path folder = [] {
    const fs::path made = test::rendered("cairn", test::small_cairn()), survey = test::scratch_folder() / "meshed";
    icefield_json({"begin", survey.string(), (made / "photos").string(), "--effort", "draft"});
    icefield_json({"settings", survey.string(), "--set", "dense.shrink=2"});
    icefield_json({"run", survey.string()});
    return survey;
  }();
  return folder;
}
fs::path copy_of_cairn(const std::string& name) {
  const fs::path folder = test::scratch_folder() / name;
  fs::copy(cairn(), folder, fs::copy_options::recursive);
  return folder;
}
TEST(Mesh, OfASurveyIsMeasuredShownAndExported) {
  const fs::path survey = copy_of_cairn("m1"), made = test::rendered("cairn", test::small_cairn());
  // Nobody asked for one: it does not show, and asking for its picture says what to run.
  EXPECT_EQ(icefield_json({"status", survey.string()})["steps"].size(), 3u);
  const auto early = icefield({"view", survey.string(), "mesh"});
  EXPECT_EQ(early.status, 2);
  EXPECT_THAT(early.error, HasSubstr("icefield mesh"));

  const auto json = icefield_json({"mesh", survey.string()});
  const auto& block = json["blocks"][0];
  EXPECT_EQ(block["outcome"], "fitted");
  EXPECT_EQ(block["check"]["manifold"], true);
  EXPECT_EQ(block["check"]["oriented"], true);
  EXPECT_LT(block["moved"]["mean"].get<double>(), 0.3 * block["spacing"].get<double>());
  const fs::path file = survey / "results/block-1/mesh.ply";
  const Mesh mesh = read_mesh(file);
  EXPECT_EQ(mesh.faces.size(), block["check"]["faces"].get<std::size_t>());
  EXPECT_EQ(mesh.colours.size(), mesh.positions.size());
  const std::size_t points = read_ply(survey / "results/block-1/dense.ply").size();
  EXPECT_LE(mesh.faces.size(), points / 2);
  EXPECT_GT(mesh.faces.size(), points / 3);
  const auto status = icefield_json({"status", survey.string()});
  EXPECT_EQ(status["steps"].back()["step"], "mesh");
  for (const auto& step : status["steps"]) EXPECT_EQ(step["state"], "fresh") << step;
  EXPECT_EQ(icefield_json({"mesh", survey.string()})["blocks"][0]["fresh"], true);

  // As good as the cloud that it was made from.
  const fs::path surface = test::scratch_folder() / "mesh-truth.ply";
  ASSERT_EQ(test::run({ICEFIELD_SIMULATE_TOOL, "surface", made.string(), surface.string()}).status, 0);
  const std::vector<std::string> compare = {
      "compare", survey.string(), "--cameras", (made / "truth/cameras.json").string(), "--surface", surface.string()};
  auto with_mesh = compare;
  with_mesh.push_back("--mesh");
  const double cloud_f1 = icefield_json(compare)["cloud"]["scores"][2]["f1"],
               mesh_f1 = icefield_json(with_mesh)["cloud"]["scores"][2]["f1"];
  EXPECT_GT(mesh_f1, cloud_f1 - 0.01);

  for (const char* by : {"colour", "shape", "wire", "support", "error"}) {
    const fs::path picture = survey / (std::string(by) + ".png");
    icefield_json({"view", survey.string(), "mesh", "--by", by, "--output", picture.string()});
    EXPECT_GT(colours_in(picture), 50u) << by;
  }
  EXPECT_EQ(icefield({"view", survey.string(), "mesh", "--by", "views"}).status, 2);
  for (const char* extension : {"ply", "obj", "stl", "glb"}) {
    const fs::path out = survey / (std::string("out.") + extension);
    icefield_json({"export", survey.string(), "--mesh", out.string(), "--scale", "1000"});
    if (std::string_view(extension) == "glb") {
      EXPECT_EQ(read_file(out).substr(0, 4), "glTF");
      continue;
    }
    const Mesh back = read_mesh(out);
    EXPECT_EQ(back.faces.size(), mesh.faces.size());
    EXPECT_NEAR(area(back) / area(mesh), 1e6, 1e3) << extension;
  }
  EXPECT_EQ(icefield({"export", survey.string(), "--mesh", "x.doc"}).status, 2);
}

TEST(Mesh, IsSharpenedByThePhotos) {
  const fs::path survey = copy_of_cairn("m-sharp"), made = test::rendered("cairn", test::small_cairn());
  const fs::path surface = test::scratch_folder() / "sharp-truth.ply", plain = survey / "plain.ply";
  ASSERT_EQ(test::run({ICEFIELD_SIMULATE_TOOL, "surface", made.string(), surface.string()}).status, 0);
  const auto f1_at_1 = [&] {
    return icefield_json({"compare", survey.string(), "--cameras", (made / "truth/cameras.json").string(), "--surface",
                          surface.string(), "--mesh"})["cloud"]["scores"][0]["f1"]
        .get<double>();
  };
  // At effort draft nobody asked for it.
  EXPECT_EQ(icefield_json({"mesh", survey.string()})["blocks"][0]["sharpened"]["rounds"], 0);
  const double before = f1_at_1();
  icefield_json({"export", survey.string(), "--mesh", plain.string()});
  const auto json = icefield_json({"mesh", survey.string(), "--set", "mesh.sharpen=2", "--threads", "1"});
  const auto& sharpened = json["blocks"][0]["sharpened"];
  EXPECT_EQ(sharpened["outcome"], "sharpened");
  EXPECT_GT(sharpened["agreement_after"].get<double>(), sharpened["agreement_before"].get<double>());
  EXPECT_EQ(json["blocks"][0]["check"]["manifold"], true);
  EXPECT_GT(f1_at_1(), before + 0.03);
  EXPECT_THAT(icefield({"mesh", survey.string()}).out, HasSubstr("Sharpened by"));
  // The same bytes with other threads and little memory.
  const fs::path file = survey / "results/block-1/mesh.ply";
  const std::string first = test::content_of(file);
  fs::remove(file);
  icefield_json({"mesh", survey.string(), "--threads", "2", "--memory", "200M"});
  EXPECT_EQ(test::content_of(file), first);

  // A mesh from elsewhere.
  const std::string cameras = (survey / "results/block-1/cameras.json").string(), photos = (made / "photos").string(),
                    output = (survey / "sharp.ply").string();
  const auto alone = icefield_json({"sharpen", plain.string(), "--cameras", cameras, "--photos", photos, "--output",
                                    output, "--set", "mesh.sharpen=1"});
  EXPECT_EQ(alone["rounds"], 3);  // two on photos at half size come before
  EXPECT_EQ(read_mesh(output).faces.size(), read_mesh(plain).faces.size());
  fs::remove(output);
  auto refused = icefield(
      {"sharpen", plain.string(), "--cameras", cameras, "--photos", survey.string() + "/results", "--output", output});
  EXPECT_EQ(refused.status, 1);
  EXPECT_THAT(refused.error, HasSubstr("fewer than two photos can be read"));
  EXPECT_FALSE(fs::exists(output));
  EXPECT_EQ(icefield({"sharpen", plain.string(), "--cameras", cameras, "--photos", photos, "--output", output, "--set",
                      "mesh.sharpen=0"})
                .status,
            2);
  EXPECT_EQ(
      icefield({"mesh", (survey / "results/block-1/dense.ply").string(), "--output", output, "--cameras", cameras})
          .status,
      2);
}

TEST(Mesh, TheOpenWayComesFromTheDepthMaps) {
  const fs::path survey = copy_of_cairn("open");
  const auto json = icefield_json({"mesh", survey.string(), "--set", "mesh.way=open"});
  EXPECT_EQ(json["blocks"][0]["outcome"], "fitted");
  EXPECT_EQ(json["blocks"][0]["check"]["manifold"], true);
  EXPECT_EQ(json["blocks"][0]["check"]["closed"], false);
  EXPECT_GT(json["blocks"][0]["check"]["faces"].get<int>(), 2000);
  const std::string before = test::content_of(survey / "results/block-1/mesh.ply");
  // It keeps to the bounds, as the cloud does; sharpening moves it by a pixel or two.
  const PointCloud points = read_ply(survey / "results/block-1/dense.ply");
  Eigen::AlignedBox3d around, about;
  for (std::size_t i = 0; i < points.size(); ++i) around.extend(points.position(i));
  const Mesh made = read_mesh(survey / "results/block-1/mesh.ply");
  for (std::size_t v = 0; v < made.positions.size(); ++v) about.extend(made.position(v));
  const double slack = 0.03 * around.sizes().maxCoeff();
  EXPECT_LT((around.min() - about.min()).maxCoeff(), slack);
  EXPECT_LT((about.max() - around.max()).maxCoeff(), slack);
  // A map is gone: what is missing is named, and computed again when the cloud is.
  icefield_json({"mesh", survey.string(), "--set", "mesh.way=closed"});
  for (const auto& entry : fs::directory_iterator(survey / "work/depth"))
    if (entry.path().extension() == ".depth") fs::remove(entry.path());
  const auto missing = icefield({"mesh", survey.string(), "--set", "mesh.way=open"});
  EXPECT_EQ(missing.status, 1);
  EXPECT_THAT(missing.error, HasSubstr("dense.ply"));
  fs::remove(survey / "results/block-1/dense.ply");
  icefield_json({"mesh", survey.string()});
  EXPECT_EQ(test::content_of(survey / "results/block-1/mesh.ply"), before);
  const fs::path cloud = survey / "results/block-1/dense.ply";
  EXPECT_EQ(icefield({"mesh", cloud.string(), "--output", "x.ply", "--set", "mesh.way=open"}).status, 2);
  EXPECT_EQ(icefield({"settings", survey.string(), "--set", "mesh.way=ajar"}).status, 2);
}

TEST(Mesh, GoesStaleWithItsCloudAndItsSettings) {
  const fs::path survey = copy_of_cairn("m2");
  icefield_json({"mesh", survey.string(), "--set", "mesh.faces=5000"});
  const fs::path file = survey / "results/block-1/mesh.ply";
  const std::string first = test::content_of(file);
  EXPECT_LE(read_mesh(file).faces.size(), 5000u);
  // The same bytes with other threads.
  fs::remove(file);
  icefield_json({"mesh", survey.string(), "--threads", "1"});
  EXPECT_EQ(test::content_of(file), first);
  icefield_json({"settings", survey.string(), "--set", "mesh.faces=4000"});
  auto step = icefield_json({"status", survey.string()})["steps"].back();
  EXPECT_EQ(step["state"], "stale");
  EXPECT_THAT(step["reasons"].dump(), HasSubstr("mesh.faces was 5000, is 4000"));
  EXPECT_EQ(icefield({"view", survey.string(), "mesh", "--output", (survey / "x.png").string()}).status, 2);
  EXPECT_EQ(icefield({"view", survey.string(), "mesh", "--stale", "--output", (survey / "x.png").string()}).status, 0);
  // Back again: nothing is computed, the file counts as it did.
  icefield_json({"settings", survey.string(), "--set", "mesh.faces=5000"});
  EXPECT_EQ(icefield_json({"status", survey.string()})["steps"].back()["state"], "fresh");
  // Another cloud.
  icefield_json({"settings", survey.string(), "--set", "fuse.min_views=4"});
  step = icefield_json({"status", survey.string()})["steps"].back();
  EXPECT_EQ(step["state"], "stale");
  EXPECT_THAT(step["reasons"].dump(), HasSubstr("the cloud of block 1"));
  EXPECT_EQ(icefield({"export", survey.string(), "--mesh", (survey / "x.ply").string()}).status, 2);
  // `run` makes it again, since there was one.
  icefield_json({"run", survey.string()});
  EXPECT_EQ(icefield_json({"status", survey.string()})["steps"].back()["state"], "fresh");
  EXPECT_NE(test::content_of(file), first);
  // A changed file is put aside.
  write_file(file, "mine");
  EXPECT_EQ(icefield_json({"status", survey.string()})["steps"].back()["state"], "stale");
  icefield_json({"mesh", survey.string()});
  EXPECT_EQ(test::content_of(survey / "results/block-1/mesh.changed.ply"), "mine");
}

TEST(Mesh, OfACloudFromElsewhereAndReshaped) {
  const fs::path cloud = cairn() / "results/block-1/dense.ply", out = test::scratch_folder() / "any.ply",
                 light = test::scratch_folder() / "light.obj";
  const auto json = icefield_json({"mesh", cloud.string(), "--output", out.string(), "--set", "mesh.min_support=0"});
  EXPECT_EQ(json["blocks"][0]["check"]["closed"], true);
  EXPECT_EQ(json["blocks"][0]["cloud_points"], json["blocks"][0]["points"]);
  // Of a cloud that is too large for it evenly fewer points, and it is said.
  const fs::path part = test::scratch_folder() / "part.ply";
  const auto fewer = icefield({"mesh", cloud.string(), "--output", part.string(), "--set", "mesh.most_points=5000"});
  ASSERT_EQ(fewer.status, 0) << fewer.error;
  EXPECT_THAT(fewer.error, HasSubstr("mesh.most_points"));
  const auto again =
      icefield_json({"mesh", cloud.string(), "--output", part.string(), "--set", "mesh.most_points=5000"});
  EXPECT_LE(again["blocks"][0]["points"], 5000);
  EXPECT_GT(again["blocks"][0]["points"], 2500);
  EXPECT_EQ(again["blocks"][0]["cloud_points"], json["blocks"][0]["points"]);
  const PointCloud all = read_ply(cloud), coarse = sample_mesh(read_mesh(part), 0.02);
  const std::vector<double> off = distances(coarse, all, Executor(2));
  EXPECT_LT(median(off), 0.03);
  EXPECT_EQ(icefield({"mesh", cloud.string()}).status, 2);
  EXPECT_EQ(icefield({"mesh", cloud.string(), "--output", "x.doc"}).status, 2);
  EXPECT_EQ(icefield({"mesh", cloud.string(), "--output", out.string(), "--set", "pose.way=growing"}).status, 2);
  EXPECT_EQ(icefield({"mesh", cairn().string(), "--output", out.string()}).status, 2);

  // Looked at first, then done.
  const std::vector<std::string> words = {"reshape", out.string(), "--support", "0.3",         "--largest",
                                          "--faces", "3000",       "--output",  light.string()};
  auto dry = words;
  dry.push_back("--dry-run");
  const auto before = icefield_json(dry);
  EXPECT_FALSE(fs::exists(light));
  const auto done = icefield_json(words);
  EXPECT_EQ(done["after"], before["after"]);
  EXPECT_EQ(done["steps"], before["steps"]);
  EXPECT_EQ(done["before"]["closed"], true);
  EXPECT_EQ(done["after"]["closed"], false);
  EXPECT_EQ(done["after"]["pieces"], 1);
  EXPECT_EQ(done["after"]["manifold"], true);
  EXPECT_LE(read_mesh(light).faces.size(), 3000u);
  EXPECT_GT(done["steps"][0]["area_gone"].get<double>(), 0);
  EXPECT_THAT(icefield({"reshape", out.string()}).out, HasSubstr("manifold"));
  // Cut flat, with walls and a base, to stand.
  const fs::path stands = test::scratch_folder() / "stands.stl";
  const double middle = [&] {
    const Mesh mesh = read_mesh(light);
    double sum = 0;
    for (std::size_t v = 0; v < mesh.positions.size(); ++v) sum += mesh.position(v).z();
    return sum / static_cast<double>(mesh.positions.size());
  }();
  const auto cut = icefield_json(
      {"reshape", light.string(), "--cut", std::to_string(middle), "--base", "--output", stands.string()});
  EXPECT_EQ(cut["cut"]["outcome"], "cut");
  EXPECT_GT(cut["cut"]["faces_base"].get<int>(), 10);
  EXPECT_EQ(cut["after"]["closed"], true);
  EXPECT_TRUE(check_mesh(read_mesh(stands)).closed());
  EXPECT_EQ(icefield({"reshape", out.string(), "--cut", "1", "2"}).status, 2);
  EXPECT_EQ(icefield({"reshape", out.string(), "--base"}).status, 2);
  EXPECT_EQ(icefield({"reshape", light.string(), "--support", "0.5"}).status, 2);
  EXPECT_EQ(icefield({"reshape", (test::scratch_folder() / "none.ply").string()}).status, 3);
  write_file(test::scratch_folder() / "bad.obj", "v 0 0 0\nf 1 2 3\n");
  EXPECT_EQ(icefield({"reshape", (test::scratch_folder() / "bad.obj").string()}).status, 3);
}

TEST(Mesh, IsShapedForPrintAndForTheWeb) {
  const fs::path cloud = cairn() / "results/block-1/dense.ply", folder = test::scratch_folder();
  const fs::path fine = folder / "fine.ply", solid = folder / "solid.ply", print = folder / "print.stl";
  icefield_json({"mesh", cloud.string(), "--output", fine.string(), "--set", "mesh.min_support=0"});
  // Trimmed, cut flat at the height of its middle, then even faces, hollow with a drain.
  const fs::path trimmed_file = folder / "trimmed.ply";
  icefield_json(
      {"reshape", fine.string(), "--support", "0.3", "--largest", "--faces", "6k", "--output", trimmed_file.string()});
  const Mesh mesh = read_mesh(trimmed_file);
  Eigen::AlignedBox3d box;
  double height = 0;
  for (std::size_t v = 0; v < mesh.positions.size(); ++v) {
    box.extend(mesh.position(v));
    height += mesh.position(v).z() / static_cast<double>(mesh.positions.size());
  }
  const double size = box.sizes().maxCoeff();
  const auto text = [](double number) { return std::to_string(number); };
  const auto standing =
      icefield_json({"reshape", trimmed_file.string(), "--cut", text(height), "--base", "--output", solid.string()});
  ASSERT_EQ(standing["after"]["closed"], true);
  const double thick = std::cbrt(volume(read_mesh(solid)));
  const auto even = icefield_json({"reshape", solid.string(), "--edge", text(thick / 12), "--hollow", text(thick / 20),
                                   "--drain", text(thick / 15), "--output", print.string()});
  EXPECT_GT(even["even"]["edges_near_percent"].get<double>(), 60);
  EXPECT_EQ(even["hollow"]["outcome"], "hollowed") << even["hollow"];
  EXPECT_LT(even["hollow"]["volume"].get<double>(), 0.95 * even["hollow"]["volume_before"].get<double>());
  EXPECT_EQ(even["after"]["closed"], true);
  EXPECT_TRUE(check_mesh(read_mesh(print)).closed());
  EXPECT_EQ(icefield({"reshape", solid.string(), "--drain", "1"}).status, 2);

  // A part by a selection, with a picture of what goes; two budgets.
  const Eigen::Vector3d middle = box.center();
  const auto numbers = [](const Eigen::Vector3d& v) { return nlohmann::json{v.x(), v.y(), v.z()}; };
  const fs::path selection = folder / "part.json", picture = folder / "gone.png", light = folder / "light.ply";
  write_file(selection,
             nlohmann::json{{"format", "icefield selection"},
                            {"version", 1},
                            {"keep", {{{"box", {{"centre", numbers(middle)}, {"size", numbers(1.2 * box.sizes())}}}}}},
                            {"drop", {{{"high", height}}}}}
                 .dump());
  const auto trimmed = icefield_json(
      {"reshape", fine.string(), "--selection", selection.string(), "--picture", picture.string(), "--dry-run"});
  EXPECT_GT(trimmed["steps"].back()["faces_gone"].get<int>(), 100);
  EXPECT_GT(colours_in(picture), 20u);
  const std::string half = text(box.sizes().x() / 2);
  const auto budgets =
      icefield_json({"reshape", fine.string(), "--region", text(middle.x()), text(middle.y()), text(middle.z()), half,
                     half, text(2 * size), "--region-faces", "2k", "--faces", "500", "--output", light.string()});
  EXPECT_NEAR(budgets["after"]["faces"].get<double>(), 2500, 80);
  EXPECT_EQ(icefield({"reshape", fine.string(), "--region-faces", "2k"}).status, 2);
  EXPECT_EQ(icefield({"reshape", fine.string(), "--faces", "many"}).status, 2);
  const fs::path left = folder / "left.ply";
  const auto points =
      icefield_json({"cloud", cloud.string(), "--selection", selection.string(), "--output", left.string()});
  EXPECT_LT(points["selection"].get<int>(), points["read"].get<int>());
  const PointCloud points_left = read_ply(left);
  for (std::size_t i = 0; i < points_left.size(); ++i) EXPECT_GT(points_left.position(i).z(), height - 1e-4);
  write_file(selection, R"({"format": "icefield selection", "version": 1, "keep": [{"sphere": 1}]})");
  const auto wrong = icefield({"reshape", fine.string(), "--selection", selection.string()});
  EXPECT_EQ(wrong.status, 3);
  EXPECT_THAT(wrong.error, HasSubstr("keep[0]: 'sphere' is none of"));

  // Painted from the fine mesh; lightened again with its picture.
  const fs::path web = folder / "web.glb", lighter = folder / "lighter.glb";
  const auto baked = icefield_json(
      {"bake", light.string(), "--from", fine.string(), "--output", web.string(), "--page", "512", "--rays", "16"});
  EXPECT_EQ(baked["colour_from"], "vertices");
  EXPECT_GT(baked["used_percent"].get<double>(), 40);
  const auto again = icefield_json({"reshape", web.string(), "--faces", "1k", "--output", lighter.string()});
  EXPECT_GE(again["texture"]["pages"].get<int>(), 1);
  const TexturedMesh read = read_textured_mesh(lighter);
  EXPECT_LE(read.mesh.faces.size(), 1000u);
  EXPECT_EQ(read.texture.pages.size(), 1u);
  EXPECT_EQ(icefield({"bake", light.string(), "--from", fine.string(), "--output", "x.stl"}).status, 2);
  EXPECT_EQ(
      icefield({"bake", light.string(), "--from", (folder / "none.ply").string(), "--output", web.string()}).status, 3);
}

// What Chromium makes of a page, by the sign that the page gives when it is drawn: time within it goes on as fast as
// it can.
test::Ran in_browser(const fs::path& page, const std::string& way, const std::vector<std::string>& what) {
  test::Ran ran;
  for (int budget = 4000; budget <= 2048000; budget *= 2) {
    std::vector<std::string> words = {"/usr/bin/env",
                                      "chromium",
                                      "--headless=new",
                                      "--no-sandbox",
                                      "--use-angle=swiftshader",
                                      "--enable-unsafe-swiftshader",
                                      "--window-size=1280,800",
                                      "--virtual-time-budget=" + std::to_string(budget)};
    words.insert(words.end(), what.begin(), what.end());
    words.push_back("file://" + page.string() + "#" + way);
    ran = test::run(words);
    if (ran.out.find("data-ready=\"yes\"") != std::string::npos || ran.out.find("data-fault") != std::string::npos)
      break;
  }
  return ran;
}

TEST(Mesh, IsShownByABrowser) {
  const fs::path cloud = cairn() / "results/block-1/dense.ply", folder = test::scratch_folder();
  const fs::path fine = folder / "shown.ply", page = folder / "shown.html";
  icefield_json({"mesh", cloud.string(), "--output", fine.string(), "--set", "mesh.faces=20000"});
  const auto json =
      icefield_json({"page", fine.string(), "--output", page.string(), "--title", "A <cairn> & more", "--faces", "5k"});
  EXPECT_EQ(json["bytes"].get<std::size_t>(), fs::file_size(page));
  EXPECT_LE(json["faces"].get<int>(), 5000);
  const auto shown = in_browser(page, "support", {"--dump-dom"});
  EXPECT_THAT(shown.out, HasSubstr("data-way=\"support\""));
  EXPECT_THAT(shown.out, HasSubstr("data-faces=\"" + std::to_string(json["faces"].get<int>())));
  EXPECT_THAT(shown.out, HasSubstr("A &lt;cairn&gt; &amp; more"));
  EXPECT_THAT(shown.out, HasSubstr("Expected error"));
  EXPECT_THAT(shown.out, testing::Not(HasSubstr("id=\"still\"")));
  // A hand on it: keys, then two clicks on the middle and beside it.
  std::string html = test::content_of(page);
  html.insert(html.rfind("</body>"), R"(<script>
    const wait = setInterval(() => {
      if (document.body.dataset.ready !== 'yes') return;
      clearInterval(wait);
      const press = (key) => window.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true }));
      press('2'), press('ArrowLeft'), press('+'), press('t'), press('t');
      const canvas = document.querySelector('canvas'), frame = canvas.getBoundingClientRect();
      for (const aside of [0, 60])
        for (const kind of ['pointerdown', 'pointerup'])
          canvas.dispatchEvent(new PointerEvent(kind, { pointerId: 1, pointerType: 'mouse', bubbles: true,
            clientX: frame.left + frame.width / 2 + aside, clientY: frame.top + frame.height / 2 }));
      document.body.dataset.handled = 'yes';
    }, 10);
  </script>)");
  const fs::path handled = folder / "handled.html";
  write_file(handled, html);
  const auto touched = in_browser(handled, "", {"--dump-dom"});
  EXPECT_THAT(touched.out, HasSubstr("data-handled=\"yes\""));
  EXPECT_THAT(touched.out, HasSubstr("data-way=\"shape\""));
  EXPECT_THAT(touched.out, HasSubstr("data-turning=\"no\""));
  EXPECT_THAT(touched.out, testing::ContainsRegex("distance 0?[.][0-9]+ block units|distance [0-9.]+ block units"));
  // What a page is made of is what is committed.
  const fs::path web = fs::path(ICEFIELD_SOURCE_FOLDER) / "web";
  const auto digest = test::run(
      {"/bin/sh", "-c",
       "cat " + web.string() + "/src/*.js " + web.string() + "/package-lock.json | sha256sum | cut -d ' ' -f 1"});
  EXPECT_EQ(digest.out, test::content_of(web / "bundle/made-of.sha256")) << "run web/build.sh";
  EXPECT_EQ(icefield({"page", fine.string(), "--output", "x.htm"}).status, 2);
  EXPECT_EQ(icefield({"page", (folder / "no.ply").string(), "--output", page.string()}).status, 3);
  // And turning by itself.
  const fs::path turning = folder / "turning.gif";
  const fs::path survey = copy_of_cairn("turned");
  EXPECT_EQ(icefield({"view", survey.string(), "mesh", "--file", fine.string(), "--output", turning.string()}).status,
            0);
  EXPECT_GT(fs::file_size(turning), 100000u);
  EXPECT_EQ(icefield({"view", survey.string(), "cloud", "--output", turning.string()}).status, 2);
}

TEST(Mesh, IsTexturedShownAndExported) {
  const fs::path survey = copy_of_cairn("m3"), made = test::rendered("cairn", test::small_cairn());
  EXPECT_THAT(icefield({"view", survey.string(), "mesh", "--by", "texture"}).error, HasSubstr("icefield texture"));
  const auto json = icefield_json(
      {"run", survey.string(), "--to", "texture", "--set", "mesh.faces=8000", "--set", "texture.page_size=1024"});
  const auto& block = json["blocks"][0];
  EXPECT_EQ(block["outcome"], "painted");
  EXPECT_EQ(block["pages"], 1);
  EXPECT_LE(block["page_size"].get<int>(), 1024);
  EXPECT_GT(block["photos"].get<int>(), 4);
  EXPECT_LT(block["filled_percent"].get<double>(), 25);
  EXPECT_LT(block["seam_after"].get<double>(), block["seam_before"].get<double>());
  const fs::path file = survey / "results/block-1/textured.glb";
  const TexturedMesh read = read_textured_mesh(file);
  EXPECT_EQ(read.mesh.faces.size(), block["faces"].get<std::size_t>());
  // Faces that are large for photos as small as these are parted.
  EXPECT_GE(read.mesh.faces.size(), read_mesh(survey / "results/block-1/mesh.ply").faces.size());
  EXPECT_EQ(check_mesh(read.mesh).holes, check_mesh(read_mesh(survey / "results/block-1/mesh.ply")).holes);
  const auto status = icefield_json({"status", survey.string()});
  EXPECT_EQ(status["steps"].back()["step"], "texture");
  for (const auto& step : status["steps"]) EXPECT_EQ(step["state"], "fresh") << step;
  EXPECT_EQ(icefield_json({"texture", survey.string()})["blocks"][0]["fresh"], true);
  // The same bytes with other threads.
  const std::string first = test::content_of(file);
  fs::remove(file);
  icefield_json({"texture", survey.string(), "--threads", "1", "--memory", "1G"});
  EXPECT_EQ(test::content_of(file), first);

  for (const char* by : {"texture", "patches"}) {
    const fs::path picture = survey / (std::string(by) + ".png");
    icefield_json({"view", survey.string(), "mesh", "--by", by, "--output", picture.string()});
    EXPECT_GT(colours_in(picture), 200u) << by;
  }
  const fs::path obj = survey / "out.obj", glb = survey / "out.glb";
  icefield_json({"export", survey.string(), "--mesh", obj.string(), "--png"});
  EXPECT_EQ(read_textured_mesh(obj).texture.pages.size(), 1u);
  EXPECT_TRUE(fs::exists(survey / "out_1.png"));
  icefield_json({"export", survey.string(), "--mesh", glb.string(), "--plain"});
  EXPECT_TRUE(read_textured_mesh(glb).texture.empty());

  // The same mesh as a file, with cameras and photos by name.
  const fs::path any = survey / "any.glb";
  const std::vector<std::string> words = {"texture",   (survey / "results/block-1/mesh.ply").string(),
                                          "--cameras", (survey / "results/block-1/cameras.json").string(),
                                          "--photos",  (made / "photos").string(),
                                          "--output",  any.string(),
                                          "--set",     "texture.page_size=1024"};
  const auto other = icefield_json(words)["blocks"][0];
  // Of a folder nobody knows how sharp its photos are, so that a few faces choose otherwise.
  EXPECT_NEAR(other["patches"].get<double>() / block["patches"].get<double>(), 1, 0.1);
  EXPECT_NEAR(other["filled_percent"].get<double>(), block["filled_percent"].get<double>(), 1e-6);
  // Photos that are not there are named, and the rest does it.
  const fs::path some = survey / "some";
  fs::create_directories(some);
  std::size_t left = 0;
  for (const auto& entry : fs::directory_iterator(made / "photos"))
    if (++left > 2) fs::copy_file(entry.path(), some / entry.path().filename());
  auto fewer = words;
  fewer[5] = some.string();
  const auto rest = icefield_json(fewer)["blocks"][0];
  EXPECT_EQ(rest["photos_missing"].size(), 2u);
  auto none = words;
  none[5] = (survey / "work").string();
  EXPECT_NE(icefield(none).status, 0);
  auto wrong = words;
  wrong[7] = (survey / "any.stl").string();
  EXPECT_EQ(icefield(wrong).status, 2);
  EXPECT_EQ(icefield({"texture", words[1], "--output", any.string()}).status, 2);
  EXPECT_EQ(icefield({"texture", survey.string(), "--output", any.string()}).status, 2);
  // A setting of the texture leaves the mesh fresh.
  icefield_json({"settings", survey.string(), "--set", "texture.seam_cost=2"});
  const auto after = icefield_json({"status", survey.string()})["steps"];
  EXPECT_EQ(after.back()["state"], "stale");
  EXPECT_EQ(after[after.size() - 2]["state"], "fresh");
  EXPECT_EQ(icefield({"export", survey.string(), "--mesh", glb.string()}).status, 2);
}

TEST(Mesh, DrawnBackIsAMaskForAnotherSurvey) {
  const fs::path survey = copy_of_cairn("m4"), made = test::rendered("cairn", test::small_cairn()),
                 masks = survey / "drawn", other = test::scratch_folder() / "masked";
  EXPECT_EQ(icefield({"masks", survey.string(), "--output", masks.string()}).status, 2);  // there is no mesh yet
  icefield_json({"mesh", survey.string()});
  // Cropped by hand: what it stands on is gone.
  const fs::path cropped = survey / "cropped.ply";
  icefield_json({"reshape", (survey / "results/block-1/mesh.ply").string(), "--off-stand", "--largest", "--output",
                 cropped.string()});
  const auto whole = icefield_json({"masks", survey.string(), "--output", (survey / "whole").string()}),
             json = icefield_json({"masks", survey.string(), "--output", masks.string(), "--mesh", cropped.string()});
  EXPECT_GT(json["masks"].get<int>(), 5);
  EXPECT_LT(json["shown_percent"].get<double>(), 0.8 * whole["shown_percent"].get<double>());
  EXPECT_GT(json["shown_percent"].get<double>(), 1);
  // The other survey takes them: there are no features outside.
  icefield_json({"begin", other.string(), (made / "photos").string(), "--masks", masks.string(), "--effort", "draft"});
  const auto photos = icefield_json({"photos", other.string()})["photos"];
  std::size_t masked = 0;
  for (const auto& photo : photos) masked += photo["mask"].is_string();
  EXPECT_EQ(masked, json["masks"].get<std::size_t>());
}

// An object in two rounds of photos, turned over between them in front of a background that stays: each round by
// itself, masks from what it shows of the object, all photos in one block, and how well the rounds agree in it.
TEST(TwoPositions, BecomeOneObject) {
  simulate::PlanOptions plan = test::small_cairn();
  plan.scene = {"lantern", 5, 0.4};
  plan.extent = 1;
  plan.photos = 28;
  plan.width = 690, plan.height = 460;
  const fs::path made = test::rendered("lantern", plan), at = test::scratch_folder() / "positions";
  const auto file = [&](const std::string& name) { return (at / name).string(); };
  fs::create_directories(at);
  for (const std::string round : {"standing", "turned"}) {
    icefield_json({"begin", file(round), (made / "photos" / round).string(), "--effort", "draft", "--set",
                   "dense.shrink=2", "--set", "mesh.sharpen=0"});
    icefield_json({"run", file(round), "--to", "mesh"});
    icefield_json({"reshape", file(round + "/results/block-1/mesh.ply"), "--off-stand", "--largest", "--output",
                   file(round + ".ply")});
    EXPECT_EQ(icefield_json({"masks", file(round), "--mesh", file(round + ".ply"), "--output", file("masks")})["masks"],
              14);
  }
  icefield_json({"begin", file("whole"), (made / "photos/standing").string(), (made / "photos/turned").string(),
                 "--masks", file("masks")});
  icefield_json({"pose", file("whole")});
  const auto json = icefield_json({"agree", file("whole"), file("standing"), file("turned"), "--surfaces",
                                   file("standing.ply"), file("turned.ply")});
  ASSERT_EQ(json["parts"].size(), 2u);
  for (const auto& part : json["parts"]) {
    EXPECT_EQ(part["photos"], 14);
    EXPECT_LT(part["max_orientation_deg"], 1.0);
  }
  EXPECT_GE(json["ties_across"]["points"], 20);
  EXPECT_GT(json["surfaces"][0]["common_percent"], 60);
  EXPECT_GT(json["surfaces"][0]["within_2_gsd_percent"], 75);
  // Against truth, in the lantern's own frame: photos of both rounds are where they were taken from.
  const auto truth = icefield_json({"compare", file("whole"), "--cameras", (made / "truth/cameras.json").string()});
  EXPECT_EQ(truth["cameras"]["posed"], 28);
  EXPECT_EQ(truth["cameras"]["wrong"], 0);

  const auto fewer = icefield({"agree", file("whole"), file("turned"), "--surfaces", file("a.ply"), file("b.ply")});
  EXPECT_EQ(fewer.status, 2);
  const auto foreign = icefield({"agree", file("standing"), file("turned")});
  EXPECT_EQ(foreign.status, 3);
  EXPECT_THAT(foreign.error, HasSubstr("shares fewer than three photos"));
}

}  // namespace
}  // namespace icefield
