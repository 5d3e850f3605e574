// A guest's registry: the letters of its volumes.
#include "core/guest/registry.h"
#include "core/store/memory_store.h"
#include "fuzz_base.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jh;
  if (size == 0) return 0;
  MemoryStore hive(size, "hive");
  hive.write(0, {data, size});
  fuzz::expect_orderly([&] { read_drive_letters(hive); });
  return 0;
}
