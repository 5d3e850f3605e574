#include "core/fs/ntfs/audit.h"

#include <algorithm>
#include <array>

#include "core/fs/ntfs/audit_state.h"

namespace jh::ntfs {
namespace {

void audit_boot(AuditState& state) {
  Filesystem& fs = state.fs;
  const Geometry& g = fs.geometry();
  const Buffer first = read_buffer(fs.store(), 0, g.sector_size);
  const Buffer copy = read_buffer(fs.store(), g.sectors * g.sector_size, g.sector_size);
  if (g.sector_size >= sizeof(BootSector) &&
      parse_as<BootSector>(first, 0).end_mark.value() != 0xAA55)
    state.find("boot sector", "its end mark is missing");
  if (first != copy) state.find("boot sector", "its copy in sector {} differs from it", g.sectors);
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
  // It is kept in words of 64 bits.
  if (bitmap.size() % 8 != 0)
    state.find("$Bitmap", "its {} bytes are no whole words", bitmap.size());
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
  const bool all = scope > AuditScope::structure;
  AuditState state(fs, findings, progress, all);
  keep_going(state, [&] { audit_boot(state); });
  keep_going(state, [&] { audit_mirror(state); });
  keep_going(state, [&] { audit_records(state); });
  if (all) keep_going(state, [&] { audit_indexes(state); });
  keep_going(state, [&] {
    audit_clusters(state, all ? 0 : ceil_div(from.value(), fs.geometry().cluster_size));
  });
}

namespace {

constexpr std::array passed_over{file::mft, file::mirror, file::bitmap, file::boot,
                                 file::bad_clusters};

// What is fixed of such a file: all but sizes, and where it lies.
Buffer facts_of(const File& file) {
  const RecordHeader header = file.base().header();
  Buffer found;
  for (const std::uint16_t value :
       {header.sequence.value(), header.links.value(), header.flags.value()}) {
    found.push_back(static_cast<std::uint8_t>(value & 0xFF));
    found.push_back(static_cast<std::uint8_t>(value >> 8));
  }
  for (std::size_t first = 0; first < file.pieces().size(); first = file.next_stream(first)) {
    Attribute attribute = file.pieces()[first].attribute;
    // The bitmap of records becomes longer in its record, where it is there.
    if (attribute.resident() && attribute.type() == type::bitmap) continue;
    if (!attribute.resident()) attribute.set_sizes(0, 0, 0);
    attribute.append_facts(found);
  }
  return found;
}

// Their clusters stay where they were; what is added follows.
bool goes_on(const File& before, const File& after) {
  for (std::size_t first = 0; first < before.pieces().size(); first = before.next_stream(first)) {
    const Attribute& attribute = before.pieces()[first].attribute;
    if (attribute.resident()) continue;
    const auto same = after.find(attribute.type(), attribute.name());
    if (!same || after.pieces()[*same].attribute.resident()) return false;
    const ClusterRuns was = before.runs(first);
    const ClusterRuns now = after.runs(*same);
    const std::uint64_t end = was.empty() ? 0 : was.back().vcn_end();
    if (part_of_runs(now, 0, end) != was) return false;
  }
  return true;
}

// The bits that the footprint cannot tell from those that a growth sets: they share its last
// sector.
bool same_bits_at_the_end(Filesystem& before, Filesystem& after) {
  const std::uint64_t end = before.geometry().clusters;
  const std::uint64_t from = round_down(end / 8, fixup_sector);
  const auto bits = [&](Filesystem& fs) {
    const Stream bitmap = File(fs, fs.read_record(file::bitmap)).stream(type::data);
    BitMap map(bitmap.read(from, ceil_div(end, 8) - from));
    map.set_range(end - from * 8, map.bits(), false);
    return Buffer(map.bytes().begin(), map.bytes().end());
  };
  return bits(before) == bits(after);
}

// The boot code, and what the boot sector says of the place.
Buffer boot_of(Filesystem& fs) {
  const Stream stream = File(fs, fs.read_record(file::boot)).stream(type::data);
  Buffer bytes = stream.read(0, std::min<std::uint64_t>(stream.size(), 64U << 10));
  auto sector = parse_as<BootSector>(bytes, 0);
  sector.sectors = 0;
  sector.mft_cluster = 0;
  sector.mirror_cluster = 0;
  sector.hidden_sectors = 0;
  put_at(bytes, 0, sector);
  return bytes;
}

}  // namespace

void audit_kept(Filesystem& before, Filesystem& after, bool content_moves, Findings& findings) {
  for (const std::uint64_t number : passed_over) {
    const File was(before, before.read_record(number));
    const File now(after, after.read_record(number));
    if (facts_of(was) != facts_of(now) || (!content_moves && !goes_on(was, now)))
      findings.add(fmt::format("NTFS, file {}", number), "what must stay of it differs");
  }
  if (boot_of(before) != boot_of(after)) findings.add("NTFS, $Boot", "the boot code differs");
  if (!content_moves && !same_bits_at_the_end(before, after))
    findings.add("NTFS, $Bitmap", "bits in front of the old end differ");
}

}  // namespace jh::ntfs
