#include "core/fs/ntfs/tree.h"

#include <algorithm>

#include "core/fs/ntfs/index.h"
#include "core/store/utf16.h"

namespace jh::ntfs {

// Where files lie and how large the volume is, they say themselves.
std::vector<FileTree::Node> NtfsTree::passed_over() {
  return {file::mft, file::mirror, file::bitmap, file::boot, file::bad_clusters};
}

Record NtfsTree::record(Node node) {
  constexpr Node most = 64;
  const std::uint64_t size = fs_.geometry().record_size;
  const bool goes_on = node > last_asked_ && node - last_asked_ < most;
  last_asked_ = node;
  if (node < first_ || node - first_ >= records_.size() / size) {
    const Node left = fs_.records() - std::min(node, fs_.records());
    records_ = fs_.raw_records(node, goes_on ? std::min(most, left) : 1);
    first_ = node;
  }
  const auto start = records_.begin() + static_cast<std::ptrdiff_t>((node - first_) * size);
  return Record::from_disk(node, Buffer(start, start + static_cast<std::ptrdiff_t>(size)),
                           "NTFS, record");
}

FileTree::File NtfsTree::look(Node node) {
  const ntfs::File file(fs_, record(node));
  const std::uint64_t cluster = fs_.geometry().cluster_size;
  FileTree::File found;
  found.facts.reserve(file.base().header().bytes_used.value());
  const RecordHeader header = file.base().header();
  found.folder = file.base().is_folder();
  for (const std::uint16_t value :
       {header.sequence.value(), header.links.value(), header.flags.value()}) {
    found.facts.push_back(static_cast<std::uint8_t>(value & 0xFF));
    found.facts.push_back(static_cast<std::uint8_t>(value >> 8));
  }
  std::uint64_t base = 0;  // streams stand one behind the other
  for (std::size_t first = 0; first < file.pieces().size(); first = file.next_stream(first)) {
    const Attribute& attribute = file.pieces()[first].attribute;
    attribute.append_facts(found.facts);
    if (attribute.resident()) continue;
    const ClusterRuns runs = file.runs(first);
    // What was never written reads as zeros, whatever stands there; compressed content is kept as
    // it is.
    const std::uint64_t end =
        attribute.compression_unit() != 0 ? UINT64_MAX : attribute.initialized_size();
    for (const ClusterRun& run : runs) {
      const std::uint64_t start = run.vcn * cluster;
      if (run.is_hole() || start >= end) continue;
      found.content.push_back({Extent::Kind::data, base + start, run.lcn * cluster,
                               std::min(run.count * cluster, end - start)});
    }
    if (!runs.empty()) base += runs.back().vcn_end() * cluster;
  }
  return found;
}

std::vector<FileTree::Entry> NtfsTree::entries(Node folder) {
  std::vector<Entry> names;
  const ntfs::File file(fs_, record(folder));
  Index(fs_, file).for_each_key([&](const Index::Entry& entry) {
    const NameKey key = parse_name(entry.key);
    const std::string name =
        text_from_utf16(entry.key.subspan(sizeof(FileName), 2U * key.head.length), false);
    // The root names itself.
    const Node node = number_of(entry.head.reference.value());
    if (node != folder || name != ".") names.push_back({name, node, key.head.space});
  });
  const auto in_order = [](const Entry& a, const Entry& b) { return a.name < b.name; };
  if (!std::is_sorted(names.begin(), names.end(), in_order))
    std::sort(names.begin(), names.end(), in_order);
  return names;
}

}  // namespace jh::ntfs
