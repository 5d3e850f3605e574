#include "core/container/qcow2/bitmaps.h"

namespace jh::qcow2 {
namespace {

[[noreturn]] void corrupt(Store& file) {
  damaged("a bitmap of changed blocks is corrupt", file.name(),
          "let the hypervisor check the image, or remove its bitmaps there");
}

class Bitmap {
 public:
  Bitmap(Store& file, const Image& image, Refcounts& counts, std::uint64_t at, BitmapEntry entry)
      : file_(file), cluster_(image.cluster()), counts_(counts), at_(at), entry_(entry) {
    const std::uint64_t table = entry_.table_offset.value();
    const std::uint64_t bytes = std::uint64_t{entry_.table_size.value()} * 8;
    if (table % cluster_ != 0 || checked_add(table, bytes) > file.size() ||
        entry_.granularity_bits < 9 || entry_.granularity_bits > 31 ||
        entry_.table_size.value() > entries_for(bits_for(image.size)))
      corrupt(file);
    const Buffer raw = read_buffer(file, table, static_cast<std::size_t>(bytes));
    for (std::size_t i = 0; i < raw.size(); i += 8)
      entries_.push_back(parse_as<Be64>(raw, i).value());
  }

  // Whoever made it and did not close it has left what nobody may rely on.
  bool is_reliable() const { return (entry_.flags.value() & bitmap_flag::in_use) == 0; }
  bool is_kept_up() const { return (entry_.flags.value() & bitmap_flag::automatic) != 0; }

  void set_all() {
    for (std::uint64_t& entry : entries_) {
      let_go(entry);
      entry = all_ones;
    }
    write(entries_.size());
  }

  void resize(std::uint64_t disk_size) {
    const std::uint64_t bits = bits_for(disk_size);
    const std::uint64_t wanted = entries_for(bits);
    const std::uint64_t before = entries_.size();
    for (std::uint64_t i = wanted; i < before; ++i) let_go(entries_[i]);
    entries_.resize(wanted, is_kept_up() ? all_ones : 0);
    if (wanted != 0 && wanted <= before) clear_behind(bits);
    write(before);
  }

 private:
  std::uint64_t bits_for(std::uint64_t disk_size) const {
    return ceil_div(disk_size, std::uint64_t{1} << entry_.granularity_bits);
  }
  std::uint64_t entries_for(std::uint64_t bits) const {
    return ceil_div(ceil_div(bits, 8), cluster_);
  }
  void let_go(std::uint64_t entry) {
    if ((entry & offset_mask) != 0) counts_.release((entry & offset_mask) / cluster_);
  }

  // What the last cluster says of blocks behind the disk's end is not to be said of new ones.
  void clear_behind(std::uint64_t bits) {
    const std::uint64_t place = entries_.back() & offset_mask;
    const std::uint64_t inside = bits - (entries_.size() - 1) * cluster_ * 8;
    if (place == 0 || inside == cluster_ * 8) return;
    Buffer raw = read_buffer(file_, place, static_cast<std::size_t>(cluster_));
    for (std::uint64_t bit = inside; bit < round_up(inside, 8); ++bit)
      raw[bit / 8] &= static_cast<std::uint8_t>(~(1U << bit % 8));
    std::fill(raw.begin() + static_cast<std::ptrdiff_t>(ceil_div(inside, 8)), raw.end(), 0);
    file_.write(place, raw);
  }

  // In place while its clusters have room for it; `before`: how many entries it had.
  void write(std::uint64_t before) {
    const std::uint64_t old_clusters = ceil_div(before * 8, cluster_);
    const std::uint64_t clusters = ceil_div(entries_.size() * 8, cluster_);
    const std::uint64_t old_at = entry_.table_offset.value();
    Buffer raw(std::max(clusters, std::uint64_t{1}) * cluster_);
    for (std::size_t i = 0; i < entries_.size(); ++i) put_at(raw, i * 8, Be64(entries_[i]));
    std::uint64_t at = old_at;
    if (clusters > old_clusters) at = counts_.allocate(clusters);
    if (file_.size() < at + raw.size()) file_.resize(at + raw.size());
    file_.write(at, raw);
    for (std::uint64_t c = at == old_at ? std::max<std::uint64_t>(clusters, 1) : 0;
         c < old_clusters; ++c)
      counts_.release(old_at / cluster_ + c);
    entry_.table_offset = at;
    entry_.table_size = checked_cast<std::uint32_t>(entries_.size());
    file_.write(at_, bytes_of(entry_));
  }

  Store& file_;
  std::uint64_t cluster_;
  Refcounts& counts_;
  std::uint64_t at_;  // of its entry in the directory
  BitmapEntry entry_;
  std::vector<std::uint64_t> entries_;
};

template <class Work>
void on_each(Store& file, const Image& image, Refcounts& counts, Work work) {
  const char* wrong = for_each_bitmap(file, image, [&](std::uint64_t at, const BitmapEntry& entry) {
    Bitmap bitmap(file, image, counts, at, entry);
    work(bitmap);
  });
  if (wrong != nullptr) corrupt(file);
}

}  // namespace

void mark_all_changed(Store& file, const Image& image, Refcounts& counts) {
  on_each(file, image, counts, [](Bitmap& bitmap) {
    if (bitmap.is_reliable() && bitmap.is_kept_up()) bitmap.set_all();
  });
}

void resize_bitmaps(Store& file, const Image& image, Refcounts& counts, std::uint64_t disk_size) {
  on_each(file, image, counts, [&](Bitmap& bitmap) { bitmap.resize(disk_size); });
}

}  // namespace jh::qcow2
