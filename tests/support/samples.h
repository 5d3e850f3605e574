// Sample disks and folders for tests.
#pragma once

#include <filesystem>
#include <string>

#include "core/store/memory_store.h"

namespace jh::test {

/// A folder of its own, removed at the end.
class TempFolder {
 public:
  TempFolder();
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;
  std::string operator/(const std::string& name) const { return (path_ / name).string(); }
  const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
};

/// Unpacks demo/NAME.img.zst or tests/fixtures/NAME.img.zst, sparse. Returns where to.
std::string unpack_sample(const std::string& name, const std::string& to);
/// A copy of a file in memory; holes stay holes.
MemoryStore load(const std::string& path);
/// The other way: a new file with what a store holds; holes stay holes.
void save(Store& store, const std::string& path);
void make_sparse_file(const std::string& path, std::uint64_t size);
/// CRC-32C of a whole file, holes read as zeros.
std::uint32_t file_digest(const std::string& path);
/// The room that a file takes on its host, in bytes.
std::uint64_t allocated(const std::string& path);
std::string read_file(const std::string& path);
void write_file(const std::string& path, const std::string& text);
/// Overwrites an entry of an MBR (0 to 3); places in sectors.
void set_mbr_entry(const std::string& path, int index, std::uint8_t type, std::uint32_t first,
                   std::uint32_t count);
/// Overwrites bytes of a file.
void poke(const std::string& path, std::uint64_t offset, const std::string& bytes);

}  // namespace jh::test
