// The text in which a volume group is described, as a tree that keeps all it does not know.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jh::lvm {

struct Value {
  enum class Kind { number, text, list };
  Kind kind = Kind::number;
  std::string text;  // a number as it is written, or a text without its quotes
  std::vector<Value> items;
  bool on_lines = false;  // a list that begins on a line of its own

  static Value of(std::uint64_t number);
  static Value of(std::string_view text);
};

/// An entry ("name = value"), a section ("name { ... }"), a comment or a blank line.
struct Node {
  enum class Kind { entry, section, comment, blank };
  Kind kind = Kind::section;
  std::string name;  // of a comment: the comment
  Value value;
  std::vector<Node> children;
  std::string remark;  // a comment behind it on its line

  const Node* section(std::string_view name) const;
  Node* section(std::string_view name);
  const Value* entry(std::string_view name) const;
  /// Nothing: no such entry, or it is no whole number that fits.
  std::optional<std::uint64_t> number(std::string_view name) const;
  /// Empty: no such entry, or no text.
  std::string text(std::string_view name) const;
  /// The texts of a list; empty when there is none.
  std::vector<std::string> words(std::string_view name) const;

  /// Changes an entry where it stands, or adds it behind the last entry.
  void set(std::string_view name, Value value);
  /// Adds a section at the end.
  Node& add_section(std::string_view name);
  void remove_section(std::string_view name);
};

/// Reads the text into one section without a name. Throws damaged, naming the line. Nesting is
/// limited, and a name may occur once in a section.
Node parse_text(std::string_view text);
/// The text of that section; reading it again gives the same tree.
std::string write_text(const Node& root);

}  // namespace jh::lvm
