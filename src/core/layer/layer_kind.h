// LayerKind: what can stand on bytes and offers bytes to others in turn. Filesystems have a table
// of their own. Who adds a kind makes a folder for it, and adds a line in guest/layer_kinds.cpp.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "core/base/errors.h"
#include "core/base/sizes.h"
#include "core/store/store.h"

namespace jh {

enum class ContentKind {
  nothing,     // no signature, and the first bytes are zeros
  filesystem,  // or a swap area
  physical_volume,
  encrypted,
  partition_table,     // of a disk that is kept here: its partitions are in it
  logical_partitions,  // an extended partition: they are in it
  array_member,        // a part of a mirror, a stripe or a cache: another layer shows through it
  locked,              // what an encrypted layer holds, without its key
  unknown,
};

/// What a survey tells of what stands on bytes.
struct LayerFacts {
  std::string name;  // "ext4", "FAT", "encrypted (LUKS2)"
  std::string label;
  std::string uuid;           // as fstab's UUID= writes it
  std::string state;          // "clean", "needs journal replay" ...
  std::optional<Bytes> size;  // its own; it may be smaller than its place
  std::optional<Bytes> used;
  std::vector<Error> blockers;  // why it must not be changed now; each with a reason code
};

/// Bytes that a layer offers to the next one.
struct Payload {
  std::uint64_t offset = 0;  // in the layer's place, bytes
  std::uint64_t size = 0;    // bytes
  std::string locked;        // why it cannot be looked into
};

/// What the header of a layer says of what it is a header of.
struct LayerHeader {
  std::vector<std::pair<std::string, std::string>> details;  // "cipher" → "aes-xts-plain64"
  std::optional<Payload> payload;
  /// What is wrong with it; no reason to keep its place from being changed, which leaves it as it
  /// is.
  std::optional<Error> defect;
  /// What the guest has to do itself when the place has become larger; empty: nothing is known.
  std::string remains;
};

struct RecognisedLayer {
  ContentKind kind = ContentKind::unknown;
  LayerFacts facts;
  LayerHeader header;
};

/// One kind. Looks at bytes; nothing: they are not of this kind. Throws io only: what is wrong with
/// the layer becomes a blocker.
struct LayerKind {
  const char* name;
  std::optional<RecognisedLayer> (*recognise)(Store& place);
};

}  // namespace jh
