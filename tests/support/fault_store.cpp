#include "support/fault_store.h"

#include "core/base/checked.h"

namespace jh {
namespace {

using Kind = FaultFile::Operation::Kind;

void carry_out(MemoryStore& store, const FaultFile::Operation& operation) {
  switch (operation.kind) {
    case Kind::write:
      store.write(operation.offset, operation.data);
      break;
    case Kind::resize:
      store.resize(operation.offset);
      break;
    case Kind::discard:
      store.discard(operation.offset, operation.length);
      break;
  }
}

// Some sectors of a write arrive, others do not; where they need not be whole, now and then one
// stops in its middle.
void tear(MemoryStore& store, const FaultFile::Operation& operation, bool whole,
          std::mt19937& random) {
  constexpr std::uint64_t sector = 512;
  std::uint64_t next = 0;
  for (std::uint64_t at = 0; at < operation.data.size(); at = next) {
    const std::uint64_t offset = operation.offset + at;
    next = std::min<std::uint64_t>(operation.data.size(), at + sector - offset % sector);
    if (random() % 2 == 0) continue;
    std::uint64_t length = next - at;
    if (!whole && random() % 8 == 0) length = random() % (length + 1);
    if (offset >= store.size()) continue;
    length = std::min(length, store.size() - offset);
    store.write(offset, ConstByteSpan(operation.data).subspan(at, length));
  }
}

}  // namespace

void FaultFile::power_lost(Unflushed mode, std::mt19937& random) {
  if (mode == Unflushed::each) {
    constexpr std::array fates{Unflushed::kept, Unflushed::lost, Unflushed::torn};
    mode = fates[random() % fates.size()];
  }
  for (const Operation& operation : pending) {
    if (mode == Unflushed::kept) carry_out(durable, operation);
    if (mode != Unflushed::torn) continue;
    if (operation.kind == Kind::write) {
      tear(durable, operation, whole_sectors, random);
    } else if (random() % 2 == 0 &&
               operation.offset + operation.length <= std::max(durable.size(), operation.offset)) {
      carry_out(durable, operation);
    }
  }
  pending.clear();
  view.assign(durable);
}

void FaultStore::read(std::uint64_t offset, ByteSpan out) {
  if (power_.is_off()) throw PowerCut();
  file_->view.read(offset, out);
}

void FaultStore::change(FaultFile::Operation operation) {
  const bool cut = power_.tick();
  carry_out(file_->view, operation);  // refuses a wrong range before it counts as begun
  file_->pending.push_back(std::move(operation));
  if (cut) throw PowerCut();
}

void FaultStore::write(std::uint64_t offset, ConstByteSpan data) {
  check_range(offset, data.size());
  power_.take_room(missing(offset, data.size()));
  change({Kind::write, offset, data.size(), Buffer(data.begin(), data.end())});
}

// How much of a range has no room on the host yet.
std::uint64_t FaultStore::missing(std::uint64_t offset, std::uint64_t length) {
  constexpr std::uint64_t page = MemoryStore::page_size;
  MemoryStore& view = file_->view;
  std::uint64_t bytes = 0;
  const std::uint64_t end = std::min(view.size(), round_up(offset + length, page));
  for (std::uint64_t at = round_down(offset, page); at < end;) {
    const Range run = view.map(at, end - at);
    if (run.zero) bytes += round_up(run.length, page);
    at += run.length;
  }
  return bytes;
}

void FaultStore::reserve(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t end = offset + length;
  const std::uint64_t inside = std::min(end, size());
  if (offset < inside) {
    const std::uint64_t needed = missing(offset, inside - offset);
    power_.take_room(needed);
    // Room that nothing was written to reads as zeros, and zeros written there are room.
    if (needed != 0)
      for (std::uint64_t at = offset; at < inside;) {
        const Range run = file_->view.map(at, inside - at);
        if (run.zero) file_->view.write(at, Buffer(run.length));
        at += run.length;
      }
  }
  const std::uint64_t promised = std::max(file_->promised_end, size());
  if (end <= promised) return;
  power_.take_room(end - promised);
  file_->promised_end = end;
}

std::uint64_t FaultStore::share(std::uint64_t offset, Store& from, std::uint64_t source,
                                std::uint64_t length) {
  if (dynamic_cast<FaultStore*>(&from) == nullptr || !power_.may_share()) return 0;
  length = round_down(length, MemoryStore::page_size);
  change({Kind::write, offset, length, read_buffer(from, source, length)});
  return length;
}

void FaultStore::discard(std::uint64_t offset, std::uint64_t length) {
  change({Kind::discard, offset, length, {}});
}

void FaultStore::resize(std::uint64_t new_size) { change({Kind::resize, new_size, 0, {}}); }

void FaultStore::flush() {
  if (power_.tick()) throw PowerCut();
  file_->durable.assign(file_->view);
  file_->pending.clear();
}

}  // namespace jh
