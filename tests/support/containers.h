// Images of every form: the ones an outside implementation wrote, and new ones of our own.
#pragma once

#include <map>
#include <memory>
#include <ostream>
#include <string>
#include <vector>

#include "core/container/create.h"
#include "core/store/memory_store.h"
#include "support/samples.h"

namespace jh::test {

/// The sha256 of the disk that most images in tests/fixtures/containers hold.
constexpr const char* sample_sha256 =
    "c8e2aeb23e9394255d728a8de63f5e395014aed57b0a53eb8939957a8fc4f0bd";

/// Unpacks an image, with the file that holds its data where there is one, into a folder; returns
/// its path.
std::string unpack_container(const std::string& name, const TempFolder& folder);
/// By the system's own program.
std::string sha256_of(const std::string& path);

/// Files in memory, found by their paths.
class MemoryFileResolver final : public FileResolver {
 public:
  MemoryStore& create(const std::string& path) {
    files_[path] = std::make_unique<MemoryStore>(0, path);
    return *files_[path];
  }
  Store* part(const std::string& path) override {
    const auto found = files_.find(path);
    return found == files_.end() ? nullptr : found->second.get();
  }
  Store* parent(const std::string& path) override { return part(path); }
  std::vector<std::string> siblings(const std::string& path) override {
    std::vector<std::string> paths;
    for (const auto& [other, store] : files_)
      if (other != path) paths.push_back(other);
    return paths;
  }

 private:
  std::map<std::string, std::unique_ptr<MemoryStore>> files_;
};

/// A new image in memory and the container opened on it.
struct MemoryImage {
  MemoryFileResolver files;
  MemoryStore* main = nullptr;
  std::unique_ptr<Container> container;
  void open() { container = open_container(*main, &files); }
  /// With the files that it needs for it.
  void grow(Bytes size) {
    for (const std::string& part : container->new_parts(size)) files.create(part);
    container->make_ready();
    container->grow(size);
  }
};
std::unique_ptr<MemoryImage> new_image(const NewContainer& wanted);

/// Every kind of image that can be written to in place, by a name for the test.
struct Kind {
  std::string name;
  ImageFormat format;
  Allocation allocation;
  bool in_pieces = false;
  std::uint32_t sector_size = 512;
};
inline void PrintTo(const Kind& kind, std::ostream* out) { *out << kind.name; }
const std::vector<Kind>& kinds();
NewContainer wanted(const Kind& kind, std::uint64_t size);

}  // namespace jh::test
