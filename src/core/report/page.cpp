// The report as one page: no script, nothing fetched, light and dark, on paper, and with a
// keyboard.
#include <fmt/format.h>

#include "core/base/markup.h"
#include "core/base/moment.h"
#include "core/base/shell_word.h"
#include "core/figure/layout.h"
#include "core/figure/painter.h"
#include "core/report/page_parts.h"
#include "core/report/record.h"

namespace jh {
namespace {

std::string size_cell(Bytes size) {
  return fmt::format("<td class=\"n\" title=\"{} bytes\">{}</td>", grouped(size.value()),
                     human(size));
}

class Page {
 public:
  explicit Page(const RunRecord& record) : record_(record) {}

  std::string run() {
    summary();
    asked();
    error();
    layers();
    tables();
    figure();
    plan();
    checks();
    figures();
    way_back();
    technical();
    return html_page(
        {fmt::format("{}: {}", record_.command, outcome_of(record_)), std::move(body_)});
  }

 private:
  void add(const std::string& text) { body_ += text; }
  void section(const std::string& title) { add(fmt::format("<h2>{}</h2>\n", markup_text(title))); }

  void summary() {
    const bool good = record_.status == 0;
    add(fmt::format(
        "<header><h1>{}</h1>\n<p class=\"outcome {}\"><strong>{}</strong> {}</p></header>\n",
        markup_text(title()), good ? "good" : "bad", good ? "✓" : "✗", markup_text(sentence())));
  }

  std::string title() const {
    std::string names;
    for (const std::string& image : record_.images)
      names += (names.empty() ? "" : ", ") + image.substr(image.rfind('/') + 1);
    return record_.command + (names.empty() ? "" : " " + names);
  }

  std::string sentence() const {
    if (record_.status != 0) {
      std::string text = outcome_of(record_);
      text[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(text[0])));
      if (record_.error) return text + ": " + record_.error->what();
      return text + (record_.findings.empty()
                         ? ""
                         : fmt::format(": {} finding{}", record_.findings.size(),
                                       record_.findings.size() == 1 ? "" : "s"));
    }
    if (record_.dry_run) return "Dry run: this is what would be done. Nothing was changed.";
    if (record_.changed && !record_.evidence.empty())
      return "Done. The result was re-read from disk and verified before it was committed.";
    return "Done.";
  }

  void asked() {
    section("What was asked");
    add("<pre tabindex=\"0\"><code>" + markup_text(shell_words(record_.words)) + "</code></pre>\n");
    if (record_.plan && !record_.plan->target.empty())
      add(fmt::format("<p>Target: <strong>{}</strong></p>\n", markup_text(record_.plan->target)));
  }

  void error() {
    if (!record_.error) return;
    const Error& error = *record_.error;
    section("What stands in the way");
    add("<dl>");
    const auto entry = [&](const char* name, const std::string& text) {
      if (!text.empty())
        add(fmt::format("<dt>{}</dt><dd class=\"lines\">{}</dd>", name, markup_lines(text)));
    };
    entry("what", error.what());
    entry("where", error.where());
    entry("what to do", error.next().text(record_.typed));
    if (error.outcome() == Outcome::unchanged) entry("the images", "nothing was changed");
    if (error.outcome() == Outcome::sound)
      entry("the images", "they are sound, and the guest sees the same data");
    if (error.outcome() == Outcome::done) entry("the images", "the change is done");
    if (error.outcome() == Outcome::unfinished)
      entry("the images", "a change is unfinished: recover settles it");
    add("</dl>\n");
  }

  void layers() {
    if (!record_.layers.empty()) {
      section("Before and after, layer by layer");
      add("<table><thead><tr><th scope=\"col\">layer</th><th scope=\"col\">what it is</th>"
          "<th scope=\"col\" class=\"n\">before</th><th scope=\"col\" class=\"n\">after</th>"
          "<th scope=\"col\" class=\"n\">change</th><th scope=\"col\" class=\"n\">now free</th>"
          "</tr></thead><tbody>\n");
      for (const LayerChange& layer : record_.layers) {
        const bool differs = layer.before != layer.after;
        std::string change = "=";
        if (layer.after > layer.before) change = "+" + human(layer.after - layer.before);
        if (layer.after < layer.before) change = "−" + human(layer.before - layer.after);
        add(
            fmt::format("<tr{}><th scope=\"row\">{}</th><td>{}</td>{}{}<td class=\"n\">{}</td>{}"
                        "</tr>\n",
                        differs ? " class=\"changed\"" : "", markup_text(layer.name),
                        markup_text(layer.detail), size_cell(layer.before), size_cell(layer.after),
                        change, layer.free_after ? size_cell(*layer.free_after) : "<td></td>"));
      }
      add("</tbody></table>\n");
      return;
    }
    if (record_.sizes.empty()) return;
    section("What is there");
    add("<table><thead><tr><th scope=\"col\">layer</th><th scope=\"col\">what it is</th>"
        "<th scope=\"col\" class=\"n\">size</th><th scope=\"col\" class=\"n\">free</th></tr>"
        "</thead><tbody>\n");
    for (const LayerSize& layer : record_.sizes)
      add(fmt::format("<tr><th scope=\"row\">{}</th><td>{}</td>{}{}</tr>\n",
                      markup_text(layer.name), markup_text(layer.detail), size_cell(layer.size),
                      layer.free ? size_cell(*layer.free) : "<td></td>"));
    add("</tbody></table>\n");
  }

  void tables() {
    for (const RunRecord::Table& table : record_.tables) {
      section(table.title);
      add("<table><thead><tr>");
      for (const std::string& title : table.head)
        add("<th scope=\"col\">" + markup_text(title) + "</th>");
      add("</tr></thead><tbody>\n");
      for (const auto& row : table.rows) {
        add("<tr>");
        for (const std::string& cell : row) add("<td>" + markup_text(cell) + "</td>");
        add("</tr>\n");
      }
      add("</tbody></table>\n");
    }
  }

  void figure() {
    const Measure measure = painter_measure();
    if (record_.before || record_.after) {
      section("Drawn to scale");
      const GuestView& first = record_.before ? *record_.before : *record_.after;
      add(html_figure(layout_scene(first, record_.before ? record_.after : std::nullopt,
                                   record_.dry_run, measure)));
    }
    if (record_.files.empty()) return;
    section("What the file keeps");
    for (const RunRecord::FileState& file : record_.files)
      add(html_figure(occupancy_scene(file.before, file.after, measure)));
  }

  void plan() {
    if (!record_.plan) return;
    section("The plan");
    add("<table><thead><tr><th scope=\"col\" class=\"n\">step</th><th scope=\"col\">layer</th>"
        "<th scope=\"col\">what happens</th><th scope=\"col\" class=\"n\">from</th>"
        "<th scope=\"col\" class=\"n\">to</th></tr></thead><tbody>\n");
    std::size_t number = 0;
    for (const Step& step : record_.plan->steps) {
      const bool resizes = step.from != step.to;
      add(fmt::format("<tr><td class=\"n\">{}</td><th scope=\"row\">{}</th><td>{}</td>{}{}</tr>\n",
                      ++number, markup_text(step.name), markup_text(step.action),
                      resizes ? size_cell(step.from) : "<td></td>",
                      resizes ? size_cell(step.to) : "<td></td>"));
    }
    add("</tbody></table>\n");
    list("Worth knowing", record_.plan->notes);
    list("Left for you", record_.plan->remains);
  }

  void list(const char* title, const std::vector<std::string>& items) {
    if (items.empty()) return;
    add(fmt::format("<h3>{}</h3><ul>", title));
    for (const std::string& item : items) add("<li>" + markup_text(item) + "</li>");
    add("</ul>\n");
  }

  void checks() {
    if (!record_.evidence.empty()) {
      section("Checks that passed before it counted");
      evidence_table(record_.evidence);
    }
    if (!record_.verdicts.empty()) {
      section("The audit");
      add("<table><thead><tr><th scope=\"col\">layer</th><th scope=\"col\">verdict</th></tr>"
          "</thead><tbody>\n");
      for (const LayerVerdict& verdict : record_.verdicts)
        add(fmt::format("<tr><th scope=\"row\">{}</th><td>{}{}</td></tr>\n",
                        markup_text(verdict.layer),
                        verdict.kind == LayerVerdict::Kind::damaged ? "✗ "
                        : verdict.kind == LayerVerdict::Kind::sound ? "✓ "
                                                                    : "",
                        markup_text(verdict.verdict)));
      add("</tbody></table>\n");
    }
    std::vector<std::string> found;
    for (const Finding& finding : record_.findings)
      found.push_back(finding.where + ": " + finding.what);
    list("What was found", found);
  }

  void evidence_table(const std::vector<Evidence>& rows) {
    add("<table><thead><tr><th scope=\"col\">what</th><th scope=\"col\" class=\"n\">how much</th>"
        "</tr></thead><tbody>\n");
    for (const Evidence& row : rows)
      add(fmt::format("<tr><th scope=\"row\">{}</th><td class=\"n\">{}</td></tr>\n",
                      markup_text(row.what), count_text(row)));
    add("</tbody></table>\n");
  }

  void figures() {
    if (!record_.figures.empty()) {
      section("What it took");
      evidence_table(record_.figures);
    }
    list("Notes", record_.notes);
    if (record_.advice.empty()) return;
    section("What could be done");
    add("<ul>");
    for (const SurveyAdvice& advice : record_.advice) {
      const std::string next = advice.next.text(record_.typed);
      add(fmt::format(
          "<li>{}{}</li>", markup_text(advice.what),
          next.empty() ? "" : "<pre tabindex=\"0\"><code>" + markup_text(next) + "</code></pre>"));
    }
    add("</ul>\n");
  }

  void way_back() {
    if (!record_.changed) return;
    section("How to take it back");
    if (record_.way_back.empty()) {
      add("<p>There is no way back for this one: no undo was kept.</p>\n");
      return;
    }
    add("<p>As long as the guest has not been started, and nobody else has written:</p>\n"
        "<pre tabindex=\"0\"><code>" +
        markup_text(record_.way_back) + "</code></pre>\n");
  }

  void technical() {
    section("About this run");
    add(fmt::format(
        "<dl><dt>started</dt><dd>{}</dd><dt>took</dt><dd>{:.2f} s</dd>"
        "<dt>exit status</dt><dd>{} ({})</dd><dt>version</dt><dd>juneheath {}</dd>"
        "<dt>folder</dt><dd>{}</dd></dl>\n",
        moment(record_.started), record_.seconds, record_.status, markup_text(outcome_of(record_)),
        markup_text(record_.version), markup_text(record_.folder)));
  }

  const RunRecord& record_;
  std::string body_;
};

}  // namespace

std::string record_page(const RunRecord& record) { return Page(record).run(); }

}  // namespace jh
