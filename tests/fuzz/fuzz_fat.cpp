// FAT: recognising, the audit, what is free, a file by its path.
#include "core/guest/content.h"
#include "fuzz_base.h"

namespace {

jh::fuzz::Places metadata_of(jh::MemoryStore&) { return {{0, 64}, {512, 90'000}}; }

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jh;
  MemoryStore image = fuzz::changed_image("fat", data, size, metadata_of);
  const Content content = recognise_content(image);
  if (!content.filesystem) return 0;
  fuzz::expect_orderly([&] {
    NullProgress silent;
    Findings findings;
    content.filesystem->audit(AuditScope::full, {}, findings, silent);
    content.filesystem->for_each_free([](std::uint64_t, std::uint64_t) {});
    content.filesystem->read_text("deep/er/right", 65536);
  });
  return 0;
}
