// Metadata text, labels and metadata areas of volume groups.
#include "core/lvm/grow.h"
#include "core/lvm/read.h"
#include "core/store/memory_store.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jh;
  if (size < 2) return 0;
  try {
    if ((data[0] & 1) == 0) {
      const std::string text(reinterpret_cast<const char*>(data + 1), size - 1);
      const lvm::Node tree = lvm::parse_text(text);
      const std::string written = lvm::write_text(tree);
      ensure(lvm::write_text(lvm::parse_text(written)) == written, "text is stable");
      const lvm::Group group(tree);
      for (const lvm::Volume& volume : group.volumes)
        if (volume.plain()) lvm::allocate(group, volume, 1000);
    } else {
      MemoryStore store(1U << 20);
      store.write(0, ConstByteSpan(data + 1, std::min<std::size_t>(size - 1, store.size())));
      const auto found = lvm::find_groups({&store});
      for (const lvm::OpenGroup& open : found.groups)
        for (const lvm::Volume& volume : open.group.volumes) lvm::open_volume(open, volume, "v");
    }
  } catch (const Error& error) {
    if (error.status() == Status::internal) __builtin_trap();
  }
  return 0;
}
