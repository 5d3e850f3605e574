// Changing where the attributes of a file lie: run lists, and the records that hold them.
#pragma once

#include "core/fs/ntfs/room.h"

namespace jh::ntfs {

class FileEdit {
 public:
  struct Sizes {
    std::uint64_t allocated = 0;
    std::uint64_t data = 0;
    std::uint64_t initialized = 0;
  };
  FileEdit(Filesystem& fs, Room& room, const File& file);

  /// The clusters of a stream from now on.
  void set_runs(std::uint32_t type, const std::u16string& name, const ClusterRuns& runs,
                std::optional<Sizes> sizes = std::nullopt);
  void set_value(std::uint32_t type, ConstByteSpan value);
  /// The clusters that its list is kept in.
  void set_list_runs(const ClusterRuns& runs);
  /// Finds a record for every attribute, and writes those that have changed: what does not fit any
  /// more goes to extension records. Throws refused (no room), unsupported.
  void finish();

 private:
  bool is_table() const { return base_.number == file::mft; }
  std::size_t used(std::uint64_t record) const;
  std::size_t capacity() const { return base_.room(); }
  std::optional<std::uint64_t> overfull() const;
  bool is_pinned(const Extent& piece) const;
  void make_room(std::uint64_t record);
  std::optional<std::size_t> choose(std::uint64_t record) const;
  void split(std::size_t piece, std::size_t room);
  void move(std::size_t piece);
  std::uint64_t new_record();
  std::uint16_t new_instance(std::uint64_t record);
  void refresh_list();
  void place_list(std::uint64_t bytes);
  void write_list();
  void write_records();

  Filesystem& fs_;
  Room& room_;
  Record base_;
  std::map<std::uint64_t, Record> extensions_;
  std::vector<Extent> extents_;
  std::optional<Attribute> list_;
  Buffer list_content_;
  bool list_moved_ = false;
  ClusterRuns list_given_back_;
};

}  // namespace jh::ntfs
