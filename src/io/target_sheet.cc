#include "icefield/io/target_sheet.h"

#include <cairo-pdf.h>
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>

#include "icefield/base/error.h"
#include "icefield/control/targets.h"
#include "icefield/io/text_file.h"

namespace icefield {
namespace {

namespace fs = std::filesystem;
using Eigen::Vector2d;

constexpr double kLabel = 7, kFoot = 20, kTextSize = 3.2;  // mm

// What is on a page: black figures with white discs, black lines, words.
struct Page {
  struct Figure {
    std::vector<Vector2d> outline;
    Vector2d middle;
    double disc;
  };
  struct Line {
    Vector2d from, to;
  };
  struct Words {
    Vector2d at;  // the middle of their base line
    std::string text;
  };
  std::vector<Figure> figures;
  std::vector<Line> lines;
  std::vector<Words> words;
};

void add_ruler(const TargetSheet& sheet, Page& page) {
  const TargetSheetOptions& o = sheet.options;
  const double left = 0.5 * (o.width_mm - sheet.ruler_mm), y = o.height_mm - o.margin_mm - 10;
  page.lines.push_back({{left, y}, {left + sheet.ruler_mm, y}});
  for (int tick = 0; 10 * tick <= static_cast<int>(sheet.ruler_mm + 0.5); ++tick) {
    const bool end = tick == 0 || 10 * (tick + 1) > static_cast<int>(sheet.ruler_mm + 0.5);
    page.lines.push_back({{left + 10 * tick, y - (end ? 4.0 : 2.0)}, {left + 10 * tick, y}});
  }
  const double middle = 0.5 * o.width_mm;
  page.words.push_back({{middle, y + 4.5}, fmt::format("{:.0f} mm on a true print: measure it", sheet.ruler_mm)});
  page.words.push_back({{middle, y + 9},
                        fmt::format("Middles are {:.1f} mm apart across and {:.1f} mm down. Print on mat paper, mount "
                                    "it flat, leave the white around.",
                                    sheet.across_mm, sheet.down_mm)});
}

std::vector<Page> pages_of(const TargetSheet& sheet) {
  std::vector<Page> pages(sheet.pages);
  const double radius = 0.5 * sheet.options.diameter_mm, paper = kTargetPaper * radius;
  for (const TargetSheet::Placed& placed : sheet.targets) {
    Page& page = pages[placed.page];
    Page::Figure figure{{}, placed.middle_mm, kTargetDisc * radius};
    for (const Vector2d& corner : target_outline(placed.number))
      figure.outline.push_back(placed.middle_mm + radius * corner);
    page.figures.push_back(std::move(figure));
    // Where to cut.
    for (const double x : {-1.0, 1.0})
      for (const double y : {-1.0, 1.0}) {
        const Vector2d corner = placed.middle_mm + paper * Vector2d(x, y);
        page.lines.push_back({corner, corner - Vector2d(2.5 * x, 0)});
        page.lines.push_back({corner, corner - Vector2d(0, 2.5 * y)});
      }
    page.words.push_back(
        {placed.middle_mm + Vector2d(0, paper + 0.7 * kLabel),
         fmt::format("{}, {:g} mm from corner to corner", target_name(placed.number), sheet.options.diameter_mm)});
  }
  for (Page& page : pages) add_ruler(sheet, page);
  return pages;
}

std::string svg_of(const Page& page, const TargetSheetOptions& o) {
  std::string text = fmt::format(
      "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0:g}mm\" height=\"{1:g}mm\" viewBox=\"0 0 {0:g} {1:g}\">\n"
      "<rect width=\"{0:g}\" height=\"{1:g}\" fill=\"#fff\"/>\n",
      o.width_mm, o.height_mm);
  for (const Page::Figure& figure : page.figures) {
    text += "<path fill=\"#000\" d=\"";
    for (std::size_t k = 0; k < figure.outline.size(); ++k)
      text += fmt::format("{}{:.4f} {:.4f}", k == 0 ? "M" : "L", figure.outline[k].x(), figure.outline[k].y());
    text += fmt::format("Z\"/>\n<circle cx=\"{:.4f}\" cy=\"{:.4f}\" r=\"{:.4f}\" fill=\"#fff\"/>\n", figure.middle.x(),
                        figure.middle.y(), figure.disc);
  }
  text += "<path fill=\"none\" stroke=\"#000\" stroke-width=\"0.2\" d=\"";
  for (const Page::Line& line : page.lines)
    text += fmt::format("M{:.3f} {:.3f}L{:.3f} {:.3f}", line.from.x(), line.from.y(), line.to.x(), line.to.y());
  text += "\"/>\n";
  for (const Page::Words& words : page.words)
    text += fmt::format(
        "<text x=\"{:.3f}\" y=\"{:.3f}\" font-family=\"sans-serif\" font-size=\"{:g}\" "
        "text-anchor=\"middle\">{}</text>\n",
        words.at.x(), words.at.y(), kTextSize, words.text);
  return text + "</svg>\n";
}

void draw(cairo_t* cairo, const Page& page) {
  cairo_set_source_rgb(cairo, 0, 0, 0);
  for (const Page::Figure& figure : page.figures) {
    for (std::size_t k = 0; k < figure.outline.size(); ++k)
      (k == 0 ? cairo_move_to : cairo_line_to)(cairo, figure.outline[k].x(), figure.outline[k].y());
    cairo_close_path(cairo);
    cairo_fill(cairo);
    cairo_set_source_rgb(cairo, 1, 1, 1);
    cairo_arc(cairo, figure.middle.x(), figure.middle.y(), figure.disc, 0, 6.283185307179586);
    cairo_fill(cairo);
    cairo_set_source_rgb(cairo, 0, 0, 0);
  }
  cairo_set_line_width(cairo, 0.2);
  for (const Page::Line& line : page.lines) {
    cairo_move_to(cairo, line.from.x(), line.from.y());
    cairo_line_to(cairo, line.to.x(), line.to.y());
  }
  cairo_stroke(cairo);
  cairo_select_font_face(cairo, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
  cairo_set_font_size(cairo, kTextSize);
  for (const Page::Words& words : page.words) {
    cairo_text_extents_t extents;
    cairo_text_extents(cairo, words.text.c_str(), &extents);
    cairo_move_to(cairo, words.at.x() - 0.5 * extents.width, words.at.y());
    cairo_show_text(cairo, words.text.c_str());
  }
}

std::string pdf_of(const std::vector<Page>& pages, const TargetSheetOptions& o) {
  constexpr double kPoint = 72 / 25.4;
  std::string bytes;
  const auto append = [](void* to, const unsigned char* data, unsigned int length) {
    static_cast<std::string*>(to)->append(reinterpret_cast<const char*>(data), length);
    return CAIRO_STATUS_SUCCESS;
  };
  cairo_surface_t* surface =
      cairo_pdf_surface_create_for_stream(append, &bytes, kPoint * o.width_mm, kPoint * o.height_mm);
  cairo_pdf_surface_set_metadata(surface, CAIRO_PDF_METADATA_TITLE, "Icefield coded targets");
  // The same bytes whenever it is made.
  cairo_pdf_surface_set_metadata(surface, CAIRO_PDF_METADATA_CREATE_DATE, "2026-01-01T00:00:00Z");
  cairo_t* cairo = cairo_create(surface);
  for (const Page& page : pages) {
    cairo_identity_matrix(cairo);
    cairo_scale(cairo, kPoint, kPoint);
    draw(cairo, page);
    cairo_show_page(cairo);
  }
  cairo_destroy(cairo);
  cairo_surface_finish(surface);
  const cairo_status_t status = cairo_surface_status(surface);
  cairo_surface_destroy(surface);
  if (status != CAIRO_STATUS_SUCCESS)
    throw Error(ErrorKind::computation, "the sheet of targets", "could not be drawn", cairo_status_to_string(status));
  return bytes;
}

}  // namespace

std::string target_name(int number) {
  return fmt::format("T{}", number);
}

Vector2d paper_size(const std::string& name) {
  std::string small = name;
  for (char& c : small) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  constexpr double kSeries[][2] = {{841, 1189}, {594, 841}, {420, 594}, {297, 420}, {210, 297}, {148, 210}};
  if (small.size() == 2 && small[0] == 'a' && small[1] >= '0' && small[1] <= '5')
    return {kSeries[small[1] - '0'][0], kSeries[small[1] - '0'][1]};
  if (small == "letter") return {215.9, 279.4};
  Vector2d size = Vector2d::Zero();
  const char* end = small.data() + small.size();
  const auto wide = std::from_chars(small.data(), end, size.x());
  if (wide.ec == std::errc() && wide.ptr != end && *wide.ptr == 'x') {
    const auto high = std::from_chars(wide.ptr + 1, end, size.y());
    if (high.ec == std::errc() && high.ptr == end && size.minCoeff() >= 30 && size.maxCoeff() <= 5000) return size;
  }
  throw Error(ErrorKind::usage, "paper '" + name + "'", "is no size that is known",
              "give a0 to a5, letter, or WIDTHxHEIGHT in mm (30 to 5000), as 210x297");
}

TargetSheet plan_target_sheet(const TargetSheetOptions& options) {
  if (options.count < 1 || options.first < 1 || options.first + options.count - 1 > target_count())
    throw Error(ErrorKind::usage, fmt::format("targets {} to {}", options.first, options.first + options.count - 1),
                "do not exist", fmt::format("numbers are 1 to {}", target_count()));
  if (!(options.diameter_mm >= 5))
    throw Error(ErrorKind::usage, fmt::format("a target of {:g} mm", options.diameter_mm), "is too small to print well",
                "give 5 mm or more");
  TargetSheet sheet;
  sheet.options = options;
  const double wide = options.width_mm - 2 * options.margin_mm,
               high = options.height_mm - 2 * options.margin_mm - kFoot;
  const double cell = kTargetPaper * options.diameter_mm, gap = 2;
  const double most = std::min(wide, high - kLabel) / kTargetPaper;
  if (cell > wide || cell + kLabel > high)
    throw Error(
        ErrorKind::usage, fmt::format("a target of {:g} mm", options.diameter_mm),
        fmt::format("does not fit on paper of {:g} x {:g} mm", options.width_mm, options.height_mm),
        most >= 5 ? fmt::format("the largest that does has {:.0f} mm", std::floor(most)) : "take a larger paper");
  const int columns = static_cast<int>((wide + gap) / (cell + gap)),
            rows = static_cast<int>((high + gap) / (cell + kLabel + gap));
  // As far apart as the page allows: long distances give a better scale.
  sheet.across_mm = columns > 1 ? (wide - cell) / (columns - 1) : 0;
  sheet.down_mm = rows > 1 ? (high - cell - kLabel) / (rows - 1) : 0;
  for (double* step : {&sheet.across_mm, &sheet.down_mm}) *step = std::floor(*step * 2) / 2;
  sheet.ruler_mm = std::min(100.0, 10 * std::floor(wide / 10));
  for (int k = 0; k < options.count; ++k) {
    const int at = k % (columns * rows);
    TargetSheet::Placed placed;
    placed.number = options.first + k;
    placed.page = static_cast<std::size_t>(k / (columns * rows));
    placed.middle_mm = {0.5 * options.width_mm + sheet.across_mm * (at % columns - 0.5 * (columns - 1)),
                        options.margin_mm + 0.5 * cell + sheet.down_mm * (at / columns)};
    sheet.targets.push_back(placed);
    sheet.pages = placed.page + 1;
  }
  return sheet;
}

std::vector<fs::path> write_target_sheet(const fs::path& file, const TargetSheet& sheet) {
  const std::vector<Page> pages = pages_of(sheet);
  std::string ending = file.extension().string();
  for (char& c : ending) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  if (ending == ".pdf") {
    write_file(file, pdf_of(pages, sheet.options));
    return {file};
  }
  if (ending != ".svg")
    throw Error(ErrorKind::usage, file.string(), "is neither .pdf nor .svg", "give one of these endings");
  std::vector<fs::path> files;
  for (std::size_t k = 0; k < pages.size(); ++k) {
    fs::path name = file;
    if (pages.size() > 1)
      name.replace_filename(fmt::format("{}-{}{}", file.stem().string(), k + 1, file.extension().string()));
    write_file(name, svg_of(pages[k], sheet.options));
    files.push_back(name);
  }
  return files;
}

std::vector<LengthRow> lengths_of_sheet(const TargetSheet& sheet) {
  std::vector<LengthRow> rows;
  constexpr double kPrint = 0.0005;  // metres
  const auto add = [&](const TargetSheet::Placed& a, const TargetSheet::Placed& b) {
    LengthRow row;
    row.from = target_name(a.number), row.to = target_name(b.number);
    row.length = (a.middle_mm - b.middle_mm).norm() / 1000, row.sigma = kPrint;
    rows.push_back(row);
  };
  const std::vector<TargetSheet::Placed>& t = sheet.targets;
  for (std::size_t a = 0; a < t.size(); ++a)
    for (std::size_t b = a + 1; b < t.size() && t[b].page == t[a].page; ++b) {
      const Vector2d apart = (t[b].middle_mm - t[a].middle_mm).cwiseAbs();
      const bool beside = apart.y() < 1 && apart.x() < 1.5 * sheet.across_mm,
                 below = apart.x() < 1 && apart.y() < 1.5 * sheet.down_mm;
      const bool ends = (a == 0 || t[a - 1].page != t[a].page) && (b + 1 == t.size() || t[b + 1].page != t[b].page);
      if (beside || below || ends) add(t[a], t[b]);
    }
  return rows;
}

}  // namespace icefield
