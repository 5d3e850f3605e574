// File records, and the attributes in them.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/fs/ntfs/format.h"
#include "core/fs/ntfs/runs.h"

namespace jh::ntfs {

/// Undoes the fixups of a block; `magic` is what it must begin with. Throws damaged, naming what it
/// is and which one of them.
void undo_fixups(ByteSpan block, std::string_view magic, std::string_view what,
                 std::optional<std::uint64_t> number = {});
/// Gives it the next number, and does them again.
void do_fixups(ByteSpan block);

/// One attribute as it stands in one record: header, name, and value or mapping pairs.
class Attribute {
 public:
  /// The next one at `at` of what a record has in use. Throws damaged: what is said does not fit.
  static Attribute parse(std::shared_ptr<const Buffer> record, std::size_t at);
  /// A piece of a nonresident one, told like `first` but for where it is: without sizes.
  static Attribute piece_like(const Attribute& first, const ClusterRuns& runs);

  // Asked for of every attribute of every record, and so without the rest of its header.
  std::uint32_t type() const {
    return parse_as<Le32>(raw(), offsetof(AttributeHeader, type)).value();
  }
  std::u16string name() const;
  std::uint16_t flags() const { return common().flags.value(); }
  std::uint16_t instance() const { return common().instance.value(); }
  bool resident() const { return raw()[offsetof(AttributeHeader, nonresident)] == 0; }
  std::size_t size() const { return size_; }
  ConstByteSpan raw() const { return ConstByteSpan(*record_).subspan(at_, size_); }
  bool same_stream(const Attribute& other) const {
    return type() == other.type() && name() == other.name();
  }
  /// Of resident ones.
  ConstByteSpan value() const;
  /// Of the others. `sizes` are meant only where lowest_vcn() is 0.
  std::uint64_t lowest_vcn() const { return resident() ? 0 : far().lowest_vcn.value(); }
  std::uint64_t vcn_end() const { return far().highest_vcn.value() + 1; }
  std::uint64_t allocated_size() const { return far().allocated_size.value(); }
  std::uint64_t data_size() const { return resident() ? value().size() : far().data_size.value(); }
  std::uint64_t initialized_size() const { return far().initialized_size.value(); }
  std::uint8_t compression_unit() const { return far().compression_unit; }
  /// Throws damaged: also when they do not end where the header says.
  ClusterRuns runs(std::uint64_t volume_clusters) const;
  /// The header and the name, as far as they stay when clusters move.
  void append_facts(Buffer& all) const;

  void set_instance(std::uint16_t instance);
  void set_flags(std::uint16_t flags);
  void set_value(ConstByteSpan value);
  void set_runs(const ClusterRuns& runs);
  void set_sizes(std::uint64_t allocated, std::uint64_t data, std::uint64_t initialized);
  /// Bytes it would have with these runs.
  std::size_t size_with(const ClusterRuns& runs) const;

 private:
  Attribute(std::shared_ptr<const Buffer> record, std::size_t at, std::size_t size)
      : record_(std::move(record)), at_(at), size_(size) {}
  explicit Attribute(Buffer raw) { become(std::move(raw)); }
  Buffer copy() const { return Buffer(raw().begin(), raw().end()); }
  void become(Buffer raw) {
    at_ = 0;
    size_ = raw.size();
    record_ = std::make_shared<const Buffer>(std::move(raw));
  }
  /// A header in front, in place of the one that is there.
  template <class Header>
  void set_header(const Header& header) {
    Buffer raw = copy();
    put_at(raw, 0, header);
    become(std::move(raw));
  }
  AttributeHeader common() const { return parse_as<AttributeHeader>(raw(), 0); }
  NonresidentHeader far() const { return parse_as<NonresidentHeader>(raw(), 0); }
  void replace_tail(std::size_t from, ConstByteSpan tail);

  // Records are read by the million: their attributes share one copy, until one is changed.
  std::shared_ptr<const Buffer> record_;
  std::size_t at_ = 0;
  std::size_t size_ = 0;
};

/// An attribute without a name, with its value or (`runs` not empty) its clusters.
Attribute make_resident(std::uint32_t type, ConstByteSpan value);
Attribute make_nonresident(std::uint32_t type, const ClusterRuns& runs, std::uint64_t cluster_size,
                           std::uint64_t data_size);

/// A file record, its fixups undone.
struct Record {
  /// A new one, laid out like `like`: no attributes, not in use, sequence 1.
  static Record blank(std::uint64_t number, const RecordHeader& like);
  /// From its bytes as they are on disk. Throws damaged, naming it as `what` and its number.
  static Record from_disk(std::uint64_t number, Buffer raw, std::string_view what);

  std::uint64_t number = 0;
  Buffer raw;

  RecordHeader header() const { return parse_as<RecordHeader>(raw, 0); }
  void set_header(const RecordHeader& header) { put_at(raw, 0, header); }
  bool in_use() const { return (header().flags.value() & record_flags::in_use) != 0; }
  bool is_folder() const { return (header().flags.value() & record_flags::folder) != 0; }
  std::uint64_t reference() const { return reference_to(number, header().sequence.value()); }
  /// Throws damaged.
  std::vector<Attribute> attributes() const;
  /// Bytes that attributes may take.
  std::size_t room() const { return raw.size() - header().first_attribute.value() - 8; }
  /// Replaces them all; they must fit.
  void set_attributes(const std::vector<Attribute>& attributes);
};

}  // namespace jh::ntfs
