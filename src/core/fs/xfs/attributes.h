// Attributes: what stands in a fork of extended attributes; and parent pointers, those of them that
// name the folders which have a name of the inode.
#pragma once

#include <map>

#include "core/fs/xfs/content_format.h"
#include "core/fs/xfs/index.h"
#include "core/fs/xfs/room.h"

namespace jh::xfs {

/// One attribute, where it stands.
struct Attribute {
  std::uint32_t hash = 0;  // of one in a leaf
  std::uint8_t flags = 0;
  ConstByteSpan name;
  std::size_t value = 0;  // where its value begins in the fork or leaf; 0: it is elsewhere
  ConstByteSpan whole;    // of one in a leaf: all that is kept of it, in steps of 4 bytes
  bool is_parent() const { return (flags & attribute::parent) != 0; }
};

/// Those in an inode, and in a leaf, in their order. Throws damaged where they are cut off.
void for_each_short_attribute(ConstByteSpan fork,
                              const std::function<void(const Attribute&)>& visit);
void for_each_leaf_attribute(ConstByteSpan leaf,
                             const std::function<void(const Attribute&)>& visit);

/// All that are in leaves, in the order of their hashes; none where they are in the inode. `leaf`
/// is called before those of each. Throws damaged.
void for_each_attribute_in_leaves(
    const Geometry& geometry, const InodeFile& file,
    const std::function<void(std::uint64_t number, ConstByteSpan leaf)>& leaf,
    const std::function<void(const Attribute&, ConstByteSpan leaf)>& visit);

/// By which a parent pointer is found: of its name, mixed with the number of the folder.
std::uint32_t hash_of_parent(ConstByteSpan name, std::uint64_t folder);

/// What tells it from others: both sides that speak of it come to the same.
std::uint64_t sum_of_parent(const std::string& name, std::uint64_t folder,
                            std::uint32_t generation);

/// Gives folders their new numbers in the attributes that are in an inode. False: none has another.
bool renumber_short_parents(const Renumbering& renumbered, ByteSpan fork);

/// The same for attributes in blocks. Other numbers are other hashes, and another order: gives back
/// what the blocks of the index become, by their numbers in the fork; empty: they stay as they are.
/// Throws refused where the leaves that there are do not hold them in their new order.
std::map<std::uint64_t, Buffer> renumber_parents(const Geometry& geometry, const InodeFile& file,
                                                 const Renumbering& renumbered);

}  // namespace jh::xfs
