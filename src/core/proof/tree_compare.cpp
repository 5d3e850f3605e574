#include "core/proof/tree_compare.h"

#include <fmt/format.h>

#include <deque>
#include <future>
#include <unordered_map>

#include "core/proof/verdict.h"

namespace jh {
namespace {

using Node = FileTree::Node;
using Extent = FileTree::Extent;
using Entries = std::vector<FileTree::Entry>;

// Only asked for when something differs, so it may take its time.
std::string path_of(FileTree& tree, Node wanted) {
  for (const FileTree::Root& root : tree.roots())
    if (root.node == wanted) return root.path;
  std::deque<std::pair<Node, std::string>> waiting{{tree.roots().front().node, "/"}};
  std::vector<bool> seen(tree.node_end());
  while (!waiting.empty()) {
    const auto [folder, path] = waiting.front();
    waiting.pop_front();
    for (const FileTree::Entry& entry : tree.entries(folder)) {
      if (entry.name == "." || entry.name == ".." || entry.node >= seen.size()) continue;
      if (entry.node == wanted) return path + entry.name;
      if (seen[entry.node] || !tree.look(entry.node).folder) continue;
      seen[entry.node] = true;
      waiting.emplace_back(entry.node, path + entry.name + "/");
    }
  }
  return fmt::format("file number {}", wanted);
}

class TreeComparison {
 public:
  TreeComparison(const TreeState& before, const TreeState& after, const Ranges& changed,
                 ContentCheck& contents, const std::string& where, Progress& progress)
      : before_(before),
        after_(after),
        changed_(changed),
        contents_(contents),
        where_(where),
        progress_(progress),
        seen_before_(before.tree.node_end()),
        seen_after_(after.tree.node_end()) {}

  std::uint64_t run() {
    for (const Node node : before_.tree.passed_over()) seen_before_[node] = true;
    for (const Node node : after_.tree.passed_over()) seen_after_[node] = true;
    const auto old_roots = before_.tree.roots();
    const auto new_roots = after_.tree.roots();
    if (old_roots.size() != new_roots.size()) proof_failed("the tree has other roots", where_);
    for (std::size_t i = 0; i < old_roots.size(); ++i)
      match_nodes(old_roots[i].node, new_roots[i].node, old_roots.front().node);
    compare_files();
    while (!folders_.empty()) {
      const Folder folder = folders_.front();
      folders_.pop_front();
      compare_folders(folder);
      if (folders_.empty()) compare_files();
    }
    return compared_;
  }

 private:
  struct Pair {
    Node before = 0;
    Node after = 0;
  };
  struct Folder {
    Pair nodes;
    bool is_large = false;
  };

  [[noreturn]] void differs(Node node, const std::string& what, const std::string& name = {}) {
    std::string path = path_of(before_.tree, node);
    if (!name.empty()) path += (path.ends_with('/') ? "" : "/") + name;
    proof_failed(fmt::format("{}: {} differs", path, what), where_);
  }

  // Two nodes that must stand for the same file; `from` leads to it by this name.
  void match_nodes(Node before, Node after, Node from, const std::string& name = {}) {
    if (before == 0 && after == 0) return;
    if (before == 0 || after == 0 || before >= seen_before_.size() || after >= seen_after_.size())
      differs(from, "its inode", name);
    if (seen_before_[before] != seen_after_[after]) differs(from, "what it is linked to", name);
    if (before != after) {
      const auto [known, fresh] = numbers_.try_emplace(before, after);
      if (known->second != after) differs(from, "what it is linked to", name);
    }
    if (seen_before_[before]) return;
    seen_before_[before] = true;
    seen_after_[after] = true;
    waiting_.push_back({before, after});
  }

  // Where there is much to ask, both trees are asked at the same time, each by one thread.
  // `ask(tree, node of a pair)` answers for one of them.
  template <class Ask>
  auto ask_both(bool is_much, Ask ask) {
    const auto of_old = [&] { return ask(before_.tree, &Pair::before); };
    const auto launch = is_much ? std::launch::async : std::launch::deferred;
    auto was = std::async(launch, of_old);
    auto now = ask(after_.tree, &Pair::after);
    return std::pair{was.get(), std::move(now)};
  }

  void compare_folders(const Folder& folder) {
    const auto [before, after] = folder.nodes;
    const auto [was, now] = ask_both(folder.is_large, [&](FileTree& tree, Node Pair::*node) {
      return tree.entries(folder.nodes.*node);
    });
    if (was.size() != now.size()) differs(before, "the list of names");
    for (std::size_t i = 0; i < was.size(); ++i) {
      if (was[i].name != now[i].name || was[i].type != now[i].type)
        differs(before, "the list of names");
      match_nodes(was[i].node, now[i].node, before, was[i].name);
      if (waiting_.size() >= most_waiting) compare_files();
    }
    progress_.advance(0);
  }

  void compare_files() {
    while (!waiting_.empty()) {
      const std::vector<Pair> pairs = std::exchange(waiting_, {});
      // Those of the first ones that are told in a bounded number of extents.
      const auto look_at = [&](FileTree& tree, Node Pair::*node) {
        std::vector<FileTree::File> files;
        std::size_t extents = 0;
        for (auto pair = pairs.begin(); pair != pairs.end() && extents < most_extents; ++pair) {
          files.push_back(tree.look((*pair).*node));
          extents += files.back().content.size();
        }
        return files;
      };
      const auto [was, now] = ask_both(pairs.size() > most_waiting / 8, look_at);
      const std::size_t both = std::min(was.size(), now.size());
      for (std::size_t i = 0; i < both; ++i)
        compare_file(pairs[i].before, pairs[i].after, was[i], now[i]);
      waiting_.insert(waiting_.begin(), pairs.begin() + static_cast<std::ptrdiff_t>(both),
                      pairs.end());
    }
  }

  void compare_file(Node before, Node after, const FileTree::File& was, const FileTree::File& now) {
    ++compared_;
    if (was.values.size() != now.values.size() || was.attributes != now.attributes)
      differs(before, "an extended attribute of it");
    for (std::size_t i = 0; i < was.values.size(); ++i)
      match_nodes(was.values[i], now.values[i], before);
    if (was.folder != now.folder || was.facts != now.facts) differs(before, "an attribute of it");
    if (was.folder) folders_.push_back({{before, after}, is_large(was)});
    compare_content(was, now, before);
  }

  static bool is_large(const FileTree::File& folder) {
    constexpr std::uint64_t large = 64U << 10;
    std::uint64_t bytes = 0;
    for (const Extent& part : folder.content) bytes += part.length;
    return bytes >= large;
  }

  // Extents may be cut differently: piece by piece, as far as both reach.
  void compare_content(const FileTree::File& before, const FileTree::File& after, Node node) {
    std::size_t i = 0;
    std::size_t k = 0;
    std::uint64_t old_done = 0;
    std::uint64_t new_done = 0;
    while (i < before.content.size() && k < after.content.size()) {
      const Extent& was = before.content[i];
      const Extent& now = after.content[k];
      if (was.offset + old_done != now.offset + new_done || was.kind != now.kind)
        differs(node, "where its content is");
      const std::uint64_t length = std::min(was.length - old_done, now.length - new_done);
      if (was.kind == Extent::Kind::data)
        compare_bytes(was.at + old_done, now.at + new_done, length, node);
      old_done += length;
      new_done += length;
      if (old_done == was.length) {
        ++i;
        old_done = 0;
      }
      if (new_done == now.length) {
        ++k;
        new_done = 0;
      }
    }
    if (i != before.content.size() || k != after.content.size())
      differs(node, "where its content is");
  }

  void compare_bytes(std::uint64_t was, std::uint64_t now, std::uint64_t length, Node node) {
    if (was == now && !overlaps(changed_, was, was + length)) return;
    if (!before_.tree.shares_content()) {
      compare_pieces(was, now, length, node);
      return;
    }
    // Snapshots have the same extents, and those have moved together.
    Ranges& known = same_[now - was];
    const std::uint64_t end = was + length;
    for (std::uint64_t at = first_outside(known, was, end); at < end;
         at = first_outside(known, at, end)) {
      const auto next = known.lower_bound(at);
      const std::uint64_t stop = next == known.end() ? end : std::min(end, next->first);
      compare_pieces(at, now + (at - was), stop - at, node);
      add_range(known, at, stop);
    }
  }
  void compare_pieces(std::uint64_t was, std::uint64_t now, std::uint64_t length, Node node) {
    if (contents_.same_until(before_.place, was, after_.place, now, length, progress_) != length)
      differs(node, "its content");
  }

  TreeState before_;
  TreeState after_;
  const Ranges& changed_;
  ContentCheck& contents_;
  const std::string& where_;
  Progress& progress_;
  std::vector<bool> seen_before_;
  std::vector<bool> seen_after_;
  std::unordered_map<Node, Node> numbers_;          // before → after, where they differ
  std::unordered_map<std::uint64_t, Ranges> same_;  // content compared already, by how far it moved
  static constexpr std::size_t most_waiting = 512;
  static constexpr std::size_t most_extents = 1U << 16;
  std::vector<Pair> waiting_;  // to be compared
  std::deque<Folder> folders_;
  std::uint64_t compared_ = 0;
};

}  // namespace

std::uint64_t compare_trees(const TreeState& before, const TreeState& after, const Ranges& changed,
                            ContentCheck& contents, const std::string& where, Progress& progress) {
  return TreeComparison(before, after, changed, contents, where, progress).run();
}

}  // namespace jh
