#include "core/live/new_disk.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <sstream>

#include "core/base/uuid.h"
#include "core/guest/content.h"
#include "core/store/memory_store.h"
#include "core/store/views.h"

namespace jh::live {
namespace {

constexpr std::uint64_t sector = 512;
constexpr std::uint64_t piece = 1U << 20;
// Label and metadata area of a physical volume; its extents begin there.
constexpr std::uint64_t head_of_volume = 1U << 20;

NewDisk::Sectors sectors_of(Store& store) {
  NewDisk::Sectors found;
  for (std::uint64_t at = 0; at < store.size();) {
    const Range run = store.map(at, store.size() - at);
    if (run.zero) {
      at += run.length;
      continue;
    }
    Buffer bytes = read_buffer(store, at, std::min(sector, store.size() - at));
    if (!all_zero(bytes)) found[at] = std::move(bytes);
    at += sector;
  }
  return found;
}

// Calls visit(place, bytes) for each piece that is not all zeros, until it says no.
template <class Visit>
bool each_piece(Store& disk, Visit visit) {
  for (std::uint64_t at = 0; at < disk.size();) {
    const Range run = disk.map(at, std::min(piece, disk.size() - at));
    if (!run.zero) {
      const Buffer bytes = read_buffer(disk, at, static_cast<std::size_t>(run.length));
      if (!all_zero(bytes) && !visit(at, bytes)) return false;
    }
    at += run.length;
  }
  return true;
}

bool holds_this(const NewDisk::Sectors& sectors, std::uint64_t at, ConstByteSpan bytes) {
  const auto found = sectors.find(at);
  return found != sectors.end() &&
         std::equal(bytes.begin(), bytes.end(), found->second.begin(), found->second.end());
}

// No filesystem, no swap, no other's anything: a physical volume, or a part of one.
bool is_head_of_volume(Store& disk, const NewDisk& ours) {
  if (ours.partition >= disk.size()) return false;
  WindowStore place(disk, ours.partition, disk.size() - ours.partition, disk.name());
  const ContentKind kind = recognise_content(place).kind;
  return kind == ContentKind::physical_volume || kind == ContentKind::nothing ||
         kind == ContentKind::unknown;
}

std::string hex(ConstByteSpan bytes) {
  std::string text;
  for (const std::uint8_t byte : bytes) text += fmt::format("{:02x}", byte);
  return text;
}

std::optional<Buffer> unhex(const std::string& text) {
  if (text.size() % 2 != 0 || text.size() > 2 * sector) return std::nullopt;
  Buffer bytes;
  for (std::size_t i = 0; i < text.size(); i += 2) {
    unsigned value = 0;
    const auto end = std::from_chars(&text[i], &text[i] + 2, value, 16);
    if (end.ptr != &text[i] + 2) return std::nullopt;
    bytes.push_back(static_cast<std::uint8_t>(value));
  }
  return bytes;
}

}  // namespace

NewDisk make_new_disk(const KernelDisk& disk, TableKind kind, std::uint32_t sector_size,
                      const NewPartition& partition) {
  NewDisk made{disk.path, disk.size, disk.identity, 0, {}, {}};
  MemoryStore blank(disk.size, disk.path);
  const auto table = make_table(blank, kind, sector_size);
  made.table = sectors_of(blank);
  table->create(blank, partition, random_guid());
  made.whole = sectors_of(blank);
  made.partition = to_bytes(partition.first, sector_size).value();
  return made;
}

std::string new_disks_text(const std::vector<NewDisk>& disks) {
  std::string text;
  for (const NewDisk& disk : disks) {
    text += fmt::format("disk {} {} {}\nidentity {}\n", disk.size, disk.partition, disk.path,
                        disk.identity);
    for (const auto& [at, bytes] : disk.table) text += fmt::format("table {} {}\n", at, hex(bytes));
    for (const auto& [at, bytes] : disk.whole) text += fmt::format("whole {} {}\n", at, hex(bytes));
  }
  return text + "end\n";
}

std::vector<NewDisk> parse_new_disks(const std::string& text) {
  // One that was cut off says nothing.
  if (!text.ends_with("end\n")) return {};
  std::vector<NewDisk> disks;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    std::istringstream words(line);
    std::string kind;
    words >> kind;
    if (kind == "disk") {
      NewDisk disk;
      words >> disk.size >> disk.partition >> std::ws;
      std::getline(words, disk.path);
      disks.push_back(std::move(disk));
    } else if (kind == "identity" && !disks.empty()) {
      words >> std::ws;
      std::getline(words, disks.back().identity);
    } else if ((kind == "table" || kind == "whole") && !disks.empty()) {
      std::uint64_t at = 0;
      std::string digits;
      words >> at >> digits;
      auto bytes = unhex(digits);
      if (bytes)
        (kind == "table" ? disks.back().table : disks.back().whole)[at] = std::move(*bytes);
    }
  }
  return disks;
}

bool is_blank_or_ours(Store& disk, const NewDisk& ours) {
  const std::uint64_t head = ours.partition;
  return each_piece(disk,
                    [&](std::uint64_t from, const Buffer& bytes) {
                      for (std::uint64_t i = 0; i < bytes.size(); i += sector) {
                        const std::uint64_t at = from + i;
                        const ConstByteSpan here = ConstByteSpan(bytes).subspan(
                            i, std::min<std::uint64_t>(sector, bytes.size() - i));
                        const bool in_head = at >= head && at < head + head_of_volume;
                        if (!all_zero(here) && !in_head && !holds_this(ours.table, at, here) &&
                            !holds_this(ours.whole, at, here))
                          return false;
                      }
                      return true;
                    }) &&
         is_head_of_volume(disk, ours);
}

void write_sectors(Store& disk, const NewDisk::Sectors& sectors) {
  // What is side by side is written together.
  for (auto next = sectors.begin(); next != sectors.end();) {
    const std::uint64_t start = next->first;
    Buffer bytes;
    for (; next != sectors.end() && next->first == start + bytes.size(); ++next)
      bytes.insert(bytes.end(), next->second.begin(), next->second.end());
    disk.write(start, bytes);
  }
  disk.flush();
}

}  // namespace jh::live
