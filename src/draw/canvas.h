// Lines and text over pixels, by Cairo.
#pragma once
#include <cairo.h>

#include <string>

#include "icefield/photo/image.h"

namespace icefield {

class Canvas {
 public:
  Canvas(int width, int height, double grey);
  ~Canvas();
  Canvas(const Canvas&) = delete;
  Canvas& operator=(const Canvas&) = delete;

  int width() const { return width_; }
  int height() const { return height_; }
  void pixel(int x, int y, std::uint8_t r, std::uint8_t g, std::uint8_t b);
  void line(double x0, double y0, double x1, double y1, double r, double g, double b, double line_width = 1);
  void box(double x, double y, double w, double h, double r, double g, double b, double opacity);
  void circle(double x, double y, double radius, double r, double g, double b, double line_width = 1);
  void text(double x, double y, const std::string& words, double size, double grey, bool right_aligned = false);
  ImageU8 image();

 private:
  int width_, height_;
  cairo_surface_t* surface_;
  cairo_t* cairo_;
};

}  // namespace icefield
