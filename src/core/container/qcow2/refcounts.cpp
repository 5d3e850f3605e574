#include "core/container/qcow2/refcounts.h"

#include <fmt/format.h>

namespace jh::qcow2 {

std::uint64_t count_in(ConstByteSpan block, std::uint32_t bits, std::uint64_t index) {
  const std::uint64_t bit = index * bits;
  if (bits < 8) return block[bit / 8] >> bit % 8 & ((1U << bits) - 1);
  std::uint64_t count = 0;
  for (std::uint64_t i = 0; i < bits / 8; ++i) count = count << 8 | block[bit / 8 + i];
  return count;
}

void set_count_in(ByteSpan block, std::uint32_t bits, std::uint64_t index, std::uint64_t count) {
  const std::uint64_t bit = index * bits;
  if (bits < 8) {
    const unsigned mask = ((1U << bits) - 1) << bit % 8;
    block[bit / 8] =
        static_cast<std::uint8_t>((block[bit / 8] & ~mask) | (count << bit % 8 & mask));
    return;
  }
  for (std::uint64_t i = bits / 8; i-- > 0; count >>= 8)
    block[bit / 8 + i] = static_cast<std::uint8_t>(count);
}

Refcounts::Refcounts(Store& file, Image& image) : file_(file), image_(image) {
  const std::uint64_t entries =
      std::uint64_t{image.raw.refcount_table_clusters.value()} * image.cluster() / 8;
  const Buffer raw = read_buffer(file, image.raw.refcount_table_offset.value(),
                                 static_cast<std::size_t>(entries * 8));
  for (std::uint64_t i = 0; i < entries; ++i) {
    const std::uint64_t offset = parse_as<Be64>(raw, i * 8).value() & ~std::uint64_t{511};
    if (offset % image.cluster() != 0 ||
        (offset != 0 && checked_add(offset, image.cluster()) > file.size()))
      damaged(fmt::format("refcount block {} lies at {}, which no cluster begins at", i, offset),
              file.name(), "let the hypervisor check and repair the image first");
    table_.push_back(offset);
  }
  while (!table_.empty() && table_.back() == 0) table_.pop_back();
}

Buffer* Refcounts::block(std::uint64_t index) {
  if (index >= table_.size() || table_[index] == 0) return nullptr;
  return &blocks_.of(index, [&] {
    return read_buffer(file_, table_[index], static_cast<std::size_t>(image_.cluster()));
  });
}

std::uint64_t Refcounts::count(std::uint64_t cluster) {
  const Buffer* found = block(cluster / per_block());
  return found == nullptr ? 0 : count_in(*found, image_.refcount_bits, cluster % per_block());
}

std::uint64_t Refcounts::take(std::uint64_t clusters) {
  const std::uint64_t at = round_up(file_.size(), image_.cluster());
  file_.resize(checked_add(at, checked_mul(clusters, image_.cluster())));
  return at;
}

// A block that counts this cluster; where there is none it is made, and counts itself in turn.
Buffer& Refcounts::block_for(std::uint64_t index) {
  if (Buffer* found = block(index)) return *found;
  if (index >= std::uint64_t{image_.raw.refcount_table_clusters.value()} * image_.cluster() / 8)
    grow_table(index + 1);
  if (index >= table_.size()) table_.resize(index + 1);
  if (table_[index] == 0) {
    const std::uint64_t at = take(1);
    table_[index] = at;
    // As a whole: the place may have held something else.
    file_.write_unreferenced(at, blocks_.put(index, Buffer(image_.cluster())));
    const Be64 entry(at);
    file_.write(image_.raw.refcount_table_offset.value() + index * 8, bytes_of(entry));
    set(at / image_.cluster(), 1);
  }
  return *block(index);
}

void Refcounts::grow_table(std::uint64_t blocks) {
  const std::uint64_t old_at = image_.raw.refcount_table_offset.value() / image_.cluster();
  const std::uint64_t old_clusters = image_.raw.refcount_table_clusters.value();
  // Half as much again, so that it does not move soon; and what counts the new table itself.
  const std::uint64_t clusters = ceil_div((blocks + blocks / 2 + 16) * 8, image_.cluster());
  const std::uint64_t at = take(clusters);
  Buffer raw(clusters * image_.cluster());
  for (std::size_t i = 0; i < table_.size(); ++i) put_at(raw, i * 8, Be64(table_[i]));
  file_.write_unreferenced(at, raw);
  image_.raw.refcount_table_offset = at;
  image_.raw.refcount_table_clusters = checked_cast<std::uint32_t>(clusters);
  write_header(file_, image_);
  set_run(at / image_.cluster(), clusters, 1);
  set_run(old_at, old_clusters, 0);
}

void Refcounts::set_run(std::uint64_t first, std::uint64_t clusters, std::uint64_t count) {
  const std::uint32_t bits = image_.refcount_bits;
  if (bits < 64 && count >> bits != 0)
    refuse(
        fmt::format("a cluster would have {} references, but the counts have {} bits", count, bits),
        file_.name());
  while (clusters != 0) {
    const std::uint64_t index = first / per_block();
    const std::uint64_t inside = first % per_block();
    const std::uint64_t step = std::min(clusters, per_block() - inside);
    first += step;
    clusters -= step;
    if (count == 0 && block(index) == nullptr) continue;
    Buffer& counts = block_for(index);
    for (std::uint64_t i = 0; i < step; ++i) set_count_in(counts, bits, inside + i, count);
    const std::uint64_t from = inside * bits / 8;
    const std::uint64_t to = ceil_div((inside + step) * bits, 8);
    file_.write(table_[index] + from, ConstByteSpan(counts).subspan(from, to - from));
  }
}

void Refcounts::release_run(std::uint64_t first, std::uint64_t clusters) {
  while (clusters != 0) {
    const std::uint64_t now = count(first);
    if (now == 0)
      damaged(fmt::format("cluster {} is in use, but its reference count is 0", first),
              file_.name(), "let the hypervisor check and repair the image first");
    std::uint64_t same = 1;
    while (same < clusters && count(first + same) == now) ++same;
    set_run(first, same, now - 1);
    first += same;
    clusters -= same;
  }
}

std::uint64_t Refcounts::allocate(std::uint64_t clusters) {
  const std::uint64_t at = take(clusters);
  set_run(at / image_.cluster(), clusters, 1);
  return at;
}

void Refcounts::move_block(std::uint64_t index, std::uint64_t to) {
  const std::uint64_t from = table_[index];
  const Buffer content = *block(index);
  file_.write_unreferenced(to, content);
  table_[index] = to;
  file_.write(image_.raw.refcount_table_offset.value() + index * 8, bytes_of(Be64(to)));
  set(to / image_.cluster(), 1);
  set(from / image_.cluster(), 0);
}

void Refcounts::move_table(std::uint64_t to) {
  const std::uint64_t old = image_.raw.refcount_table_offset.value();
  const std::uint64_t clusters = image_.raw.refcount_table_clusters.value();
  // What counts its new place is there before it is written.
  set_run(to / image_.cluster(), clusters, 1);
  Buffer raw(clusters * image_.cluster());
  for (std::size_t i = 0; i < table_.size(); ++i) put_at(raw, i * 8, Be64(table_[i]));
  file_.write_unreferenced(to, raw);
  image_.raw.refcount_table_offset = to;
  write_header(file_, image_);
  set_run(old / image_.cluster(), clusters, 0);
}

void Refcounts::rebuild(const std::function<void(const Counted& visit)>& for_each_run) {
  const std::uint64_t clusters = image_.raw.refcount_table_clusters.value();
  const std::uint64_t old_first = image_.raw.refcount_table_offset.value() / image_.cluster();
  const std::uint64_t old_end = old_first + clusters;
  const std::uint64_t at = take(clusters);
  table_.clear();
  blocks_.clear();
  file_.write_unreferenced(at, Buffer(clusters * image_.cluster()));
  image_.raw.refcount_table_offset = at;
  write_header(file_, image_);
  set_run(at / image_.cluster(), clusters, 1);
  for_each_run([&](std::uint64_t first, std::uint64_t count, std::uint64_t references) {
    const std::uint64_t end = first + count;
    const auto set_part = [&](std::uint64_t from, std::uint64_t to) {
      if (from < to) set_run(from, to - from, references);
    };
    set_part(first, std::min(end, old_first));
    set_part(std::max(first, old_end), end);
  });
}

}  // namespace jh::qcow2
