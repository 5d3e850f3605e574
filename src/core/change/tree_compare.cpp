#include "core/change/tree_compare.h"

#include <fmt/format.h>

#include <deque>
#include <unordered_map>

#include "core/change/footprint.h"
#include "core/fs/ext/bits.h"
#include "core/fs/ext/map_edit.h"
#include "core/fs/ext/read.h"

namespace jh {

namespace {

using ext::Filesystem;
using ext::InodeRecord;
using ext::MappedRun;

class TreeComparison {
 public:
  TreeComparison(Filesystem& before, Filesystem& after, const Ranges& changed,
                 ContentCheck& contents, const std::string& where, Progress& progress)
      : before_(before),
        after_(after),
        changed_(changed),
        contents_(contents),
        where_(where),
        progress_(progress),
        seen_before_(before.geometry().inodes() + 1),
        seen_after_(after.geometry().inodes() + 1) {}

  void run() {
    meet(ext::root_ino, ext::root_ino, "/");
    const std::uint32_t resize =
        before_.geometry().has_compat(ext::compat::resize_inode) ? ext::resize_ino : 0;
    const auto& old = before_.super();
    const auto& now = after_.super();
    // What quota counts follows the lists of extents; the checker of the guest compares it.
    const std::uint32_t user = old.usr_quota_inum.value();
    const std::uint32_t group = old.grp_quota_inum.value();
    for (std::uint32_t ino = 3; ino < before_.geometry().first_ino; ++ino)
      if (ino != resize && ino != user && ino != group)
        meet(ino, ino, fmt::format("inode {}", ino));
    if (before_.geometry().has_compat(ext::compat::orphan_file)) {
      // Its blocks hold their own numbers: only that it is there can be compared.
      seen_before_.set(old.orphan_file_inum.value());
      seen_after_.set(now.orphan_file_inum.value());
    }
    while (!folders_.empty()) {
      const Folder folder = folders_.front();
      folders_.pop_front();
      compare_folder(folder);
    }
  }

 private:
  struct Folder {
    std::uint32_t before = 0;
    std::uint32_t after = 0;
    std::string path;
  };
  struct Name {
    std::string name;
    std::uint32_t ino = 0;
    std::uint8_t type = 0;
  };

  [[noreturn]] void differs(const std::string& path, const char* what) {
    proof_failed(fmt::format("{}: {} differs", path, what), where_);
  }

  // Two numbers that must stand for the same inode.
  void meet(std::uint32_t before, std::uint32_t after, const std::string& path) {
    if (before == 0 && after == 0) return;
    if (before == 0 || after == 0 || before >= seen_before_.size() || after >= seen_after_.size())
      differs(path, "its inode");
    if (seen_before_.test(before) != seen_after_.test(after)) differs(path, "what it is linked to");
    if (before != after) {
      const auto [known, fresh] = numbers_.try_emplace(before, after);
      if (known->second != after) differs(path, "what it is linked to");
    }
    if (seen_before_.test(before)) return;
    seen_before_.set(before);
    seen_after_.set(after);
    compare_inode(before_.read_inode(before), after_.read_inode(after), path);
  }

  void compare_folder(const Folder& folder) {
    const auto names_of = [](Filesystem& fs, std::uint32_t ino) {
      std::vector<Name> names;
      ext::read_directory(fs, fs.read_inode(ino), [&](const ext::DirectoryEntry& entry) {
        names.push_back({entry.name, entry.ino, entry.file_type});
        return true;
      });
      return names;
    };
    const auto before = names_of(before_, folder.before);
    const auto after = names_of(after_, folder.after);
    if (before.size() != after.size()) differs(folder.path, "the list of names");
    for (std::size_t i = 0; i < before.size(); ++i) {
      if (before[i].name != after[i].name || before[i].type != after[i].type)
        differs(folder.path, "the list of names");
      meet(before[i].ino, after[i].ino, folder.path + before[i].name);
    }
    progress_.advance(0);
  }

  void compare_inode(const InodeRecord& before, const InodeRecord& after, const std::string& path) {
    const bool directory = before.type() == ext::mode_dir;
    compare_attributes(before, after, path);
    if (normal(before_, before) != normal(after_, after)) differs(path, "an attribute of it");
    if (directory) folders_.push_back({before.ino, after.ino, path == "/" ? path : path + "/"});
    if (!directory && ext::has_blocks(before)) compare_content(before, after, path);
  }

  // The inode without what may change: places, counts of blocks, sums, numbers of inodes.
  static Buffer normal(const Filesystem& fs, const InodeRecord& inode) {
    InodeRecord facts = inode;
    const bool inline_folder =
        inode.type() == ext::mode_dir && inode.has_flag(ext::flag_inline_data);
    if (ext::has_blocks(inode) || inline_folder) facts.fields.block = {};
    facts.fields.blocks_lo = 0;
    facts.fields.blocks_hi = 0;
    facts.fields.file_acl_lo = 0;
    facts.fields.file_acl_hi = 0;
    facts.fields.checksum_lo = 0;
    if (facts.raw.size() > ext::old_inode_size) facts.fields.checksum_hi = 0;
    facts.store_fields();
    if (inline_folder) {
      if (const auto rest = ext::inline_rest(inode))
        std::fill_n(facts.raw.begin() + static_cast<std::ptrdiff_t>(rest->first), rest->second,
                    std::uint8_t{0});
    }
    if (const auto start = ext::attributes_at(inode);
        start && fs.geometry().has_incompat(ext::incompat::ea_inode))
      take_values(ByteSpan(facts.raw).subspan(*start));
    return facts.raw;
  }

  // Numbers of the inodes that hold values, which are set to zero in the list.
  static std::vector<std::uint32_t> take_values(ByteSpan entries) {
    std::vector<std::uint32_t> numbers;
    ext::change_value_inodes(entries, [&](std::uint32_t number) {
      numbers.push_back(number);
      return 0U;
    });
    return numbers;
  }

  void compare_values(std::vector<std::uint32_t> before, std::vector<std::uint32_t> after,
                      const std::string& path) {
    if (before.size() != after.size()) differs(path, "an extended attribute of it");
    for (std::size_t i = 0; i < before.size(); ++i)
      meet(before[i], after[i], path + ", the value of an attribute");
  }

  void compare_attributes(const InodeRecord& before, const InodeRecord& after,
                          const std::string& path) {
    if (const auto start = ext::attributes_at(before);
        start && before_.geometry().has_incompat(ext::incompat::ea_inode)) {
      Buffer old = before.raw;
      Buffer now = after.raw;
      compare_values(take_values(ByteSpan(old).subspan(*start)),
                     take_values(ByteSpan(now).subspan(*start)), path);
    }
    const std::uint64_t old_block = before.attribute_block();
    const std::uint64_t new_block = after.attribute_block();
    if (old_block == 0 && new_block == 0) return;
    if (old_block == 0 || new_block == 0) differs(path, "an extended attribute of it");
    Buffer old = before_.read_block(old_block);
    Buffer now = after_.read_block(new_block);
    for (Buffer* raw : {&old, &now}) {
      auto header = parse_as<ext::XattrHeader>(*raw, 0);
      header.checksum = 0;
      put_at(*raw, 0, header);
    }
    compare_values(take_values(ByteSpan(old).subspan(sizeof(ext::XattrHeader))),
                   take_values(ByteSpan(now).subspan(sizeof(ext::XattrHeader))), path);
    if (old != now) differs(path, "an extended attribute of it");
  }

  void compare_content(const InodeRecord& before, const InodeRecord& after,
                       const std::string& path) {
    const auto old_runs = ext::read_runs(before_, before);
    const auto new_runs = ext::read_runs(after_, after);
    std::size_t i = 0;
    std::size_t k = 0;
    std::uint64_t old_done = 0;
    std::uint64_t new_done = 0;
    while (i < old_runs.size() && k < new_runs.size()) {
      const MappedRun& old = old_runs[i];
      const MappedRun& now = new_runs[k];
      if (old.logical + old_done != now.logical + new_done || old.unwritten != now.unwritten)
        differs(path, "where its content is");
      const std::uint64_t count = std::min(old.count - old_done, now.count - new_done);
      if (!old.unwritten)
        compare_blocks(old.physical + old_done, now.physical + new_done, count, path);
      old_done += count;
      new_done += count;
      if (old_done == old.count) {
        ++i;
        old_done = 0;
      }
      if (new_done == now.count) {
        ++k;
        new_done = 0;
      }
    }
    if (i != old_runs.size() || k != new_runs.size()) differs(path, "where its content is");
  }

  void compare_blocks(std::uint64_t old, std::uint64_t now, std::uint64_t count,
                      const std::string& path) {
    const std::uint64_t bs = before_.geometry().block_size;
    if (old == now && !meets(changed_, old * bs, (old + count) * bs)) return;
    if (contents_.same_until(before_.store(), old * bs, after_.store(), now * bs, count * bs,
                             progress_) != count * bs)
      differs(path, "its content");
  }

  Filesystem& before_;
  Filesystem& after_;
  const Ranges& changed_;
  ContentCheck& contents_;
  const std::string& where_;
  Progress& progress_;
  ext::Bits seen_before_;
  ext::Bits seen_after_;
  std::unordered_map<std::uint32_t, std::uint32_t> numbers_;  // old → new, where they differ
  std::deque<Folder> folders_;
};

}  // namespace

void compare_trees(Filesystem& before, Filesystem& after, const Ranges& changed,
                   ContentCheck& contents, const std::string& where, Progress& progress) {
  TreeComparison(before, after, changed, contents, where, progress).run();
}

}  // namespace jh
