// Text for people: colour, columns, rulers, progress.
#pragma once

#include <cstdint>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "core/base/advice.h"
#include "core/base/errors.h"
#include "core/base/printable.h"
#include "library/command_text.h"

namespace jh::cli {

enum class Style { plain, heading, dim, good, warn, bad, command };

enum class When { automatic, always, never };
/// Whether colours are used; automatic: on a terminal.
void set_color(When when);
/// The text in a style, when colours are on (decided by stdout).
std::string styled(const std::string& text, Style style);

/// Columns a text takes on a terminal (UTF-8, no wide characters).
std::size_t columns_of(const std::string& text);

struct Cell {
  std::string text;
  Style style = Style::plain;
  bool right = false;
};
using Row = std::vector<Cell>;

/// Prints rows with columns as wide as their widest cell. Empty columns vanish.
void print_table(const std::vector<Row>& rows);

/// Width to draw in: the terminal's, 80 to 120 columns.
std::size_t drawing_width();
/// "    Note: ..."; on a terminal words that do not fit its width go to further lines, below the
/// text.
void print_note(const std::string& title, const std::string& text);

/// How far a piece of work is.
struct ProgressState {
  std::string what;
  std::uint64_t done = 0;   // bytes
  std::uint64_t total = 0;  // 0: unknown
  double seconds = 0;
};
/// "copying  42%  120 MiB/s  30 s left"
std::string progress_text(const ProgressState& state);

/// Asks on the terminal; true when the answer is yes.
bool confirmed(const std::string& question);
bool is_interactive();

std::string text_of(const Advice& advice);

/// An error as a message on stderr.
void print_error(const Error& error);

/// Prints one JSON document with the schema's name and version.
void print_json(const std::string& command, nlohmann::json document);

}  // namespace jh::cli
