#include "fuzz_base.h"

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <map>

#include "core/store/file_store.h"

namespace jh::fuzz {
namespace {

namespace files = std::filesystem;

// Whole pages that hold anything; the rest of the image is holes.
MemoryStore load(const std::string& path) {
  FileStore file(path, Access::read_only);
  MemoryStore memory(file.size(), "image");
  for (std::uint64_t at = 0; at < file.size(); at += 4096) {
    const Buffer page = read_buffer(file, at, std::min<std::uint64_t>(4096, file.size() - at));
    if (!all_zero(page)) memory.write(at, page);
  }
  return memory;
}

const std::vector<MemoryStore>& bases(const std::string& prefix) {
  static std::map<std::string, std::vector<MemoryStore>> loaded;
  auto& images = loaded[prefix];
  if (!images.empty()) return images;
  const char* folder = std::getenv("JUNEHEATH_FUZZ_BASE");
  if (folder == nullptr) {
    std::fputs("JUNEHEATH_FUZZ_BASE is not set; run scripts/fuzz\n", stderr);
    std::exit(2);
  }
  std::vector<std::string> names;
  for (const auto& entry : files::directory_iterator(folder))
    if (entry.path().filename().string().starts_with(prefix)) names.push_back(entry.path());
  std::sort(names.begin(), names.end());
  for (const std::string& name : names) images.push_back(load(name));
  if (images.empty()) std::exit(2);
  return images;
}

std::uint64_t place_of(std::uint64_t number, const Places& places) {
  std::uint64_t all = 0;
  for (const auto& [offset, length] : places) all += length;
  number %= all;
  for (const auto& [offset, length] : places) {
    if (number < length) return offset + number;
    number -= length;
  }
  return 0;
}

}  // namespace

MemoryStore changed_image(const char* prefix, const std::uint8_t* data, std::size_t size,
                          Places (*places)(MemoryStore&)) {
  const auto& images = bases(prefix);
  MemoryStore image(images[size == 0 ? 0 : data[0] % images.size()], "image");
  const Places targets = places != nullptr ? places(image) : Places{{0, image.size()}};
  for (std::size_t at = 1; at + 5 < size;) {
    std::uint32_t place = 0;
    std::memcpy(&place, data + at, 4);
    const std::size_t length = std::min<std::size_t>(data[at + 4] % 33, size - at - 5);
    const std::uint64_t offset = place_of(place, targets);
    const std::size_t fits = std::min<std::size_t>(length, image.size() - offset);
    image.write(offset, {data + at + 5, fits});
    at += 5 + length;
  }
  return image;
}

void expect_orderly(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    if (error.status() != Status::internal) return;
    std::fprintf(stderr, "broken promise: %s\n", error.what());
    std::abort();
  }
}

}  // namespace jh::fuzz
