// Folders, and other indexes: B-trees of entries in a root and blocks.
#pragma once

#include "core/fs/ntfs/file.h"

namespace jh::ntfs {

/// One index of a file: "$I30" is that of a folder's names.
class Index {
 public:
  /// Throws damaged.
  Index(Filesystem& fs, const File& file, std::u16string name = u"$I30");

  struct Node {
    Buffer bytes;       // from the node's header on
    std::uint64_t vcn;  // of a block
  };
  const IndexRoot& root() const { return root_; }
  /// The root's node.
  Node top() const { return {top_, 0}; }
  std::uint64_t blocks() const { return blocks_.size() / root_.block_size.value(); }
  /// What a child's place is counted in, in bytes.
  std::uint64_t vcn_unit() const { return vcn_unit_; }
  /// Whether the index's own bitmap says that the block is in use.
  bool in_use(std::uint64_t block) const;
  std::uint64_t bitmap_bits() const { return bitmap_.size() * 8; }
  bool bitmap_bit(std::uint64_t bit) const { return (bitmap_[bit / 8] >> (bit % 8) & 1) != 0; }
  /// Throws damaged.
  Node block(std::uint64_t number) const;
  Node child(std::uint64_t vcn) const;

  /// visit(entry, key, child's place or nothing); false: stop. Throws damaged.
  struct Entry {
    IndexEntry head;
    ConstByteSpan key;
    std::optional<std::uint64_t> child;
    bool is_last() const { return (head.flags.value() & entry_flags::last) != 0; }
  };
  static void for_each_entry(const Node& node, const std::function<bool(const Entry&)>& visit);
  /// All entries with keys, in whatever order: the root's, then those of all blocks in use.
  void for_each_key(const std::function<void(const Entry&)>& visit) const;

 private:
  IndexRoot root_{};
  Buffer top_;
  Stream blocks_;
  Buffer bitmap_;
  std::uint64_t vcn_unit_ = 0;
};

/// The name in a key of a folder's index, or in a FILE_NAME attribute. Throws damaged.
struct NameKey {
  FileName head;
  std::u16string name;
};
NameKey parse_name(ConstByteSpan key);

/// The volume's table of capital letters.
class Upcase {
 public:
  explicit Upcase(Filesystem& fs);
  char16_t operator()(char16_t unit) const { return unit < table_.size() ? table_[unit] : unit; }
  std::u16string operator()(std::u16string_view text) const;

 private:
  std::vector<char16_t> table_;
};

/// A file by its path ("Windows/System32"), capital or not. Nothing: there is none.
std::optional<std::uint64_t> find_file(Filesystem& fs, const std::string& path);

}  // namespace jh::ntfs
