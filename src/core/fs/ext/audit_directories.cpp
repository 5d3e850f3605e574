// Every directory: its blocks, its entries, and from all of them what each inode's link count ought
// to be and which directories cannot be reached.
#include "core/base/checksum.h"
#include "core/fs/ext/audit_names.h"
#include "core/fs/ext/block_map.h"
#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

std::uint16_t mode_of_file_type(std::uint8_t type) {
  switch (type) {
    case 1:
      return mode_file;
    case 2:
      return mode_dir;
    case 3:
      return mode_char;
    case 4:
      return mode_block;
    case 5:
      return mode_fifo;
    case 6:
      return mode_socket;
    case 7:
      return mode_link;
    default:
      return 0;
  }
}

bool is_quota_inode(const Superblock& super, std::uint32_t ino) {
  return ino == super.usr_quota_inum.value() || ino == super.grp_quota_inum.value() ||
         ino == super.prj_quota_inum.value();
}

// Of larger ones the names are looked at block by block.
constexpr std::uint64_t most_kept = 4U << 20;

class DirectoryAudit {
 public:
  DirectoryAudit(AuditState& state, const InodeRecord& inode, std::vector<std::uint32_t>& parents,
                 std::vector<std::uint32_t>& dotdots, NameAuditWorker& worker)
      : state_(state),
        worker_(worker),
        fs_(state.fs),
        g_(state.fs.geometry()),
        inode_(inode),
        parents_(parents),
        dotdots_(dotdots),
        where_(fmt::format("directory inode {}", inode.ino)),
        seed_(fs_.seed_of(inode)) {}

  void run() {
    std::optional<IndexAudit> index;
    if (!inode_.has_flag(flag_inline_data) && inode_.has_flag(flag_index) &&
        g_.has_compat(compat::dir_index))
      index.emplace(state_, inode_, where_, seed_);
    names_ = std::make_unique<NameAudit>(where_, inode_.has_flag(flag_encrypt), g_.block_size,
                                         std::move(index));
    if (inode_.has_flag(flag_inline_data)) {
      audit_inline();
    } else {
      BlockVisitor visitor;
      visitor.defect = [](const std::string&) {};  // reported with the inode
      visitor.data = [&](const MappedExtent& run) {
        for (std::uint64_t i = 0; !run.unwritten && i < run.count; ++i)
          block(fs_.read_block(run.physical + i), run.logical + i);
        return true;
      };
      visit_blocks(fs_, inode_, visitor);
    }
    if (!seen_dot_ || !seen_dotdot_)
      state_.find(where_, "its entries \".\" and \"..\" are missing");
    worker_.add(std::move(names_));
  }

 private:
  void audit_inline() {
    const Buffer data = inline_data(inode_);
    const ConstByteSpan all(data);
    seen_dot_ = seen_dotdot_ = true;
    ++state_.names[state_.used.rank(inode_.ino)];
    parent_entry(parse_as<Le32>(data, 0).value());
    constexpr std::size_t in_inode = sizeof(Inode::block);
    const auto look = [&](ConstByteSpan area) {
      entries(area, 1);
      names_->look(area, 1);
    };
    look(all.subspan(4, in_inode - 4));
    if (data.size() > in_inode) look(all.subspan(in_inode));
  }

  void block(Buffer raw, std::uint64_t logical) {
    if (names_->index() && names_->index()->is_node(logical)) {
      if (logical != 0) return;
      entries(raw, logical);
      names_->look(raw, logical);
      return;
    }
    if (g_.metadata_csum()) {
      const std::size_t at = raw.size() - sizeof(DirTail);
      const auto end = parse_as<DirTail>(raw, at);
      const bool tail = end.zero_inode.value() == 0 && end.rec_len.value() == sizeof(DirTail) &&
                        end.zero_name_len == 0 && end.file_type == dir_tail_type;
      if (!tail)
        state_.find(where_, "block {} has no checksum", logical);
      else if (crc32c_raw(seed_, ConstByteSpan(raw).first(at)) != end.checksum.value())
        state_.find(where_, "the checksum of block {} is wrong", logical);
      if (tail) raw.resize(at);
    }
    entries(raw, logical);
    if (inode_.size() <= most_kept)
      names_->keep(std::move(raw), logical);
    else
      names_->look(raw, logical);
  }

  void entries(ConstByteSpan raw, std::uint64_t logical) {
    const std::size_t end = raw.size();
    std::size_t at = 0;
    for (std::uint32_t index = 0; at < end; ++index) {
      if (end - at < sizeof(DirEntry)) break;
      const auto entry = parse_as<DirEntry>(raw, at);
      const std::uint32_t length = entry_length(entry.rec_len.value(), g_.block_size);
      if (!is_whole(entry, length, end - at)) {
        // Entries of a block's last bytes may be padding in inline areas.
        state_.find(where_, "an entry in block {} at byte {} is broken", logical, at);
        return;
      }
      const std::string_view name(reinterpret_cast<const char*>(raw.data() + at + sizeof(DirEntry)),
                                  entry.name_len);
      if (logical == 0 && index < 2) {
        if (raw[at + sizeof(DirEntry) + index + 1] != 0)
          state_.find(where_, "its entry \"{}\" does not end with a zero", index == 0 ? "." : "..");
        head_entry(entry, name, index);
      } else if (entry.inode.value() != 0) {
        child_entry(entry, name);
      }
      at += length;
    }
    if (at != end) state_.find(where_, "the entries of block {} do not fill it", logical);
  }

  void head_entry(const DirEntry& entry, std::string_view name, std::uint32_t index) {
    const std::uint32_t ino = entry.inode.value();
    check_type(entry, name);
    if (index == 0) {
      seen_dot_ = name == "." && ino == inode_.ino;
      if (seen_dot_) ++state_.names[state_.used.rank(ino)];
    } else {
      seen_dotdot_ = name == "..";
      if (seen_dotdot_) parent_entry(ino);
    }
  }

  void parent_entry(std::uint32_t ino) {
    if (ino == 0 || ino > g_.inodes() || !state_.directories.test(ino)) {
      state_.find(where_, "its parent, inode {}, is no directory", ino);
      return;
    }
    dotdots_[state_.used.rank(inode_.ino)] = ino;
    ++state_.names[state_.used.rank(ino)];
  }

  void check_type(const DirEntry& entry, std::string_view name) {
    const std::uint32_t ino = entry.inode.value();
    if (ino == 0 || ino > g_.inodes() || !state_.used.test(ino)) return;
    if (!g_.has_incompat(incompat::filetype)) return;
    const auto kind = static_cast<std::uint16_t>(state_.kinds[state_.used.rank(ino)] << 8);
    if (entry.file_type == 0) return;  // unknown: the reader looks at the inode
    if (mode_of_file_type(entry.file_type & 7) != kind || (entry.file_type & ~7) != 0)
      state_.find(where_, "entry \"{}\" gives its inode {} a wrong type", printable(name), ino);
  }

  void child_entry(const DirEntry& entry, std::string_view name) {
    const std::uint32_t ino = entry.inode.value();
    if (ino > g_.inodes() || !state_.used.test(ino) || (ino < g_.first_ino && ino != root_ino)) {
      state_.find(where_, "entry \"{}\" leads to inode {}, which is not in use", printable(name),
                  ino);
      return;
    }
    if (is_quota_inode(fs_.super(), ino) || ino == fs_.super().orphan_file_inum.value())
      state_.find(where_, "entry \"{}\" leads to inode {}, which the superblock has for itself",
                  printable(name), ino);
    check_type(entry, name);
    const std::uint32_t rank = state_.used.rank(ino);
    ++state_.names[rank];
    if (!state_.directories.test(ino)) return;
    if (ino == root_ino || parents_[rank] != 0)
      state_.find(where_, "entry \"{}\" is a second name of directory inode {}", printable(name),
                  ino);
    else
      parents_[rank] = inode_.ino;
  }

  AuditState& state_;
  NameAuditWorker& worker_;
  Filesystem& fs_;
  const Geometry& g_;
  const InodeRecord& inode_;
  std::vector<std::uint32_t>& parents_;
  std::vector<std::uint32_t>& dotdots_;
  std::string where_;
  std::uint32_t seed_;
  std::unique_ptr<NameAudit> names_;
  bool seen_dot_ = false;
  bool seen_dotdot_ = false;
};

template <class Visit>
void for_each_bit(const Bits& bits, Visit visit) {
  for (std::uint64_t word = 0; word * 64 < bits.size(); ++word)
    for (std::uint64_t rest = bits.word(word); rest != 0; rest &= rest - 1)
      visit(static_cast<std::uint32_t>(word * 64 + static_cast<unsigned>(std::countr_zero(rest))));
}

void check_reachable(AuditState& state, const std::vector<std::uint32_t>& parents,
                     const std::vector<std::uint32_t>& dotdots) {
  Bits reached(state.used.size());
  reached.set(root_ino);
  std::vector<std::uint32_t> trail;
  for_each_bit(state.directories, [&](std::uint32_t ino) {
    trail.clear();
    std::uint32_t at = ino;
    // Up to something known; a loop comes back to its own trail and never gets there.
    while (at != 0 && !reached.test(at) && trail.size() <= state.directories.size()) {
      trail.push_back(at);
      at = parents[state.used.rank(at)];
      if (at == ino) break;
      if (trail.size() > 4096 && std::find(trail.begin(), trail.end() - 1, at) != trail.end() - 1)
        break;
    }
    if (at != 0 && reached.test(at)) {
      for (const std::uint32_t step : trail) reached.set(step);
    } else {
      state.find(fmt::format("directory inode {}", ino), "it cannot be reached from the root");
    }
    const std::uint32_t rank = state.used.rank(ino);
    if (ino != root_ino && parents[rank] != 0 && dotdots[rank] != 0 &&
        parents[rank] != dotdots[rank])
      state.find(fmt::format("directory inode {}", ino),
                 "its \"..\" is inode {}, but it lies in {}", dotdots[rank], parents[rank]);
  });
}

}  // namespace

void audit_directories(AuditState& state) {
  Filesystem& fs = state.fs;
  const Geometry& g = fs.geometry();
  state.names.assign(state.used.total(), 0);
  std::vector<std::uint32_t> parents(state.used.total());
  std::vector<std::uint32_t> dotdots(state.used.total());
  if (!state.directories.test(root_ino)) {
    state.find("root directory", "inode 2 is no directory");
    return;
  }
  NameAuditWorker worker(state.findings);
  for_each_bit(state.directories, [&](std::uint32_t ino) {
    state.progress.advance(std::uint64_t{g.group_count} * g.itable_blocks * g.block_size);
    try {
      const InodeRecord inode = fs.read_inode(ino);
      DirectoryAudit(state, inode, parents, dotdots, worker).run();
    } catch (const Error& error) {
      if (error.status() != Status::damaged) throw;
      state.find(fmt::format("directory inode {}", ino), "{}", error.what());
    }
  });
  worker.finish();
  check_reachable(state, parents, dotdots);
  for_each_bit(state.used, [&](std::uint32_t ino) {
    if (ino < g.first_ino && ino != root_ino) return;
    const std::uint32_t rank = state.used.rank(ino);
    if (ino == fs.super().orphan_file_inum.value() && g.has_compat(compat::orphan_file)) return;
    const auto value = state.value_inodes.find(ino);
    if (value != state.value_inodes.end()) return;  // counted in the attribute's own way
    if (is_quota_inode(fs.super(), ino)) return;
    const std::uint32_t links = state.links[rank];
    const bool many =
        links == 1 && state.directories.test(ino) && g.has_ro_compat(ro_compat::dir_nlink);
    if (state.names[rank] == 0)
      state.find(fmt::format("inode {}", ino), "it is in use, but no name leads to it");
    else if (links != state.names[rank] && !many)
      state.find(fmt::format("inode {}", ino), "{} names lead to it, but it counts {}",
                 state.names[rank], links);
  });
}

}  // namespace jh::ext
