#include "core/figure/layout.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "core/base/printable.h"
#include "core/figure/lanes.h"
#include "core/figure/legend.h"
#include "core/figure/strip.h"

namespace jh {
namespace {

constexpr double margin = 32;
constexpr double disk_height = 16;
constexpr double piece_height = 22;
constexpr double content_height = 20;
constexpr double ribbon_height = 40;
constexpr double least_width = 7;  // of a piece, to be seen at all
constexpr double name_size = 12;

Fill fill_of(const PieceView& piece) {
  switch (piece.kind) {
    case PieceKind::files:
      return Fill::files;
    case PieceKind::swap:
      return Fill::swap;
    case PieceKind::device:
      return Fill::device;
    case PieceKind::encrypted:
      return Fill::encrypted;
    case PieceKind::empty:
      return Fill::empty;
    case PieceKind::room:
      return Fill::room;
    case PieceKind::unknown:
      break;
  }
  return Fill::unknown;
}

const PieceView* find(const PanelView& panel, const PieceView& wanted) {
  for (const PieceView& piece : panel.pieces)
    if (!wanted.key.empty() && piece.key == wanted.key) return &piece;
  return nullptr;
}

// "grew by 1 GiB", "moved"; empty: it is as it was.
std::string change_of(const PieceView& before, const PieceView& after, bool of_group) {
  std::string words;
  if (after.size > before.size) words = "+" + human(after.size - before.size);
  if (after.size < before.size) words = "−" + human(before.size - after.size);
  // Where a volume stands in the figure says nothing of where its extents lie.
  if (after.start != before.start && !of_group) words += words.empty() ? "moved" : ", moved";
  return words;
}

std::string words_for(const PieceView& piece) {
  const bool says_more = !piece.holds.empty() && piece.holds != piece.name;
  return fmt::format("{}{}{} {}", printable(piece.name), says_more ? ", " : "",
                     says_more ? printable(piece.holds) : "", human(piece.size));
}

class Drawing {
 public:
  Drawing(const GuestView& before, const std::optional<GuestView>& after, bool planned,
          const Measure& measure)
      : before_(before), after_(after), planned_(planned), measure_(measure) {}

  Scene run() {
    title();
    std::vector<std::string> keys;
    for (const GuestView* view : {&before_, after_ ? &*after_ : nullptr})
      if (view != nullptr)
        for (const PanelView& panel : view->panels)
          if (std::find(keys.begin(), keys.end(), panel.key) == keys.end())
            keys.push_back(panel.key);
    for (const std::string& key : keys)
      panel(before_.panel(key), after_ ? after_->panel(key) : nullptr);
    add_legend(scene_, margin, y_, scene_.width - 2 * margin, fills_, stretched_, measure_);
    scene_.height += margin / 2;
    describe();
    return std::move(scene_);
  }

 private:
  void label(double x, double y, const std::string& text, double size, bool bold, Ink ink) {
    const std::string shown = fitted(text, scene_.width - margin - x, size, bold, measure_);
    scene_.shapes.emplace_back(
        Label{{x, y, measure_(shown, size, bold), size * 1.35}, shown, size, bold, ink});
  }

  void title() {
    const std::string who = before_.hostname.empty() ? "The guest" : printable(before_.hostname);
    std::string what = after_ ? who + ": before and after" : who + ": as it is";
    if (after_ && planned_) what = who + ": as it is, and as it would be";
    scene_.title = what;
    label(margin, 18, what, 17, true, Ink::strong);
    y_ = 52;
  }

  double x(std::uint64_t at) const { return margin + scale_->at(at); }

  void panel(const PanelView* before, const PanelView* after) {
    const PanelView& any = before != nullptr ? *before : *after;
    make_scale(before, after);
    label(margin, y_, printable(any.title), 14, true, Ink::strong);
    const double wide = measure_(printable(any.title), 14, true);
    if (margin + wide + 200 < scene_.width)
      label(margin + wide + 12, y_ + 2, sizes_of(before, after), 12, false, Ink::quiet);
    y_ += 26;
    if (before != nullptr)
      state(*before, nullptr, after_ ? (planned_ ? "now" : "before") : "", /*mirrored=*/false);
    if (before != nullptr && after != nullptr) ribbons(*before, *after);
    if (after != nullptr) {
      if (before == nullptr) label(margin, y_, "new", 11, false, Ink::quiet), y_ += 16;
      state(*after, before, planned_ ? "planned" : "after", /*mirrored=*/before != nullptr);
    }
    if (before != nullptr && after == nullptr && after_) {
      label(margin, y_ + 2, "no longer there", 11, false, Ink::quiet);
      y_ += 18;
    }
    if (!after_) states(*before);
    y_ += 22;
  }

  // A tree: each state under the one that it builds on, or is kept by.
  void states(const PanelView& panel) {
    constexpr double step = 16;
    constexpr double row = 16;
    if (panel.states.empty()) return;
    y_ += 8;
    std::vector<double> last(panel.states.size() + 2, y_);  // of each level, where it was drawn
    for (const auto& [level, words] : panel.states) {
      const double left = margin + step * level;
      if (level != 0) {
        const double above = last[level - 1] + row - 1;
        fills_.insert(Fill::disk);
        scene_.shapes.emplace_back(
            Box{{left - step + 4, above, 1, y_ + row / 2 - above}, Fill::disk, true});
        scene_.shapes.emplace_back(Box{{left - step + 4, y_ + row / 2, 9, 1}, Fill::disk, true});
      }
      label(left, y_, words, 11.5, false, Ink::text);
      last[level] = y_;
      y_ += row;
    }
  }

  static std::string sizes_of(const PanelView* before, const PanelView* after) {
    if (before == nullptr || after == nullptr || before->size == after->size)
      return fmt::format("{}; {}", human((after != nullptr ? after : before)->size),
                         (after != nullptr ? after : before)->note);
    return fmt::format("{} → {}; {}", human(before->size), human(after->size), after->note);
  }

  void make_scale(const PanelView* before, const PanelView* after) {
    std::vector<ByteRange> spans;
    std::uint64_t size = 0;
    for (const PanelView* panel : {before, after}) {
      if (panel == nullptr) continue;
      size = std::max(size, panel->size.value());
      for (const auto* pieces : {&panel->pieces, &panel->devices})
        for (const PieceView& piece : *pieces)
          spans.push_back({piece.start.value(), piece.end().value()});
    }
    scale_.emplace(size, spans, scene_.width - 2 * margin, least_width);
    stretched_ |= scale_->is_stretched();
  }

  // A state: names of slivers, the disk, its pieces, what they hold; upside down when mirrored.
  void state(const PanelView& panel, const PanelView* old, const std::string& when, bool mirrored) {
    const Lanes lanes(callouts(panel, old), margin, scene_.width - margin, measure_);
    if (!mirrored) {
      y_ += lanes.height();
      lanes.draw(scene_, y_, true);
      disk_strip(panel, when);
    }
    for (const PieceView& piece : panel.pieces) this->piece(panel, old, piece);
    y_ += piece_height + content_height;
    if (mirrored) {
      disk_strip(panel, when);
      lanes.draw(scene_, y_, false);
      y_ += lanes.height();
    }
  }

  void disk_strip(const PanelView& panel, const std::string& when) {
    const std::string what = (panel.group ? "group" : "disk") + (when.empty() ? "" : " " + when);
    const auto draw = [&](double from, double to, Fill fill, const std::string& text) {
      fills_.insert(fill);
      scene_.shapes.emplace_back(Box{{from, y_, to - from, disk_height}, fill, true});
      const std::string shown = fitted(text, to - from - 10, 10.5, false, measure_);
      if (!shown.empty())
        scene_.shapes.emplace_back(
            Label{{from + 5, y_ + 1, measure_(shown, 10.5, false), disk_height - 2},
                  shown,
                  10.5,
                  false,
                  Ink::text});
    };
    if (panel.devices.empty()) {
      draw(x(0), x(panel.size.value()), Fill::disk, fmt::format("{}: {}", what, human(panel.size)));
    } else {
      for (const PieceView& device : panel.devices)
        draw(x(device.start.value()), x(device.end().value()), Fill::device,
             fmt::format("{}: {} on {}", what, human(device.size), printable(device.name)));
    }
    y_ += disk_height;
  }

  // What stands in a piece: as much as fits.
  struct Inside {
    std::string text;  // empty: not even its name
    bool complete = false;
  };
  Inside inside(const PanelView& panel, const PanelView* old, const PieceView& piece) const {
    const double width = x(piece.end().value()) - x(piece.start.value()) - 10;
    const std::string change = change_words(panel, old, piece);
    const std::string name = printable(piece.name);
    const std::string with_size = name + " " + human(piece.size);
    for (const std::string& text : {words_for(piece) + change, with_size + change})
      if (measure_(text, name_size, true) <= width) return {text, true};
    if (piece.kind == PieceKind::room && measure_(human(piece.size), name_size, true) <= width)
      return {human(piece.size), true};
    for (const std::string& text : {with_size, name})
      if (measure_(text, name_size, true) <= width) return {text, false};
    return {};
  }

  // " (+1 GiB, moved)"; empty: it is as it was.
  static std::string change_words(const PanelView& panel, const PanelView* old,
                                  const PieceView& piece) {
    if (old == nullptr || piece.kind == PieceKind::room) return {};
    const PieceView* was = find(*old, piece);
    const std::string change = was == nullptr ? "new" : change_of(*was, piece, panel.group);
    return change.empty() ? "" : " (" + change + ")";
  }

  std::vector<Callout> callouts(const PanelView& panel, const PanelView* old) const {
    std::vector<Callout> all;
    for (const PieceView& piece : panel.pieces) {
      if (inside(panel, old, piece).complete) continue;
      all.push_back({(x(piece.start.value()) + x(piece.end().value())) / 2,
                     words_for(piece) + change_words(panel, old, piece)});
    }
    return all;
  }

  void piece(const PanelView& panel, const PanelView* old, const PieceView& piece) {
    const double left = x(piece.start.value());
    const double width = x(piece.end().value()) - left;
    const Fill fill = fill_of(piece);
    fills_.insert(fill);
    const bool opened = piece.content.has_value();
    const double height = opened ? piece_height : piece_height + content_height;
    scene_.shapes.emplace_back(Box{{left, y_, width, height}, opened ? Fill::none : fill, true});
    const std::string text = inside(panel, old, piece).text;
    if (!text.empty())
      scene_.shapes.emplace_back(Label{{left + 5, y_ + 3, measure_(text, name_size, true), 16},
                                       text,
                                       name_size,
                                       true,
                                       Ink::strong});
    if (!opened) return;
    // What it holds: used, free, and what of its place it does not reach.
    const double top = y_ + piece_height;
    const double size = static_cast<double>(std::max<std::uint64_t>(piece.size.value(), 1));
    const double reach = width * std::min(1.0, static_cast<double>(piece.content->value()) / size);
    const double used =
        !piece.used ? reach
                    : std::min(reach, width * static_cast<double>(piece.used->value()) / size);
    const auto part = [&](double from, double to, Fill kind) {
      if (to - from < 0.5) return;
      fills_.insert(kind);
      scene_.shapes.emplace_back(Box{{left + from, top, to - from, content_height}, kind, true});
    };
    part(0, used, fill);
    part(used, reach, Fill::idle);
    part(reach, width, Fill::room);
    if (!piece.used) return;
    const Bytes free = *piece.content - std::min(*piece.content, *piece.used);
    const std::string shown = human(free) + " free";
    const double wide = measure_(shown, 11, false);
    if (reach - used > wide + 10)
      scene_.shapes.emplace_back(
          Label{{left + reach - wide - 5, top + 3, wide, 15}, shown, 11, false, Ink::text});
  }

  void ribbons(const PanelView& before, const PanelView& after) {
    for (const PieceView& piece : before.pieces) {
      if (piece.kind == PieceKind::room) continue;
      const PieceView* now = find(after, piece);
      if (now == nullptr) continue;
      scene_.shapes.emplace_back(Ribbon{x(piece.start.value()), x(piece.end().value()), y_,
                                        x(now->start.value()), x(now->end().value()),
                                        y_ + ribbon_height, fill_of(piece)});
    }
    y_ += ribbon_height;
  }

  void describe() {
    const auto add = [&](const GuestView& view, const std::string& when) {
      for (const PanelView& panel : view.panels) {
        std::string text = fmt::format("{}{}: {}, {}.", when, printable(panel.title),
                                       human(panel.size), panel.note);
        for (const PieceView& piece : panel.pieces) {
          text += fmt::format(" {}", words_for(piece));
          if (piece.content && piece.used) text += fmt::format(", {} used", human(*piece.used));
          text += ".";
        }
        scene_.description += text + " ";
      }
    };
    add(before_, after_ ? (planned_ ? "Now, " : "Before, ") : "");
    if (after_) {
      add(*after_, planned_ ? "Planned, " : "After, ");
      for (const std::string& change : changes_in_words(before_, *after_))
        scene_.description += change + ". ";
    }
  }

  const GuestView& before_;
  const std::optional<GuestView>& after_;
  bool planned_;
  const Measure& measure_;
  Scene scene_;
  std::optional<StripScale> scale_;
  std::set<Fill> fills_;
  bool stretched_ = false;
  double y_ = 0;
};

}  // namespace

Scene layout_scene(const GuestView& before, const std::optional<GuestView>& after, bool planned,
                   const Measure& measure) {
  return Drawing(before, after, planned, measure).run();
}

std::vector<std::string> changes_in_words(const GuestView& before, const GuestView& after) {
  std::vector<std::string> all;
  for (const PanelView& panel : after.panels) {
    const PanelView* old = before.panel(panel.key);
    for (const PieceView& piece : panel.pieces) {
      if (piece.kind == PieceKind::room) continue;
      const PieceView* was = old != nullptr ? find(*old, piece) : nullptr;
      const std::string change = was == nullptr ? "new" : change_of(*was, piece, panel.group);
      if (!change.empty()) all.push_back(printable(piece.name) + ": " + change);
    }
  }
  return all;
}

}  // namespace jh
