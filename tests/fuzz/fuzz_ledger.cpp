// Ledgers as somebody else may have written them: every sum is right, what they say is not.
// Whatever it is, recover and undo reach no file that was not named, and an error leaves the image
// alone.
#include <cstdlib>

#include "core/store/first_page_guard.h"
#include "core/store/recovery.h"
#include "core/store/transaction.h"
#include "fuzz_base.h"
#include "support/fault_host.h"

namespace {

using namespace jh;

constexpr const char* image = "/m/a.img";
constexpr const char* other = "/n/b.img";

MemoryStore content(std::uint8_t seed) {
  MemoryStore made(65'536);
  for (std::uint64_t at = 0; at < 60'000; at += 8192)
    made.write(at, Buffer(4096, static_cast<std::uint8_t>(seed + at / 8192)));
  return made;
}

// Takes numbers off the front of the input; zeros when it is used up.
class Numbers {
 public:
  Numbers(const std::uint8_t* data, std::size_t size) : data_(data), left_(size) {}
  bool more() const { return left_ != 0; }
  std::uint8_t byte() {
    if (left_ == 0) return 0;
    --left_;
    return *data_++;
  }
  // Mostly small, sometimes anything.
  std::uint64_t number() {
    const std::uint8_t kind = byte();
    std::uint64_t value = byte() | std::uint64_t{byte()} << 8;
    if (kind % 4 == 0) value = value * 512 % 131'072;
    if (kind % 16 == 1) value |= std::uint64_t{byte()} << 56 | std::uint64_t{byte()} << 32;
    return value;
  }

 private:
  const std::uint8_t* data_;
  std::size_t left_;
};

void write_records(Ledger& ledger, Numbers& numbers) {
  for (int i = 0; i < 64 && numbers.more(); ++i) {
    const auto kind = static_cast<ledger::RecordKind>(numbers.byte() % 12);
    const std::uint32_t which = numbers.byte() % 2;
    const std::uint64_t offset = numbers.number();
    const std::uint64_t length = numbers.number();
    switch (numbers.byte() % 4) {
      case 0:
        ledger.append_zero(kind, which, offset, length);
        break;
      case 1:
        ledger.append(kind, which, offset, Buffer(length % 9000, numbers.byte()));
        break;
      case 2:
        ledger.append_compressed(kind, which, offset, Buffer(length % 9000, numbers.byte()));
        break;
      default: {
        Buffer payload(numbers.byte() % 64);
        for (std::uint8_t& each : payload) each = numbers.byte();
        ledger.append_about(kind, which, offset, length, payload, numbers.byte() % 8);
      }
    }
  }
}

void expect(bool holds) {
  if (!holds) std::abort();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  Numbers numbers(data, size);
  test::FaultHost host;
  host.put(image, content(1));
  host.put(other, content(9));
  const std::uint8_t shape = numbers.byte();
  fuzz::expect_orderly([&] {
    const auto a = host.open(image, Access::read_write);
    const auto b = host.open(other, Access::read_write);
    const bool two = (shape & 1) != 0;
    std::vector<std::string> paths{image};
    std::vector<Store*> stores{a.get()};
    // With one image, records about a second one are damage.
    if (two) paths.emplace_back(other), stores.push_back(b.get());
    auto ledger = Ledger::create(host, paths, stores, (shape & 2) != 0 && two ? 1 : 0);
    write_records(*ledger, numbers);
    const std::uint8_t front = numbers.byte() % 3;
    if (front != 0) {
      ledger->append_about(ledger::RecordKind::front, 0, 0, 0, {});
      FirstPageGuards::note(*ledger, 0, *stores[0], stores[0]->size());
    }
    ledger->flush();
    if ((shape & 4) != 0) ledger->commit((shape & 8) == 0);
    if (front == 2) FirstPageGuards(*ledger, stores).close_all();
    if ((shape & 16) != 0) ledger->mark_applied();
    if ((shape & 16) != 0 && numbers.byte() % 4 != 0) ledger->mark_done();
    if ((shape & 32) != 0) ledger->mark_undoing();
    if ((shape & 64) != 0) ledger->mark_fetched();
    if ((shape & 64) != 0 && numbers.byte() % 2 != 0) ledger->mark_restored();
  });
  const bool both = (shape & 128) != 0;
  const Named named{both ? std::vector<std::string>{image, other} : std::vector<std::string>{image},
                    {}};
  for (const bool undoes : {true, false}) {
    const MemoryStore before(host.content(image), "before");
    bool failed = true;
    fuzz::expect_orderly([&] {
      if (undoes)
        undo(host, image, named);
      else
        recover(host, image, named);
      failed = false;
    });
    if (failed) expect(host.content(image).same_content(before));
    if (!both) expect(host.exists(other) && host.content(other).same_content(content(9)));
  }
  return 0;
}
