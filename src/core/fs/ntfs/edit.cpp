#include "core/fs/ntfs/edit.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh::ntfs {
namespace {

// A list with clusters of its own takes so much: a header, and pairs for a few runs.
constexpr std::size_t far_list_size = sizeof(NonresidentHeader) + 16;

ClusterRuns runs_of(const Filesystem& fs, const Attribute& attribute) {
  return attribute.runs(fs.geometry().clusters);
}

bool same_bytes(const std::vector<Attribute>& a, const std::vector<Attribute>& b) {
  return std::equal(
      a.begin(), a.end(), b.begin(), b.end(), [](const Attribute& x, const Attribute& y) {
        return std::equal(x.raw().begin(), x.raw().end(), y.raw().begin(), y.raw().end());
      });
}

}  // namespace

FileEdit::FileEdit(Filesystem& fs, Room& room, const File& file)
    : fs_(fs),
      room_(room),
      base_(file.base()),
      extensions_(file.extensions()),
      extents_(file.pieces()),
      list_(file.list()) {
  if (list_) list_content_ = read_list(fs.store(), fs.geometry(), *list_);
}

void FileEdit::set_runs(std::uint32_t type, const std::u16string& name, const ClusterRuns& runs,
                        std::optional<Sizes> sizes) {
  const auto is_ours = [&](const Extent& piece) {
    return piece.attribute.type() == type && !piece.attribute.resident() &&
           piece.attribute.name() == name;
  };
  const auto first = std::find_if(extents_.begin(), extents_.end(), is_ours);
  ensure(first != extents_.end() && !runs.empty(), "the stream whose clusters change is there");
  const auto last = std::find_if_not(first, extents_.end(), is_ours);
  // As they were cut; what is longer now makes the last one longer.
  for (auto piece = first; piece != last; ++piece) {
    const bool ends = std::next(piece) == last;
    const std::uint64_t end = ends ? UINT64_MAX : std::next(piece)->attribute.lowest_vcn();
    const ClusterRuns part = part_of_runs(runs, piece->attribute.lowest_vcn(), end);
    if (part.empty())
      piece->record = UINT64_MAX;
    else if (part != runs_of(fs_, piece->attribute))
      piece->attribute.set_runs(part);
  }
  if (sizes) first->attribute.set_sizes(sizes->allocated, sizes->data, sizes->initialized);
  std::erase_if(extents_, [](const Extent& piece) { return piece.record == UINT64_MAX; });
}

void FileEdit::set_value(std::uint32_t type, ConstByteSpan value) {
  const auto found = std::find_if(extents_.begin(), extents_.end(), [&](const Extent& piece) {
    return piece.attribute.type() == type && piece.attribute.name().empty();
  });
  ensure(found != extents_.end(), "the attribute that changes is there");
  found->attribute.set_value(value);
}

void FileEdit::set_list_runs(const ClusterRuns& runs) {
  list_->set_runs(runs);
  list_moved_ = true;
}

std::size_t FileEdit::used(std::uint64_t record) const {
  std::size_t bytes = record == base_.number && list_ ? list_->size() : 0;
  for (const Extent& piece : extents_)
    if (piece.record == record) bytes += piece.attribute.size();
  return bytes;
}

std::optional<std::uint64_t> FileEdit::overfull() const {
  if (used(base_.number) > capacity()) return base_.number;
  for (const auto& [number, record] : extensions_)
    if (used(number) > record.room()) return number;
  return std::nullopt;
}

// What a driver looks for in the base record.
bool FileEdit::is_pinned(const Extent& piece) const {
  if (piece.record != base_.number) return false;
  const std::uint32_t found = piece.attribute.type();
  if (is_table()) return true;
  return found == type::standard_information || found == type::index_root ||
         found == type::volume_name || found == type::volume_information;
}

// The largest; one with clusters rather than one without, a name last.
std::optional<std::size_t> FileEdit::choose(std::uint64_t record) const {
  std::optional<std::size_t> best;
  const auto rank = [&](std::size_t i) {
    const Attribute& attribute = extents_[i].attribute;
    const int sort = !attribute.resident() ? 2 : attribute.type() == type::file_name ? 0 : 1;
    return std::pair(sort, attribute.size());
  };
  for (std::size_t i = 0; i < extents_.size(); ++i)
    if (extents_[i].record == record && !is_pinned(extents_[i]) && (!best || rank(i) > rank(*best)))
      best = i;
  return best;
}

std::uint16_t FileEdit::new_instance(std::uint64_t record) {
  Record& there = record == base_.number ? base_ : extensions_.at(record);
  RecordHeader header = there.header();
  std::uint16_t instance = header.next_instance.value();
  const auto is_taken = [&] {
    return (record == base_.number && list_ && list_->instance() == instance) ||
           std::any_of(extents_.begin(), extents_.end(), [&](const Extent& piece) {
             return piece.record == record && piece.attribute.instance() == instance;
           });
  };
  while (is_taken()) ++instance;
  header.next_instance = static_cast<std::uint16_t>(instance + 1);
  there.set_header(header);
  return instance;
}

std::uint64_t FileEdit::new_record() {
  const std::uint64_t number = room_.take_record(is_table());
  if (is_table()) {
    // It must be found before it is read.
    const auto data = std::find_if(extents_.begin(), extents_.end(), [](const Extent& piece) {
      return piece.attribute.type() == type::data;
    });
    const ClusterRuns first = runs_of(fs_, data->attribute);
    if ((number + 1) * fs_.geometry().record_size >
        first.back().vcn_end() * fs_.geometry().cluster_size)
      unsupported("the first piece of $MFT is too short to hold the records that list the others",
                  "NTFS", "let the guest make it whole first (by its own tool for that)");
  }
  Record record = Record::blank(number, base_.header());
  RecordHeader header = record.header();
  if (room_.mode() == Mode::carry_out) {
    // What it says of earlier uses goes on.
    const Buffer old = fs_.raw_record(number);
    const auto was = parse_as<RecordHeader>(old, 0);
    if (std::string_view(was.block.magic.data(), 4) == "FILE") {
      header.sequence = std::max<std::uint16_t>(1, was.sequence.value());
      const std::size_t mark_at = std::min<std::size_t>(was.block.fixup_offset.value(), 256);
      put_at(record.raw, header.block.fixup_offset.value(), parse_as<Le16>(old, mark_at));
    }
  }
  header.flags = record_flags::in_use;
  header.base = base_.reference();
  record.set_header(header);
  extensions_.emplace(number, std::move(record));
  return number;
}

// To an extension record that has room, or a new one.
void FileEdit::move(std::size_t piece) {
  const std::size_t size = extents_[piece].attribute.size();
  const std::uint64_t from = extents_[piece].record;
  std::optional<std::uint64_t> to;
  for (const auto& [number, record] : extensions_)
    if (number != from && used(number) + size <= record.room()) to = number;
  if (!to) to = new_record();
  extents_[piece].record = *to;
  extents_[piece].attribute.set_instance(new_instance(*to));
}

// As many runs as fit into `room` bytes stay.
void FileEdit::split(std::size_t piece, std::size_t room) {
  const ClusterRuns runs = runs_of(fs_, extents_[piece].attribute);
  std::size_t fit = 0;
  std::size_t low = 1;
  std::size_t high = runs.size() - 1;
  while (low <= high) {
    const std::size_t middle = low + (high - low) / 2;
    const ClusterRuns part(runs.begin(), runs.begin() + static_cast<std::ptrdiff_t>(middle));
    if (extents_[piece].attribute.size_with(part) <= room) {
      fit = middle;
      low = middle + 1;
    } else {
      high = middle - 1;
    }
  }
  if (fit == 0)
    unsupported(fmt::format("file {}: its record has no room left", base_.number), "NTFS");
  const auto cut = runs.begin() + static_cast<std::ptrdiff_t>(fit);
  Extent rest{Attribute::piece_like(extents_[piece].attribute, ClusterRuns(cut, runs.end())), 0};
  extents_[piece].attribute.set_runs(ClusterRuns(runs.begin(), cut));
  rest.record = new_record();
  rest.attribute.set_instance(new_instance(rest.record));
  extents_.insert(extents_.begin() + static_cast<std::ptrdiff_t>(piece) + 1, std::move(rest));
}

void FileEdit::make_room(std::uint64_t record) {
  if (record == base_.number && list_ && list_->resident() && list_->size() > far_list_size) {
    place_list(list_content_.size());
    return;
  }
  const auto chosen = choose(record);
  if (chosen && (record == base_.number || used(record) != extents_[*chosen].attribute.size())) {
    move(*chosen);
    return;
  }
  for (std::size_t i = 0; i < extents_.size(); ++i) {
    const Extent& piece = extents_[i];
    if (piece.record != record || piece.attribute.resident() ||
        piece.attribute.type() != (is_table() ? type::data : piece.attribute.type()))
      continue;
    const std::size_t others = used(record) - piece.attribute.size();
    split(i, capacity() - std::min(others, capacity()));
    return;
  }
  unsupported(fmt::format("file {}: its record has no room left", base_.number), "NTFS");
}

void FileEdit::refresh_list() {
  const bool needed =
      list_ || std::any_of(extents_.begin(), extents_.end(),
                           [&](const Extent& piece) { return piece.record != base_.number; });
  if (!needed) return;
  std::vector<ListItem> items;
  for (const Extent& piece : extents_) {
    const Record& record = piece.record == base_.number ? base_ : extensions_.at(piece.record);
    items.push_back({piece.attribute.type(), piece.attribute.name(), piece.attribute.lowest_vcn(),
                     record.reference(), piece.attribute.instance()});
  }
  list_content_ = list_bytes(items);
  if (list_content_.size() > list_limit)
    unsupported(fmt::format("file {}: it would be in more pieces than NTFS can list", base_.number),
                "NTFS", "let the guest make it whole first (by its own tool for that)");
  if (!list_) {
    list_ = make_resident(type::attribute_list, list_content_);
    list_->set_instance(new_instance(base_.number));
  } else if (list_->resident()) {
    list_->set_value(list_content_);
  } else {
    place_list(list_content_.size());
  }
}

// Into clusters that are large enough: those it has, or others.
void FileEdit::place_list(std::uint64_t bytes) {
  const std::uint64_t cluster = fs_.geometry().cluster_size;
  if (!list_->resident() && list_->allocated_size() >= bytes) {
    list_->set_sizes(list_->allocated_size(), bytes, bytes);
    return;
  }
  if (!list_->resident())
    for (const ClusterRun& run : runs_of(fs_, *list_))
      room_.clusters().give_back(run.lcn, run.count);
  const std::uint16_t instance = list_->instance();
  // Some more, so that it need not move at every entry.
  const ClusterRuns runs = room_.take(0, ceil_div(bytes + bytes / 4, cluster));
  list_ = make_nonresident(type::attribute_list, runs, cluster, bytes);
  list_->set_instance(instance);
  list_moved_ = true;
}

void FileEdit::write_list() {
  if (!list_ || list_->resident() || room_.mode() == Mode::rehearse) return;
  const Stream stream(fs_.store(), fs_.geometry(), runs_of(fs_, *list_), list_content_.size(),
                      list_content_.size());
  stream.write(0, list_content_, list_moved_);
  room_.note_written(list_content_.size());
}

void FileEdit::write_records() {
  const auto attributes_in = [&](std::uint64_t record) {
    std::vector<Attribute> found;
    for (const Extent& piece : extents_)
      if (piece.record == record) found.push_back(piece.attribute);
    if (record == base_.number && list_)
      found.insert(std::find_if(found.begin(), found.end(),
                                [](const Attribute& attribute) {
                                  return attribute.type() > type::attribute_list;
                                }),
                   *list_);
    return found;
  };
  const auto write = [&](Record& record, bool fresh) {
    const std::vector<Attribute> now = attributes_in(record.number);
    if (!fresh && same_bytes(now, record.attributes())) return;
    if (now.empty()) {
      RecordHeader header = record.header();
      header.flags = static_cast<std::uint16_t>(header.flags.value() & ~record_flags::in_use);
      header.sequence = static_cast<std::uint16_t>(std::max(1, header.sequence.value() + 1));
      record.set_header(header);
      room_.give_back_record(record.number);
    }
    record.set_attributes(now);
    room_.note_written(record.raw.size());
    if (room_.mode() == Mode::carry_out) fs_.write_record(record);
  };
  for (auto& [number, record] : extensions_) write(record, record.header().bytes_used.value() == 0);
  write(base_, false);
}

void FileEdit::finish() {
  for (refresh_list(); const auto record = overfull(); refresh_list()) make_room(*record);
  if (is_table() && room_.mode() == Mode::carry_out) {
    ClusterRuns runs;
    std::uint64_t size = 0;
    for (const Extent& piece : extents_) {
      if (piece.attribute.type() != type::data) continue;
      if (piece.attribute.lowest_vcn() == 0) size = piece.attribute.initialized_size();
      for (const ClusterRun& run : runs_of(fs_, piece.attribute)) runs.push_back(run);
    }
    fs_.set_mft(runs, size / fs_.geometry().record_size);
  }
  write_list();
  write_records();
}

}  // namespace jh::ntfs
