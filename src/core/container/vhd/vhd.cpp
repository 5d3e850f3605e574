#include "core/container/vhd/vhd.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/container/chain.h"
#include "core/container/places.h"
#include "core/store/transfer.h"
#include "core/store/utf16.h"

namespace jh::vhd {
namespace {

[[noreturn]] void corrupt(Store& file, const std::string& what) {
  damaged("the VHD image is corrupt: " + what, file.name(),
          "take the image from a backup, or let the hypervisor check it");
}

bool is_sound(const Footer& footer) {
  return std::equal(footer_cookie.begin(), footer_cookie.end(), footer.cookie.begin()) &&
         footer.checksum.value() == checksum_of(footer);
}

std::optional<Header> header_in(Store& file, std::uint64_t at) {
  if (at > file.size() || file.size() - at < sizeof(Header)) return std::nullopt;
  const auto header = read_as<Header>(file, at);
  if (!std::equal(header_cookie.begin(), header_cookie.end(), header.cookie.begin()) ||
      header.checksum.value() != checksum_of(header))
    return std::nullopt;
  return header;
}

std::vector<std::string> names_in(Store& file, const Header& header) {
  std::vector<std::string> names;
  for (const Locator& locator : header.locators) {
    const std::string_view platform(locator.platform.data(), 4);
    const std::uint64_t length = locator.length.value();
    if ((platform != "W2ru" && platform != "W2ku") || length == 0 || length > 4096 ||
        checked_add(locator.offset.value(), length) > file.size())
      continue;
    const Buffer raw = read_buffer(file, locator.offset.value(), length);
    std::string name = text_from_utf16(raw, /*big_endian=*/false);
    std::replace(name.begin(), name.end(), '\\', '/');
    if (platform == "W2ru" && name.starts_with("./")) name.erase(0, 2);
    // Absolute names of another system mean nothing here; their last part may lie beside us.
    if (platform == "W2ku") name = name.substr(name.rfind('/') + 1);
    if (!name.empty()) names.push_back(std::move(name));
  }
  const std::string plain = text_from_utf16(header.parent_name, /*big_endian=*/true);
  if (!plain.empty()) names.push_back(plain.substr(plain.find_last_of("/\\") + 1));
  return names;
}

std::optional<Footer> footer_in(Store& file) {
  if (file.size() < sizeof(Footer)) return std::nullopt;
  const auto footer = read_as<Footer>(file, file.size() - sizeof(Footer));
  return is_sound(footer) ? std::optional(footer) : std::nullopt;
}

}  // namespace

std::vector<std::string> parent_names(Store& file) {
  const auto footer = footer_in(file);
  if (!footer || static_cast<Type>(footer->type.value()) != Type::differencing) return {};
  const auto header = header_in(file, footer->header_offset.value());
  return header ? names_in(file, *header) : std::vector<std::string>();
}

std::optional<Uuid> identity(Store& file) {
  const auto footer = footer_in(file);
  return footer ? std::optional(footer->id) : std::nullopt;
}

std::optional<Uuid> parent_identity(Store& file) {
  const auto footer = footer_in(file);
  if (!footer || static_cast<Type>(footer->type.value()) != Type::differencing) return std::nullopt;
  const auto header = header_in(file, footer->header_offset.value());
  return header ? std::optional(header->parent_id) : std::nullopt;
}

VhdContainer::VhdContainer(Store& file, FileResolver* resolver, std::vector<std::string> children)
    : file_(file) {
  read_footer();
  if (disk_size() == 0 || disk_size() % sector != 0 || disk_size() > most_bytes + (1U << 30))
    corrupt(file, fmt::format("a disk of {} bytes", disk_size()));
  if (type() == Type::fixed) {
    if (end_ < disk_size())
      corrupt(file, fmt::format("the file holds {} bytes of a disk of {}", end_, disk_size()));
    return;
  }
  read_header();
  if (type() != Type::differencing) return;
  below_ = open_parent(file, resolver, names_in(file, header_), std::move(children));
  const auto* parent = dynamic_cast<VhdContainer*>(below_.get());
  if (parent != nullptr && parent->footer_.id != header_.parent_id)
    refuse("the image builds on another one than the one that is there", below_->disk().name(),
           "it expects the identity " + guid_text(header_.parent_id));
}

void VhdContainer::read_footer() {
  if (file_.size() < 2 * sector) corrupt(file_, "the file is too short");
  end_ = round_down(file_.size(), sector) - sizeof(Footer);
  footer_ = read_as<Footer>(file_, end_);
  if (!is_sound(footer_)) {
    // Sparse disks have a copy at their beginning.
    backup_footer_only_ = true;
    footer_ = read_as<Footer>(file_, 0);
    if (!is_sound(footer_)) corrupt(file_, "the checksum of its footer");
    end_ = round_down(file_.size(), sector);
  }
  if (footer_.version.value() >> 16 != 1)
    unsupported(fmt::format("VHD version {} is not known", footer_.version.value() >> 16),
                file_.name());
  const std::uint32_t kind = footer_.type.value();
  if (kind < 2 || kind > 4)
    unsupported(fmt::format("VHD images of kind {} are not known", kind), file_.name());
  if (backup_footer_only_ && type() == Type::fixed)
    corrupt(file_, "a fixed disk has one footer only");
}

void VhdContainer::read_header() {
  const auto header = header_in(file_, footer_.header_offset.value());
  if (!header) corrupt(file_, "its dynamic header");
  header_ = *header;
  block_size_ = header_.block_size.value();
  if (!is_power_of_two(block_size_) || block_size_ < 4096 || block_size_ > (256U << 20))
    corrupt(file_, fmt::format("blocks of {} bytes", block_size_));
  const std::uint64_t entries = header_.table_entries.value();
  const std::uint64_t needed = ceil_div(disk_size(), block_size_);
  // A limit of ours, by which a block table takes at most 128 MiB.
  if (needed > (32U << 20))
    unsupported(fmt::format("a VHD disk of {} blocks is larger than can be handled", needed),
                file_.name());
  if (entries < needed ||
      checked_add(header_.table_offset.value(), entries * 4) > round_up(file_.size(), sector) ||
      needed * 4 > file_.size())
    corrupt(file_, fmt::format("a block table of {} entries at {}", entries,
                               header_.table_offset.value()));
  const Buffer raw =
      read_buffer(file_, header_.table_offset.value(), static_cast<std::size_t>(needed * 4));
  for (std::size_t i = 0; i < raw.size(); i += 4) table_.push_back(parse_as<Be32>(raw, i).value());
}

// The room of a name is counted in sectors by some writers and in bytes by others, and not at all
// by a few: its length and the larger sense are taken, as far as the file reaches.
std::vector<std::pair<std::uint64_t, std::uint64_t>> VhdContainer::locator_ranges() const {
  std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges;
  if (type() != Type::differencing) return ranges;
  for (const Locator& locator : header_.locators) {
    const std::uint64_t at = locator.offset.value();
    if (locator.platform == std::array<char, 4>{} || locator.length.value() == 0 || at >= end_)
      continue;
    const std::uint64_t space = locator.space.value();
    const std::uint64_t room = std::max<std::uint64_t>(
        locator.length.value(), space < sector || space % sector != 0 ? space * sector : space);
    ranges.emplace_back(at, std::min(end_, round_up(checked_add(at, room), sector)));
  }
  return ranges;
}

const Buffer& VhdContainer::bitmap(std::uint64_t block) {
  constexpr std::size_t most = 4096;
  const auto found = bitmaps_.find(block);
  if (found != bitmaps_.end()) return found->second;
  if (bitmaps_.size() >= most) bitmaps_.clear();
  const std::uint64_t at = std::uint64_t{table_[block]} * sector;
  if (checked_add(at, bitmap_size()) > file_.size())
    corrupt(file_, fmt::format("block {} of the disk lies at {}, past the file's end", block, at));
  return bitmaps_[block] = read_buffer(file_, at, static_cast<std::size_t>(bitmap_size()));
}

Extent VhdContainer::find(std::uint64_t offset, std::uint64_t length) {
  if (type() == Type::fixed) return {Extent::Kind::data, length, &file_, offset};
  const std::uint64_t block = offset / block_size_;
  const std::uint64_t inside = offset % block_size_;
  length = std::min(length, block_size_ - inside);
  if (table_[block] == entry_absent) return {Extent::Kind::below, length, nullptr, 0};
  const Buffer& bits = bitmap(block);
  const auto there = [&](std::uint64_t s) { return (bits[s / 8] >> (7 - s % 8) & 1) != 0; };
  const std::uint64_t first = inside / sector;
  std::uint64_t last = first + 1;
  while (last * sector < inside + length && there(last) == there(first)) ++last;
  length = std::min(length, last * sector - inside);
  if (!there(first)) return {Extent::Kind::below, length, nullptr, 0};
  const std::uint64_t at = std::uint64_t{table_[block]} * sector + bitmap_size() + inside;
  if (at >= file_.size()) return {Extent::Kind::zero, length, nullptr, 0};
  return {Extent::Kind::data, std::min(length, file_.size() - at), &file_, at};
}

void VhdContainer::set_entry(std::uint64_t block, std::uint32_t entry) {
  table_[block] = entry;
  file_.write(header_.table_offset.value() + block * 4, bytes_of(Be32(entry)));
}

void VhdContainer::write_footer(std::uint64_t at) {
  footer_.checksum = checksum_of(footer_);
  end_ = at;
  file_.resize(std::max(file_.size(), at + sizeof(Footer)));
  file_.write(at, bytes_of(footer_));
  if (type() != Type::fixed) file_.write(0, bytes_of(footer_));
  backup_footer_only_ = false;
}

void VhdContainer::seal_header() {
  header_.checksum = checksum_of(header_);
  file_.write(footer_.header_offset.value(), bytes_of(header_));
}

void VhdContainer::put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                              ConstByteSpan content) {
  const std::uint64_t whole = bitmap_size() + block_size_;
  for (std::uint64_t block = first; block < first + count; ++block) {
    const std::size_t step = std::min<std::size_t>(content.size(), block_size_ - inside);
    const bool fresh = table_[block] == entry_absent;
    // A new block begins where the footer is, which moves behind it; or a little later, so that its
    // data lies where the host's blocks begin.
    const std::uint64_t at = fresh ? round_up(end_ + bitmap_size(), share_alignment) - bitmap_size()
                                   : std::uint64_t{table_[block]} * sector;
    if (fresh) {
      if (at != end_) file_.write(end_, Buffer(sizeof(Footer)));
      file_.resize(std::max(file_.size(), at + whole + sizeof(Footer)));
      set_entry(block, checked_cast<std::uint32_t>(at / sector));
      write_into_zeros(file_, at + bitmap_size() + inside, content.first(step));
    } else {
      // Sectors that its bitmap did not have may hold anything.
      Buffer all(block_size_);
      std::copy_n(content.begin(), step, all.begin() + static_cast<std::ptrdiff_t>(inside));
      file_.write(at + bitmap_size(), all);
    }
    bitmaps_[block] = Buffer(bitmap_size(), 0xff);
    file_.write(at, bitmaps_[block]);
    if (fresh) write_footer(at + whole);
    content = content.subspan(step);
    inside = 0;
  }
}

void VhdContainer::drop_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t block = first; block < first + count; ++block) {
    if (below_) {
      put_blocks(block, 1, 0, Buffer(block_size_));
      continue;
    }
    if (type() != Type::fixed && table_[block] == entry_absent) continue;
    const std::uint64_t length = std::min(block_size_, disk_size() - block * block_size_);
    const std::uint64_t at = type() == Type::fixed
                                 ? block * block_size_
                                 : std::uint64_t{table_[block]} * sector + bitmap_size();
    if (at < file_.size()) file_.discard(at, std::min(length, file_.size() - at));
  }
}

void VhdContainer::forget_blocks(std::uint64_t first, std::uint64_t count) {
  if (type() != Type::sparse) return drop_blocks(first, count);
  uncover_blocks(first, count);
}

void VhdContainer::uncover_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t block = first; block < first + count; ++block) {
    if (table_[block] == entry_absent) continue;
    set_entry(block, entry_absent);
    bitmaps_.erase(block);
  }
}

ContainerFacts VhdContainer::facts() {
  ContainerFacts facts;
  facts.format = ImageFormat::vhd;
  facts.variant = type() == Type::differencing ? "differencing" : "";
  facts.allocation = type() == Type::fixed ? Allocation::full : Allocation::sparse;
  facts.disk_size = Bytes(disk_size());
  facts.file_length = Bytes(file_.size());
  if (type() != Type::fixed) {
    facts.block_size = Bytes(block_size_);
    facts.blocks = table_.size();
  }
  facts.limit = "2040 GiB";
  facts.identity = guid_text(footer_.id);
  if (type() == Type::fixed && disk_size() % (1U << 20) != 0)
    facts.notes.push_back(fmt::format(
        "its size is no whole number of MiB, which hosts in the cloud ask of fixed disks; {} more "
        "bytes would make it one",
        round_up(disk_size(), 1U << 20) - disk_size()));
  if (backup_footer_only_) facts.pending_repairs.emplace_back("write the damaged footer anew");
  if (footer_.saved_state != 0)
    facts.blockers.push_back(in_the_way("the guest of this image is suspended", file_.name(),
                                        "let it wake up and shut down in the hypervisor"));
  if (below_) describe_parents(facts, below_.get(), below_->disk().name(), file_.name());
  return facts;
}

void VhdContainer::audit(Findings& findings) {
  const std::string where = file_.name() + ", VHD";
  if (backup_footer_only_) findings.add(where, "the footer at the end is damaged");
  if (type() == Type::fixed) return;
  if (std::memcmp(bytes_of(read_as<Footer>(file_, 0)).data(), bytes_of(footer_).data(),
                  sizeof(Footer)) != 0)
    findings.add(where, "the copy of the footer at the beginning differs");
  Places places;
  const std::uint64_t header = footer_.header_offset.value();
  places.add(0, sector, "the footer's copy");
  places.add(header, sizeof(Header), "the header");
  places.add(header_.table_offset.value(), std::uint64_t{header_.table_entries.value()} * 4,
             "the block table");
  for (std::size_t i = 0; i < table_.size(); ++i) {
    if (table_[i] == entry_absent) continue;
    places.add(std::uint64_t{table_[i]} * sector, bitmap_size() + block_size_,
               bitmap_size() + std::min(block_size_, disk_size() - i * block_size_), "block", i);
  }
  places.report(where, end_, findings);
}

void create(Store& file, std::uint64_t disk_size, bool full, const Uuid& id) {
  if (disk_size > most_bytes)
    refuse("a VHD disk reaches 2040 GiB at most", file.name(), "choose another form");
  if (full && disk_size % (1U << 20) != 0) disk_size = round_up(disk_size, 1U << 20);
  Footer footer{};
  std::copy(footer_cookie.begin(), footer_cookie.end(), footer.cookie.begin());
  footer.features = 2;  // a bit that is always set
  footer.version = version_1_0;
  footer.header_offset = full ? UINT64_MAX : sector;
  footer.creator = {'j', 'u', 'n', 'h'};
  footer.creator_version = version_1_0;
  footer.creator_host = {'W', 'i', '2', 'k'};  // no other value but one is defined
  footer.original_size = disk_size;
  footer.current_size = disk_size;
  const Geometry geometry = geometry_of(disk_size);
  footer.cylinders = geometry.cylinders;
  footer.heads = geometry.heads;
  footer.sectors_per_track = geometry.sectors;
  footer.type = static_cast<std::uint32_t>(full ? Type::fixed : Type::sparse);
  footer.id = id;
  footer.checksum = checksum_of(footer);
  if (full) {
    file.resize(disk_size + sizeof(Footer));
    file.write(disk_size, bytes_of(footer));
    return;
  }
  Header header{};
  std::copy(header_cookie.begin(), header_cookie.end(), header.cookie.begin());
  constexpr std::uint32_t block = 2U << 20;
  constexpr std::uint64_t table_at = sector + sizeof(Header);
  const std::uint64_t entries = ceil_div(disk_size, block);
  header.data_offset = UINT64_MAX;
  header.table_offset = table_at;
  header.version = version_1_0;
  header.table_entries = checked_cast<std::uint32_t>(entries);
  header.block_size = block;
  header.checksum = checksum_of(header);
  const Buffer table(round_up(entries * 4, sector), 0xff);
  file.resize(table_at + table.size() + sizeof(Footer));
  file.write(0, bytes_of(footer));
  file.write(sector, bytes_of(header));
  file.write(table_at, table);
  file.write(table_at + table.size(), bytes_of(footer));
}

}  // namespace jh::vhd
