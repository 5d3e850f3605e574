// What a partition, or a disk without partitions, holds.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/base/sizes.h"
#include "core/fs/ext/filesystem.h"
#include "core/fs/ext/rest.h"
#include "core/fs/swap/swap.h"
#include "core/store/scratch_store.h"

namespace jh {

enum class ContentKind {
  nothing,  // no signature, and the first bytes are zeros
  ext,
  fat,
  ntfs,
  xfs,
  btrfs,
  swap,
  physical_volume,
  encrypted,
  extended,  // an extended partition: the logical ones are in it
  unknown,
};

struct Content {
  ContentKind kind = ContentKind::unknown;
  std::string name;  // "ext4", "FAT", "unknown content"
  std::string label;
  std::string uuid;           // as fstab's UUID= writes it
  std::string state;          // "clean", "needs journal replay" ...
  std::optional<Bytes> size;  // of the filesystem itself; it may be smaller than its place
  std::optional<Bytes> used;
  /// When the guest did not shut down properly: the filesystem as its journal makes it, in memory.
  std::unique_ptr<ScratchStore> at_rest;
  std::optional<ext::RestReport> rest;   // what that takes
  std::unique_ptr<ext::Filesystem> ext;  // when it could be opened; on `at_rest` if that is there
  std::optional<swap::Facts> swap;       // of a swap area in order
  std::vector<Error> blockers;           // why this filesystem must not be changed now
};

/// Looks at a place; never throws for what it finds there (trouble becomes a blocker).
Content recognise_content(Store& place);

}  // namespace jh
