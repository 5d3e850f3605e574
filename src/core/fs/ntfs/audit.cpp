#include "core/fs/ntfs/audit.h"

#include <algorithm>

#include "core/fs/ntfs/audit_state.h"

namespace jh::ntfs {
namespace {

void audit_boot(AuditState& state) {
  Filesystem& fs = state.fs;
  const Geometry& g = fs.geometry();
  const Buffer first = read_buffer(fs.store(), 0, g.sector_size);
  const Buffer copy = read_buffer(fs.store(), g.sectors * g.sector_size, g.sector_size);
  if (g.sector_size >= sizeof(BootSector) && parse_as<BootSector>(first, 0).end_mark.value() != 0xAA55)
    state.find("boot sector", "its end mark is missing");
  if (first != copy)
    state.find("boot sector", "its copy in sector {} differs from it", g.sectors);
}

void audit_mirror(AuditState& state) {
  Filesystem& fs = state.fs;
  const Geometry& g = fs.geometry();
  const auto runs = File(fs, fs.read_record(file::mirror)).stream(type::data).runs();
  if (runs.empty() || runs.front().lcn != g.mirror_cluster)
    state.find("$MFTMirr", "it is not where the boot sector says");
  else if (runs.front().count * g.cluster_size < fs.mirrored() * g.record_size)
    state.find("$MFTMirr", "it is not in one piece");
  else
    for (std::uint64_t i = 0; i < fs.mirrored(); ++i)
      if (read_buffer(fs.store(), g.offset(g.mirror_cluster) + i * g.record_size, g.record_size) !=
          fs.raw_record(i))
        state.find("$MFTMirr", "record {} differs from its copy there", i);
}

// Bits that say otherwise than what files hold, as runs.
void audit_clusters(AuditState& state, std::uint64_t from) {
  Filesystem& fs = state.fs;
  const Geometry& g = fs.geometry();
  const Stream bitmap = File(fs, fs.read_record(file::bitmap)).stream(type::data);
  if (bitmap.size() < g.bitmap_bytes())
    state.find("$Bitmap", "it has {} bytes, and {} clusters need {}", bitmap.size(), g.clusters,
               g.bitmap_bytes());
  const BitMap map = read_cluster_map(fs);
  if (const std::uint64_t clear = map.next(g.clusters, map.bits(), false); clear != map.bits())
    state.find("$Bitmap", "the bit of cluster {}, behind the end, is not set", clear);
  for (std::uint64_t at = from; at < g.clusters;) {
    const bool used = map.test(at);
    const std::uint64_t end = map.next(at, g.clusters, !used);
    // Within the run, where the files say otherwise.
    for (std::uint64_t other = state.claimed.next(at, end, !used); other < end;) {
      const std::uint64_t stop = state.claimed.next(other, end, used);
      if (used)
        state.find("$Bitmap", "clusters {} to {} are marked, and nothing holds them", other,
                   stop - 1);
      else
        state.find("$Bitmap", "clusters {} to {} are in use, and not marked", other, stop - 1);
      other = state.claimed.next(stop, end, !used);
    }
    at = end;
  }
}

template <class Work>
void keep_going(AuditState& state, Work&& work) {
  try {
    work();
  } catch (const Error& error) {
    if (error.status() == Status::io || error.status() == Status::internal) throw;
    state.findings.add(error.where(), error.what());
  }
}

}  // namespace

void audit(Filesystem& fs, AuditScope scope, Bytes from, Findings& findings, Progress& progress) {
  const bool all = scope == AuditScope::full;
  AuditState state(fs, findings, progress, all);
  keep_going(state, [&] { audit_boot(state); });
  keep_going(state, [&] { audit_mirror(state); });
  keep_going(state, [&] { audit_records(state); });
  if (all) keep_going(state, [&] { audit_indexes(state); });
  keep_going(state, [&] {
    audit_clusters(state, all ? 0 : ceil_div(from.value(), fs.geometry().cluster_size));
  });
}

void audit_kept(Filesystem& before, Filesystem& after, Findings& findings) {
  const auto facts = [](Filesystem& fs, std::uint64_t number) {
    Buffer found;
    const File file(fs, fs.read_record(number));
    for (const Piece& piece : file.pieces()) {
      if (!piece.attribute.resident() || piece.attribute.type() == type::bitmap) continue;
      const Buffer part = piece.attribute.facts();
      found.insert(found.end(), part.begin(), part.end());
    }
    return found;
  };
  for (const std::uint64_t number :
       {file::mft, file::mirror, file::bitmap, file::boot, file::bad_clusters})
    if (facts(before, number) != facts(after, number))
      findings.add(fmt::format("NTFS, file {}", number), "what must stay of it differs");
  // The boot code, and what the boot sector says of the place.
  const auto boot = [](Filesystem& fs) {
    const Stream stream = File(fs, fs.read_record(file::boot)).stream(type::data);
    Buffer bytes = stream.read(0, std::min<std::uint64_t>(stream.size(), 64U << 10));
    auto sector = parse_as<BootSector>(bytes, 0);
    sector.sectors = 0;
    sector.mft_cluster = 0;
    sector.mirror_cluster = 0;
    sector.hidden_sectors = 0;
    put_at(bytes, 0, sector);
    return bytes;
  };
  if (boot(before) != boot(after)) findings.add("NTFS, $Boot", "the boot code differs");
}

}  // namespace jh::ntfs
