// Lines and text over pixels, by Cairo.
#pragma once
#include <cairo.h>

#include <Eigen/Core>
#include <span>
#include <string>

#include "icefield/photo/image.h"
#include "src/draw/palette.h"

namespace icefield {

class Canvas {
 public:
  Canvas(int width, int height, const Tone& ground);
  ~Canvas();
  Canvas(const Canvas&) = delete;
  Canvas& operator=(const Canvas&) = delete;

  int width() const { return width_; }
  int height() const { return height_; }
  void pixel(int x, int y, std::uint8_t r, std::uint8_t g, std::uint8_t b);
  void line(double x0, double y0, double x1, double y1, double r, double g, double b, double line_width = 1);
  void box(double x, double y, double w, double h, double r, double g, double b, double opacity);
  void circle(double x, double y, double radius, double r, double g, double b, double line_width = 1);
  // The same by tone.
  void line(double x0, double y0, double x1, double y1, const Tone& tone, double line_width = 1) {
    line(x0, y0, x1, y1, tone.r, tone.g, tone.b, line_width);
  }
  void circle(double x, double y, double radius, const Tone& tone, double line_width = 1) {
    circle(x, y, radius, tone.r, tone.g, tone.b, line_width);
  }
  void dot(double x, double y, double radius, const Tone& tone);
  void cross(double x, double y, double arm, const Tone& tone, double line_width = 1);
  void area(std::span<const Eigen::Vector2d> corners, const Tone& tone, double opacity);
  void text(double x, double y, const std::string& words, double size, double grey, bool right_aligned = false);
  ImageU8 image();

 private:
  int width_, height_;
  cairo_surface_t* surface_;
  cairo_t* cairo_;
};

}  // namespace icefield
