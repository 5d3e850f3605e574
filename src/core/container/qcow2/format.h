// qcow2 on disk, versions 2 and 3, by its published specification ("The QCOW2 image format").
// Everything is big-endian. Layout as tables: docs/formats/qcow2.md.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "core/base/endian.h"

namespace jh::qcow2 {

constexpr std::uint32_t magic = 0x514649fb;  // "QFI\xfb"

// "Header"
struct Header {
  Be32 magic;
  Be32 version;
  Be64 backing_file_offset;
  Be32 backing_file_size;
  Be32 cluster_bits;
  Be64 size;  // bytes
  Be32 crypt_method;
  Be32 l1_size;  // entries
  Be64 l1_table_offset;
  Be64 refcount_table_offset;
  Be32 refcount_table_clusters;
  Be32 snapshots;
  Be64 snapshots_offset;
  // version 3 only
  Be64 incompatible;
  Be64 compatible;
  Be64 autoclear;
  Be32 refcount_order;
  Be32 header_length;
  std::uint8_t compression;  // when the header is longer than 104 bytes
  std::array<std::uint8_t, 7> padding;
};
static_assert(sizeof(Header) == 112);
static_assert(offsetof(Header, incompatible) == 72);
static_assert(offsetof(Header, compression) == 104);

constexpr std::uint32_t version2_length = 72;
constexpr std::uint32_t version3_length = 104;

namespace incompatible {
constexpr std::uint64_t dirty = 1U << 0;
constexpr std::uint64_t corrupt = 1U << 1;
constexpr std::uint64_t external_data = 1U << 2;
constexpr std::uint64_t compression = 1U << 3;
constexpr std::uint64_t extended_l2 = 1U << 4;
constexpr std::uint64_t known = dirty | corrupt | external_data | compression | extended_l2;
}  // namespace incompatible
namespace compatible {
constexpr std::uint64_t lazy_refcounts = 1U << 0;
}
namespace autoclear {
constexpr std::uint64_t bitmaps = 1U << 0;
constexpr std::uint64_t raw_external = 1U << 1;
}  // namespace autoclear

// "Header extensions"
struct Extension {
  Be32 type;
  Be32 length;  // of the data that follows, padded to 8
};
namespace extension {
constexpr std::uint32_t end = 0;
constexpr std::uint32_t backing_format = 0xe2792aca;
constexpr std::uint32_t bitmaps = 0x23852875;
constexpr std::uint32_t encryption = 0x0537be77;
constexpr std::uint32_t data_file = 0x44415441;
}  // namespace extension

// "Bitmaps extension" and its directory
struct BitmapsExtension {
  Be32 bitmaps;
  Be32 reserved;
  Be64 directory_size;
  Be64 directory_offset;
};
static_assert(sizeof(BitmapsExtension) == 24);
struct BitmapEntry {
  Be64 table_offset;
  Be32 table_size;  // entries
  Be32 flags;
  std::uint8_t type;
  std::uint8_t granularity_bits;
  Be16 name_size;
  Be32 extra_size;
};
static_assert(sizeof(BitmapEntry) == 24);
namespace bitmap_flag {
constexpr std::uint32_t in_use = 1, automatic = 2;
}
constexpr std::uint64_t all_ones = 1;  // instead of a cluster of a bitmap

// "Full disk encryption header pointer"
struct EncryptionPointer {
  Be64 offset;
  Be64 length;
};

// "Cluster mapping": L1 and L2 entries
constexpr std::uint64_t offset_mask = 0x00fffffffffffe00;  // bits 9 to 55
constexpr std::uint64_t copied = std::uint64_t{1} << 63;   // exactly one reference
constexpr std::uint64_t compressed_bit = std::uint64_t{1} << 62;
constexpr std::uint64_t reads_zero = 1;
constexpr std::uint32_t subclusters = 32;  // per cluster, with extended L2 entries

// "Snapshots"
struct SnapshotEntry {
  Be64 l1_table_offset;
  Be32 l1_size;
  Be16 id_size;
  Be16 name_size;
  Be32 seconds;
  Be32 nanoseconds;
  Be64 guest_clock;
  Be32 state_size;
  Be32 extra_size;
};
static_assert(sizeof(SnapshotEntry) == 40);
// In the extra data behind it
constexpr std::uint64_t extra_state_size = 0;  // 64 bits, as the one after it
constexpr std::uint64_t extra_disk_size = 8;

// Limits of ours, by which no table can take more memory than is reasonable.
constexpr std::uint64_t max_l1_bytes = 32U << 20;
constexpr std::uint64_t max_refcount_table_bytes = 8U << 20;
constexpr std::uint32_t max_snapshots = 8192;

}  // namespace jh::qcow2
