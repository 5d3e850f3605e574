#include "core/store/fault_store.h"

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

// Some sectors of a write arrive, others do not; now and then one stops in its middle.
void tear(MemoryStore& store, const FaultFile::Operation& operation, std::mt19937& random) {
  constexpr std::size_t sector = 512;
  for (std::size_t at = 0; at < operation.data.size(); at += sector) {
    if (random() % 2 == 0) continue;
    std::size_t length = std::min(sector, operation.data.size() - at);
    if (random() % 8 == 0) length = random() % (length + 1);
    const std::uint64_t offset = operation.offset + at;
    if (offset >= store.size()) continue;
    length = std::min<std::size_t>(length, store.size() - offset);
    store.write(offset, ConstByteSpan(operation.data).subspan(at, length));
  }
}

}  // namespace

void FaultFile::power_lost(Unflushed mode, std::mt19937& random) {
  for (const Operation& operation : pending) {
    if (mode == Unflushed::kept) carry_out(durable, operation);
    if (mode != Unflushed::torn) continue;
    if (operation.kind == Kind::write) {
      tear(durable, operation, random);
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
  change({Kind::write, offset, data.size(), Buffer(data.begin(), data.end())});
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
