#include "core/fs/ntfs/shrink.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/sizes.h"
#include "core/fs/ntfs/grow.h"
#include "core/fs/ntfs/record_table.h"
#include "core/fs/ntfs/relocate.h"
#include "core/fs/ntfs/rest.h"

namespace jh::ntfs {
namespace {

// So many bytes of file records are read for a floor.
constexpr std::uint64_t small_table = 8U << 20;

std::uint64_t sectors_for(const Geometry& g, std::uint64_t clusters) {
  return clusters * (g.cluster_size / g.sector_size);
}

Bytes size_of(const Geometry& g, std::uint64_t sectors) {
  return Bytes((sectors + 1) * g.sector_size);
}

struct Use {
  std::uint64_t clusters = 0;
  std::uint64_t end = 0;  // behind the last one
};

Use use_of(const BitMap& map, std::uint64_t clusters) {
  Use use;
  for (std::uint64_t at = map.next(0, clusters, true); at < clusters;) {
    use.end = map.next(at, clusters, false);
    use.clusters += use.end - at;
    at = map.next(use.end, clusters, true);
  }
  return use;
}

struct Rehearsal {
  std::uint64_t clusters = 0;
  std::uint64_t records = 0;
  std::uint64_t bytes = 0;
};

// On a copy of what is known in memory; nothing is written.
Rehearsal rehearse(const Filesystem& fs, const BitMap& map, std::uint64_t clusters) {
  Filesystem copy = fs;
  FreeClusters free(map, clusters);
  Room room = make_room(copy, free, Mode::rehearse);
  NullProgress silent;
  Mover mover(copy, room, clusters, silent);
  mover.run();
  return {mover.clusters(), room.records_taken(), room.bytes_written()};
}

bool fits(const Filesystem& fs, const BitMap& map, std::uint64_t clusters) {
  try {
    rehearse(fs, map, clusters);
    return true;
  } catch (const Error& error) {
    if (error.status() != Status::refused && error.status() != Status::unsupported) throw;
    return false;
  }
}

}  // namespace

Floor find_floor(Filesystem& fs) {
  const Geometry& g = fs.geometry();
  const BitMap map = read_cluster_map(fs);
  const Use use = use_of(map, g.clusters);
  if (has_shadow_copies(fs))
    return {std::max<std::uint64_t>(use.end, 1),
            "nothing may move while there are shadow copies: they are found by position"};
  const std::string side_by_side = "what is in use, side by side";
  std::uint64_t clusters = use.clusters;
  // The bitmap becomes shorter too.
  const std::uint64_t spared = ceil_div(g.bitmap_bytes(), g.cluster_size) -
                               ceil_div(ceil_div(clusters, 64) * 8, g.cluster_size);
  clusters -= std::min(clusters - 1, spared);
  if (fs.records() * g.record_size > small_table) {
    const std::uint64_t margin = 64 + use.clusters / 256;
    return {std::min(use.end, clusters + margin), side_by_side};
  }
  std::uint64_t below = clusters - 1;
  for (std::uint64_t step = 1; clusters < use.end && !fits(fs, map, clusters); step *= 2) {
    below = clusters;
    clusters = std::min(use.end, clusters + step);
  }
  while (clusters - below > 1) {
    const std::uint64_t middle = below + (clusters - below) / 2;
    (fits(fs, map, middle) ? clusters : below) = middle;
  }
  return {clusters, side_by_side};
}

ShrinkPlan plan_shrink(Filesystem& fs, std::uint64_t sectors) {
  ShrinkPlan plan{fs.geometry(), fs.geometry()};
  if (sectors >= plan.before.sectors) return plan;
  const Geometry& g = plan.before;
  const std::uint64_t clusters = sectors / (g.cluster_size / g.sector_size);
  const BitMap map = read_cluster_map(fs);
  const auto refuse_below = [&](std::uint64_t needed, const std::string& reason) {
    refuse(fmt::format("the filesystem cannot become as small as {}: it needs {} ({})",
                       human(size_of(g, sectors)), spelled_out(size_of(g, sectors_for(g, needed))),
                       reason),
           "NTFS", "ask for no less than that, or remove something inside the guest first");
  };
  const Use use = use_of(map, g.clusters);
  if (use.end > clusters) {
    if (clusters < use.clusters / 2 || has_shadow_copies(fs)) {
      const Floor floor = find_floor(fs);
      refuse_below(floor.clusters, floor.reason);
    }
  }
  try {
    if (clusters == 0) refuse("too small");
    const Rehearsal found = rehearse(fs, map, clusters);
    plan.clusters_to_move = found.clusters;
    plan.records_to_take = found.records;
    plan.bytes_to_write = found.bytes + ceil_div(clusters, 8) + 64ULL * g.record_size;
  } catch (const Error& error) {
    if (error.status() != Status::refused) throw;
    // A little more would do: how much is tried.
    const Floor floor = find_floor(fs);
    std::uint64_t needed = std::max(floor.clusters, clusters + 1);
    for (std::uint64_t step = 16; needed < use.end && !fits(fs, map, needed); step *= 2)
      needed = std::min(use.end, needed + step);
    refuse_below(needed, floor.reason);
  }
  plan.after = planned_shrink(fs, sectors).after;
  return plan;
}

ShrinkPlan planned_shrink(const Filesystem& fs, std::uint64_t sectors) {
  ShrinkPlan plan{fs.geometry(), fs.geometry()};
  plan.after.sectors = sectors;
  plan.after.clusters = sectors / (plan.after.cluster_size / plan.after.sector_size);
  return plan;
}

namespace {

// Pieces that differ; bits behind the end are set.
void write_bits(Filesystem& fs, BitMap map, const Geometry& after) {
  map.resize(after.bitmap_bytes());
  map.set_range(after.clusters, map.bits(), true);
  const Stream bitmap = File(fs, fs.read_record(file::bitmap)).stream(type::data);
  constexpr std::uint64_t piece = 64U << 10;
  for (std::uint64_t at = 0; at < map.bytes().size(); at += piece) {
    const ConstByteSpan now =
        map.bytes().subspan(at, std::min<std::uint64_t>(piece, map.bytes().size() - at));
    const Buffer was = bitmap.read(at, now.size());
    if (!std::equal(now.begin(), now.end(), was.begin())) bitmap.write(at, now);
  }
}

}  // namespace

void shrink(Filesystem& fs, const ShrinkPlan& plan, Progress& progress) {
  if (!plan.changes()) return;
  FreeClusters free(read_cluster_map(fs), plan.after.clusters);
  Room room = make_room(fs, free, Mode::carry_out);
  if (plan.after.clusters < plan.before.clusters) {
    Mover(fs, room, plan.after.clusters, progress).run();
    write_record_map(fs, room);
    write_bits(fs, free.finish(), plan.after);
  }
  Geometry after = plan.after;
  after.mft_cluster = fs.geometry().mft_cluster;
  after.mirror_cluster = fs.geometry().mirror_cluster;
  fs.set_geometry(after);
  write_boot_sectors(fs);
}

}  // namespace jh::ntfs
