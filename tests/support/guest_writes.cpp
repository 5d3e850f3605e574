#include "support/guest_writes.h"

#include "core/fs/ext/audit.h"
#include "core/fs/ext/directory_edit.h"
#include "core/fs/ext/ext.h"
#include "core/fs/ext/map_edit.h"
#include "core/fs/ext/quota.h"
#include "core/guest/guest.h"
#include "support/ext_tools.h"
#include "support/test.h"

namespace jh::test {
namespace {

using namespace ext;
using Filesystem = ext::Filesystem;

bool is_sound(Filesystem& fs) {
  Findings findings;
  audit(fs, {}, findings, silent);
  return findings.clean();
}

std::uint32_t free_inode(Filesystem& fs, ext::Allocation& allocation) {
  for (std::uint32_t ino = fs.geometry().first_ino; ino <= fs.geometry().inodes(); ++ino)
    if (!allocation.inode_in_use(ino)) return ino;
  refuse("no inode is free", "the test's guest");
}

InodeRecord empty_file(Filesystem& fs, std::uint32_t ino) {
  InodeRecord file = fs.read_inode(ino);
  std::fill(file.raw.begin(), file.raw.end(), 0);
  file.fields = Inode{};
  file.fields.mode = static_cast<std::uint16_t>(mode_file | 0644);
  file.fields.links_count = 1;
  file.fields.mtime = 1'790'000'000;
  file.fields.flags = flag_extents;
  if (file.raw.size() > old_inode_size) file.fields.extra_isize = 32;
  ExtentHeader header{};
  header.magic = extent_magic;
  header.max = 4;
  std::memcpy(&file.fields.block, &header, sizeof header);
  file.store_fields();
  return file;
}

}  // namespace

std::uint32_t make_file(Filesystem& fs, const std::string& name, std::uint64_t size) {
  const Geometry& g = fs.geometry();
  ext::Allocation allocation(fs);
  const std::uint32_t ino = free_inode(fs, allocation);
  allocation.take_inode(ino, false);
  InodeRecord file = empty_file(fs, ino);
  std::mt19937 random(static_cast<std::uint32_t>(size));
  std::vector<MappedExtent> runs;
  const std::uint64_t step = 4ULL * g.cluster_ratio;
  const std::uint64_t blocks = ceil_div(size, g.block_size);
  for (std::uint64_t logical = 0; logical < blocks; logical += step) {
    const std::uint64_t count = std::min(step, blocks - logical);
    const auto start = allocation.allocate(count, g.blocks / 3, {});
    if (!start) refuse("no block is free", "the test's guest");
    Buffer noise(count * g.block_size);
    for (std::uint8_t& byte : noise) byte = static_cast<std::uint8_t>(random());
    fs.store().write(g.offset(*start), noise);
    runs.push_back({logical, *start, count});
  }
  write_runs(fs, allocation, file, runs);
  // The last cluster counts as a whole.
  file.set_counted(file.counted() +
                   (round_up(blocks, g.cluster_ratio) - blocks) * file.count_unit(g));
  file.fields.size_lo = static_cast<std::uint32_t>(size);
  file.store_fields();
  fs.write_inode(file);
  InodeRecord root = fs.read_inode(root_ino);
  add_name(fs, allocation, root, name, ino, mode_file);
  fs.write_inode(root);
  allocation.finish();
  UsageChange usage = owner_of(g, file);
  usage.bytes = static_cast<std::int64_t>(file.counted() / file.count_unit(g) * g.block_size);
  usage.inodes = 1;
  change_usage(fs, usage);
  return ino;
}

bool guest_writes_files(Host& host, const Words& images, const std::string& name,
                        std::uint64_t size) {
  try {
    HostFileResolver resolver(host);
    std::vector<std::unique_ptr<Store>> files;
    std::vector<Guest::Image> disks;
    for (const std::string& path : images) {
      files.push_back(host.open(path, Access::read_write));
      disks.push_back({path, files.back().get(), false, &resolver});
    }
    const Guest guest(disks);
    std::vector<Filesystem*> filesystems;
    for (const Layer* place : guest.layers()) {
      if (place->content.filesystem_kind() != &ext::kind) continue;
      if (!ext_in(place->content) || !place->content.blockers.empty()) return false;
      Filesystem& fs = *ext_in(place->content);
      if (!is_sound(fs)) return false;
      if (fs.geometry().has_incompat(incompat::extents) &&
          fs.free_clusters() > 64 + ceil_div(size, fs.geometry().block_size))
        filesystems.push_back(&fs);
    }
    for (Filesystem* fs : filesystems) make_file(*fs, name, size);
    for (const Disk& disk : guest.disks()) disk.container->disk().flush();
    return !filesystems.empty();
  } catch (const Error&) {
    return false;
  }
}

}  // namespace jh::test
