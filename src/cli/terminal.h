// Text for people: colour, columns, rulers, progress.
#pragma once

#include <chrono>
#include <functional>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "core/base/errors.h"
#include "core/base/printable.h"
#include "core/base/progress.h"

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

/// A line on stderr with rate and time left, for work that takes longer than a second; Ctrl-C stops
/// the work at the next step. Nothing is drawn when stderr is no terminal.
class ProgressLine final : public Progress {
 public:
  explicit ProgressLine(bool quiet);
  ~ProgressLine() override;
  void begin(const std::string& what, std::uint64_t total) override;
  void advance(std::uint64_t done) override;
  void end() override;

 private:
  void draw(std::uint64_t done);
  void wipe();

  bool draws_;
  std::string what_;
  std::uint64_t total_ = 0;
  std::chrono::steady_clock::time_point started_;
  std::chrono::steady_clock::time_point drawn_;
  bool on_screen_ = false;
};

/// Asks on the terminal; true when the answer is yes.
bool confirmed(const std::string& question);
bool is_interactive();

/// An error as a message on stderr.
void print_error(const Error& error);

/// Prints one JSON document with the schema's name and version.
void print_json(const std::string& command, nlohmann::json document);

/// Runs a command's body; errors become a message (or JSON) and an exit status.
int guarded(const std::string& command, bool json, const std::function<int()>& body);

}  // namespace jh::cli
