#include "core/store/ledger.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/uuid/random_generator.hpp>
#include <chrono>
#include <filesystem>

#include "core/base/checksum.h"
#include "core/base/compression.h"

namespace jh {

using ledger::Mark;
using ledger::MarkKind;
using ledger::Record;
using ledger::RecordKind;

namespace {

namespace files = std::filesystem;

void append_file(Store& file, std::uint64_t& end, ConstByteSpan data) {
  if (file.size() < end + data.size()) file.resize(end + data.size());
  file.write(end, data);
  end += data.size();
}

Record record_of(RecordKind kind, std::uint32_t image, std::uint64_t offset, std::uint64_t length,
                 std::uint32_t flags = 0) {
  Record record{};
  record.kind = static_cast<std::uint32_t>(kind);
  record.image = image;
  record.flags = flags;
  record.offset = offset;
  record.length = length;
  return record;
}

// Paths in the same folder are kept relative to it, so that the folder can be moved as a whole.
std::string shorten(const std::string& path, const std::string& ledger_path) {
  const files::path absolute = files::absolute(path).lexically_normal();
  if (absolute.parent_path() == files::absolute(ledger_path).lexically_normal().parent_path())
    return absolute.filename().string();
  return absolute.string();
}

}  // namespace

std::string open_name(const std::string& ledger_path) { return ledger_path + ".open"; }

bool is_reserved_name(const std::string& path) {
  const std::string name = files::path(path).filename().string();
  for (const char* ending : {".juneheath", ".juneheath.open", ".juneheath.new"})
    if (name.ends_with(ending)) return true;
  return false;
}

std::unique_ptr<Ledger> Ledger::create(Host& host, const std::vector<std::string>& image_paths,
                                       const std::vector<Store*>& images, std::size_t created) {
  ensure(!images.empty() && images.size() == image_paths.size(), "a ledger has images");
  std::unique_ptr<Ledger> made(new Ledger(host));
  made->path_ = host.ledger_path(image_paths.front());
  const boost::uuids::uuid id = boost::uuids::random_generator()();
  std::copy(id.begin(), id.end(), made->id_.begin());
  made->created_ =
      static_cast<std::uint64_t>(std::chrono::duration_cast<std::chrono::seconds>(
                                     std::chrono::system_clock::now().time_since_epoch())
                                     .count());
  for (std::size_t i = 0; i < images.size(); ++i) {
    made->images_.push_back({image_paths[i], images[i]->size(), host.identity(image_paths[i]),
                             i + created >= images.size(), host.device_name(image_paths[i])});
    if (i != 0) made->pointers_.push_back(host.ledger_path(image_paths[i]));
  }
  std::vector<std::string> begun;
  const auto create = [&](const std::string& name) {
    auto file = host.create(name);
    begun.push_back(name);
    return file;
  };
  try {
    made->file_ = create(open_name(made->path_));
    // The pointers come first: once the ledger is one, every image it is about leads to it. A
    // pointer to a ledger that was never begun means nothing.
    for (const std::string& pointer : made->pointers_) {
      const std::string text =
          std::string(ledger::pointer_text) + shorten(made->path_, pointer) + "\n";
      const auto file = create(open_name(pointer));
      std::uint64_t end = 0;
      append_file(*file, end, text_bytes(text));
      file->flush();
    }
    made->write_header();
  } catch (const Error&) {
    // Nothing was written to an image: no trace is left of it, where the host allows.
    for (const std::string& name : begun) remove_quietly(host, name);
    throw;
  }
  return made;
}

std::vector<std::string> Ledger::paths() const {
  std::vector<std::string> paths;
  for (const Image& image : images_) paths.push_back(image.path);
  return paths;
}

void Ledger::write_header() {
  Buffer raw(sizeof(ledger::Header));
  for (const Image& image : images_) {
    const std::string path = shorten(image.path, path_);
    ledger::ImageEntry entry{};
    entry.old_size = image.old_size;
    entry.device = image.identity.device;
    entry.node = image.identity.node;
    entry.path_length = checked_cast<std::uint32_t>(path.size());
    entry.flags = image.created ? ledger::image_created : 0;
    entry.device_name_length = checked_cast<std::uint32_t>(image.device_name.size());
    const ConstByteSpan fixed = bytes_of(entry);
    raw.insert(raw.end(), fixed.begin(), fixed.end());
    raw.insert(raw.end(), path.begin(), path.end());
    raw.insert(raw.end(), image.device_name.begin(), image.device_name.end());
  }
  raw.resize(round_up(raw.size(), ledger::block_size));
  if (raw.size() > ledger::max_header)
    refuse(fmt::format("the disk lies in {} files, more than one ledger can name", images_.size()),
           path_, "make a new image of it with --into");
  ledger::Header header{};
  header.magic = ledger::header_magic;
  header.version = ledger::version;
  header.length = checked_cast<std::uint32_t>(raw.size());
  header.ledger_id = id_;
  header.created = created_;
  header.image_count = checked_cast<std::uint32_t>(images_.size());
  header.crc = 0;
  put_at(raw, 0, header);
  header.crc = crc32c(raw);
  put_at(raw, 0, header);
  // The marks' blocks are written now, so that setting one later cannot fail for want of space.
  end_ = 0;
  append_file(*file_, end_, Buffer(ledger::header_offset));
  append_file(*file_, end_, raw);
  fronts_start_ = end_;
  append_file(*file_, end_, Buffer(images_.size() * sizeof(ledger::Front)));
  records_start_ = end_;
  file_->flush();
}

void Ledger::set_mark(MarkKind kind, std::uint32_t flags) {
  Mark mark{};
  mark.magic = ledger::mark_magic;
  mark.kind = static_cast<std::uint32_t>(kind);
  mark.ledger_id = id_;
  mark.records_end = end_;
  mark.flags = flags;
  mark.fronts_crc = crc32c(fronts_area());
  mark.crc = crc32c(bytes_of(mark).first(offsetof(Mark, crc)));
  file_->write(static_cast<std::uint64_t>(kind) * ledger::block_size, bytes_of(mark));
  file_->flush();
}

void Ledger::write_record(Record record, ConstByteSpan payload) {
  record.magic = ledger::record_magic;
  record.payload_length = checked_cast<std::uint32_t>(payload.size());
  record.payload_crc = crc32c(payload);
  record.padding = 0;
  record.crc = ~crc32c_raw(crc32c_raw(~0U, id_), bytes_of(record).first(offsetof(Record, crc)));
  const ConstByteSpan fixed = bytes_of(record);
  waiting_.insert(waiting_.end(), fixed.begin(), fixed.end());
  waiting_.insert(waiting_.end(), payload.begin(), payload.end());
  waiting_.resize(round_up(waiting_.size(), 8));
  if (waiting_.size() >= ledger::max_payload) write_back();
}

void Ledger::write_back() {
  if (waiting_.empty()) return;
  append_file(*file_, end_, waiting_);
  waiting_.clear();
}

std::uint64_t Ledger::append(RecordKind kind, std::uint32_t image, std::uint64_t offset,
                             ConstByteSpan data) {
  std::uint64_t at = 0;
  for (std::uint64_t done = 0; done < data.size(); done += ledger::max_payload) {
    const ConstByteSpan piece =
        data.subspan(done, std::min<std::uint64_t>(ledger::max_payload, data.size() - done));
    if (all_zero(piece)) {
      append_zero(kind, image, offset + done, piece.size());
      at = 0;
      continue;
    }
    at = length() + sizeof(Record);
    write_record(record_of(kind, image, offset + done, piece.size()), piece);
  }
  return at;
}

void Ledger::read_back(std::uint64_t at, ByteSpan out) {
  {
    // Not brought out for it: there may be no room, and a change is being dropped.
    const std::lock_guard lock(reading_back_);
    if (at >= end_) {
      ensure(at - end_ + out.size() <= waiting_.size(), "what is read back was appended");
      std::copy_n(waiting_.begin() + static_cast<std::ptrdiff_t>(at - end_), out.size(),
                  out.begin());
      return;
    }
  }
  file_->read(at, out);
}

void Ledger::append_compressed(RecordKind kind, std::uint32_t image, std::uint64_t offset,
                               ConstByteSpan data) {
  for (std::uint64_t done = 0; done < data.size(); done += ledger::max_payload) {
    const ConstByteSpan piece =
        data.subspan(done, std::min<std::uint64_t>(ledger::max_payload, data.size() - done));
    const Buffer packed =
        all_zero(piece) ? Buffer() : pack(Compression::zstd, piece, piece.size() * 3 / 4);
    if (packed.empty())
      append(kind, image, offset + done, piece);
    else
      append_about(kind, image, offset + done, piece.size(), packed, ledger::flag_compressed);
  }
}

void Ledger::append_zero(RecordKind kind, std::uint32_t image, std::uint64_t offset,
                         std::uint64_t length) {
  write_record(record_of(kind, image, offset, length, ledger::flag_zero), {});
}

std::uint64_t Ledger::append_about(RecordKind kind, std::uint32_t image, std::uint64_t offset,
                                   std::uint64_t length, ConstByteSpan payload,
                                   std::uint32_t flags) {
  ensure(payload.size() <= ledger::max_payload, "a record's payload is within its limit");
  const std::uint64_t at = this->length() + sizeof(Record);
  write_record(record_of(kind, image, offset, length, flags), payload);
  return at;
}

void Ledger::append_checksum(RecordKind kind, std::uint32_t image, std::uint64_t offset,
                             std::uint64_t length, bool zero, std::uint32_t crc) {
  if (zero) {
    append_zero(kind, image, offset, length);
    return;
  }
  Le32 checksum;
  checksum = crc;
  append_about(kind, image, offset, length, bytes_of(checksum));
}

void Ledger::put_front(std::uint32_t image, ConstByteSpan page) {
  ledger::Front front{};
  ensure(page.size() <= front.page.size(), "a front is a page at most");
  std::copy(page.begin(), page.end(), front.page.begin());
  front.length = checked_cast<std::uint32_t>(page.size());
  file_->write(fronts_start_ + image * sizeof(front), bytes_of(front));
}

void Ledger::flush() {
  write_back();
  file_->flush();
}

void Ledger::commit(bool with_undo) {
  flush();
  has_undo_ = with_undo;
  set_mark(MarkKind::committed, with_undo ? 0 : ledger::mark_no_undo);
  state_ = State::committed;
  take_final_names();
}

void Ledger::take_final_names() {
  // Pointers first: as long as one of them is missing, the ledger is found under its first name.
  for (const std::string& pointer : pointers_)
    if (host_.exists(open_name(pointer))) host_.rename(open_name(pointer), pointer);
  if (!lasting_) host_.rename(open_name(path_), path_);
  lasting_ = true;
}

void Ledger::mark_applied() {
  set_mark(MarkKind::applied);
  state_ = State::applied;
}

void Ledger::mark_done() {
  set_mark(MarkKind::done);
  state_ = State::done;
}

void Ledger::clear_undoing() {
  file_->write(static_cast<std::uint64_t>(MarkKind::undoing) * ledger::block_size,
               Buffer(sizeof(Mark)));
  file_->flush();
  state_ = State::done;
}

void Ledger::mark_restored() {
  set_mark(MarkKind::restored);
  state_ = State::restored;
}

void Ledger::mark_undoing() {
  file_->flush();  // the first pages, on which the mark has a checksum
  set_mark(MarkKind::undoing);
  state_ = State::undoing;
}

void Ledger::mark_fetched() {
  set_mark(MarkKind::fetched);
  fetched_ = true;
}

void Ledger::remove() {
  // The ledger goes first: a pointer without a ledger means nothing, and is tidied away.
  host_.remove(lasting_ ? path_ : open_name(path_));
  for (const std::string& pointer : pointers_)
    for (const std::string& name : {open_name(pointer), pointer})
      if (leads_here(name)) host_.remove(name);
}

// The image may have a ledger of its own by now.
bool Ledger::leads_here(const std::string& name) {
  if (!host_.exists(name)) return false;
  const auto file = host_.open_plain(name, Access::read_only);
  const auto target = pointer_target(*file, name);
  return target && *target == files::absolute(path_).lexically_normal();
}

}  // namespace jh
