#include "core/fs/ntfs/ntfs.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/ntfs/audit.h"
#include "core/fs/ntfs/grow.h"
#include "core/fs/ntfs/index.h"
#include "core/fs/ntfs/rest.h"
#include "core/fs/ntfs/shrink.h"
#include "core/fs/ntfs/tree.h"

namespace jh::ntfs {
namespace {

// Clusters that nothing is in, ascending. Where the guest keeps shadow copies, these need what was
// there: none is.
template <class Visit>
void for_each_free_run(Filesystem& fs, Visit visit) {
  const std::uint64_t clusters = fs.geometry().clusters;
  const BitMap map = read_cluster_map(fs);
  for (std::uint64_t at = map.next(0, clusters, false); at < clusters;) {
    const std::uint64_t end = map.next(at, clusters, true);
    visit(fs.geometry().offset(at), fs.geometry().offset(end));
    at = map.next(end, clusters, false);
  }
}

}  // namespace

Bytes NtfsFilesystem::usable(Bytes place_size) const {
  const Geometry& g = fs_.geometry();
  const std::uint64_t most = (most_clusters + 1) * g.cluster_size;
  return Bytes(round_down(std::min(place_size.value(), most), g.sector_size));
}

// The copy of the boot sector takes one.
std::uint64_t NtfsFilesystem::sectors_in(Bytes size) const {
  const std::uint64_t sectors = size.value() / fs_.geometry().sector_size;
  return sectors == 0 ? 0 : sectors - 1;
}

std::unique_ptr<Store> NtfsFilesystem::file(const std::string& path) {
  const auto number = find_file(fs_, path);
  if (!number) return nullptr;
  const File file(fs_, fs_.read_record(*number));
  const auto first = file.find(type::data);
  if (!file.base().in_use() || !first) return nullptr;
  const std::uint16_t flags = file.pieces()[*first].attribute.flags();
  if ((flags & (attribute_flags::compression_mask | attribute_flags::encrypted)) != 0)
    return nullptr;
  return std::make_unique<StreamStore>(file.stream(*first), path);
}

std::optional<std::string> NtfsFilesystem::read_text(const std::string& path, std::uint64_t limit) {
  const auto found = file(path);
  if (!found) return std::nullopt;
  const Buffer bytes = read_buffer(*found, 0, std::min(found->size(), limit));
  return std::string(bytes.begin(), bytes.end());
}

FilesystemFloor NtfsFilesystem::floor() {
  const Floor found = find_floor(fs_);
  const Geometry& g = fs_.geometry();
  return {Bytes(found.clusters * g.cluster_size + g.sector_size), found.reason};
}

ResizePlan NtfsFilesystem::plan_resize(Bytes size) {
  const Geometry& g = fs_.geometry();
  const std::uint64_t sectors = sectors_in(size);
  ResizePlan plan{this->size(), Bytes((sectors + 1) * g.sector_size)};
  if (sectors < g.sectors) {
    const ShrinkPlan shrinking = plan_shrink(fs_, sectors);
    plan.moves_content = true;
    plan.to_move = Bytes(shrinking.clusters_to_move * g.cluster_size);
    plan.words =
        plan.to_move == Bytes(0)
            ? "shrink the filesystem; nothing has to move"
            : fmt::format("shrink the filesystem; {} move to the front", human(plan.to_move));
    plan.bytes_to_write = shrinking.bytes_to_write;
    return plan;
  }
  const GrowPlan growth = plan_grow(fs_, sectors);
  plan.words =
      fmt::format("add {} clusters of {}", grouped(growth.after.clusters - growth.before.clusters),
                  human(Bytes(g.cluster_size)));
  plan.moves_content = growth.records_move;
  plan.bytes_to_write = growth.bytes_to_write;
  return plan;
}

void NtfsFilesystem::resize(Bytes size, Progress& progress) {
  const std::uint64_t sectors = sectors_in(size);
  if (sectors < fs_.geometry().sectors)
    shrink(fs_, planned_shrink(fs_, sectors), progress);
  else
    grow(fs_, plan_grow(fs_, sectors));
  ensure(this->size() == size, "the filesystem changes as planned");
}

void NtfsFilesystem::audit(AuditScope scope, Bytes from, Findings& findings, Progress& progress) {
  ntfs::audit(fs_, scope, from, findings, progress);
}

void NtfsFilesystem::audit_kept(FilesystemOnDisk& before, bool content_moves, Findings& findings) {
  auto* old = dynamic_cast<NtfsFilesystem*>(&before);
  ensure(old != nullptr, "both states are of one kind");
  ntfs::audit_kept(old->fs_, fs_, content_moves, findings);
}

void NtfsFilesystem::note_own() {
  const Geometry& g = fs_.geometry();
  Ranges own;
  add_range(own, 0, g.sector_size);
  // The copy of the boot sector, and what is too short for a cluster in front of it.
  add_range(own, g.offset(g.clusters), g.size());
  for (const std::uint64_t number : {file::bitmap, file::bad_clusters}) {
    const std::uint64_t at = fs_.record_offset(number);
    add_range(own, at, at + g.record_size);
    if (number >= fs_.mirrored()) continue;
    const std::uint64_t copy = g.offset(g.mirror_cluster) + number * g.record_size;
    add_range(own, copy, copy + g.record_size);
  }
  // Bits from the old end on, in whole sectors: audit_kept() looks at those that share one.
  const Stream bitmap = File(fs_, fs_.read_record(file::bitmap)).stream(type::data);
  const std::uint64_t edge = round_down(g.clusters / 8, fixup_sector);
  for (const ClusterRun& run : bitmap.runs()) {
    const std::uint64_t start = std::max(g.offset(run.vcn), edge);
    if (start < g.offset(run.vcn_end()))
      add_range(own, g.offset(run.lcn) + start - g.offset(run.vcn), g.offset(run.lcn_end()));
  }
  for_each_free_run(fs_, [&](std::uint64_t from, std::uint64_t end) { add_range(own, from, end); });
  own_ = std::move(own);
}

std::optional<std::uint64_t> NtfsFilesystem::first_kept(std::uint64_t at, std::uint64_t length) {
  if (!own_) note_own();
  const std::uint64_t end = at + length;
  at = first_outside(*own_, at, end);
  return at < std::min(end, fs_.geometry().size()) ? std::optional(at) : std::nullopt;
}

void NtfsFilesystem::for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  if (!has_shadow_copies(fs_)) for_each_free_run(fs_, visit);
}

std::unique_ptr<FileTree> NtfsFilesystem::tree() { return std::make_unique<NtfsTree>(fs_); }

namespace {

OpenedFilesystem open(Store& place) {
  OpenedFilesystem found;
  LayerFacts& facts = found.facts;
  facts.name = "NTFS";
  facts.state = "clean";
  try {
    auto opened = std::make_unique<NtfsFilesystem>(place);
    Filesystem& fs = opened->inner();
    const Geometry& g = fs.geometry();
    facts.label = fs.label();
    facts.uuid = fmt::format("{:016X}", read_as<BootSector>(place, 0).serial.value());
    facts.size = Bytes(g.size());
    std::uint64_t free = 0;
    for_each_free_run(fs, [&](std::uint64_t from, std::uint64_t end) { free += end - from; });
    facts.used = Bytes(g.size() - free);
    facts.blockers = find_blockers(fs);
    if (!facts.blockers.empty()) {
      switch (facts.blockers.front().reason()) {
        case Reason::errors_noted:
          facts.state = "to be checked";
          break;
        case Reason::suspended:
          facts.state = "suspended";
          break;
        default:
          facts.state = "not cleanly unmounted";
      }
    }
    found.filesystem = std::move(opened);
  } catch (const Error& error) {
    facts.state = error.status() == Status::unsupported ? "not supported" : "damaged";
    facts.blockers.push_back(error);
  }
  return found;
}

void tell(Store& volume, std::uint64_t at, const BootSector& first, std::uint64_t from,
          std::uint64_t to) {
  if (at + sizeof(BootSector) > volume.size()) return;
  auto sector = read_as<BootSector>(volume, at);
  if (sector.maker != first.maker || sector.serial.value() != first.serial.value() ||
      sector.hidden_sectors.value() != from)
    return;
  sector.hidden_sectors = static_cast<std::uint32_t>(to);
  volume.write(at, bytes_of(sector));
}

// Where they say that the partition begins at `from`, in the boot sector and its copy. Others (made
// without a disk around them) stay as they are, and so does a copy that is not where it should be.
void set_partition_start(Store& volume, std::uint64_t from, std::uint64_t to) {
  if (from > UINT32_MAX || to > UINT32_MAX || volume.size() < sizeof(BootSector)) return;
  const auto first = read_as<BootSector>(volume, 0);
  const std::uint64_t unit = first.bytes_per_sector.value();
  tell(volume, 0, first, from, to);
  if (unit == 0) return;
  const std::uint64_t last = volume.size() / unit - 1;
  const std::uint64_t copy = std::min(first.sectors.value(), last);
  tell(volume, copy * unit, first, from, to);
  if (copy != last) tell(volume, last * unit, first, from, to);
}

// The copy of the boot sector stands behind what it counts.
std::uint64_t claimed_size(Store& place) {
  const auto boot = read_as<BootSector>(place, 0);
  const std::uint64_t sectors = boot.sectors.value();
  return sectors == UINT64_MAX ? 0 : checked_mul(sectors + 1, boot.bytes_per_sector.value());
}

FilesystemKind make_kind() {
  auto made = audited_kind<NtfsFilesystem>("NTFS", Filesystem::recognise, open, claimed_size);
  made.resizable = made.holds_files = made.found_by_position = true;
  made.set_partition_start = set_partition_start;
  return made;
}

}  // namespace

const FilesystemKind kind = make_kind();

}  // namespace jh::ntfs
