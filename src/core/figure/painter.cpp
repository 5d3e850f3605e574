#include "core/figure/painter.h"

#include <cairo-svg.h>
#include <cairo.h>

#include <cmath>
#include <memory>

#include "core/base/errors.h"
#include "core/base/markup.h"

namespace jh {
namespace {

constexpr const char* family = "DejaVu Sans";

using Surface = std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)>;
using Context = std::unique_ptr<cairo_t, decltype(&cairo_destroy)>;

void check(cairo_status_t status) {
  if (status != CAIRO_STATUS_SUCCESS)
    throw Error(Status::internal,
                std::string("a figure cannot be drawn: ") + cairo_status_to_string(status), {},
                "please report this as a bug");
}

void set_font(cairo_t* cairo, double size, bool bold) {
  cairo_select_font_face(cairo, family, CAIRO_FONT_SLANT_NORMAL,
                         bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
  cairo_set_font_size(cairo, size);
}

void set_color(cairo_t* cairo, const Color& color, double opacity = 1) {
  cairo_set_source_rgba(cairo, color.red, color.green, color.blue, opacity);
}

class Brush {
 public:
  Brush(cairo_t* cairo, const Palette& palette) : cairo_(cairo), palette_(palette) {}

  void operator()(const Box& box) const {
    const Area& at = box.area;
    const Paint paint = palette_.paint(box.fill);
    cairo_rectangle(cairo_, at.x, at.y, at.width, at.height);
    set_color(cairo_, paint.color);
    cairo_fill(cairo_);
    draw_pattern(at, paint.pattern);
    if (!box.outlined) return;
    cairo_rectangle(cairo_, at.x, at.y, at.width, at.height);
    set_color(cairo_, palette_.line);
    cairo_set_line_width(cairo_, 1);
    cairo_stroke(cairo_);
  }

  void operator()(const Ribbon& ribbon) const {
    const double middle = (ribbon.top + ribbon.bottom) / 2;
    cairo_move_to(cairo_, ribbon.top_left, ribbon.top);
    cairo_curve_to(cairo_, ribbon.top_left, middle, ribbon.bottom_left, middle, ribbon.bottom_left,
                   ribbon.bottom);
    cairo_line_to(cairo_, ribbon.bottom_right, ribbon.bottom);
    cairo_curve_to(cairo_, ribbon.bottom_right, middle, ribbon.top_right, middle, ribbon.top_right,
                   ribbon.top);
    cairo_close_path(cairo_);
    set_color(cairo_, palette_.paint(ribbon.fill).color, 0.4);
    cairo_fill_preserve(cairo_);
    set_color(cairo_, palette_.line, 0.6);
    cairo_set_line_width(cairo_, 0.75);
    cairo_stroke(cairo_);
  }

  void operator()(const Rule& rule) const {
    cairo_move_to(cairo_, rule.x1, rule.y1);
    cairo_line_to(cairo_, rule.x2, rule.y2);
    set_color(cairo_, palette_.line);
    cairo_set_line_width(cairo_, rule.strong ? 1.5 : 0.75);
    cairo_stroke(cairo_);
  }

  void operator()(const Label& label) const {
    set_font(cairo_, label.size, label.bold);
    set_color(cairo_, label.ink == Ink::quiet ? palette_.quiet : palette_.text);
    cairo_font_extents_t font;
    cairo_font_extents(cairo_, &font);
    const double slack = label.area.height - font.ascent - font.descent;
    cairo_move_to(cairo_, label.area.x, label.area.y + slack / 2 + font.ascent);
    cairo_show_text(cairo_, label.text.c_str());
  }

 private:
  void draw_pattern(const Area& at, Pattern pattern) const {
    if (pattern == Pattern::plain) return;
    cairo_save(cairo_);
    cairo_rectangle(cairo_, at.x, at.y, at.width, at.height);
    cairo_clip(cairo_);
    set_color(cairo_, palette_.line, 0.3);
    cairo_set_line_width(cairo_, 0.75);
    constexpr double step = 7;
    const auto line = [&](double x1, double y1, double x2, double y2) {
      cairo_move_to(cairo_, x1, y1);
      cairo_line_to(cairo_, x2, y2);
    };
    if (pattern == Pattern::slanted || pattern == Pattern::crossed)
      for (double x = at.x - at.height; x < at.right(); x += step)
        line(x, at.bottom(), x + at.height, at.y);
    if (pattern == Pattern::crossed)
      for (double x = at.x; x < at.right() + at.height; x += step)
        line(x, at.bottom(), x - at.height, at.y);
    if (pattern == Pattern::level)
      for (double y = at.y + step / 2; y < at.bottom(); y += step) line(at.x, y, at.right(), y);
    if (pattern == Pattern::upright)
      for (double x = at.x + step / 2; x < at.right(); x += step) line(x, at.y, x, at.bottom());
    if (pattern == Pattern::dotted)
      for (double y = at.y + step / 2; y < at.bottom(); y += step)
        for (double x = at.x + step / 2; x < at.right(); x += step) line(x, y, x + 1.5, y);
    cairo_stroke(cairo_);
    cairo_restore(cairo_);
  }

  cairo_t* cairo_;
  const Palette& palette_;
};

void draw(cairo_t* cairo, const Scene& scene, const Palette& palette) {
  set_color(cairo, palette.ground);
  cairo_paint(cairo);
  const Brush brush(cairo, palette);
  for (const auto& shape : scene.shapes) std::visit(brush, shape);
  check(cairo_status(cairo));
}

cairo_status_t append(void* out, const unsigned char* data, unsigned int length) {
  static_cast<std::string*>(out)->append(reinterpret_cast<const char*>(data), length);
  return CAIRO_STATUS_SUCCESS;
}

}  // namespace

Measure painter_measure() {
  const std::shared_ptr<cairo_surface_t> surface(cairo_image_surface_create(CAIRO_FORMAT_A8, 8, 8),
                                                 cairo_surface_destroy);
  const std::shared_ptr<cairo_t> cairo(cairo_create(surface.get()), cairo_destroy);
  check(cairo_status(cairo.get()));
  return [surface, cairo](const std::string& text, double size, bool bold) {
    set_font(cairo.get(), size, bold);
    cairo_text_extents_t extents;
    cairo_text_extents(cairo.get(), text.c_str(), &extents);
    return extents.x_advance;
  };
}

std::string svg_of(const Scene& scene, const Palette& palette) {
  std::string out;
  {
    const Surface surface(
        cairo_svg_surface_create_for_stream(append, &out, scene.width, scene.height),
        cairo_surface_destroy);
    check(cairo_surface_status(surface.get()));
    cairo_svg_surface_set_document_unit(surface.get(), CAIRO_SVG_UNIT_PX);
    const Context cairo(cairo_create(surface.get()), cairo_destroy);
    draw(cairo.get(), scene, palette);
    cairo_surface_finish(surface.get());
    check(cairo_surface_status(surface.get()));
  }
  // Cairo draws text as shapes: what it says stands at the beginning.
  const std::size_t root = out.find("<svg");
  const std::size_t end = root == std::string::npos ? root : out.find('>', root);
  ensure(end != std::string::npos, "an SVG document has a root");
  out.insert(end + 1, "\n<title>" + markup_text(scene.title) + "</title>\n<desc>" +
                          markup_text(scene.description) + "</desc>");
  out.insert(root + 4, " role=\"img\"");
  return out;
}

std::string png_of(const Scene& scene, const Palette& palette, double scale) {
  const Surface surface(cairo_image_surface_create(
                            CAIRO_FORMAT_RGB24, static_cast<int>(std::ceil(scene.width * scale)),
                            static_cast<int>(std::ceil(scene.height * scale))),
                        cairo_surface_destroy);
  check(cairo_surface_status(surface.get()));
  const Context cairo(cairo_create(surface.get()), cairo_destroy);
  cairo_scale(cairo.get(), scale, scale);
  draw(cairo.get(), scene, palette);
  std::string out;
  check(cairo_surface_write_to_png_stream(surface.get(), append, &out));
  return out;
}

}  // namespace jh
