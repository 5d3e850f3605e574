// Fuzzing disks: an input is not a whole disk but a list of changes to a sound one, so that the
// fuzzer's bytes go where they matter. The sound ones are files in the folder JUNEHEATH_FUZZ_BASE,
// made by scripts/fuzz.
#pragma once

#include <functional>

#include "core/guest/content.h"
#include "core/store/memory_store.h"

namespace jh::fuzz {

using Places = std::vector<std::pair<std::uint64_t, std::uint64_t>>;  // offset, length

/// A changed copy of one of the base images whose name begins with `prefix`. Input: which image (1
/// byte), then changes: place (4 bytes), length (1 byte, at most 32 used), bytes. `places`: where
/// in the image they go, when that is not to be anywhere.
MemoryStore changed_image(const char* prefix, const std::uint8_t* data, std::size_t size,
                          Places (*places)(MemoryStore&) = nullptr);

/// Runs `work`; an Error is a normal outcome, unless it says that we broke our own promise.
void expect_orderly(const std::function<void()>& work);

/// What every kind of filesystem is asked: its audit, what it has free, a file by its path; then
/// `more`.
template <class More>
void look_into(MemoryStore& image, AuditScope scope, const char* path, More more) {
  const Content content = recognise_content(image);
  if (content.on_disk() == nullptr) return;
  expect_orderly([&] {
    NullProgress silent;
    Findings findings;
    content.on_disk()->audit(scope, {}, findings, silent);
    content.on_disk()->for_each_free([](std::uint64_t, std::uint64_t) {});
    content.filesystem()->read_text(path, 65536);
    more(*content.on_disk());
  });
}

}  // namespace jh::fuzz
