#include "core/fs/ntfs/filesystem.h"

#include <fmt/format.h>

#include <algorithm>
#include <string_view>

#include "core/fs/ntfs/attribute_list.h"
#include "core/store/utf16.h"

namespace jh::ntfs {

bool Filesystem::recognise(Store& place) {
  using namespace std::string_view_literals;
  return holds(place, 3, "NTFS    "sv);
}

Filesystem::Filesystem(Store& store) : store_(&store), geometry_(read_geometry(store)) {
  map_mft();
  read_information();
}

void Filesystem::set_mft(const ClusterRuns& runs, std::uint64_t records) {
  const std::uint64_t size = checked_mul(records, geometry_.record_size);
  mft_ = Stream(*store_, geometry_, runs, size, size);
  records_ = records;
  geometry_.mft_cluster = runs.front().lcn;
}

// The first piece of its run list is in its first record; further ones are in records that those
// in front lead to.
void Filesystem::map_mft() {
  const Geometry& g = geometry_;
  const std::uint64_t clusters = ceil_div(g.record_size, g.cluster_size);
  if (g.mft_cluster + clusters > g.clusters)
    damaged("the file table is said to lie behind the end", "NTFS boot sector");
  set_mft({{0, g.mft_cluster, clusters}}, 1);
  const Record first = read_record(file::mft);
  if (!first.in_use()) damaged("the file table's own record is not in use", "NTFS, $MFT");
  ClusterRuns runs;
  std::uint64_t size = 0;
  Buffer list;
  for (const Attribute& attribute : first.attributes()) {
    if (attribute.type() == type::attribute_list) list = read_list(*store_, geometry_, attribute);
    if (attribute.type() != type::data || !attribute.name().empty()) continue;
    if (attribute.resident() || attribute.lowest_vcn() != 0)
      damaged("the file table does not say where it lies", "NTFS, $MFT");
    runs = attribute.runs(g.clusters);
    size = attribute.initialized_size();
  }
  const auto known = [&] {
    return std::min(size, runs.back().vcn_end() * g.cluster_size) / g.record_size;
  };
  if (runs.empty() || runs.front().is_hole() || known() == 0)
    damaged("the file table does not say where it lies", "NTFS, $MFT");
  set_mft(runs, known());
  for (const ListItem& item : parse_list(list)) {
    if (item.type != type::data || !item.name.empty() || item.lowest_vcn == 0) continue;
    const Record record = read_record(number_of(item.record));
    for (const Attribute& attribute : record.attributes()) {
      if (attribute.type() != type::data || attribute.resident() || !attribute.name().empty() ||
          attribute.lowest_vcn() != item.lowest_vcn)
        continue;
      if (attribute.lowest_vcn() != runs.back().vcn_end())
        damaged("the pieces of the file table do not follow one another", "NTFS, $MFT");
      for (const ClusterRun& run : attribute.runs(g.clusters)) runs.push_back(run);
      set_mft(runs, known());
    }
  }
  for (const ClusterRun& run : runs)
    if (run.is_hole()) damaged("the file table has holes", "NTFS, $MFT");
  if (size > runs.back().vcn_end() * g.cluster_size)
    damaged("the file table is longer than its clusters", "NTFS, $MFT");
  set_mft(runs, size / g.record_size);
  if (records_ < file::first_spare) damaged("the file table is too short", "NTFS, $MFT");
}

void Filesystem::read_information() {
  for (const Attribute& attribute : read_record(file::mirror).attributes())
    if (attribute.type() == type::data && !attribute.resident())
      mirrored_ = std::min(records_, attribute.data_size() / geometry_.record_size);
  bool found = false;
  for (const Attribute& attribute : read_record(file::volume).attributes()) {
    if (!attribute.resident()) continue;
    if (attribute.type() == type::volume_name) label_ = text_from_utf16(attribute.value(), false);
    if (attribute.type() != type::volume_information ||
        attribute.value().size() < sizeof(VolumeInformation))
      continue;
    information_ = parse_as<VolumeInformation>(attribute.value(), 0);
    found = true;
  }
  if (!found) damaged("it does not say which version it is", "NTFS, $Volume");
  const int version = information_.major * 10 + information_.minor;
  if (version != 30 && version != 31)
    unsupported(
        fmt::format("NTFS of version {}.{} is not known", information_.major, information_.minor),
        "NTFS, $Volume", "let a newer system of the guest upgrade it");
}

Buffer Filesystem::raw_records(std::uint64_t first, std::uint64_t count) const {
  if (first >= records_ || count > records_ - first)
    damaged(fmt::format("record {} is not there: there are {}", first, records_), "NTFS, $MFT");
  return mft_.read(first * geometry_.record_size, count * geometry_.record_size);
}

Record Filesystem::read_record(std::uint64_t number) {
  return Record::from_disk(number, raw_record(number), "NTFS, record");
}

std::uint64_t Filesystem::record_offset(std::uint64_t number) const {
  const std::uint64_t at = number * geometry_.record_size;
  for (const ClusterRun& run : mft_.runs())
    if (at / geometry_.cluster_size < run.vcn_end())
      return geometry_.offset(run.lcn) + at - run.vcn * geometry_.cluster_size;
  damaged(fmt::format("record {} is not there", number), "NTFS, $MFT");
}

void Filesystem::write_record(Record record) {
  ensure(record.number < records_, "a record that is written is there");
  do_fixups(record.raw);
  mft_.write(record.number * geometry_.record_size, record.raw);
  if (record.number < mirrored_)
    store_->write(
        geometry_.offset(geometry_.mirror_cluster) + record.number * geometry_.record_size,
        record.raw);
}

void Filesystem::for_each_raw_record(
    const std::function<void(std::uint64_t, ByteSpan)>& visit) const {
  const std::uint64_t size = geometry_.record_size;
  const std::uint64_t batch = std::max<std::uint64_t>(1, (1U << 20) / size);
  for (std::uint64_t first = 0; first < records_; first += batch) {
    const std::uint64_t count = std::min(batch, records_ - first);
    Buffer raw = mft_.read(first * size, count * size);
    for (std::uint64_t i = 0; i < count; ++i)
      visit(first + i, ByteSpan(raw).subspan(i * size, size));
  }
}

}  // namespace jh::ntfs
