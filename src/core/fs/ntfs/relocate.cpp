#include "core/fs/ntfs/relocate.h"

#include <fmt/format.h>

#include <algorithm>
#include <string_view>

#include "core/fs/ntfs/edit.h"
#include "core/fs/ntfs/grow.h"

namespace jh::ntfs {
namespace {

bool reaches(const ClusterRuns& runs, std::uint64_t end) {
  return std::any_of(runs.begin(), runs.end(),
                     [&](const ClusterRun& run) { return !run.is_hole() && run.lcn_end() > end; });
}

}  // namespace

// Most records have nothing but their own bytes, and say so at a glance; what is odd in one of them
// is for a closer look.
bool Mover::is_all_resident(ConstByteSpan record) {
  const auto header = parse_as<RecordHeader>(record, 0);
  const std::size_t used = header.bytes_used.value();
  std::size_t at = header.first_attribute.value();
  if (used > record.size()) return false;
  while (at % 8 == 0 && used >= sizeof(AttributeHeader) && at <= used - sizeof(AttributeHeader)) {
    const auto attribute = parse_as<AttributeHeader>(record, at);
    const std::size_t length = attribute.length.value();
    if (attribute.type.value() == type::attribute_list || attribute.nonresident != 0 ||
        length < sizeof(ResidentHeader) || length > used - at)
      break;
    at += length;
  }
  return at + 4 <= used && parse_as<Le32>(record, at).value() == type::end;
}

// Clusters of it, or of records that its list names, lie behind the end.
bool Mover::concerns(const Record& record) const {
  for (const Attribute& attribute : record.attributes()) {
    if (attribute.type() == type::attribute_list) return true;
    if (!attribute.resident() && reaches(attribute.runs(fs_.geometry().clusters), end_))
      return true;
  }
  return false;
}

void Mover::run() {
  resize_bad_clusters(fs_, room_, end_);
  fs_.for_each_raw_record([&](std::uint64_t number, ByteSpan raw) {
    if (std::string_view(reinterpret_cast<const char*>(raw.data()), 4) != "FILE") return;
    const auto header = parse_as<RecordHeader>(raw, 0);
    if ((header.flags.value() & record_flags::in_use) == 0 || header.base.value() != 0) return;
    if (number == file::bad_clusters) return;
    undo_fixups(raw, "FILE", "NTFS, file", number);
    if (number != file::bitmap && is_all_resident(raw)) return;
    const Record record{number, Buffer(raw.begin(), raw.end())};
    if (number == file::bitmap || concerns(record)) move_file(record);
  });
}

void Mover::move_file(const Record& record) {
  const File file(fs_, record);
  FileEdit edit(fs_, room_, file);
  bool changed = false;
  if (file.list() && !file.list()->resident()) {
    const ClusterRuns runs = file.list()->runs(fs_.geometry().clusters);
    if (reaches(runs, end_)) {
      edit.set_list_runs(moved(runs, 0, false));
      changed = true;
    }
  }
  for (std::size_t first = 0; first < file.pieces().size(); first = file.next_stream(first)) {
    if (file.pieces()[first].attribute.resident()) continue;
    const bool is_bitmap =
        record.number == file::bitmap && file.pieces()[first].attribute.type() == type::data;
    changed =
        (is_bitmap ? shorten_bitmap(file, first, edit) : move_stream(file, first, edit)) || changed;
  }
  if (changed) edit.finish();
}

// What stays of the cluster bitmap; its bits are written in the end.
bool Mover::shorten_bitmap(const File& file, std::size_t first, FileEdit& edit) {
  const std::uint64_t cluster = fs_.geometry().cluster_size;
  const std::uint64_t bytes = ceil_div(end_, 64) * 8;
  const ClusterRuns all = file.runs(first);
  const std::uint64_t needed = ceil_div(bytes, cluster);
  for (const ClusterRun& run : part_of_runs(all, needed, UINT64_MAX))
    if (!run.is_hole()) room_.clusters().give_back(run.lcn, run.count);
  const ClusterRuns runs = moved(part_of_runs(all, 0, needed), UINT64_MAX, false);
  edit.set_runs(type::data, {}, runs,
                FileEdit::Sizes{runs.back().vcn_end() * cluster, bytes, bytes});
  return true;
}

bool Mover::move_stream(const File& file, std::size_t first, FileEdit& edit) {
  const Attribute& attribute = file.pieces()[first].attribute;
  const ClusterRuns runs = file.runs(first);
  if (!reaches(runs, end_)) return false;
  // What was never written reads as zeros wherever it lies.
  const bool compressed = attribute.compression_unit() != 0;
  const std::uint64_t content =
      compressed ? UINT64_MAX : ceil_div(attribute.initialized_size(), fs_.geometry().cluster_size);
  const bool is_data = attribute.type() == type::data && attribute.name().empty();
  const bool whole = file.number() == file::mirror && is_data;
  const ClusterRuns now = moved(runs, content, whole);
  if (file.number() == file::mft && is_data &&
      now.front().count * fs_.geometry().cluster_size < 4ULL * fs_.geometry().record_size)
    refuse("there is no room in one piece for the beginning of $MFT", "NTFS",
           "ask for a larger size");
  edit.set_runs(attribute.type(), attribute.name(), now);
  if (whole && room_.mode() == Mode::carry_out) fs_.set_mirror(now.front().lcn);
  return true;
}

// `with_content`: clusters of it that hold something; `whole`: must stay in one piece.
ClusterRuns Mover::moved(const ClusterRuns& runs, std::uint64_t with_content, bool whole) {
  ClusterRuns now;
  for (const ClusterRun& run : runs) {
    std::uint64_t stays =
        run.is_hole() ? run.count : std::min(run.count, end_ - std::min(end_, run.lcn));
    const std::uint64_t left_behind = whole && stays != run.count ? stays : 0;
    stays -= left_behind;
    if (stays != 0) now.push_back({run.vcn, run.lcn, stays});
    if (stays == run.count) continue;
    const ClusterRuns places = room_.take(run.vcn + stays, run.count - stays);
    if (whole && places.size() != 1)
      refuse("there is no room in one piece for the copy of $MFT's beginning", "NTFS",
             "ask for a larger size");
    for (const ClusterRun& place : places) {
      append_run(now, place);
      const std::uint64_t content =
          std::min(place.count, with_content - std::min(with_content, place.vcn));
      copy(run.lcn + (place.vcn - run.vcn), place.lcn, content);
      moved_ += place.count;
    }
    if (left_behind != 0) room_.clusters().give_back(run.lcn, left_behind);
  }
  return now;
}

void Mover::copy(std::uint64_t from, std::uint64_t to, std::uint64_t count) {
  if (room_.mode() == Mode::rehearse) return;
  const Geometry& g = fs_.geometry();
  copy_in_pieces(fs_.store(), g.offset(from), fs_.store(), g.offset(to), count * g.cluster_size,
                 [&](std::uint64_t done) { progress_.advance(moved_ * g.cluster_size + done); });
}

}  // namespace jh::ntfs
