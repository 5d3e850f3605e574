// The table of kinds: who adds one adds a line here.
#include "core/fs/btrfs/btrfs.h"
#include "core/fs/ext/ext.h"
#include "core/fs/fat/fat.h"
#include "core/fs/filesystem.h"
#include "core/fs/named/named.h"
#include "core/fs/ntfs/ntfs.h"
#include "core/fs/swap/swap.h"
#include "core/fs/xfs/xfs.h"

namespace jh {

const std::vector<const FilesystemKind*>& filesystem_kinds() {
  static const std::vector<const FilesystemKind*> all{&ext::kind,   &swap::kind, &xfs::kind,
                                                      &btrfs::kind, &ntfs::kind, &named::exfat,
                                                      &fat::fat32,  &fat::fat};
  return all;
}

const FilesystemKind* kind_in(Store& place) {
  for (const FilesystemKind* kind : filesystem_kinds())
    if (kind->recognise(place)) return kind;
  return nullptr;
}

}  // namespace jh
