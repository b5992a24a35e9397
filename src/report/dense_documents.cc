#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

std::string bounds_text(const Bounds& b) {
  const Eigen::Vector3d size = 2 * b.half_size;
  return fmt::format("centre {:.3f} {:.3f} {:.3f}, size {:.3f} {:.3f} {:.3f}{}{}", b.centre.x(), b.centre.y(),
                     b.centre.z(), size.x(), size.y(), size.z(),
                     std::abs(turn_deg(b)) > 1e-6 ? fmt::format(", turned by {:.1f} degrees", turn_deg(b)) : "",
                     b.outline.empty() ? "" : fmt::format(", in an outline of {} corners", b.outline.size()));
}

std::size_t set_aside(const DenseSummary& s) {
  std::size_t sum = 0;
  for (std::size_t f = 1; f < kFaults; ++f) sum += s.aside[f];
  return sum;
}

Json dense_json(const PhotoList& photos, const DenseReport& r) {
  const DenseSummary& s = r.summary;
  Json aside = Json::object(), fill = Json::array();
  for (std::size_t f = 1; f < kFaults; ++f) aside[describe(static_cast<Fault>(f))] = s.aside[f];
  for (const DenseSummary::PhotoFill& photo : s.fill)
    fill.push_back({{"photo", photos.photos[photo.photo.value].name}, {"filled_percent", photo.percent}});
  Json seen = Json::array();
  for (const DenseSummary::PhotoParts& photo : s.parts)
    seen.push_back({{"photo", photos.photos[photo.photo.value].name},
                    {"parts_by_photos", photo.parts},
                    {"thin_reason", describe(photo.reason)}});
  return {{"block", r.block + 1},
          {"maps", s.maps},
          {"photos_without_neighbours", s.photos_without_neighbours},
          {"photos_repeated", s.photos_repeated},
          {"points", s.points},
          {"spacing", s.spacing},
          {"filled_percent", s.filled_percent},
          {"median_views", s.median_views},
          {"few_views_percent", s.few_views_percent},
          {"set_aside", aside},
          {"photos", fill},
          {"coverage", seen},
          {"bounds", json_of(s.bounds)},
          {"file", r.file.string()},
          {"set_aside_file", set_aside(s) > 0 ? Json(r.aside.string()) : Json(nullptr)},
          {"fresh", r.fresh}};
}

using Parts = std::array<std::size_t, 5>;  // matched against none, one, two, three, four or more

double percent_of(const Parts& parts, std::size_t from, std::size_t to) {
  std::size_t all = 0, some = 0;
  for (std::size_t k = 0; k < parts.size(); ++k) all += parts[k], some += k >= from && k <= to ? parts[k] : 0;
  return all > 0 ? 100.0 * static_cast<double>(some) / static_cast<double>(all) : 0;
}

void say_coverage(const DenseSummary& s, Document& document) {
  Parts sum{};
  for (const DenseSummary::PhotoParts& photo : s.parts)
    for (std::size_t k = 0; k < sum.size(); ++k) sum[k] += photo.parts[k];
  document.say(
      fmt::format("Parts of photos at the subject are matched against: four others or more {:.1f} percent, "
                  "three {:.1f}, two {:.1f}, one {:.1f}, none {:.1f}",
                  percent_of(sum, 4, 4), percent_of(sum, 3, 3), percent_of(sum, 2, 2), percent_of(sum, 1, 1),
                  percent_of(sum, 0, 0)));
}

// Photos of which much has too few others to be matched against, the worst first.
Table thin_margins(const PhotoList& photos, std::span<const DenseReport> reports) {
  constexpr double kMuchPercent = 15;
  constexpr std::size_t kMostRows = 12;
  Table table({"photo ", "one or none %", "why "});
  std::vector<DenseSummary::PhotoParts> thin;
  for (const DenseReport& r : reports)
    for (const DenseSummary::PhotoParts& photo : r.summary.parts)
      if (percent_of(photo.parts, 0, 1) >= kMuchPercent) thin.push_back(photo);
  std::stable_sort(thin.begin(), thin.end(),
                   [](const auto& a, const auto& b) { return percent_of(a.parts, 0, 1) > percent_of(b.parts, 0, 1); });
  for (std::size_t k = 0; k < std::min(kMostRows, thin.size()); ++k)
    table.add({photos.photos[thin[k].photo.value].name, fmt::format("{:.1f}", percent_of(thin[k].parts, 0, 1)),
               describe(thin[k].reason)});
  if (thin.size() > kMostRows) table.add({fmt::format("and {} more", thin.size() - kMostRows), "", ""});
  return table;
}

void say_more(const DenseReport& r, const DenseOptions& options, Document& document) {
  const DenseSummary& s = r.summary;
  document.say(fmt::format("Bounds of block {}: {}", r.block + 1, bounds_text(s.bounds)));
  if (s.photos_repeated > 0)
    document.say(fmt::format("Photos that repeat others, without a map of their own: {}", s.photos_repeated));
  if (s.photos_without_neighbours > 0)
    document.say(fmt::format("Photos without a neighbour to match against: {}", s.photos_without_neighbours));
  say_coverage(s, document);
  document.say(fmt::format("Points that only {} photos or fewer agree on: {:.1f} percent", options.min_views,
                           s.few_views_percent));
  std::string reasons;
  for (std::size_t f = 1; f < kFaults; ++f)
    if (s.aside[f] > 0)
      reasons += fmt::format("{}{} {}", reasons.empty() ? "" : ", ", s.aside[f], describe(static_cast<Fault>(f)));
  if (!reasons.empty()) document.say(fmt::format("Set aside in {}: {}", r.aside.string(), reasons));
}

// To one digit that counts.
std::string about_millions(double count) {
  const double millions = 1e-6 * count, unit = std::pow(10.0, std::floor(std::log10(std::max(millions, 1e-3))));
  return fmt::format("{:.{}f} million", unit * std::round(millions / unit),
                     unit < 1 ? static_cast<int>(-std::log10(unit) + 0.5) : 0);
}

// What is taken, under names that the blocks and the efforts share.
void add_estimate(Json row, std::string name, const DenseEstimate& e, Json& json, Table& table) {
  row.update({{"maps", e.maps},
              {"photos_without_neighbours", e.photos_without_neighbours},
              {"photos_repeated", e.photos_repeated},
              {"pixels", e.pixels},
              {"points", e.points},
              {"seconds", e.seconds},
              {"memory_bytes", e.memory_bytes},
              {"work_bytes", e.work_bytes},
              {"result_bytes", e.result_bytes}});
  json.push_back(std::move(row));
  table.add({std::move(name), fmt::format("{}", e.maps), fmt::format("{:.1f}", 1e-6 * e.pixels),
             about_millions(e.points), duration_text(e.seconds), size_text(e.memory_bytes), size_text(e.work_bytes),
             size_text(e.result_bytes)});
}

// All blocks, one after the other.
DenseEstimate sum_of(std::span<const DenseEstimate> blocks) {
  DenseEstimate all;
  for (const DenseEstimate& e : blocks) {
    all.maps += e.maps, all.pixels += e.pixels, all.points += e.points, all.seconds += e.seconds;
    all.photos_without_neighbours += e.photos_without_neighbours, all.photos_repeated += e.photos_repeated;
    all.work_bytes += e.work_bytes, all.result_bytes += e.result_bytes;
    all.memory_bytes = std::max(all.memory_bytes, e.memory_bytes);
  }
  return all;
}

Table estimate_table(const char* first) {
  return Table({first, "maps", "megapixels", "points, about", "time", "memory", "work on disk", "cloud on disk"});
}

std::string lacks_disk(const char* effort, const DenseEstimate& e, double free_bytes) {
  const double bytes = e.work_bytes + e.result_bytes;
  return bytes < free_bytes ? std::string()
                            : fmt::format("effort {}: takes {} of disk, of which {} are free", effort, size_text(bytes),
                                          size_text(free_bytes));
}

}  // namespace

Document dense_document(const PhotoList& photos, std::span<const DenseReport> reports, const DenseOptions& options) {
  Document document;
  Json json = Json::array();
  Table table({"block", "maps", "points", "spacing", "filled %", "views", "set aside", "file "}),
      thin({"thin photo ", "filled %"});
  for (const DenseReport& r : reports) {
    const DenseSummary& s = r.summary;
    json.push_back(dense_json(photos, r));
    table.add({fmt::format("{}", r.block + 1), fmt::format("{}", s.maps), fmt::format("{}", s.points),
               fmt::format("{:.4g}", s.spacing), fmt::format("{:.1f}", s.filled_percent),
               fmt::format("{:.0f}", s.median_views), fmt::format("{}", set_aside(s)), r.file.string()});
    for (const DenseSummary::PhotoFill& photo : s.fill)
      if (photo.percent < 0.5 * s.filled_percent)
        thin.add({photos.photos[photo.photo.value].name, fmt::format("{:.1f}", photo.percent)});
  }
  document.show(std::move(table));
  for (const DenseReport& r : reports) say_more(r, options, document);
  document.show(std::move(thin), "Filled by less than half as much as all together");
  document.show(thin_margins(photos, reports),
                "Margins that stay thin or empty, matched against one other photo or none");
  document.json = text_of({{"blocks", json}});
  return document;
}

Document estimate_document(std::span<const DenseEstimate> estimates, Effort effort, int threads, double free_bytes) {
  Json json = Json::array();
  Table table = estimate_table("block");
  for (std::size_t b = 0; b < estimates.size(); ++b)
    add_estimate({{"block", b + 1}}, fmt::format("{}", b + 1), estimates[b], json, table);
  Document document;
  if (const std::string lacks = lacks_disk(effort_name(effort), sum_of(estimates), free_bytes); !lacks.empty())
    document.warnings.push_back(lacks);
  document.say(fmt::format("Effort {}, {} threads; nothing is computed or changed:", effort_name(effort), threads));
  document.show(std::move(table));
  document.say(
      fmt::format("{} are free on the disk. Depth maps that are there already take no time.", size_text(free_bytes)));
  document.json = text_of({{"effort", effort_name(effort)},
                           {"threads", threads},
                           {"blocks", json},
                           {"free_bytes", static_cast<std::uint64_t>(free_bytes)}});
  return document;
}

Document efforts_document(std::span<const EffortEstimate> efforts, double within_seconds, int threads,
                          double free_bytes, const std::string& command) {
  Json json = Json::array();
  Table table = estimate_table("effort ");
  std::string proposed;
  double proposed_seconds = 0, least_seconds = std::numeric_limits<double>::infinity();
  Document document;
  for (const EffortEstimate& e : efforts) {
    const std::string name = effort_name(e.effort);
    const DenseEstimate all = sum_of(e.blocks);
    add_estimate({{"effort", name}}, name, all, json, table);
    least_seconds = std::min(least_seconds, all.seconds);
    if (const std::string lacks = lacks_disk(name.c_str(), all, free_bytes); !lacks.empty())
      document.warnings.push_back(lacks);
    else if (all.seconds <= within_seconds)
      proposed = name, proposed_seconds = all.seconds;
  }
  document.say(fmt::format("{} threads; nothing is computed or changed:", threads));
  document.show(std::move(table));
  document.say(
      fmt::format("{} are free on the disk. Depth maps that are there already take no time. A setting given by hand "
                  "is the same for all efforts.",
                  size_text(free_bytes)));
  document.say(proposed.empty()
                   ? fmt::format("No effort ends within {} and fits on the disk; the quickest takes about {}. Give a "
                                 "smaller box with --bounds, take photos out with `icefield photos --off`, or use more "
                                 "threads",
                                 duration_text(within_seconds), duration_text(least_seconds))
                   : fmt::format("Within {}: `{} --effort {}`, about {}; with the other options that were given here",
                                 duration_text(within_seconds), command, proposed, duration_text(proposed_seconds)));
  document.json = text_of({{"within_seconds", within_seconds},
                           {"proposed", proposed.empty() ? Json() : Json(proposed)},
                           {"threads", threads},
                           {"efforts", json},
                           {"free_bytes", static_cast<std::uint64_t>(free_bytes)}});
  return document;
}

}  // namespace icefield
