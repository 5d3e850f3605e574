// What all report pages have in common: the frame, the style, figures in both palettes.
#pragma once

#include <string>

#include "core/figure/scene.h"

namespace jh {

struct HtmlPage {
  std::string title;  // plain text
  std::string body;   // markup
};

std::string html_page(const HtmlPage& page);
/// The figure, light and dark, inside the page, with its words for those who do not see it.
std::string html_figure(const Scene& scene);
/// Text with its line breaks.
std::string markup_lines(const std::string& text);

}  // namespace jh
