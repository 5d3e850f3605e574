#include "cli/terminal.h"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <iostream>
#include <nlohmann/json.hpp>
#include <sstream>

#include "core/base/words.h"
#include "core/report/report.h"

namespace jh::cli {
namespace {

bool color_on = false;
const char* code_of(Style style) {
  return word_of<Style::command>(style, "", "\033[1m", "\033[2m", "\033[32m", "\033[33m",
                                 "\033[1;31m", "\033[36m");
}

}  // namespace

void set_color(When when) {
  color_on = when == When::always || (when == When::automatic && ::isatty(STDOUT_FILENO) == 1 &&
                                      std::getenv("NO_COLOR") == nullptr);
}

std::string styled(const std::string& text, Style style) {
  if (!color_on || style == Style::plain || text.empty()) return printable(text);
  return code_of(style) + printable(text) + "\033[0m";
}

std::size_t columns_of(const std::string& text) {
  return static_cast<std::size_t>(std::count_if(text.begin(), text.end(), [](char c) {
    return (static_cast<unsigned char>(c) & 0xC0) != 0x80;
  }));
}

void print_table(const std::vector<Row>& rows) {
  std::vector<std::size_t> widths;
  for (const Row& row : rows) {
    widths.resize(std::max(widths.size(), row.size()));
    for (std::size_t i = 0; i < row.size(); ++i)
      widths[i] = std::max(widths[i], columns_of(printable(row[i].text)));
  }
  for (const Row& row : rows) {
    std::string line = " ";
    for (std::size_t i = 0; i < row.size(); ++i) {
      if (widths[i] == 0) continue;
      const std::string gap(widths[i] - columns_of(printable(row[i].text)), ' ');
      const std::string text = styled(row[i].text, row[i].style);
      line += " " + (row[i].right ? gap + text : text + gap) + " ";
    }
    line.erase(line.find_last_not_of(' ') + 1);
    std::cout << line << "\n";
  }
}

std::size_t drawing_width() {
  winsize size{};
  if (::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) != 0 || size.ws_col == 0) return 100;
  return std::clamp<std::size_t>(size.ws_col, 80, 120);
}

void print_note(const std::string& title, const std::string& text) {
  const std::string head = "    " + title + ": ";
  const std::string said = printable(text);
  winsize size{};
  const bool wraps = ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 &&
                     size.ws_col > head.size() + 20 && said.find('\n') == std::string::npos;
  std::cout << styled(head, Style::warn);
  if (!wraps) {
    std::cout << said << "\n";
    return;
  }
  std::size_t at = head.size();
  std::istringstream words(said);
  for (std::string word; words >> word; at += columns_of(word)) {
    if (at != head.size() && at + 1 + columns_of(word) > size.ws_col) {
      std::cout << "\n" << std::string(head.size(), ' ');
      at = head.size();
    } else if (at != head.size()) {
      std::cout << " ";
      ++at;
    }
    std::cout << word;
  }
  std::cout << "\n";
}

// What is printed may go to a file all the same.
bool is_interactive() { return ::isatty(STDIN_FILENO) == 1 && ::isatty(STDERR_FILENO) == 1; }

bool confirmed(const std::string& question) {
  std::cout << std::flush;
  std::cerr << question << " [y/N] " << std::flush;
  std::string answer;
  if (!std::getline(std::cin, answer)) return false;
  return answer == "y" || answer == "Y" || answer == "yes";
}

std::string text_of(const Advice& advice) { return advice.text(command_text); }

void print_error(const Error& error) {
  std::cout << std::flush;
  std::cerr << styled(fmt::format("juneheath: {}: ", status_word(error.status())), Style::bad)
            << printable(error.what()) << "\n";
  if (!error.where().empty()) std::cerr << "  where: " << printable(error.where()) << "\n";
  if (!error.next().empty()) {
    // Commands to paste stand on lines of their own, indented.
    std::string next;
    std::string line;
    std::istringstream lines(text_of(error.next()));
    while (std::getline(lines, line)) next += (next.empty() ? "" : "\n         ") + printable(line);
    std::cerr << "  next:  " << next << "\n";
  }
  if (error.outcome() == Outcome::sound)
    std::cerr << "  The image is sound, and the guest sees the same data.\n";
  else if (error.outcome() == Outcome::done)
    std::cerr << "  The change itself is done.\n";
  else if (error.outcome() == Outcome::unchanged)
    std::cerr << "  Nothing was changed.\n";
}

void print_json(const std::string& command, nlohmann::json document) {
  document["schema"] = "juneheath/1";
  document["command"] = command;
  std::cout << document.dump(2, ' ', /*ensure_ascii=*/true,
                             nlohmann::json::error_handler_t::replace)
            << "\n";
}

}  // namespace jh::cli
