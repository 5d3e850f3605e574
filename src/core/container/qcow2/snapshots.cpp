#include "core/container/qcow2/snapshots.h"

#include <fmt/format.h>

namespace jh::qcow2 {
namespace {

[[noreturn]] void corrupt_list(Store& file, const std::string& what) {
  damaged("the list of snapshots is corrupt: " + what, file.name(),
          "take the image from a backup, or let the hypervisor check it");
}

std::string list_text(Store& file, std::uint64_t offset, std::uint64_t length, const char* what) {
  constexpr std::uint64_t longest = 4096;
  if (length > longest || checked_add(offset, length) > file.size())
    corrupt_list(file, fmt::format("where the {} is", what));
  const Buffer bytes = read_buffer(file, offset, length);
  std::string text(bytes.begin(), bytes.end());
  if (text.find('\0') != std::string::npos)
    corrupt_list(file, fmt::format("the {} has a zero in it", what));
  return text;
}

}  // namespace

void read_snapshots(Store& file, Image& image) {
  const std::uint32_t count = image.raw.snapshots.value();
  if (count > max_snapshots) corrupt_list(file, fmt::format("{} snapshots", count));
  const std::uint64_t start = image.raw.snapshots_offset.value();
  std::uint64_t at = start;
  for (std::uint32_t i = 0; i < count; ++i) {
    if (checked_add(at, sizeof(SnapshotEntry)) > file.size())
      corrupt_list(file, "it reaches past the file's end");
    const auto entry = read_as<SnapshotEntry>(file, at);
    const std::uint64_t extra = at + sizeof(SnapshotEntry);
    const std::uint64_t extra_size = entry.extra_size.value();
    std::uint64_t text = extra + extra_size;
    Snapshot snapshot;
    snapshot.id = list_text(file, text, entry.id_size.value(), "snapshot's number");
    text += entry.id_size.value();
    snapshot.name = list_text(file, text, entry.name_size.value(), "snapshot's name");
    snapshot.made_at = entry.seconds.value();
    snapshot.state_size = Bytes(extra_size >= extra_state_size + 8
                                    ? read_as<Be64>(file, extra + extra_state_size).value()
                                    : entry.state_size.value());
    if (extra_size >= extra_disk_size + 8)
      snapshot.disk_size = Bytes(read_as<Be64>(file, extra + extra_disk_size).value());
    image.snapshots.push_back(std::move(snapshot));
    image.snapshot_tables.push_back({entry.l1_table_offset.value(), entry.l1_size.value()});
    at = round_up(text + entry.name_size.value(), 8);
  }
  image.snapshot_list_size = at - start;
}

std::optional<Buffer> list_with_sizes(Store& file, const Image& image, std::uint64_t disk_size) {
  bool lacking = false;
  for (const Snapshot& snapshot : image.snapshots) lacking |= !snapshot.disk_size.has_value();
  if (!lacking) return std::nullopt;
  Buffer list;
  std::uint64_t at = image.raw.snapshots_offset.value();
  for (const Snapshot& snapshot : image.snapshots) {
    auto entry = read_as<SnapshotEntry>(file, at);
    Buffer extra = read_buffer(file, at + sizeof(entry), entry.extra_size.value());
    at += sizeof(entry) + extra.size();
    if (!snapshot.disk_size) {
      extra.resize(extra_disk_size + 8);
      put_at(extra, extra_state_size, Be64(snapshot.state_size.value()));
      put_at(extra, extra_disk_size, Be64(disk_size));
      entry.extra_size = static_cast<std::uint32_t>(extra.size());
    }
    const std::size_t begin = list.size();
    list.resize(begin + sizeof(entry));
    put_at(list, begin, entry);
    list.insert(list.end(), extra.begin(), extra.end());
    list.insert(list.end(), snapshot.id.begin(), snapshot.id.end());
    list.insert(list.end(), snapshot.name.begin(), snapshot.name.end());
    list.resize(round_up(list.size(), 8));
    at = round_up(at + snapshot.id.size() + snapshot.name.size(), 8);
  }
  return list;
}

}  // namespace jh::qcow2
