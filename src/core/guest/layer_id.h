// LayerId: which layer of a guest is meant, for good: the same when the guest is opened again, and
// when a disk was added to it.
#pragma once

#include <compare>
#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace jh {

struct LayerId {
  std::size_t disk = 0;  // index among the guest's images; of a volume: where its first extent lies
  std::string volume;  // "group/volume": what it is, or lies in; empty: it lies on the disk itself
  /// Numbers of partitions, from the outside in; empty: the disk, or the volume, as a whole.
  std::vector<std::uint32_t> partitions;
  /// In place of a partition's number: what an encrypted layer holds.
  static constexpr std::uint32_t payload = 0;

  LayerId() = default;
  explicit LayerId(std::size_t disk_index, std::string in_volume = {},
                   std::vector<std::uint32_t> numbers = {})
      : disk(disk_index), volume(std::move(in_volume)), partitions(std::move(numbers)) {}

  /// A disk of the guest as a whole.
  bool is_disk() const { return volume.empty() && partitions.empty(); }
  /// Of the innermost partition; 0: it is none.
  std::uint32_t number() const { return partitions.empty() ? 0 : partitions.back(); }
  /// A partition of the table that this layer holds.
  LayerId partition(std::uint32_t number) const {
    LayerId inner = *this;
    inner.partitions.push_back(number);
    return inner;
  }
  /// What the table of this partition lies on.
  LayerId outer() const {
    LayerId outer = *this;
    if (!outer.partitions.empty()) outer.partitions.pop_back();
    return outer;
  }

  auto operator<=>(const LayerId&) const = default;
};

}  // namespace jh
