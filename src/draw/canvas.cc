#include "src/draw/canvas.h"

namespace icefield {

Canvas::Canvas(int width, int height, const Tone& ground)
    : width_(width),
      height_(height),
      surface_(cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, height)),
      cairo_(cairo_create(surface_)) {
  cairo_set_source_rgb(cairo_, ground.r, ground.g, ground.b);
  cairo_paint(cairo_);
  cairo_surface_flush(surface_);
}

Canvas::~Canvas() {
  cairo_destroy(cairo_);
  cairo_surface_destroy(surface_);
}

void Canvas::pixel(int x, int y, std::uint8_t r, std::uint8_t g, std::uint8_t b) {
  auto* row =
      reinterpret_cast<std::uint32_t*>(cairo_image_surface_get_data(surface_) +
                                       static_cast<std::ptrdiff_t>(y) * cairo_image_surface_get_stride(surface_));
  row[x] = static_cast<std::uint32_t>(r) << 16 | static_cast<std::uint32_t>(g) << 8 | b;
}

void Canvas::line(double x0, double y0, double x1, double y1, double r, double g, double b, double line_width) {
  cairo_surface_mark_dirty(surface_);
  cairo_set_source_rgb(cairo_, r, g, b);
  cairo_set_line_width(cairo_, line_width);
  cairo_move_to(cairo_, x0, y0);
  cairo_line_to(cairo_, x1, y1);
  cairo_stroke(cairo_);
}

void Canvas::circle(double x, double y, double radius, double r, double g, double b, double line_width) {
  cairo_surface_mark_dirty(surface_);
  cairo_set_source_rgb(cairo_, r, g, b);
  cairo_set_line_width(cairo_, line_width);
  cairo_new_path(cairo_);  // not from where the last text ended
  cairo_arc(cairo_, x, y, radius, 0, 6.283185307179586);
  cairo_stroke(cairo_);
}

void Canvas::box(double x, double y, double w, double h, double r, double g, double b, double opacity) {
  cairo_surface_mark_dirty(surface_);
  cairo_set_source_rgba(cairo_, r, g, b, opacity);
  cairo_rectangle(cairo_, x, y, w, h);
  cairo_fill(cairo_);
}

void Canvas::dot(double x, double y, double radius, const Tone& tone) {
  cairo_surface_mark_dirty(surface_);
  cairo_set_source_rgb(cairo_, tone.r, tone.g, tone.b);
  cairo_new_path(cairo_);
  cairo_arc(cairo_, x, y, radius, 0, 6.283185307179586);
  cairo_fill(cairo_);
}

void Canvas::cross(double x, double y, double arm, const Tone& tone, double line_width) {
  line(x - arm, y - arm, x + arm, y + arm, tone, line_width);
  line(x - arm, y + arm, x + arm, y - arm, tone, line_width);
}

void Canvas::area(std::span<const Eigen::Vector2d> corners, const Tone& tone, double opacity) {
  cairo_surface_mark_dirty(surface_);
  cairo_set_source_rgba(cairo_, tone.r, tone.g, tone.b, opacity);
  cairo_new_path(cairo_);
  for (const Eigen::Vector2d& corner : corners) cairo_line_to(cairo_, corner.x(), corner.y());
  cairo_close_path(cairo_);
  cairo_fill(cairo_);
}

void Canvas::text(double x, double y, const std::string& words, double size, double grey, bool right_aligned) {
  cairo_surface_mark_dirty(surface_);
  cairo_select_font_face(cairo_, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
  cairo_set_font_size(cairo_, size);
  cairo_text_extents_t extents;
  cairo_text_extents(cairo_, words.c_str(), &extents);
  cairo_set_source_rgb(cairo_, grey, grey, grey);
  cairo_move_to(cairo_, right_aligned ? x - extents.x_advance : x, y);
  cairo_show_text(cairo_, words.c_str());
}

ImageU8 Canvas::image() {
  cairo_surface_flush(surface_);
  ImageU8 out(width_, height_, 3);
  for (int y = 0; y < height_; ++y) {
    const auto* row = reinterpret_cast<const std::uint32_t*>(cairo_image_surface_get_data(surface_) +
                                                             static_cast<std::ptrdiff_t>(y) *
                                                                 cairo_image_surface_get_stride(surface_));
    for (int x = 0; x < width_; ++x) {
      out.at(x, y, 0) = static_cast<std::uint8_t>(row[x] >> 16);
      out.at(x, y, 1) = static_cast<std::uint8_t>(row[x] >> 8);
      out.at(x, y, 2) = static_cast<std::uint8_t>(row[x]);
    }
  }
  return out;
}

}  // namespace icefield
