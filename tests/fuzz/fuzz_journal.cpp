// Unclean filesystems: replaying the journal and cleaning up orphans, on memory and in a scratch
// store.
#include "core/fs/ext/audit.h"
#include "core/fs/ext/rest.h"
#include "core/store/scratch_store.h"
#include "fuzz_base.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jh;
  MemoryStore image = fuzz::changed_image("unclean", data, size);
  fuzz::expect_orderly([&] {
    ScratchStore scratch(image);
    ext::bring_to_rest(scratch);
    ext::Filesystem fs(scratch);
    NullProgress silent;
    Findings findings;
    ext::audit(fs, {}, findings, silent);
  });
  return 0;
}
