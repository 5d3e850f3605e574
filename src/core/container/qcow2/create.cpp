#include <fmt/format.h>

#include "core/container/qcow2/qcow2.h"

namespace jh::qcow2 {
namespace {

// Header, refcount table, one refcount block, L1 table: each begins at a cluster.
Image layout(Store& file, std::uint64_t disk_size, const NewImage& wanted) {
  Image image;
  image.version = wanted.version;
  image.cluster_bits = wanted.cluster_bits;
  image.size = disk_size;
  image.refcount_bits = 1U << wanted.refcount_order;
  image.zstd = wanted.zstd;
  Header& raw = image.raw;
  raw.magic = magic;
  raw.version = wanted.version;
  raw.cluster_bits = wanted.cluster_bits;
  raw.size = disk_size;
  raw.refcount_order = wanted.refcount_order;
  raw.header_length = wanted.version == 2 ? version2_length : 112;
  raw.incompatible = (wanted.zstd ? incompatible::compression : 0) |
                     (wanted.extended_l2 ? incompatible::extended_l2 : 0);
  raw.compression = wanted.zstd ? 1 : 0;
  const std::uint64_t tables = image.tables_for(disk_size);
  if (tables * 8 > max_l1_bytes)
    refuse(fmt::format("with clusters of {}, a qcow2 disk cannot have {}",
                       human(Bytes(image.cluster())), human(Bytes(disk_size))),
           file.name());
  raw.l1_size = checked_cast<std::uint32_t>(tables);
  raw.refcount_table_offset = image.cluster();
  raw.refcount_table_clusters = 1;
  return image;
}

}  // namespace

void create(Store& file, std::uint64_t disk_size, const NewImage& wanted) {
  Image image = layout(file, disk_size, wanted);
  file.resize(2 * image.cluster());
  write_header(file, image);
  Refcounts counts(file, image);
  counts.set(0, 1);
  counts.set(1, 1);
  const std::uint64_t l1 = counts.allocate(
      std::max<std::uint64_t>(1, ceil_div(image.tables_for(disk_size) * 8, image.cluster())));
  image.raw.l1_table_offset = l1;
  write_header(file, image);
}

class CompressedWriter::Work {
 public:
  Work(Store& file, std::uint64_t disk_size, const NewImage& wanted) : file_(file) {
    create(file, disk_size, wanted);
    image_ = read_header(file);
    counts_ = std::make_unique<Refcounts>(file, image_);
  }

  void put(std::uint64_t cluster, ConstByteSpan compressed) {
    // Compressed clusters lie one behind the other, over the borders of clusters; each cluster that
    // one touches counts it.
    const std::uint64_t size = image_.cluster();
    if (at_ == 0 || at_ % size == 0) at_ = counts_->allocate(1);
    const std::uint64_t start = at_;
    const bool fresh = start % size == 0;
    std::uint64_t end = start + compressed.size();
    // A second cluster right behind; where a table came between, the compressed bytes begin anew.
    if (start / size != (end - 1) / size) {
      const std::uint64_t next = counts_->allocate(1);
      if (next != round_down(start, size) + size) {
        if (fresh) counts_->release(start / size);
        at_ = next;
        put_at_place(cluster, compressed, true);
        return;
      }
      if (!fresh) counts_->set(start / size, counts_->count(start / size) + 1);
      write(cluster, compressed, start);
      return;
    }
    put_at_place(cluster, compressed, fresh);
  }

  void put_plain(std::uint64_t cluster, ConstByteSpan content) {
    const std::uint64_t at = counts_->allocate(1);
    file_.write_unreferenced(at, content);
    note(cluster, at | copied);
    at_ = 0;
  }

  void finish() { write_back(); }

 private:
  void put_at_place(std::uint64_t cluster, ConstByteSpan compressed, bool fresh) {
    if (!fresh) counts_->set(at_ / image_.cluster(), counts_->count(at_ / image_.cluster()) + 1);
    write(cluster, compressed, at_);
  }

  void write(std::uint64_t cluster, ConstByteSpan compressed, std::uint64_t at) {
    file_.write_unreferenced(at, compressed);
    at_ = at + compressed.size();
    const std::uint64_t sectors = (at_ - 1) / 512 - at / 512;
    note(cluster, compressed_bit | sectors << compressed_split(image_.cluster_bits) | at);
  }

  void note(std::uint64_t cluster, std::uint64_t entry) {
    const std::uint64_t table = cluster / image_.entries_per_table();
    if (entries_.empty() || table != table_) {
      write_back();
      table_ = table;
      entries_.assign(image_.cluster(), 0);
    }
    put_at(entries_, cluster % image_.entries_per_table() * 8, Be64(entry));
  }

  void write_back() {
    if (entries_.empty()) return;
    const std::uint64_t at = counts_->allocate(1);
    file_.write_unreferenced(at, entries_);
    file_.write(image_.raw.l1_table_offset.value() + table_ * 8, bytes_of(Be64(at | copied)));
    entries_.clear();
    at_ = 0;
  }

  Store& file_;
  Image image_;
  std::unique_ptr<Refcounts> counts_;
  std::uint64_t at_ = 0;  // where the next compressed bytes go; 0: into a new cluster
  std::uint64_t table_ = 0;
  Buffer entries_;  // of the L2 table at hand
};

CompressedWriter::CompressedWriter(Store& file, std::uint64_t disk_size, const NewImage& wanted)
    : work_(std::make_unique<Work>(file, disk_size, wanted)) {}
CompressedWriter::~CompressedWriter() = default;
void CompressedWriter::put(std::uint64_t cluster, ConstByteSpan compressed) {
  work_->put(cluster, compressed);
}
void CompressedWriter::put_plain(std::uint64_t cluster, ConstByteSpan content) {
  work_->put_plain(cluster, content);
}
void CompressedWriter::finish() { work_->finish(); }

}  // namespace jh::qcow2
