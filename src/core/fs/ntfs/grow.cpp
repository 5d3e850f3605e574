#include "core/fs/ntfs/grow.h"

#include <algorithm>

#include "core/fs/ntfs/edit.h"
#include "core/fs/ntfs/record_table.h"

namespace jh::ntfs {
namespace {

const std::u16string bad_stream = u"$Bad";

// The cluster bitmap reaches as far as the volume; what it needs for that lies in the new part.
ClusterRuns lengthen_bitmap(Filesystem& fs, Room& room, const Geometry& after) {
  const File file(fs, fs.read_record(file::bitmap));
  const auto first = file.find(type::data);
  if (!first || file.pieces()[*first].attribute.resident())
    unsupported("the cluster bitmap has no clusters of its own", "NTFS, $Bitmap");
  ClusterRuns runs = file.runs(*first);
  const std::uint64_t end = runs.empty() ? 0 : runs.back().vcn_end();
  const std::uint64_t bytes = after.bitmap_bytes();
  const std::uint64_t needed = ceil_div(bytes, after.cluster_size);
  if (needed > end)
    for (const ClusterRun& run : room.take(end, needed - end)) append_run(runs, run);
  FileEdit edit(fs, room, file);
  edit.set_runs(type::data, {}, runs,
                FileEdit::Sizes{runs.back().vcn_end() * after.cluster_size, bytes, bytes});
  edit.finish();
  return runs;
}

// What is new is free, but for what has been handed out of it already; bits behind the end are set.
void write_new_bits(Filesystem& fs, const ClusterRuns& runs, const Geometry& before,
                    const Geometry& after, const NewClusters& clusters) {
  const Stream bitmap(fs.store(), after, runs, after.bitmap_bytes(), after.bitmap_bytes());
  const std::uint64_t first = before.clusters / 8;
  const std::uint64_t old_end = std::min(before.bitmap_bytes(), after.bitmap_bytes());
  Buffer edge = bitmap.read(first, old_end - first);
  BitMap bits(std::move(edge));
  bits.set_range(before.clusters - first * 8, bits.bits(), false);
  bitmap.write(first, bits.bytes());
  // All of it zeros: what reads as zeros already is left alone.
  for (const ClusterRun& run : part_of_runs(runs, old_end / after.cluster_size, UINT64_MAX)) {
    const std::uint64_t start = std::max(old_end, run.vcn * after.cluster_size);
    const std::uint64_t end = run.vcn_end() * after.cluster_size;
    if (start >= end) continue;
    write_zeros_where_needed(
        fs.store(), after.offset(run.lcn) + start - run.vcn * after.cluster_size, end - start);
  }
  const auto set = [&](std::uint64_t from, std::uint64_t end, bool value) {
    constexpr std::uint64_t step = 8U << 20;
    while (from < end) {
      const std::uint64_t stop = std::min(end, (from / step + 1) * step);
      const std::uint64_t byte = from / 8;
      BitMap part(bitmap.read(byte, ceil_div(stop, 8) - byte));
      part.set_range(from - byte * 8, stop - byte * 8, value);
      bitmap.write(byte, part.bytes());
      from = stop;
    }
  };
  set(clusters.from(), clusters.next(), true);
  for (const ClusterRun& run : clusters.given_back()) set(run.lcn, run.lcn_end(), false);
  set(after.clusters, after.bitmap_bytes() * 8, true);
}

}  // namespace

void write_boot_sectors(Filesystem& fs) {
  const Geometry& g = fs.geometry();
  Buffer sector =
      read_buffer(fs.store(), 0, std::max<std::size_t>(g.sector_size, sizeof(BootSector)));
  auto boot = parse_as<BootSector>(sector, 0);
  boot.sectors = g.sectors;
  boot.mft_cluster = g.mft_cluster;
  boot.mirror_cluster = g.mirror_cluster;
  put_at(sector, 0, boot);
  fs.store().write(0, sector);
  fs.store().write(g.sectors * g.sector_size, ConstByteSpan(sector).first(g.sector_size));
}

void resize_bad_clusters(Filesystem& fs, Room& room, std::uint64_t clusters) {
  const File file(fs, fs.read_record(file::bad_clusters));
  const auto first = file.find(type::data, bad_stream);
  if (!first || file.pieces()[*first].attribute.resident())
    unsupported("the list of bad clusters is not where it should be", "NTFS, $BadClus");
  const Attribute& attribute = file.pieces()[*first].attribute;
  ClusterRuns runs = part_of_runs(file.runs(*first), 0, clusters);
  const std::uint64_t end = runs.empty() ? 0 : runs.back().vcn_end();
  append_run(runs, {end, ClusterRun::hole, clusters - end});
  const std::uint64_t bytes = clusters * fs.geometry().cluster_size;
  const std::uint64_t initialized = std::min(
      attribute.initialized_size() == attribute.data_size() ? bytes : attribute.initialized_size(),
      bytes);
  FileEdit edit(fs, room, file);
  edit.set_runs(type::data, bad_stream, runs, FileEdit::Sizes{bytes, bytes, initialized});
  edit.finish();
}

GrowPlan plan_grow(Filesystem& fs, std::uint64_t sectors) {
  GrowPlan plan{fs.geometry(), fs.geometry()};
  if (sectors <= plan.before.sectors) return plan;
  plan.after = plan.before.with_sectors(sectors);
  NewClusters clusters(plan.before.clusters, plan.after.clusters);
  Filesystem rehearsed = fs;
  rehearsed.set_geometry(plan.after);
  Room room = make_room(rehearsed, clusters, Mode::rehearse);
  if (plan.after.clusters > plan.before.clusters) {
    lengthen_bitmap(rehearsed, room, plan.after);
    resize_bad_clusters(rehearsed, room, plan.after.clusters);
  }
  plan.records_move = room.records_taken() != 0;
  plan.bytes_to_write = 2 * fs.geometry().sector_size + room.bytes_written() + 4096 +
                        (clusters.next() - clusters.from() + 2) * plan.after.cluster_size;
  return plan;
}

void grow(Filesystem& fs, const GrowPlan& plan) {
  if (!plan.changes()) return;
  Geometry after = plan.after;
  if (after.clusters > plan.before.clusters) {
    NewClusters clusters(plan.before.clusters, after.clusters);
    // Runs in the new part are to be read.
    fs.set_geometry(after);
    Room room = make_room(fs, clusters, Mode::carry_out);
    const ClusterRuns bitmap = lengthen_bitmap(fs, room, after);
    resize_bad_clusters(fs, room, after.clusters);
    write_record_map(fs, room);
    write_new_bits(fs, bitmap, plan.before, after, clusters);
  } else {
    fs.set_geometry(after);
  }
  write_boot_sectors(fs);
}

}  // namespace jh::ntfs
