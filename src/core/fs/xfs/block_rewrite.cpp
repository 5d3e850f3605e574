#include "core/fs/xfs/block_rewrite.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/xfs/attributes.h"
#include "core/fs/xfs/content_format.h"

namespace jh::xfs {
namespace {

const PlacedExtent* extent_of(const std::vector<PlacedExtent>& all, std::uint64_t block) {
  const auto next = std::upper_bound(
      all.begin(), all.end(), block,
      [](std::uint64_t at, const PlacedExtent& each) { return at < each.extent.offset; });
  if (next == all.begin()) return nullptr;
  const PlacedExtent& found = *(next - 1);
  return block < found.extent.offset + found.extent.count ? &found : nullptr;
}

}  // namespace

// Units begin at multiples of `unit` in the file. `all`: those that stay where they are too.
void BlockRewrite::each_unit(
    const std::vector<FileExtent>& before, const std::vector<PlacedExtent>& now, std::uint64_t unit,
    bool all, const std::function<void(ByteSpan, std::uint64_t, std::uint64_t)>& edit) {
  const std::uint64_t block = geometry_.block_size();
  const std::uint64_t per_unit = unit / block;
  std::uint64_t next = 0;  // unit that was not looked at yet
  for (const PlacedExtent& each : now) {
    const std::uint64_t last = (each.extent.offset + each.extent.count - 1) / per_unit;
    for (std::uint64_t i = std::max(each.extent.offset / per_unit, next); i <= last; ++i) {
      next = i + 1;
      std::vector<const PlacedExtent*> parts;
      bool moved = false;
      for (std::uint64_t k = 0; k < per_unit; ++k) {
        parts.push_back(extent_of(now, i * per_unit + k));
        if (parts.back() == nullptr)
          corrupt(fmt::format("inode {}: a block of it is cut off", file_.number()));
        moved = moved || parts.back()->moved;
      }
      if (!moved && !all) continue;
      const Buffer bytes = file_.read(before, i * unit, unit);
      const auto where = [&](std::uint64_t k) {
        const FileExtent& extent = parts[k]->extent;
        return lines_.at(lines_.line(extent.block) + (i * per_unit + k - extent.offset));
      };
      Buffer edited = bytes;
      edit(edited, i * unit, where(0));
      if (!moved && edited == bytes) continue;
      for (std::uint64_t k = 0; k < per_unit; ++k) {
        const ByteSpan part = ByteSpan(edited).subspan(k * block, block);
        if (parts[k]->moved)
          place_.write_unreferenced(where(k), part);
        else
          place_.write(where(k), part);
      }
    }
  }
}

template <class Header>
void BlockRewrite::sign(ByteSpan block, std::uint64_t address,
                        const std::function<void()>& edit) const {
  auto header = parse_as<Header>(block, 0);
  if (header.owner.value() != file_.number() ||
      !checksum_matches(block, offsetof(Header, checksum)))
    corrupt(fmt::format("inode {}: a block of it is damaged", file_.number()));
  if (edit) edit();
  header.owner = number_;
  header.address = address / basic_block;
  put_at(block, 0, header);
  set_checksum(block, offsetof(Header, checksum));
}

void BlockRewrite::rename(ByteSpan block, std::uint64_t offset) const {
  file_.names_in(block, offset, [&](const InodeFile::Entry& entry) {
    put_at(block, entry.address - offset, Be64(renumbered_.of(entry.inode)));
  });
}

void BlockRewrite::folder(const std::vector<FileExtent>& before,
                          const std::vector<PlacedExtent>& now) {
  each_unit(before, now, geometry_.directory_block(), !renumbered_.empty(),
            [&](ByteSpan bytes, std::uint64_t offset, std::uint64_t address) {
              const std::uint32_t magic = parse_as<Be32>(bytes, 0).value();
              if (magic == one_block_magic || magic == data_block_magic) {
                sign<DirectoryHeader>(bytes, address, [&] { rename(bytes, offset); });
              } else if (magic == block_magic::free_index) {
                sign<RoomHeader>(bytes, address);
              } else {
                sign<IndexHeader>(bytes, address);
              }
            });
}

void BlockRewrite::attributes(const std::vector<FileExtent>& before,
                              const std::vector<PlacedExtent>& now) {
  std::map<std::uint64_t, Buffer> anew;
  if (geometry_.is(incompatible::parent_pointers) && !renumbered_.empty() && !before.empty())
    anew = renumber_parents(geometry_, file_, renumbered_);
  each_unit(before, now, geometry_.block_size(), number_ != file_.number() || !anew.empty(),
            [&](ByteSpan bytes, std::uint64_t offset, std::uint64_t address) {
              if (const auto found = anew.find(offset / geometry_.block_size());
                  found != anew.end())
                std::copy(found->second.begin(), found->second.end(), bytes.begin());
              if (parse_as<Be32>(bytes, 0).value() == block_magic::remote_value)
                sign<TextHeader>(bytes, address);
              else
                sign<IndexHeader>(bytes, address);
            });
}

void BlockRewrite::link(const std::vector<FileExtent>& before,
                        const std::vector<PlacedExtent>& now) {
  // Each extent has one header, and moves as one.
  ensure(before.size() == now.size(), "links move in one piece");
  std::uint64_t done = 0;
  for (const PlacedExtent& each : now) {
    if (done >= file_.size()) break;
    const std::uint64_t length = each.extent.count * geometry_.block_size();
    if (length > 1U << 17)
      corrupt(fmt::format("inode {}: its text is longer than can be", file_.number()));
    if (each.moved || number_ != file_.number()) {
      Buffer bytes = file_.read(before, each.extent.offset * geometry_.block_size(), length);
      const std::uint64_t at = lines_.at(lines_.line(each.extent.block));
      sign<TextHeader>(bytes, at);
      if (each.moved)
        place_.write_unreferenced(at, bytes);
      else
        place_.write(at, bytes);
    }
    done += length - sizeof(TextHeader);
  }
}

void BlockRewrite::plain(const std::vector<FileExtent>& before,
                         const std::vector<PlacedExtent>& now) {
  each_unit(before, now, geometry_.block_size(), false,
            [](ByteSpan, std::uint64_t, std::uint64_t) {});
}

bool renumber_short_folder(const Geometry& geometry, const InodeFile& folder,
                           const Renumbering& renumbered, ByteSpan inode) {
  constexpr std::uint64_t longest_short = 0xFFFFFFFF;
  struct Name {
    ConstByteSpan head;  // its length, offset, text and kind
    std::uint64_t inode = 0;
  };
  const ConstByteSpan data = folder.data_fork();
  std::vector<Name> names;
  bool changed = false;
  std::uint8_t wide = 0;  // numbers that need 8 bytes
  const std::size_t old_width = data[1] != 0 ? 8 : 4;
  const std::size_t kind = geometry.is(incompatible::file_types) ? 1 : 0;
  std::size_t at = 2;  // the first is "..", which has no head
  folder.for_each_name([&](const InodeFile::Entry& entry) {
    const std::size_t head = names.empty() ? 0 : 3 + entry.name.size() + kind;
    const std::uint64_t number = renumbered.of(entry.inode);
    changed = changed || number != entry.inode;
    if (number > longest_short) ++wide;
    names.push_back({data.subspan(at, head), number});
    at += head + old_width;
  });
  if (!changed) return false;
  Buffer out{data[0], wide};
  for (const Name& name : names) {
    out.insert(out.end(), name.head.begin(), name.head.end());
    const std::size_t end = out.size();
    out.resize(end + (wide != 0 ? 8 : 4));
    if (wide != 0)
      put_at(out, end, Be64(name.inode));
    else
      put_at(out, end, Be32(static_cast<std::uint32_t>(name.inode)));
  }
  // Numbers only become smaller, so it is never longer than it was.
  ensure(out.size() <= folder.size(), "a folder in its inode does not become longer");
  auto core = parse_as<Inode>(inode, 0);
  core.size = out.size();
  put_at(inode, 0, core);
  const ByteSpan fork = inode.subspan(sizeof(Inode), data.size());
  std::fill(fork.begin(), fork.end(), std::uint8_t{0});
  std::copy(out.begin(), out.end(), fork.begin());
  return true;
}

}  // namespace jh::xfs
