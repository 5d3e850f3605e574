#include "cli/plan_text.h"

#include <fmt/format.h>

#include <iostream>

#include "cli/terminal.h"

namespace jh::cli {
namespace {

std::string gib(Bytes size) {
  return fmt::format("{:.3f}", static_cast<double>(size.value()) / (1024.0 * 1024 * 1024));
}
std::string gb(Bytes size) {
  return fmt::format("{:.3f}", static_cast<double>(size.value()) / 1e9);
}

Cell number(const std::string& text, Style style = Style::plain) { return {text, style, true}; }
Cell title(const std::string& text, bool right = false) { return {text, Style::dim, right}; }

// From, to and difference, each in GiB, GB and bytes: an increment cannot pass for a total.
void print_disk_change(const DiskChange& disk) {
  const bool changes = disk.from != disk.to;
  std::cout << "\n  " << styled(disk.path, Style::heading)
            << (changes ? "" : ": the disk keeps its size") << "\n";
  if (!changes) return;
  const auto row = [&](const char* name, const char* sign, Bytes size, Style style) {
    return Row{{name},
               number(sign + gib(size), style),
               number(sign + gb(size), style),
               number(sign + grouped(size.value()), style)};
  };
  print_table({{title("  the disk"), title("GiB", true), title("GB", true), title("bytes", true)},
               row("  from", "", disk.from, Style::plain),
               row("  to", "", disk.to, Style::heading),
               disk.to > disk.from ? row("  added", "+", disk.to - disk.from, Style::good)
                                   : row("  taken", "-", disk.from - disk.to, Style::warn)});
}

}  // namespace

void print_plan(const Plan& plan, const Guest& guest) {
  std::cout << "The plan";
  const bool smaller = plan.has<step::ShrinkContent>() || plan.has<step::ShrinkVolume>() ||
                       plan.has<step::ShrinkPartition>() || plan.has<step::ShrinkContainer>();
  if (smaller && !plan.target.empty())
    std::cout << ": shrinking " << styled(plan.target, Style::heading);
  else if (!plan.target.empty())
    std::cout << ": the room goes to " << styled(plan.target, Style::heading);
  else
    std::cout << ": no filesystem changes";
  if (!guest.hostname().empty()) std::cout << " of guest " << printable(guest.hostname());
  std::cout << "\n";
  // The disks of a running system are as large as they are.
  if (!guest.is_running())
    for (const DiskChange& disk : plan.disks) print_disk_change(disk);
  std::vector<Row> rows{{title("  step"), title("layer"), title("what happens"),
                         title("from", true), title("to", true)}};
  for (std::size_t i = 0; i < plan.steps.size(); ++i) {
    const Step& step = plan.steps[i];
    const bool resizes = step.from != step.to;
    rows.push_back({{fmt::format("  {}", i + 1)},
                    {step.name, Style::heading},
                    {step.action},
                    number(resizes ? human(step.from) : ""),
                    number(resizes ? human(step.to) : "")});
  }
  std::cout << "\n";
  print_table(rows);
  std::cout
      << (guest.is_running()
              ? "    After each step the kernel is asked, and what it says compared.\n"
              : "    Then the result is re-read from disk and verified before it is committed.\n");
  for (const std::string& note : plan.notes) print_note("Note", note);
  for (const std::string& remains : plan.remains) print_note("Left for you", remains);
}

void print_changes(const std::vector<LayerChange>& changes) {
  std::vector<Row> rows{{title("  layer"), title(""), title("before", true), title("after", true),
                         title("change", true), title("now free", true)}};
  for (const LayerChange& change : changes) {
    const bool differs = change.before != change.after;
    std::string difference = "=";
    if (change.after > change.before) difference = "+" + human(change.after - change.before);
    if (change.after < change.before) difference = "-" + human(change.before - change.after);
    rows.push_back({{"  " + change.name, differs ? Style::heading : Style::plain},
                    {change.detail, Style::dim},
                    number(human(change.before)),
                    number(human(change.after)),
                    number(difference, differs ? Style::good : Style::dim),
                    number(change.free_after ? human(*change.free_after) : "")});
  }
  std::cout << "\n" << styled("Done.", Style::good) << " Before and after:\n\n";
  print_table(rows);
}

}  // namespace jh::cli
