#include "support/qcow2_snapshots.h"

#include "support/test.h"

namespace jh::test {
namespace {

constexpr std::uint64_t offset_bits = 0x00fffffffffffe00;
constexpr std::uint64_t one_owner = 1ULL << 63;
constexpr std::uint64_t packed = 1ULL << 62;

// Plain clusters only, counts of 16 bits: what new images have.
class Image {
 public:
  explicit Image(const std::string& path)
      : file_(path, std::ios::in | std::ios::out | std::ios::binary) {
    bits_ = static_cast<unsigned>(be(20, 4));
    EXPECT_EQ(be(0, 4), 0x514649fbU);
    EXPECT_TRUE(be(4, 4) == 2 || be(96, 4) == 4) << "counts of 16 bits";
  }

  std::uint64_t cluster() const { return std::uint64_t{1} << bits_; }
  std::uint64_t reach() const { return cluster() * (cluster() / 8); }  // of one L2 table
  std::uint64_t be(std::uint64_t at, unsigned bytes) {
    const std::string raw = read(at, bytes);
    std::uint64_t value = 0;
    for (const char c : raw) value = value << 8 | static_cast<unsigned char>(c);
    return value;
  }
  void put(std::uint64_t at, std::uint64_t value, unsigned bytes) {
    std::string raw(bytes, '\0');
    for (unsigned i = bytes; i-- > 0; value >>= 8) raw[i] = static_cast<char>(value);
    write(at, raw);
  }
  std::string read(std::uint64_t at, std::uint64_t length) {
    std::string raw(length, '\0');
    file_.clear();
    file_.seekg(static_cast<std::streamoff>(at));
    file_.read(raw.data(), static_cast<std::streamsize>(length));
    return raw;
  }
  void write(std::uint64_t at, const std::string& raw) {
    file_.clear();
    file_.seekp(static_cast<std::streamoff>(at));
    file_.write(raw.data(), static_cast<std::streamsize>(raw.size()));
  }
  std::uint64_t end() {
    file_.clear();
    file_.seekg(0, std::ios::end);
    return static_cast<std::uint64_t>(file_.tellg());
  }

  // Where a cluster's count stands; the block that it is in must be there.
  std::uint64_t count_at(std::uint64_t number) {
    const std::uint64_t per_block = cluster() / 2;
    const std::uint64_t block = be(be(48, 8) + number / per_block * 8, 8);
    return block == 0 ? 0 : block + number % per_block * 2;
  }
  std::uint64_t count(std::uint64_t number) {
    const std::uint64_t at = count_at(number);
    return at == 0 ? 0 : be(at, 2);
  }
  void add(std::uint64_t number, std::int64_t more) {
    const std::uint64_t at = count_at(number);
    ASSERT_NE(at, 0U) << "the counts of cluster " << number << " are not there";
    put(at, be(at, 2) + static_cast<std::uint64_t>(more), 2);
  }
  // New clusters at the file's end.
  std::uint64_t take(std::uint64_t clusters) {
    const std::uint64_t first = (end() + cluster() - 1) / cluster();
    write((first + clusters) * cluster() - 1, std::string(1, '\0'));
    for (std::uint64_t i = 0; i < clusters; ++i) add(first + i, 1);
    return first * cluster();
  }

  // Calls visit(cluster number of the file, where its entry stands) for tables and data of a state.
  template <class Visit>
  void walk(std::uint64_t l1, std::uint64_t entries, Visit visit) {
    for (std::uint64_t i = 0; i < entries; ++i) {
      const std::uint64_t table = be(l1 + i * 8, 8) & offset_bits;
      if (table == 0) continue;
      visit(table / cluster(), l1 + i * 8);
      const std::string raw = read(table, cluster());
      for (std::uint64_t e = 0; e < cluster() / 8; ++e) {
        std::uint64_t entry = 0;
        for (int b = 0; b < 8; ++b)
          entry = entry << 8 | static_cast<unsigned char>(raw[e * 8 + static_cast<unsigned>(b)]);
        if ((entry & packed) != 0) {
          const unsigned split = 62 - (bits_ - 8);
          const std::uint64_t at = entry & ((1ULL << split) - 1);
          const std::uint64_t sectors = (entry & ~(one_owner | packed)) >> split;
          const std::uint64_t last = (at & ~511ULL) + (sectors + 1) * 512 - 1;
          for (std::uint64_t c = at / cluster(); c <= last / cluster(); ++c) visit(c, 0);
        } else if ((entry & offset_bits) != 0) {
          visit((entry & offset_bits) / cluster(), table + e * 8);
        }
      }
    }
  }

  // A state lets go of its tables and data.
  void release(std::uint64_t l1, std::uint64_t entries) {
    std::vector<std::uint64_t> gone;
    walk(l1, entries, [&](std::uint64_t cluster, std::uint64_t) { gone.push_back(cluster); });
    for (const std::uint64_t cluster : gone) add(cluster, -1);
  }

  struct Snapshot {
    std::uint64_t l1 = 0;
    std::uint64_t l1_size = 0;
    SnapshotSeen seen;
    std::string raw;  // of the list
  };
  std::vector<Snapshot> snapshots() {
    std::vector<Snapshot> all;
    std::uint64_t at = be(64, 8);
    for (std::uint64_t i = be(60, 4); i > 0; --i) {
      Snapshot one;
      one.l1 = be(at, 8);
      one.l1_size = be(at + 8, 4);
      const std::uint64_t extra = be(at + 36, 4);
      one.seen.state_size = extra >= 8 ? be(at + 40, 8) : be(at + 32, 4);
      if (extra >= 16) one.seen.disk_size = be(at + 48, 8);
      one.seen.id = read(at + 40 + extra, be(at + 12, 2));
      one.seen.name = read(at + 40 + extra + be(at + 12, 2), be(at + 14, 2));
      const std::uint64_t length = (40 + extra + be(at + 12, 2) + be(at + 14, 2) + 7) / 8 * 8;
      one.raw = read(at, length);
      at += length;
      all.push_back(std::move(one));
    }
    list_end_ = at;
    return all;
  }
  std::uint64_t list_end() const { return list_end_; }

  std::uint32_t sum(std::uint64_t l1, std::uint64_t l1_size, std::uint64_t from,
                    std::uint64_t length) {
    std::uint32_t sum = 1;
    for (std::uint64_t at = from; at < from + length; at += cluster()) {
      const std::uint64_t index = at / reach();
      const std::uint64_t table = index < l1_size ? be(l1 + index * 8, 8) & offset_bits : 0;
      std::uint64_t entry = 0;
      if (table != 0) entry = be(table + at % reach() / cluster() * 8, 8);
      EXPECT_EQ(entry & packed, 0U) << "plain clusters only";
      if ((entry & offset_bits) == 0 || (entry & 1) != 0) continue;
      const std::string raw = read(entry & offset_bits, std::min(cluster(), from + length - at));
      if (raw.find_first_not_of('\0') == std::string::npos) continue;
      sum = sum * 16777619 + static_cast<std::uint32_t>(std::hash<std::string>{}(raw)) +
            static_cast<std::uint32_t>(at / cluster());
    }
    return sum;
  }

 private:
  std::fstream file_;
  unsigned bits_ = 16;
  std::uint64_t list_end_ = 0;
};

}  // namespace

void make_snapshot(const std::string& path, const std::string& name, std::uint64_t state,
                   bool with_size, std::uint64_t made_at) {
  Image image(path);
  const std::uint64_t size = image.be(24, 8);
  const std::uint64_t tables = (size + image.reach() - 1) / image.reach();
  std::uint64_t l1 = image.be(40, 8);
  std::uint64_t entries = image.be(36, 4);
  if (state != 0 && entries <= tables) {
    // The memory goes behind the disk: one more L2 table, and a longer L1 table.
    const std::uint64_t longer = image.take((tables * 8 + 8) / image.cluster() + 1);
    image.write(longer, image.read(l1, tables * 8) + std::string(8, '\0'));
    for (std::uint64_t c = 0; c < (entries * 8 + image.cluster() - 1) / image.cluster(); ++c)
      image.add(l1 / image.cluster() + c, -1);
    l1 = longer;
    entries = tables + 1;
    image.put(40, l1, 8);
    image.put(36, entries, 4);
  }
  if (state != 0) {
    // What an earlier saved memory left there goes.
    image.release(l1 + tables * 8, 1);
    const std::uint64_t table = image.take(1);
    image.put(l1 + tables * 8, table | one_owner, 8);
    for (std::uint64_t at = 0; at < state; at += image.cluster()) {
      const std::uint64_t place = image.take(1);
      image.write(place,
                  name + std::string(64, static_cast<char>('a' + at / image.cluster() % 26)));
      image.put(table + at / image.cluster() * 8, place | one_owner, 8);
    }
  }
  // All that is there has one owner more, and a table of its own names it.
  std::vector<std::uint64_t> marks;
  image.walk(l1, entries, [&](std::uint64_t cluster, std::uint64_t entry) {
    image.add(cluster, 1);
    if (entry != 0) marks.push_back(entry);
  });
  for (const std::uint64_t entry : marks) image.put(entry, image.be(entry, 8) & ~one_owner, 8);
  const std::uint64_t copy = image.take((entries * 8 + image.cluster() - 1) / image.cluster());
  image.write(copy, image.read(l1, entries * 8));
  std::string list;
  const auto before = image.snapshots();
  for (const auto& each : before) list += each.raw;
  const std::uint64_t old_list = image.be(64, 8);
  const std::uint64_t old_end = image.list_end();
  std::string entry(40 + (with_size ? 16 : 0), '\0');
  const std::string id = std::to_string(before.size() + 1);
  const auto number = [&](std::size_t at, std::uint64_t value, unsigned bytes) {
    for (unsigned i = bytes; i-- > 0; value >>= 8) entry[at + i] = static_cast<char>(value);
  };
  number(0, copy, 8);
  number(8, entries, 4);
  number(12, id.size(), 2);
  number(14, name.size(), 2);
  number(16, made_at + before.size() * 3600, 4);
  number(32, state, 4);
  number(36, with_size ? 16 : 0, 4);
  if (with_size) {
    number(40, state, 8);
    number(48, size, 8);
  }
  list += entry + id + name;
  list.resize((list.size() + 7) / 8 * 8);
  const std::uint64_t at = image.take((list.size() + image.cluster() - 1) / image.cluster());
  image.write(at, list);
  image.put(64, at, 8);
  image.put(60, before.size() + 1, 4);
  for (std::uint64_t c = old_list / image.cluster();
       !before.empty() && c * image.cluster() < old_end; ++c)
    image.add(c, -1);
  // The running state needs the memory no more.
  if (state != 0) {
    image.release(l1 + tables * 8, 1);
    image.put(l1 + tables * 8, 0, 8);
  }
}

void revert_to(const std::string& path, std::size_t snapshot) {
  Image image(path);
  const auto all = image.snapshots();
  const auto& wanted = all.at(snapshot);
  const std::uint64_t l1 = image.be(40, 8);
  const std::uint64_t entries = image.be(36, 4);
  const std::uint64_t copy =
      image.take((wanted.l1_size * 8 + image.cluster() - 1) / image.cluster());
  image.write(copy, image.read(wanted.l1, wanted.l1_size * 8));
  image.walk(copy, wanted.l1_size,
             [&](std::uint64_t cluster, std::uint64_t) { image.add(cluster, 1); });
  image.release(l1, entries);
  for (std::uint64_t c = 0; c < (entries * 8 + image.cluster() - 1) / image.cluster(); ++c)
    image.add(l1 / image.cluster() + c, -1);
  image.put(40, copy, 8);
  image.put(36, wanted.l1_size, 4);
  if (wanted.seen.disk_size != 0) image.put(24, wanted.seen.disk_size, 8);
  // Marks tell the truth in the active tables.
  image.walk(copy, wanted.l1_size, [&](std::uint64_t cluster, std::uint64_t entry) {
    if (entry == 0) return;
    const std::uint64_t value = image.be(entry, 8) & ~one_owner;
    image.put(entry, image.count(cluster) == 1 ? value | one_owner : value, 8);
  });
}

std::vector<SnapshotSeen> read_snapshots(const std::string& path) {
  Image image(path);
  const std::uint64_t now = image.be(24, 8);
  std::vector<SnapshotSeen> seen;
  for (auto& each : image.snapshots()) {
    const std::uint64_t size = each.seen.disk_size != 0 ? each.seen.disk_size : now;
    each.seen.disk = image.sum(each.l1, each.l1_size, 0, size);
    const std::uint64_t behind = (size + image.reach() - 1) / image.reach() * image.reach();
    each.seen.state = image.sum(each.l1, each.l1_size, behind, each.seen.state_size);
    seen.push_back(each.seen);
  }
  return seen;
}

std::string check_counts(const std::string& path) {
  Image image(path);
  std::map<std::uint64_t, std::uint64_t> counts;
  const auto use = [&](std::uint64_t at, std::uint64_t length) {
    if (length == 0) return;
    for (std::uint64_t c = at / image.cluster(); c <= (at + length - 1) / image.cluster(); ++c)
      ++counts[c];
  };
  const auto walk = [&](std::uint64_t l1, std::uint64_t entries) {
    use(l1, entries * 8);
    image.walk(l1, entries, [&](std::uint64_t cluster, std::uint64_t) { ++counts[cluster]; });
  };
  use(0, 1);
  const std::uint64_t table = image.be(48, 8);
  const std::uint64_t clusters = image.be(56, 4);
  use(table, clusters * image.cluster());
  for (std::uint64_t i = 0; i < clusters * image.cluster() / 8; ++i)
    if (const std::uint64_t block = image.be(table + i * 8, 8); block != 0) use(block, 1);
  walk(image.be(40, 8), image.be(36, 4));
  for (const auto& each : image.snapshots()) walk(each.l1, each.l1_size);
  if (image.be(60, 4) != 0) use(image.be(64, 8), image.list_end() - image.be(64, 8));
  for (std::uint64_t c = 0; c <= image.end() / image.cluster(); ++c)
    if (image.count(c) != (counts.contains(c) ? counts[c] : 0))
      return fmt::format("cluster {}: count {}, but {} references", c, image.count(c),
                         counts.contains(c) ? counts[c] : 0);
  return {};
}

}  // namespace jh::test
