// Scene: a figure as a list of shapes, in units of 1/96 inch from the upper left corner. What
// decides where things stand knows nothing of how they are drawn, and can be tested.
#pragma once

#include <functional>
#include <string>
#include <variant>
#include <vector>

namespace jh {

struct Area {
  double x = 0;
  double y = 0;
  double width = 0;
  double height = 0;
  double right() const { return x + width; }
  double bottom() const { return y + height; }
  bool overlaps(const Area& other) const {
    return x < other.right() && other.x < right() && y < other.bottom() && other.y < bottom();
  }
};

/// What a shape stands for; a palette gives it a colour and a pattern of its own.
enum class Fill {
  none,
  files,
  idle,
  swap,
  device,
  encrypted,
  unknown,
  empty,
  room,
  kept,    // of a file: free, and kept
  tables,  // of a file: the form's own
  hole,    // of a file: takes no room
  gone,    // of a file: given back
  disk,
};

struct Box {
  Area area;
  Fill fill = Fill::none;
  bool outlined = true;
};

/// Joins a stretch above with one below.
struct Ribbon {
  double top_left = 0, top_right = 0, top = 0;
  double bottom_left = 0, bottom_right = 0, bottom = 0;
  Fill fill = Fill::none;
};

struct Rule {
  double x1 = 0, y1 = 0, x2 = 0, y2 = 0;
  bool strong = false;
};

enum class Ink { text, quiet, strong };

struct Label {
  Area area;  // that the text takes
  std::string text;
  double size = 12;
  bool bold = false;
  Ink ink = Ink::text;
};

struct Scene {
  double width = 1280;
  double height = 0;
  std::string title;        // for those who do not see it
  std::string description;  // the same figures in sentences
  std::vector<std::variant<Box, Ribbon, Rule, Label>> shapes;
};

/// How wide a text is, in the font that it will be drawn in.
using Measure = std::function<double(const std::string& text, double size, bool bold)>;

}  // namespace jh
