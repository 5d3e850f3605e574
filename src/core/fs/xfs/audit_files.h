// What stands in the blocks of one file besides its content: the index of a folder, attributes,
// the text of a long symbolic link.
#pragma once

#include "core/fs/xfs/attributes.h"
#include "core/fs/xfs/content_format.h"

namespace jh::xfs {

/// Fields of an inode that must agree with its kind and with one another.
void audit_fields(const Geometry& geometry, const InodeFile& file, const Observer& observer);
/// A folder: calls visit for each of its names, "." and ".." too as far as they are written. Its
/// index has each name once, by the right hash, and its list of free room is right. Its blocks are
/// read once. Memory: 16 bytes for each name. Throws damaged where it cannot be read.
void audit_folder(const Geometry& geometry, const InodeFile& folder, const Observer& observer,
                  const std::function<void(const InodeFile::Entry&)>& visit);
/// Told each parent pointer: a name of the inode, and the folder that has it.
using ParentSeen = std::function<void(const std::string& name, const ParentPointer& parent)>;
/// Extended attributes: names, hashes, and values in blocks of their own.
void audit_attributes(Store& place, const Geometry& geometry, const InodeFile& file,
                      const Observer& observer, const ParentSeen& parent);
/// The text of a symbolic link that is too long for its inode.
void audit_link_text(Store& place, const Geometry& geometry, const InodeFile& link,
                     const Observer& observer);

}  // namespace jh::xfs
