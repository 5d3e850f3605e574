// FAT: recognising, the audit, what is free, a file by its path.
#include "fuzz_base.h"

namespace {

jh::fuzz::Places metadata_of(jh::MemoryStore&) { return {{0, 64}, {512, 90'000}}; }

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jh;
  MemoryStore image = fuzz::changed_image("fat", data, size, metadata_of);
  fuzz::look_into(image, AuditScope::full, "deep/er/right",
                  [&](FilesystemOnDisk& fs) { fs.floor(); });
  return 0;
}
