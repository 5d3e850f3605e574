// Blocks: a filesystem's superblock, where its logical addresses lie on the device, and what is
// there. Volume is the one to open; this is what walking its trees needs.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <unordered_map>
#include <vector>

#include "core/fs/btrfs/checksum.h"

namespace jh::btrfs {

struct Key {
  std::uint64_t object = 0;
  std::uint8_t type = 0;
  std::uint64_t offset = 0;
  auto operator<=>(const Key&) const = default;
};
Key key_of(const DiskKey& key);
DiskKey disk_key(const Key& key);

/// A range of logical addresses, and where its one or two copies lie on the device.
struct Chunk {
  std::uint64_t length = 0;
  std::uint64_t type = 0;
  std::vector<std::uint64_t> copies;  // bytes of the device
};

/// A number read from disk did not hold.
[[noreturn]] void corrupt(const std::string& what);

/// Where a tree begins.
struct Root {
  std::uint64_t block = 0;
  std::uint64_t generation = 0;
  unsigned level = 0;
};

class Blocks {
 public:
  Store& place() const { return place_; }
  const Superblock& super() const { return super_; }
  std::uint64_t size() const { return super_.device.size.value(); }
  std::uint64_t sector_size() const { return super_.sector_size.value(); }
  std::uint64_t node_size() const { return super_.node_size.value(); }
  std::uint16_t checksums() const { return super_.sum_type.value(); }
  bool is(std::uint64_t incompatible_feature) const {
    return (super_.incompatible.value() & incompatible_feature) != 0;
  }
  bool has(std::uint64_t ro_feature) const {
    return (super_.read_only_compatible.value() & ro_feature) != 0;
  }
  /// The identity that blocks carry.
  const Uuid& block_identity() const {
    return is(incompatible::metadata_uuid) ? super_.metadata_uuid : super_.uuid;
  }
  /// By logical address.
  const std::map<std::uint64_t, Chunk>& chunks() const { return chunks_; }
  /// The chunk that holds all of the range. Throws damaged.
  std::pair<std::uint64_t, const Chunk*> chunk_of(std::uint64_t logical,
                                                  std::uint64_t length) const;
  /// Where a copy of a logical address lies on the device.
  std::uint64_t at(std::uint64_t logical, std::uint64_t length, std::size_t copy = 0) const;

  /// Where all of them lie.
  std::vector<std::uint64_t> places(std::uint64_t logical, std::uint64_t length) const;

  /// A tree block that is what its parent says: the first of its copies that is whole. Throws
  /// damaged.
  /// The last few hundred are kept: trees are looked into again and again.
  std::shared_ptr<const Buffer> block(std::uint64_t logical, std::uint64_t generation,
                                      unsigned level) const;
  /// What is wrong with these bytes as that block; empty: nothing.
  std::string fault(ConstByteSpan bytes, std::uint64_t logical, std::uint64_t generation,
                    unsigned level) const;
  /// With its checksum put right, to all copies. `fresh`: nothing was there.
  void write_block(std::uint64_t logical, Buffer bytes, bool fresh = false);

  Root root_tree() const;
  Root chunk_tree() const;
  /// For a change: chunks lie elsewhere from here on.
  void move_copy(std::uint64_t chunk, std::size_t copy, std::uint64_t to);
  /// To all its places inside the device, with its checksums put right.
  void write_super(const Superblock& super);

 protected:
  explicit Blocks(Store& place) : place_(place) {}
  /// Superblock, and the chunks that it has. Throws damaged, unsupported.
  void read_super();
  /// Instead of those: from the tree of chunks, by logical address. Throws damaged, unsupported.
  void set_chunks(const std::vector<std::pair<std::uint64_t, Buffer>>& items);

 private:
  void check_super() const;
  void check_features() const;
  void add_chunk(std::uint64_t logical, ConstByteSpan item);
  void read_system_chunks();

  Store& place_;
  Superblock super_{};
  std::map<std::uint64_t, Chunk> chunks_;
  mutable std::unordered_map<std::uint64_t, std::shared_ptr<const Buffer>> known_;
};

}  // namespace jh::btrfs
