#include "support/ntfs_writer.h"

#include "core/fs/ntfs/index.h"
#include "core/fs/ntfs/record_table.h"
#include "core/store/utf16.h"
#include "support/test.h"

namespace jh::test {
namespace {

using namespace ntfs;
using Filesystem = ntfs::Filesystem;

// Free clusters from a place on, ascending.
class Ascending final : public Clusters {
 public:
  Ascending(BitMap& map, std::uint64_t from, std::uint64_t end)
      : map_(map), from_(from), at_(from), end_(end) {}
  ClusterRun take(std::uint64_t count) override {
    at_ = map_.next(at_, end_, false);
    if (at_ == end_) at_ = map_.next(0, std::exchange(end_, from_), false);
    if (at_ >= end_) refuse("the volume is full", "the test's writer");
    const std::uint64_t start = at_;
    at_ = map_.next(start, std::min(end_, start + count), true);
    map_.set_range(start, at_, true);
    return {0, start, at_ - start};
  }
  void give_back(std::uint64_t lcn, std::uint64_t count) override {
    map_.set_range(lcn, lcn + count, false);
  }
  void skip(std::uint64_t count) { at_ = std::min(end_, at_ + count); }

 private:
  BitMap& map_;
  std::uint64_t from_;
  std::uint64_t at_;
  std::uint64_t end_;
};

const std::string index_name = "$I30";

// A resident attribute with a name, or (`runs` not empty) one with clusters.
Attribute named(std::uint32_t type, const std::string& name, ConstByteSpan value,
                const ClusterRuns& runs, std::uint64_t cluster, std::uint64_t size) {
  const Buffer letters = utf16_from_text(name);
  const Attribute plain =
      runs.empty() ? make_resident(type, value) : make_nonresident(type, runs, cluster, size);
  const std::size_t head = runs.empty() ? sizeof(ResidentHeader) : sizeof(NonresidentHeader);
  const std::size_t room = (letters.size() + 7) / 8 * 8;
  Buffer raw(plain.raw().begin(), plain.raw().begin() + static_cast<std::ptrdiff_t>(head));
  raw.insert(raw.end(), letters.begin(), letters.end());
  raw.resize(head + room);
  raw.insert(raw.end(), plain.raw().begin() + static_cast<std::ptrdiff_t>(head), plain.raw().end());
  auto common = parse_as<AttributeHeader>(raw, 0);
  common.length = static_cast<std::uint32_t>(raw.size());
  common.name_length = static_cast<std::uint8_t>(letters.size() / 2);
  common.name_offset = static_cast<std::uint16_t>(head);
  put_at(raw, 0, common);
  Le16 offset;
  offset = static_cast<std::uint16_t>(head + room);
  put_at(raw,
         runs.empty() ? offsetof(ResidentHeader, value_offset)
                      : offsetof(NonresidentHeader, pairs_offset),
         offset);
  return Attribute::parse(std::make_shared<const Buffer>(std::move(raw)), 0);
}

Buffer file_name(std::uint64_t parent, const std::string& name, std::uint64_t size, bool folder) {
  const Buffer letters = utf16_from_text(name);
  FileName head{};
  head.parent = parent;
  head.data_size = size;
  head.allocated_size = size;
  head.attributes = folder ? 0x10000000U : 0x20U;
  head.length = static_cast<std::uint8_t>(letters.size() / 2);
  head.space = 1;
  Buffer out(sizeof(head));
  put_at(out, 0, head);
  out.insert(out.end(), letters.begin(), letters.end());
  return out;
}

struct Entry {
  std::u16string order;
  std::uint64_t reference = 0;
  Buffer key;
};

Buffer entry_bytes(const Entry* entry, std::optional<std::uint64_t> child) {
  const std::size_t key = entry != nullptr ? entry->key.size() : 0;
  Buffer out((sizeof(IndexEntry) + key + 7) / 8 * 8 + (child ? 8 : 0));
  IndexEntry head{};
  if (entry != nullptr) head.reference = entry->reference;
  head.length = static_cast<std::uint16_t>(out.size());
  head.key_length = static_cast<std::uint16_t>(key);
  head.flags = static_cast<std::uint16_t>((child ? entry_flags::child : 0) |
                                          (entry == nullptr ? entry_flags::last : 0));
  put_at(out, 0, head);
  if (entry != nullptr) std::copy(entry->key.begin(), entry->key.end(), out.begin() + sizeof(head));
  if (child) {
    Le64 vcn;
    vcn = *child;
    put_at(out, out.size() - 8, vcn);
  }
  return out;
}

// A folder's index, from the leaves up.
class IndexBuilder {
 public:
  IndexBuilder(const Geometry& g, std::vector<Entry> entries)
      : g_(g), entries_(std::move(entries)) {
    std::sort(entries_.begin(), entries_.end(),
              [](const Entry& a, const Entry& b) { return a.order < b.order; });
    std::vector<Item> level;
    for (const Entry& entry : entries_) level.push_back({&entry, std::nullopt});
    std::optional<std::uint64_t> last;
    while (size_of(level) > 400) {
      std::vector<Item> above;
      std::vector<Item> node;
      for (const Item& item : level) {
        if (size_of(node) + 160 < block_room() || node.empty()) {
          node.push_back(item);
          continue;
        }
        // This one goes up; what is in front of it hangs from it.
        above.push_back({item.entry, close(node, item.child)});
        node.clear();
      }
      last = close(node, last);
      level = std::move(above);
    }
    top_ = std::move(level);
    last_ = last;
  }

  std::vector<Attribute> attributes(Filesystem& fs, Room& room) {
    Buffer value(sizeof(IndexRoot));
    IndexRoot root{};
    root.indexed_type = type::file_name;
    root.collation = 1U;
    root.block_size = g_.index_block_size;
    root.clusters_per_block = static_cast<std::uint8_t>(g_.index_block_size / unit());
    Buffer entries = entries_of(top_, last_);
    root.header.first_entry = 16U;
    root.header.used = static_cast<std::uint32_t>(16 + entries.size());
    root.header.allocated = root.header.used;
    root.header.flags = last_ ? index_has_children : 0;
    put_at(value, 0, root);
    value.insert(value.end(), entries.begin(), entries.end());
    std::vector<Attribute> made{named(type::index_root, index_name, value, {}, 0, 0)};
    if (blocks_.empty()) return made;
    const std::uint64_t bytes = blocks_.size() * g_.index_block_size;
    const ClusterRuns runs = room.take(0, ceil_div(bytes, g_.cluster_size));
    const Stream stream(fs.store(), g_, runs, bytes, bytes);
    for (std::size_t i = 0; i < blocks_.size(); ++i)
      stream.write(i * g_.index_block_size, blocks_[i]);
    made.push_back(named(type::index_allocation, index_name, {}, runs, g_.cluster_size, bytes));
    BitMap bits(Buffer(ceil_div(blocks_.size(), 64) * 8));
    bits.set_range(0, blocks_.size(), true);
    made.push_back(named(type::bitmap, index_name, bits.bytes(), {}, 0, 0));
    return made;
  }

 private:
  struct Item {
    const Entry* entry;
    std::optional<std::uint64_t> child;
  };
  std::uint64_t unit() const {
    return g_.cluster_size <= g_.index_block_size ? g_.cluster_size : fixup_sector;
  }
  std::size_t block_room() const { return g_.index_block_size - 96; }
  static std::size_t size_of(const std::vector<Item>& items) {
    std::size_t size = 24;
    for (const Item& item : items)
      size += (sizeof(IndexEntry) + item.entry->key.size() + 7) / 8 * 8 + 8;
    return size;
  }
  static Buffer entries_of(const std::vector<Item>& items, std::optional<std::uint64_t> last) {
    Buffer out;
    for (const Item& item : items) {
      const Buffer bytes = entry_bytes(item.entry, item.child);
      out.insert(out.end(), bytes.begin(), bytes.end());
    }
    const Buffer end = entry_bytes(nullptr, last);
    out.insert(out.end(), end.begin(), end.end());
    return out;
  }
  std::uint64_t close(const std::vector<Item>& items, std::optional<std::uint64_t> last) {
    Buffer raw(g_.index_block_size);
    IndexBlock head{};
    head.block.magic = {'I', 'N', 'D', 'X'};
    head.block.fixup_offset = std::uint16_t{40};
    head.block.fixup_count = static_cast<std::uint16_t>(g_.index_block_size / fixup_sector + 1);
    const std::uint64_t vcn = blocks_.size() * (g_.index_block_size / unit());
    head.vcn = vcn;
    const std::size_t first = (40 + 2 * (g_.index_block_size / fixup_sector + 1) + 7) / 8 * 8;
    const Buffer entries = entries_of(items, last);
    head.header.first_entry = static_cast<std::uint32_t>(first - 24);
    head.header.used = static_cast<std::uint32_t>(first - 24 + entries.size());
    head.header.allocated = static_cast<std::uint32_t>(raw.size() - 24);
    head.header.flags = last ? index_has_children : 0;
    put_at(raw, 0, head);
    ensure(first + entries.size() <= raw.size(), "a node fits its block");
    std::copy(entries.begin(), entries.end(), raw.begin() + static_cast<std::ptrdiff_t>(first));
    do_fixups(raw);
    blocks_.push_back(std::move(raw));
    return vcn;
  }

  const Geometry g_;
  std::vector<Entry> entries_;
  std::vector<Buffer> blocks_;
  std::vector<Item> top_;
  std::optional<std::uint64_t> last_;
};

class Writer {
 public:
  Writer(Store& place, const NewNtfsFiles& wanted)
      : fs_(place),
        g_(fs_.geometry()),
        wanted_(wanted),
        upcase_(fs_),
        map_(read_cluster_map(fs_)),
        clusters_(map_, g_.clusters / 100 * wanted.from_percent, g_.clusters),
        room_(room_with_records()),
        like_(fs_.read_record(file::root)) {
    std::mt19937_64 random(7);
    noise_.resize(1U << 20);
    for (std::size_t i = 0; i < noise_.size(); i += 8) {
      const std::uint64_t word = random();
      std::memcpy(noise_.data() + i, &word, 8);
    }
  }

  void run() {
    std::vector<Entry> folders;
    for (std::uint64_t i = 0; i < wanted_.folders; ++i)
      folders.push_back(add_folder(fmt::format("{}-{:05}", wanted_.name, i)));
    const Record root = fs_.read_record(file::root);
    const ntfs::File old(fs_, root);
    Index(fs_, old).for_each_key([&](const Index::Entry& entry) {
      folders.push_back({upcase_(parse_name(entry.key).name), entry.head.reference.value(),
                         Buffer(entry.key.begin(), entry.key.end())});
    });
    std::vector<Attribute> attributes;
    for (const Extent& piece : old.pieces()) {
      if (piece.attribute.name() != u"$I30")
        attributes.push_back(piece.attribute);
      else if (!piece.attribute.resident())
        for (const ClusterRun& run : piece.attribute.runs(g_.clusters))
          clusters_.give_back(run.lcn, run.count);
    }
    write(root, attributes, IndexBuilder(g_, std::move(folders)).attributes(fs_, room_));
    write_record_map(fs_, room_);
    File(fs_, fs_.read_record(file::bitmap)).stream(type::data).write(0, map_.bytes());
  }

 private:
  using File = ntfs::File;

  // All records at once: in one piece.
  Room room_with_records() {
    Room first = make_room(fs_, clusters_, Mode::carry_out);
    const std::uint64_t more = wanted_.folders * (wanted_.files_each + 1) + 16;
    grow_record_table(fs_, first,
                      round_up(more, std::max<std::uint64_t>(8, g_.cluster_size / g_.record_size)));
    return make_room(fs_, clusters_, Mode::carry_out);
  }
  Record new_record(bool folder) {
    Record record{room_.take_record(false), Buffer(g_.record_size)};
    RecordHeader header = like_.header();
    header.block.lsn = 0;
    header.sequence = std::uint16_t{1};
    header.links = std::uint16_t{1};
    header.flags =
        static_cast<std::uint16_t>(record_flags::in_use | (folder ? record_flags::folder : 0));
    header.base = 0;
    header.number = static_cast<std::uint32_t>(record.number);
    put_at(record.raw, 0, header);
    return record;
  }
  void write(Record record, std::vector<Attribute> attributes, const std::vector<Attribute>& more) {
    // In order of their types.
    for (const Attribute& attribute : more)
      attributes.insert(
          std::find_if(attributes.begin(), attributes.end(),
                       [&](const Attribute& other) { return other.type() > attribute.type(); }),
          attribute);
    std::uint16_t instance = 0;
    for (Attribute& attribute : attributes) attribute.set_instance(instance++);
    RecordHeader header = record.header();
    header.next_instance = instance;
    record.set_header(header);
    record.set_attributes(attributes);
    fs_.write_record(record);
  }
  Entry entry_for(const Record& record, const Buffer& key) {
    return {upcase_(parse_name(key).name), record.reference(), key};
  }
  Entry add_folder(const std::string& name) {
    const Record record = new_record(true);
    std::vector<Entry> entries;
    for (std::uint64_t i = 0; i < wanted_.files_each; ++i)
      entries.push_back(add_file(record.reference(), fmt::format("{}-ring-{:07}", name, i)));
    const Buffer key = file_name(fs_.read_record(file::root).reference(), name, 0, true);
    write(record,
          {make_resident(type::standard_information, Buffer(48)),
           make_resident(type::file_name, key)},
          IndexBuilder(g_, std::move(entries)).attributes(fs_, room_));
    return entry_for(record, key);
  }
  Entry add_file(std::uint64_t parent, const std::string& name) {
    const Record record = new_record(false);
    const Buffer key = file_name(parent, name, wanted_.bytes_each, false);
    std::vector<Attribute> attributes{make_resident(type::standard_information, Buffer(48)),
                                      make_resident(type::file_name, key)};
    if (wanted_.bytes_each == 0) {
      attributes.push_back(make_resident(type::data, {}));
    } else {
      attributes.push_back(
          make_nonresident(type::data, content(), g_.cluster_size, wanted_.bytes_each));
    }
    write(record, attributes, {});
    return entry_for(record, key);
  }
  ClusterRuns content() {
    ClusterRuns runs;
    std::uint64_t left = ceil_div(wanted_.bytes_each, g_.cluster_size);
    const std::uint64_t piece = ceil_div(left, wanted_.runs_each);
    for (std::uint64_t vcn = 0; left != 0;) {
      const std::uint64_t count = std::min(piece, left);
      for (const ClusterRun& run : room_.take(vcn, count)) {
        append_run(runs, run);
        for (std::uint64_t done = 0; done < run.count;) {
          const std::uint64_t step =
              std::min<std::uint64_t>(run.count - done, noise_.size() / g_.cluster_size);
          fs_.store().write(g_.offset(run.lcn + done),
                            ConstByteSpan(noise_).first(step * g_.cluster_size));
          done += step;
        }
      }
      if (wanted_.runs_each > 1) clusters_.skip(1);
      vcn += count;
      left -= count;
    }
    return runs;
  }

  Filesystem fs_;
  const Geometry g_;
  const NewNtfsFiles& wanted_;
  Upcase upcase_;
  BitMap map_;
  Ascending clusters_;
  Room room_;
  Record like_;
  Buffer noise_;
};

}  // namespace

void add_ntfs_files(Store& place, const NewNtfsFiles& wanted) { Writer(place, wanted).run(); }

}  // namespace jh::test
