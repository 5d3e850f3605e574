#include "core/fs/ext/fast_commit.h"

#include <fmt/format.h>

#include <set>

#include "core/base/checksum.h"
#include "core/fs/ext/directory_edit.h"
#include "core/fs/ext/map_edit.h"
#include "core/fs/ext/orphans.h"
#include "core/fs/ext/read.h"

namespace jh::ext {

using journal::FastTag;
using journal::FastType;

namespace {

constexpr const char* in_fast_commits = "ext journal, fast commits";

struct Record {
  FastType type{};
  Buffer value;
};

// The records of all complete fast commits that follow transaction `tid` - 1. A wrong checksum,
// another transaction or an unknown tag ends the list, as it does for the guest.
std::vector<Record> scan(Journal& journal, std::uint32_t tid, std::uint32_t& commits) {
  std::vector<Record> complete;
  std::vector<Record> open;
  std::uint32_t checksum = 0;
  for (std::uint32_t n = 0; n < journal.fast_blocks(); ++n) {
    const Buffer raw = journal.read(journal.fast_start() + n);
    for (std::size_t at = 0; at + sizeof(FastTag) <= raw.size();) {
      const auto tag = parse_as<FastTag>(raw, at);
      const auto type = static_cast<FastType>(tag.type.value());
      const std::size_t length = tag.length.value();
      const std::size_t value_at = at + sizeof(FastTag);
      if (length > raw.size() - value_at) return complete;
      const ConstByteSpan value = ConstByteSpan(raw).subspan(value_at, length);
      if (type == FastType::tail) {
        if (length < sizeof(journal::FastTail)) return complete;
        const auto tail = parse_as<journal::FastTail>(value, 0);
        checksum = crc32c_raw(checksum, ConstByteSpan(raw).subspan(at, sizeof(FastTag) + 4));
        if (tail.tid.value() != tid || tail.crc.value() != checksum) return complete;
        complete.insert(complete.end(), open.begin(), open.end());
        open.clear();
        checksum = 0;
        ++commits;
        break;  // the rest of the block is not used
      }
      if (type == FastType::head) {
        if (length < sizeof(journal::FastHead)) return complete;
        const auto head = parse_as<journal::FastHead>(value, 0);
        if (head.tid.value() != tid) return complete;
        if (head.features.value() != 0)
          unsupported(fmt::format("unknown features 0x{:x}", head.features.value()),
                      in_fast_commits, start_the_guest_first);
      } else if (type < FastType::add_range || type > FastType::pad) {
        return complete;
      } else if (type != FastType::pad) {
        open.push_back({type, Buffer(value.begin(), value.end())});
      }
      checksum = crc32c_raw(checksum, ConstByteSpan(raw).subspan(at, sizeof(FastTag) + length));
      at = value_at + length;
      if (open.size() > 1'000'000)
        damaged("there is no end of them", in_fast_commits, start_the_guest_first);
    }
  }
  return complete;
}

class Replay {
 public:
  explicit Replay(Store& store) : fs_(store), g_(fs_.geometry()), allocation_(fs_) {}

  void run(const std::vector<Record>& records) {
    for (const Record& record : records)
      if (record.type == FastType::add_range) claims_.push_back(run_of(record));
    take_claims();
    for (const Record& record : records) one(record);
    finish();
  }

 private:
  // What any record gives to a file must not be handed out for a new directory meanwhile.
  void take_claims() {
    for (const MappedExtent& run : claims_) {
      fs_.check_run(run.physical, run.count);
      allocation_.take(run.physical, run.count);
    }
  }

  static std::uint32_t number(const Record& record, std::size_t at) {
    return parse_as<Le32>(record.value, at).value();
  }

  void one(const Record& record) {
    switch (record.type) {
      case FastType::inode:
        write_inode(record);
        break;
      case FastType::add_range:
        add_range(record);
        break;
      case FastType::del_range:
        remove_range(record);
        break;
      case FastType::create:
      case FastType::link:
        add_link(record);
        break;
      case FastType::unlink:
        remove_link(record);
        break;
      default:
        break;
    }
  }

  InodeRecord touch(std::uint32_t ino) {
    if (ino == 0 || ino > g_.inodes())
      damaged(fmt::format("inode {}", ino), in_fast_commits, start_the_guest_first);
    touched_.insert(ino);
    removed_.erase(ino);
    return fs_.read_inode(ino);
  }

  // All of the inode but its block list, which further records bring up to date.
  void write_inode(const Record& record) {
    const std::uint32_t ino = number(record, 0);
    const ConstByteSpan fresh = ConstByteSpan(record.value).subspan(4);
    InodeRecord inode = touch(ino);
    constexpr std::size_t map = offsetof(Inode, block);
    constexpr std::size_t behind = offsetof(Inode, generation);
    if (fresh.size() < old_inode_size || fresh.size() > inode.raw.size())
      damaged(fmt::format("a record of inode {} has a wrong length", ino), in_fast_commits,
              start_the_guest_first);
    const auto flags = parse_as<Le32>(fresh, offsetof(Inode, flags)).value();
    const auto old_magic = parse_as<Le16>(inode.raw, map).value();
    std::memcpy(inode.raw.data(), fresh.data(), map);
    std::memcpy(inode.raw.data() + behind, fresh.data() + behind, fresh.size() - behind);
    if ((flags & flag_inline_data) != 0 || (flags & flag_extents) == 0) {
      std::memcpy(inode.raw.data() + map, fresh.data() + map, sizeof(Inode::block));
    } else if (old_magic != extent_magic) {
      ExtentHeader header{};
      header.magic = extent_magic;
      header.entries = 0;
      header.max = (sizeof(Inode::block) - sizeof(header)) / sizeof(Extent);
      header.depth = 0;
      header.generation = 0;
      std::memset(inode.raw.data() + map, 0, sizeof(Inode::block));
      put_at(inode.raw, map, header);
    }
    std::memcpy(&inode.fields, inode.raw.data(), std::min(inode.raw.size(), sizeof(Inode)));
    allocation_.take_inode(ino, inode.type() == mode_dir);
    fs_.write_inode(inode);
  }

  // The runs outside of [first, end); what lay inside is handed to `freed`.
  static std::vector<MappedExtent> without(const std::vector<MappedExtent>& runs,
                                           std::uint64_t first, std::uint64_t end,
                                           std::vector<MappedExtent>& freed) {
    std::vector<MappedExtent> rest;
    for (const MappedExtent& run : runs) {
      const std::uint64_t run_end = run.logical + run.count;
      const auto part = [&](std::uint64_t from, std::uint64_t to) {
        return MappedExtent{from, run.physical + (from - run.logical), to - from, run.unwritten};
      };
      if (run_end <= first || run.logical >= end) {
        rest.push_back(run);
        continue;
      }
      if (run.logical < first) rest.push_back(part(run.logical, first));
      freed.push_back(part(std::max(first, run.logical), std::min(end, run_end)));
      if (run_end > end) rest.push_back(part(end, run_end));
    }
    return rest;
  }

  void change_range(std::uint32_t ino, std::uint64_t first, std::uint64_t end,
                    const std::vector<MappedExtent>& fresh) {
    InodeRecord inode = touch(ino);
    std::vector<MappedExtent> freed;
    std::vector<MappedExtent> runs = without(read_runs(fs_, inode), first, end, freed);
    released_.insert(released_.end(), freed.begin(), freed.end());
    runs.insert(runs.end(), fresh.begin(), fresh.end());
    std::sort(runs.begin(), runs.end(),
              [](const MappedExtent& a, const MappedExtent& b) { return a.logical < b.logical; });
    write_runs(fs_, allocation_, inode, runs);
    fs_.write_inode(inode);
  }

  static MappedExtent run_of(const Record& record) {
    const auto extent = parse_as<Extent>(record.value, 4);
    const bool unwritten = extent.len.value() > max_written_extent;
    return {extent.block.value(),
            extent.start_lo.value() | std::uint64_t{extent.start_hi.value()} << 32,
            extent.len.value() - (unwritten ? std::uint64_t{max_written_extent} : 0), unwritten};
  }

  void add_range(const Record& record) {
    const MappedExtent run = run_of(record);
    change_range(number(record, 0), run.logical, run.logical + run.count, {run});
  }

  void remove_range(const Record& record) {
    const std::uint64_t first = number(record, 4);
    change_range(number(record, 0), first, first + number(record, 8), {});
  }

  struct Name {
    std::uint32_t parent = 0;
    std::uint32_t ino = 0;
    std::string text;
  };
  static Name name_of(const Record& record) {
    if (record.value.size() <= 8)
      damaged("a record of a name is too short", in_fast_commits, start_the_guest_first);
    return {number(record, 0), number(record, 4),
            std::string(record.value.begin() + 8, record.value.end())};
  }

  void set_links(std::uint32_t ino, int change) {
    InodeRecord inode = touch(ino);
    const int links = inode.fields.links_count.value() + change;
    inode.fields.links_count = static_cast<std::uint16_t>(std::max(0, links));
    fs_.write_inode(inode);
  }

  void add_link(const Record& record) {
    const Name name = name_of(record);
    InodeRecord inode = touch(name.ino);
    const bool creates = record.type == FastType::create;
    if (creates && inode.type() == mode_dir && read_runs(fs_, inode).empty() &&
        !inode.has_flag(flag_inline_data))
      begin_directory(inode, name.parent);
    InodeRecord parent = touch(name.parent);
    if (parent.type() != mode_dir)
      damaged("a name's place is no directory", in_fast_commits, start_the_guest_first);
    if (add_name(fs_, allocation_, parent, name.text, name.ino, inode.fields.mode.value())) {
      fs_.write_inode(parent);
      if (!creates) set_links(name.ino, 1);
    }
    if (creates && inode.type() != mode_dir) {
      inode = touch(name.ino);
      inode.fields.links_count = 1;
      fs_.write_inode(inode);
    }
  }

  void begin_directory(InodeRecord& inode, std::uint32_t parent) {
    const auto block =
        allocation_.allocate(1, g_.group_first((inode.ino - 1) / g_.inodes_per_group), {});
    if (!block) refuse("no free block is left to replay the journal", in_fast_commits);
    fs_.store().write(g_.offset(*block), first_directory_block(fs_, inode, parent));
    inode.fields.size_lo = g_.block_size;
    inode.fields.size_hi = 0;
    write_runs(fs_, allocation_, inode, {{0, *block, 1, false}});
    fs_.write_inode(inode);
  }

  void remove_link(const Record& record) {
    const Name name = name_of(record);
    InodeRecord parent = touch(name.parent);
    if (parent.type() != mode_dir) return;
    if (!remove_name(fs_, parent, name.text, name.ino)) return;
    fs_.write_inode(parent);
    const bool directory = touch(name.ino).type() == mode_dir;
    set_links(name.ino, directory ? -2 : -1);
    // At once: a later record may use the number for another file.
    if (fs_.read_inode(name.ino).fields.links_count.value() == 0) remove(name.ino);
  }

  void remove(std::uint32_t ino) {
    if (ino < g_.first_ino || !allocation_.inode_in_use(ino)) return;
    remove_inode(fs_, allocation_, ino);
    removed_.insert(ino);
    take_claims();
  }

  // Deletions, directories' link counts, and what all that was touched holds.
  void finish() {
    for (const std::uint32_t ino : touched_)
      if (fs_.read_inode(ino).fields.links_count.value() == 0) remove(ino);
    // Claims that no file holds in the end are free again.
    for (const MappedExtent& run : claims_) allocation_.release(run.physical, run.count);
    // A block given back for one file may have been taken for another in a later record: what is
    // held in the end counts.
    for (const MappedExtent& run : released_) allocation_.release(run.physical, run.count);
    for (const std::uint32_t ino : touched_) {
      if (removed_.contains(ino)) continue;
      InodeRecord inode = fs_.read_inode(ino);
      if (inode.type() == mode_dir) count_links(inode);
      take_all(inode);
    }
    allocation_.finish();
  }

  void count_links(InodeRecord& inode) {
    std::uint32_t links = 2;
    read_directory(fs_, inode, [&](const DirectoryEntry& entry) {
      if (entry.name != "." && entry.name != ".." && fs_.read_inode(entry.ino).type() == mode_dir)
        ++links;
      return true;
    });
    constexpr std::uint32_t most = 65000;  // beyond, 1 stands for "many"
    inode.fields.links_count = static_cast<std::uint16_t>(links >= most ? 1 : links);
    fs_.write_inode(inode);
  }

  void take_all(const InodeRecord& inode) {
    BlockVisitor visitor;
    visitor.data = [&](const MappedExtent& run) {
      allocation_.take(run.physical, run.count);
      return true;
    };
    visitor.tree = [&](std::uint64_t block) {
      allocation_.take(block, 1);
      return true;
    };
    visit_blocks(fs_, inode, visitor);
  }

  Filesystem fs_;
  const Geometry g_;
  Allocation allocation_;
  std::set<std::uint32_t> touched_;
  std::set<std::uint32_t> removed_;
  std::vector<MappedExtent> claims_;
  std::vector<MappedExtent> released_;
};

}  // namespace

std::uint32_t replay_fast_commits(Store& store, Journal& journal, std::uint32_t tid) {
  std::uint32_t commits = 0;
  const std::vector<Record> records = scan(journal, tid, commits);
  if (!records.empty()) Replay(store).run(records);
  return commits;
}

}  // namespace jh::ext
