#include "core/lvm/text.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <unordered_set>

#include "core/base/errors.h"

namespace jh::lvm {
namespace {

constexpr int deepest = 16;

bool is_name_char(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' ||
         c == '-' || c == '+' || c == '.' || c == '/' || c == '#' || c == '@';
}

class Reader {
 public:
  explicit Reader(std::string_view text) : text_(text) {}

  Node read() {
    Node root;
    body(root, 0);
    return root;
  }

 private:
  [[noreturn]] void corrupt(const char* what) const {
    const auto line = 1 + std::count(text_.begin(), text_.begin() + static_cast<long>(at_), '\n');
    damaged(fmt::format("the group's metadata text is damaged: {} in line {}", what, line));
  }
  bool more() const { return at_ < text_.size(); }
  char here() const { return more() ? text_[at_] : '\0'; }
  void skip_blanks() {
    while (here() == ' ' || here() == '\t' || here() == '\r') ++at_;
  }
  void skip_space() {
    while (here() == ' ' || here() == '\t' || here() == '\r' || here() == '\n') ++at_;
  }
  std::string rest_of_line() {
    const std::size_t end = std::min(text_.find('\n', at_), text_.size());
    std::string line(text_.substr(at_, end - at_));
    at_ = end;
    return line;
  }
  // What follows an entry or a section's end on its line.
  void remark(Node& node) {
    skip_blanks();
    if (here() == '#') node.remark = rest_of_line();
    if (here() == '\n') ++at_;
  }

  void body(Node& into, int depth) {
    if (depth > deepest) corrupt("sections lie too deep");
    std::unordered_set<std::string> names;
    for (;;) {
      skip_blanks();
      if (!more()) {
        if (depth != 0) corrupt("a section does not end");
        return;
      }
      if (here() == '\n') {
        ++at_;
        into.children.push_back({Node::Kind::blank, {}, {}, {}, {}});
      } else if (here() == '#') {
        into.children.push_back({Node::Kind::comment, rest_of_line(), {}, {}, {}});
        if (more()) ++at_;
      } else if (here() == '}') {
        if (depth == 0) corrupt("an end without a section");
        ++at_;
        return;
      } else {
        Node node = named(depth);
        if (!names.insert(node.name).second) corrupt("a name is there twice");
        into.children.push_back(std::move(node));
      }
    }
  }

  Node named(int depth) {
    const std::size_t start = at_;
    while (is_name_char(here())) ++at_;
    if (at_ == start) corrupt("an unexpected character");
    Node node;
    node.name = text_.substr(start, at_ - start);
    skip_space();
    if (here() == '{') {
      ++at_;
      skip_blanks();
      if (here() == '\n') ++at_;
      body(node, depth + 1);
    } else if (here() == '=') {
      ++at_;
      skip_space();
      node.kind = Node::Kind::entry;
      node.value = value();
    } else {
      corrupt("a name without a value");
    }
    remark(node);
    return node;
  }

  Value value() { return here() == '[' ? list() : item(); }

  Value list() {
    Value value;
    value.kind = Value::Kind::list;
    ++at_;
    skip_blanks();
    value.on_lines = here() == '\n';
    for (;;) {
      skip_space();
      if (here() == ']') break;
      value.items.push_back(item());
      skip_space();
      if (here() == ',')
        ++at_;
      else if (here() != ']')
        corrupt("a list is broken");
    }
    ++at_;
    return value;
  }

  Value item() {
    Value value;
    if (here() == '"') {
      value.kind = Value::Kind::text;
      for (++at_; here() != '"'; ++at_) {
        if (!more() || here() == '\n') corrupt("a text does not end");
        if (here() == '\\' && ++at_ >= text_.size()) corrupt("a text does not end");
        value.text += here();
      }
      ++at_;
      return value;
    }
    const std::size_t start = at_;
    while ((here() >= '0' && here() <= '9') || here() == '-' || here() == '+' || here() == '.')
      ++at_;
    if (at_ == start) corrupt("a value is missing");
    value.text = text_.substr(start, at_ - start);
    return value;
  }

  std::string_view text_;
  std::size_t at_ = 0;
};

void write_item(const Value& value, std::string& out) {
  if (value.kind == Value::Kind::number) {
    out += value.text;
    return;
  }
  out += '"';
  for (const char c : value.text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  out += '"';
}

void write_list(const Value& value, std::string& out) {
  out += value.on_lines ? "[\n" : "[";
  for (std::size_t i = 0; i < value.items.size(); ++i) {
    // Lists on lines name a device and an extent on each.
    if (i != 0) out += value.on_lines && value.items[i].kind == Value::Kind::text ? ",\n" : ", ";
    write_item(value.items[i], out);
  }
  out += value.on_lines ? "\n]" : "]";
}

void write_body(const Node& section, std::string& out) {
  for (const Node& node : section.children) {
    switch (node.kind) {
      case Node::Kind::blank:
        break;
      case Node::Kind::comment:
        out += node.name;
        break;
      case Node::Kind::entry:
        out += node.name + " = ";
        node.value.kind == Value::Kind::list ? write_list(node.value, out)
                                             : write_item(node.value, out);
        break;
      case Node::Kind::section:
        out += node.name + " {\n";
        write_body(node, out);
        out += "}";
        break;
    }
    if (!node.remark.empty()) out += "\t" + node.remark;
    out += "\n";
  }
}

template <class Children>
auto find_child(Children& children, std::string_view name, Node::Kind kind) {
  return std::find_if(children.begin(), children.end(),
                      [&](const Node& node) { return node.kind == kind && node.name == name; });
}

}  // namespace

Value Value::of(std::uint64_t number) { return {Kind::number, std::to_string(number), {}, false}; }
Value Value::of(std::string_view text) { return {Kind::text, std::string(text), {}, false}; }

const Node* Node::section(std::string_view wanted) const {
  const auto found = find_child(children, wanted, Kind::section);
  return found == children.end() ? nullptr : &*found;
}
Node* Node::section(std::string_view wanted) {
  const auto found = find_child(children, wanted, Kind::section);
  return found == children.end() ? nullptr : &*found;
}
const Value* Node::entry(std::string_view wanted) const {
  const auto found = find_child(children, wanted, Kind::entry);
  return found == children.end() ? nullptr : &found->value;
}

std::optional<std::uint64_t> Node::number(std::string_view wanted) const {
  const Value* found = entry(wanted);
  if (found == nullptr || found->kind != Value::Kind::number) return std::nullopt;
  std::uint64_t number = 0;
  const char* end = found->text.data() + found->text.size();
  const auto parsed = std::from_chars(found->text.data(), end, number);
  if (parsed.ec != std::errc() || parsed.ptr != end) return std::nullopt;
  return number;
}

std::string Node::text(std::string_view wanted) const {
  const Value* found = entry(wanted);
  return found != nullptr && found->kind == Value::Kind::text ? found->text : std::string();
}

std::vector<std::string> Node::words(std::string_view wanted) const {
  std::vector<std::string> words;
  if (const Value* found = entry(wanted))
    for (const Value& item : found->items)
      if (item.kind == Value::Kind::text) words.push_back(item.text);
  return words;
}

void Node::set(std::string_view wanted, Value fresh) {
  const auto found = find_child(children, wanted, Kind::entry);
  if (found != children.end()) {
    fresh.on_lines = fresh.on_lines || found->value.on_lines;
    found->value = std::move(fresh);
    return;
  }
  auto behind = children.begin();
  for (auto at = children.begin(); at != children.end(); ++at)
    if (at->kind == Kind::entry) behind = at + 1;
  children.insert(behind, {Kind::entry, std::string(wanted), std::move(fresh), {}, {}});
}

Node& Node::add_section(std::string_view wanted) {
  children.push_back({Kind::section, std::string(wanted), {}, {}, {}});
  return children.back();
}

void Node::remove_section(std::string_view wanted) {
  std::erase_if(children, [&](const Node& node) {
    return node.kind == Kind::section && node.name == wanted;
  });
}

Node parse_text(std::string_view text) { return Reader(text).read(); }

std::string write_text(const Node& root) {
  std::string out;
  write_body(root, out);
  return out;
}

}  // namespace jh::lvm
