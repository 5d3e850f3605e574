// A file: its base record, and what its attribute list names in others.
#pragma once

#include <map>
#include <optional>

#include "core/fs/ntfs/attribute_list.h"
#include "core/fs/ntfs/filesystem.h"

namespace jh::ntfs {

/// One attribute, or a piece of one, and the record that it stands in.
struct Extent {
  Attribute attribute;
  std::uint64_t record = 0;
};

class File {
 public:
  /// Reads the extension records. Throws damaged: what the list says is not so.
  File(Filesystem& fs, Record base);

  std::uint64_t number() const { return base_.number; }
  const Record& base() const { return base_; }
  const std::map<std::uint64_t, Record>& extensions() const { return extensions_; }
  /// All but the list itself, pieces of one stream side by side, ascending.
  const std::vector<Extent>& pieces() const { return extents_; }
  const std::optional<Attribute>& list() const { return list_; }

  /// Where the first piece of a stream stands in pieces(). Nothing: it has none of these.
  std::optional<std::size_t> find(std::uint32_t type, std::u16string_view name = {}) const;
  /// Where the stream behind that at `first` begins.
  std::size_t next_stream(std::size_t first) const;
  /// The clusters of the stream whose first piece is `first`. Throws damaged: gaps, overlaps.
  ClusterRuns runs(std::size_t first) const;
  Stream stream(std::size_t first) const;
  /// Throws damaged when it is not there.
  Stream stream(std::uint32_t type, std::u16string_view name = {}) const;
  /// "\"name\" of file 7", for messages.
  std::string text(std::size_t piece) const;

 private:
  void follow_list(const std::vector<ListItem>& items);

  Filesystem* fs_;
  Record base_;
  std::map<std::uint64_t, Record> extensions_;
  std::vector<Extent> extents_;
  std::optional<Attribute> list_;
};

}  // namespace jh::ntfs
