// Guest: the disks of one guest, opened layer by layer, with the names the guest itself uses.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/container/container.h"
#include "core/guest/content.h"
#include "core/guest/fstab.h"
#include "core/store/views.h"
#include "core/table/table.h"

namespace jh {

/// A partition, or a whole disk without a table.
struct Place {
  std::size_t disk = 0;                // index into Guest::disks
  std::optional<Partition> partition;  // nothing: the whole disk
  Bytes offset;                        // on the disk
  Bytes size;
  std::unique_ptr<WindowStore> window;
  Content content;
  std::vector<std::string> mount_points;  // from the guest's fstab; "swap" for swap
};

struct Disk {
  std::string path;
  Store* file = nullptr;
  std::unique_ptr<Container> container;
  std::unique_ptr<PartitionTable> table;  // null: none
  std::vector<Place> places;
  std::optional<Error> trouble;  // why the table could not be read
  Bytes size() const { return Bytes(container->disk().size()); }
};

class Guest {
 public:
  struct Image {
    std::string path;
    Store* file = nullptr;  // must outlive the guest
  };
  /// Throws what keeps an image from being opened at all; trouble further up is kept with its
  /// layer.
  explicit Guest(const std::vector<Image>& images, std::uint32_t sector_size = 0);

  const std::vector<Disk>& disks() const { return disks_; }
  std::vector<Disk>& disks() { return disks_; }
  const std::string& hostname() const { return hostname_; }
  const std::vector<FstabEntry>& fstab() const { return fstab_; }

  /// "p3", or "2:p3" when the guest has several disks; "disk" for a disk without a table.
  std::string name_of(const Place& place) const;
  /// The name a technician would use: the first mount point, or else name_of.
  std::string best_name(const Place& place) const;
  std::vector<const Place*> places() const;

 private:
  void open_disk(const Image& image, std::uint32_t sector_size);
  void fill_places(Disk& disk, std::size_t index);
  void read_fstab();
  bool matches(const Place& place, const FstabEntry& entry) const;

  std::vector<Disk> disks_;
  std::vector<FstabEntry> fstab_;
  std::string hostname_;
};

}  // namespace jh
