#include "core/report/page_parts.h"

#include <fmt/format.h>

#include <sstream>

#include "core/base/markup.h"
#include "core/figure/painter.h"

namespace jh {
namespace {

constexpr const char* style = R"(
:root { color-scheme: light dark; --ground: #fbfaf7; --text: #24262b; --quiet: #5d5f66;
  --line: #d5d1c6; --panel: #f2efe7; --good: #2f6b3a; --bad: #a3261f; --mark: #6a4a80; }
@media (prefers-color-scheme: dark) { :root { --ground: #17191d; --text: #edebe6; --quiet: #a9a9ae;
  --line: #3b3e45; --panel: #22252a; --good: #8fcf9a; --bad: #f0958c; --mark: #c9a6dd; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--ground); color: var(--text);
  font: 16px/1.5 "DejaVu Sans", Verdana, sans-serif; }
main { max-width: 1280px; margin: 0 auto; padding: 1.5rem 2rem 3rem; }
h1 { font-size: 1.6rem; margin: 0 0 .4rem; overflow-wrap: anywhere; }
h2 { font-size: 1.15rem; margin: 2rem 0 .6rem; padding-bottom: .2rem;
  border-bottom: 2px solid var(--mark); }
h3 { font-size: 1rem; margin: 1rem 0 .3rem; }
.outcome { font-size: 1.05rem; margin: 0; overflow-wrap: anywhere; }
.outcome.good strong { color: var(--good); } .outcome.bad strong { color: var(--bad); }
table { border-collapse: collapse; width: 100%; font-size: .92rem; }
th, td { text-align: left; padding: .3rem .7rem .3rem 0; border-bottom: 1px solid var(--line);
  vertical-align: top; overflow-wrap: anywhere; }
tbody th { font-weight: normal; } tr.changed th, tr.changed td { font-weight: bold; }
thead th { color: var(--quiet); font-weight: normal; }
.n { text-align: right; white-space: nowrap; font-variant-numeric: tabular-nums; }
pre { background: var(--panel); border: 1px solid var(--line); border-radius: 4px;
  padding: .6rem .8rem; overflow-x: auto; margin: .5rem 0; font-size: .9rem; }
pre:focus-visible, a:focus-visible, summary:focus-visible { outline: 3px solid var(--mark);
  outline-offset: 2px; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: .2rem 1.2rem; margin: 0; }
dt { color: var(--quiet); } dd { margin: 0; overflow-wrap: anywhere; }
figure { margin: .5rem 0; } figure img { width: 100%; height: auto; display: block; }
figcaption { color: var(--quiet); font-size: .9rem; } summary { cursor: pointer; }
a { color: var(--mark); }
.skip { position: absolute; left: -99rem; }
.skip:focus { position: static; display: inline-block; margin: .5rem 2rem; }
@media print { :root { --ground: #fff; --text: #000; --quiet: #444; --line: #bbb; --panel: #fff;
  --mark: #444; } main { max-width: none; padding: 0; } h2 { break-after: avoid; }
  figure, tr, pre { break-inside: avoid; } pre { white-space: pre-wrap; } .skip { display: none; } }
)";

std::string data_url(const Scene& scene, const Palette& palette) {
  return "data:image/svg+xml;base64," + base64(svg_of(scene, palette));
}

}  // namespace

std::string html_page(const HtmlPage& page) {
  return fmt::format(
      "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
      "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; "
      "img-src data:; style-src 'unsafe-inline'\">\n"
      "<title>{}</title>\n<style>{}</style>\n</head>\n<body>\n"
      "<a class=\"skip\" href=\"#content\">To the content</a>\n<main id=\"content\">\n{}</main>\n"
      "</body>\n</html>\n",
      markup_text(page.title), style, page.body);
}

std::string html_figure(const Scene& scene) {
  return fmt::format(
      "<figure><picture><source media=\"(prefers-color-scheme: dark)\" srcset=\"{}\">"
      "<img src=\"{}\" width=\"{:.0f}\" height=\"{:.0f}\" alt=\"{}\"></picture>"
      "<figcaption><details><summary>The same in words</summary><p>{}</p></details></figcaption>"
      "</figure>\n",
      data_url(scene, dark_palette()), data_url(scene, light_palette()), scene.width, scene.height,
      markup_text(scene.title), markup_text(scene.description));
}

std::string markup_lines(const std::string& text) {
  std::string out;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);)
    out += (out.empty() ? "" : "<br>") + markup_text(line);
  return out;
}

}  // namespace jh
