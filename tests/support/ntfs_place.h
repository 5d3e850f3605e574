// NTFS volumes for tests: what is changed in them by hand.
#pragma once

#include "core/fs/ntfs/index.h"
#include "core/fs/ntfs/ntfs.h"
#include "core/fs/ntfs/room.h"
#include "support/samples.h"

namespace jh::test {

/// A sample volume in memory.
inline MemoryStore ntfs_sample(const std::string& name) {
  const TempFolder folder;
  unpack_sample(name, folder / "volume");
  return load(folder / "volume");
}

/// Where the bytes of a file's content begin, by its path.
inline std::uint64_t ntfs_content_at(Store& place, const std::string& path) {
  ntfs::Filesystem fs(place);
  const ntfs::File file(fs, fs.read_record(ntfs::find_file(fs, path).value()));
  return fs.geometry().offset(file.stream(ntfs::type::data).runs().front().lcn);
}

/// Edits one resident value of a record.
template <class Edit>
void edit_ntfs_value(Store& place, std::uint64_t number, std::uint32_t type, Edit edit) {
  ntfs::Filesystem fs(place);
  ntfs::Record record = fs.read_record(number);
  auto attributes = record.attributes();
  for (ntfs::Attribute& attribute : attributes) {
    if (attribute.type() != type || !attribute.resident()) continue;
    Buffer value(attribute.value().begin(), attribute.value().end());
    edit(value);
    attribute.set_value(value);
  }
  record.set_attributes(attributes);
  fs.write_record(record);
}

}  // namespace jh::test
