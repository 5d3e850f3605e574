// An image of one form: reading, auditing, and what growing and writing do to it. The form is set
// when this is compiled: one target each.
#include <cstdio>

#include "core/container/container.h"
#include "core/container/recognise.h"
#include "fuzz_base.h"

namespace {

void read_some(jh::Store& disk) {
  jh::Buffer bytes(4096);
  const std::uint64_t size = disk.size();
  for (std::uint64_t at = 0; at < std::min<std::uint64_t>(size, 12U << 20); at += 300U << 10)
    disk.read(at, jh::ByteSpan(bytes).first(std::min<std::uint64_t>(4096, size - at)));
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jh;
  MemoryStore file = fuzz::changed_image(JUNEHEATH_FUZZ_FORM, data, size);
  fuzz::expect_orderly([&] {
    const auto container = open_container(file);
    const ContainerFacts facts = container->facts();
    read_some(container->disk());
    Findings findings;
    container->audit(findings);
    const std::uint64_t old_size = container->disk().size();
    // Growing what is damaged must be orderly too; growing what is sound must stay sound.
    if (!facts.blockers.empty() || old_size > (1ULL << 40)) return;
    const Bytes larger(round_up(old_size + (40U << 20), container->size_unit().value()));
    container->check_growth(larger);
    container->make_ready();
    container->grow(larger);
    container->disk().write(larger.value() - 70000, Buffer(66000, 0x5a));
    container->disk().write(100, Buffer(3000, 0x33));
    container->disk().discard(1U << 20, std::min<std::uint64_t>(2U << 20, old_size >> 1));
    if (!findings.clean() || recognise_format(file) == ImageFormat::raw) return;
    const auto again = open_container(file);
    Findings after;
    again->audit(after);
    for (const Finding& finding : after.kept()) std::fprintf(stderr, "%s\n", finding.what.c_str());
    ensure(after.clean(), "a sound image is sound after it grew");
    ensure(read_buffer(again->disk(), larger.value() - 70000, 66000) == Buffer(66000, 0x5a),
           "what was written is read");
  });
  return 0;
}
