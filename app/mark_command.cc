// `icefield mark`: where a point is seen in photos.
#include <Eigen/LU>
#include <algorithm>
#include <charconv>
#include <nlohmann/json.hpp>

#include "command.h"
#include "icefield/control/predict_marks.h"
#include "icefield/control/refine_mark.h"
#include "icefield/photo/filter.h"
#include "icefield/report/table.h"

using namespace icefield;
using Eigen::Vector2d;

namespace {

struct Request {
  std::string point, photo, at, shape = "automatic";
  double sigma_px = 0;
  bool raw = false, remove = false, follow = false;
  std::size_t block = 1;
};

Vector2d place_of(const std::string& text) {
  const std::size_t comma = text.find(',');
  double x = 0, y = 0;
  const auto read = [&](std::size_t from, std::size_t to, double& value) {
    const auto [end, error] = std::from_chars(text.data() + from, text.data() + to, value);
    return error == std::errc() && end == text.data() + to;
  };
  if (comma == std::string::npos || !read(0, comma, x) || !read(comma + 1, text.size(), y))
    throw Error(ErrorKind::usage, "--at " + text, "is no place in a photo", "write X,Y in pixels, as --at 812.5,440");
  return {x, y};
}

class Marking {
 public:
  Marking(Survey& survey, const Request& request) : survey_(survey), request_(request), lists_(survey.control_lists()) {
    const OrientResult& free = survey.need_free_blocks();
    if (request.block > free.blocks.size())
      throw Error(ErrorKind::usage, fmt::format("block {}", request.block), "does not exist",
                  fmt::format("the survey has {}", free.blocks.size()));
    block_ = &free.blocks[request.block - 1];
    if (request.shape == "corner") options_.shape = TargetShape::corner;
    if (request.shape == "disc") options_.shape = TargetShape::disc;
  }

  void add(const std::string& photo, const Vector2d& at) {
    const PhotoIndex index = survey_.photo_index(photo);
    Vector2d pixel = at;
    double sigma = request_.sigma_px;
    if (!request_.raw) {
      const RefinedMark refined = refine_mark(to_grey(survey_.source()->load(index)), at, options_);
      note_ = fmt::format("{}: {}", survey_.photo_name(index), refined.outcome);
      if (!refined.refined) note_ += "; it stays where it was put (--raw takes it so without a word)";
      pixel = refined.pixel;
      if (refined.refined && sigma == 0) sigma = std::max(0.1, refined.sigma_px);
    }
    put(survey_.photo_name(index), pixel, sigma);
  }
  void remove(const std::string& photo) {
    const std::string name = survey_.photo_name(survey_.photo_index(photo));
    if (std::erase_if(lists_.marks, [&](const MarkRow& m) { return m.point == request_.point && m.photo == name; }) ==
        0)
      throw Error(ErrorKind::usage, name, "has no mark of '" + request_.point + "'",
                  "`icefield mark` lists those there are");
    changed_ = true;
  }
  // Marks it wherever the pixels agree with the prediction.
  void follow() {
    for (const PredictedMark& guess : predictions()) {
      const PhotoIndex index = block_->photos[guess.photo].photo;
      RefineMarkOptions options = options_;
      const Ellipse reach = ellipse_of(guess.covariance);
      options.reach_px = std::clamp(2 * reach.longer, 3.0, options_.reach_px);
      const RefinedMark refined = refine_mark(to_grey(survey_.source()->load(index)), guess.pixel, options);
      const Vector2d off = refined.pixel - guess.pixel;
      const double deviation2 = off.dot(guess.covariance.inverse() * off);
      constexpr double kMostDeviation2 = 9;
      if (!refined.refined || deviation2 > kMostDeviation2) continue;
      put(survey_.photo_name(index), refined.pixel, std::max(0.1, refined.sigma_px));
      ++followed_;
    }
  }
  void keep() {
    if (changed_) survey_.set_control_lists(lists_, {});
  }

  Document document() const {
    Document document;
    nlohmann::ordered_json json = {{"point", request_.point},
                                   {"marks", nlohmann::ordered_json::array()},
                                   {"predicted", nlohmann::ordered_json::array()}};
    if (!note_.empty()) document.say(note_);
    if (request_.follow) document.say(fmt::format("Marked in {} more photo{}", followed_, followed_ == 1 ? "" : "s"));
    const std::vector<SpotMark> marks = marks_in_block();
    const LocatedSpot spot = located(marks);
    document.say(
        fmt::format("'{}': {}", request_.point, marks.empty() ? "is marked in no photo of the block" : spot.outcome));
    json["outcome"] = spot.outcome;
    Table table({"marked in ", "x", "y", "st. dev. px", "residual px", "agrees "});
    for (std::size_t k = 0; k < marks.size(); ++k) {
      const std::string name = survey_.photo_name(block_->photos[marks[k].photo].photo);
      const auto residual =
          spot.known ? residual_px(*block_, spot.position, {marks[k].photo, {}, marks[k].pixel}) : std::nullopt;
      table.add({name, fmt::format("{:.2f}", marks[k].pixel.x()), fmt::format("{:.2f}", marks[k].pixel.y()),
                 fmt::format("{:.2f}", marks[k].sigma_px), residual ? fmt::format("{:.2f}", residual->norm()) : "-",
                 spot.known ? (spot.agrees[k] ? "yes" : "no") : "-"});
      json["marks"].push_back({{"photo", name},
                               {"x", marks[k].pixel.x()},
                               {"y", marks[k].pixel.y()},
                               {"sigma_px", marks[k].sigma_px},
                               {"agrees", spot.known && spot.agrees[k]}});
    }
    document.show(std::move(table));
    Table guesses({"predicted in ", "x", "y", "within px", "across", "takes away %"});
    for (const PredictedMark& guess : predictions()) {
      const Ellipse e = ellipse_of(guess.covariance);
      const std::string name = survey_.photo_name(block_->photos[guess.photo].photo);
      guesses.add({name, fmt::format("{:.1f}", guess.pixel.x()), fmt::format("{:.1f}", guess.pixel.y()),
                   fmt::format("{:.1f}", e.longer), fmt::format("{:.1f}", e.shorter),
                   fmt::format("{:.0f}", 100 * guess.gain)});
      json["predicted"].push_back({{"photo", name},
                                   {"x", guess.pixel.x()},
                                   {"y", guess.pixel.y()},
                                   {"within_px", e.longer},
                                   {"across_px", e.shorter},
                                   {"gain", guess.gain}});
    }
    document.show(std::move(guesses), "Where it should be, the most useful first (takes away: of its variance)");
    document.json = json.dump(1);
    return document;
  }

 private:
  void put(const std::string& photo, const Vector2d& pixel, double sigma) {
    put_mark(lists_, {0, photo, request_.point, pixel, sigma});
    changed_ = true;
  }
  std::vector<SpotMark> marks_in_block() const {
    std::vector<SpotMark> marks;
    for (const MarkRow& row : lists_.marks) {
      if (row.point != request_.point) continue;
      for (std::uint32_t i = 0; i < block_->photos.size(); ++i)
        if (survey_.photo_name(block_->photos[i].photo) == row.photo)
          marks.push_back({PosedIndex(i), row.pixel,
                           row.sigma_px > 0 ? row.sigma_px : survey_.settings().georeference.mark_sigma_px});
    }
    return marks;
  }
  LocatedSpot located(const std::vector<SpotMark>& marks) const {
    return marks.size() == 1 ? locate_by_tie_points(*block_, marks[0]) : locate_spot(*block_, marks);
  }
  std::vector<PredictedMark> predictions() const {
    const std::vector<SpotMark> marks = marks_in_block();
    return marks.empty() ? std::vector<PredictedMark>() : predict_marks(*block_, located(marks), marks);
  }

  Survey& survey_;
  const Request& request_;
  ControlLists lists_;
  const Block* block_;
  RefineMarkOptions options_;
  std::string note_;
  std::size_t followed_ = 0;
  bool changed_ = false;
};

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  Marking marking(survey, request);
  const auto need = [](bool good, const char* what, const char* fault, const char* remedy) {
    if (!good) throw Error(ErrorKind::usage, what, fault, remedy);
  };
  need(request.at.empty() || !request.photo.empty(), "--at", "is of no photo", "name it with --photo");
  need(!request.remove || !request.photo.empty(), "--remove", "is of no photo", "name it with --photo");
  need(request.photo.empty() || request.remove || !request.at.empty(), "--photo", "is given alone",
       "give --at X,Y to mark the point there, or --remove");
  if (!request.at.empty()) marking.add(request.photo, place_of(request.at));
  if (request.remove) marking.remove(request.photo);
  if (request.follow) marking.follow();
  const Document document = marking.document();
  marking.keep();
  show(document, common, monitor,
       fmt::format("icefield view {0} mark --point {1}; icefield mark {0} {1} --follow", common.survey, request.point));
  return 0;
}

}  // namespace

Command mark_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "mark",
                                     "Mark where a point is seen in photos; where it should be in others; kept in "
                                     "control/marks.csv");
  options.option("point", request->point, "Name of the point; a new one is a spot without coordinates").required();
  options.option("--photo", request->photo, "In this photo");
  options.option("--at", request->at,
                 "Here: X,Y in pixels of the photo as stored; moved to the target's middle if there is one");
  options
      .option("--shape", request->shape,
              "What the target is about its middle: automatic, corner (quartered square, chessboard, cross) or disc")
      .one_of({"automatic", "corner", "disc"})
      .with_default();
  options.option("--sigma", request->sigma_px, "Standard deviation of the mark, px (default: what the pixels say)")
      .positive();
  options.flag("--raw", request->raw, "Exactly there, whatever the pixels say");
  options.flag("--remove", request->remove, "Take the mark in this photo away");
  options.flag("--follow", request->follow, "Mark it as well wherever a target is where it is predicted");
  with_block(options, request->block);
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
