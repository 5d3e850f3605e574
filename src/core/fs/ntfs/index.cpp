#include "core/fs/ntfs/index.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <cstring>

#include "core/store/utf16.h"

namespace jh::ntfs {
namespace {

constexpr std::uint64_t most_bitmap_bytes = 64U << 20;

}  // namespace

Index::Index(Filesystem& fs, const File& file, std::u16string name) {
  const std::string where = fmt::format("NTFS, index of file {}", file.number());
  const Stream root = file.stream(type::index_root, name);
  if (root.size() < sizeof(IndexRoot) || root.size() > fs.geometry().record_size)
    damaged("its root is of a size that cannot be", where);
  const Buffer raw = root.read(0, root.size());
  root_ = parse_as<IndexRoot>(raw, 0);
  top_.assign(raw.begin() + offsetof(IndexRoot, header), raw.end());
  const std::uint64_t size = root_.block_size.value();
  if (!is_power_of_two(size) || size < fixup_sector || size > (1U << 20))
    damaged(fmt::format("blocks of {} bytes are on record", size), where);
  vcn_unit_ = fs.geometry().cluster_size <= size ? fs.geometry().cluster_size : fixup_sector;
  if (const auto first = file.find(type::index_allocation, name)) {
    blocks_ = file.stream(*first);
    if (blocks_.size() > fs.geometry().size())
      damaged("its blocks are said to be more than the volume holds", where);
    const Stream bits = file.stream(type::bitmap, name);
    if (bits.size() > most_bitmap_bytes) damaged("its bitmap is larger than it can be", where);
    bitmap_ = bits.read(0, bits.size());
  }
}

bool Index::in_use(std::uint64_t block) const { return block < bitmap_bits() && bitmap_bit(block); }

Index::Node Index::block(std::uint64_t number) const {
  const std::uint64_t size = root_.block_size.value();
  Buffer raw = blocks_.read(checked_mul(number, size), size);
  undo_fixups(raw, "INDX", "NTFS, index block");
  const auto head = parse_as<IndexBlock>(raw, 0);
  return {Buffer(raw.begin() + offsetof(IndexBlock, header), raw.end()), head.vcn.value()};
}

Index::Node Index::child(std::uint64_t vcn) const {
  const std::uint64_t size = root_.block_size.value();
  const std::uint64_t at = checked_mul(vcn, vcn_unit_);
  if (at % size != 0) damaged("an entry leads into the middle of a block", "NTFS, index");
  return block(at / size);
}

void Index::for_each_entry(const Node& node, const std::function<bool(const Entry&)>& visit) {
  const auto header = parse_as<IndexHeader>(node.bytes, 0);
  const std::size_t used = header.used.value();
  std::size_t at = header.first_entry.value();
  if (used > node.bytes.size() || at < sizeof(IndexHeader))
    damaged("a node's header contradicts itself", "NTFS, index");
  const ConstByteSpan bytes = ConstByteSpan(node.bytes).first(used);
  while (true) {
    if (at > used || used - at < sizeof(IndexEntry))
      damaged("a node's entries have no end", "NTFS, index");
    Entry entry{parse_as<IndexEntry>(bytes, at), {}, {}};
    const std::size_t length = entry.head.length.value();
    const bool has_child = (entry.head.flags.value() & entry_flags::child) != 0;
    const std::size_t key = entry.is_last() ? 0 : entry.head.key_length.value();
    if (length % 8 != 0 || length > used - at ||
        length < sizeof(IndexEntry) + key + (has_child ? 8 : 0))
      damaged("an entry contradicts itself", "NTFS, index");
    entry.key = bytes.subspan(at + sizeof(IndexEntry), key);
    if (has_child) entry.child = parse_as<Le64>(bytes, at + length - 8).value();
    if (!visit(entry) || entry.is_last()) return;
    at += length;
  }
}

void Index::for_each_key(const std::function<void(const Entry&)>& visit) const {
  const auto keys = [&](const Entry& entry) {
    if (!entry.is_last()) visit(entry);
    return true;
  };
  for_each_entry(top(), keys);
  for (std::uint64_t number = 0; number < blocks(); ++number)
    if (in_use(number)) for_each_entry(block(number), keys);
}

NameKey parse_name(ConstByteSpan key) {
  if (key.size() < sizeof(FileName)) damaged("a name is too short", "NTFS");
  NameKey found{parse_as<FileName>(key, 0), {}};
  if (key.size() < sizeof(FileName) + 2U * found.head.length) damaged("a name is cut", "NTFS");
  found.name = utf16_units(key.subspan(sizeof(FileName), 2U * found.head.length));
  return found;
}

Upcase::Upcase(Filesystem& fs) {
  const Stream stream = File(fs, fs.read_record(file::upcase)).stream(type::data);
  const std::uint64_t size = std::min<std::uint64_t>(stream.size(), 2U << 16);
  const std::u16string units = utf16_units(stream.read(0, size));
  table_.assign(units.begin(), units.end());
}

std::u16string Upcase::operator()(std::u16string_view text) const {
  std::u16string capital(text);
  for (char16_t& unit : capital) unit = (*this)(unit);
  return capital;
}

namespace {

// Down the tree; the order is that of capital letters.
std::optional<std::uint64_t> find_name(const Index& index, const Upcase& upcase,
                                       const std::u16string& wanted) {
  Index::Node node = index.top();
  for (std::uint64_t depth = 0; depth <= index.blocks(); ++depth) {
    std::optional<std::uint64_t> found;
    std::optional<std::uint64_t> child;
    Index::for_each_entry(node, [&](const Index::Entry& entry) {
      if (!entry.is_last()) {
        const std::u16string name = upcase(parse_name(entry.key).name);
        if (name < wanted) return true;
        if (name == wanted) {
          found = number_of(entry.head.reference.value());
          return false;
        }
      }
      child = entry.child;
      return false;
    });
    if (found || !child) return found;
    node = index.child(*child);
  }
  damaged("its entries lead in a circle", "NTFS, index");
}

}  // namespace

std::optional<std::uint64_t> find_file(Filesystem& fs, const std::string& path) {
  const Upcase upcase(fs);
  std::uint64_t at = file::root;
  for (std::size_t from = 0; from < path.size();) {
    const std::size_t end = std::min(path.find('/', from), path.size());
    if (end == from) {
      ++from;
      continue;
    }
    const Record record = fs.read_record(at);
    if (!record.in_use() || !record.is_folder()) return std::nullopt;
    const File folder(fs, record);
    const auto next =
        find_name(Index(fs, folder), upcase,
                  upcase(utf16_units(utf16_from_text(path.substr(from, end - from)))));
    if (!next) return std::nullopt;
    at = *next;
    from = end;
  }
  return at;
}

}  // namespace jh::ntfs
