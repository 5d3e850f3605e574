#include "core/fs/ext/audit_names.h"

#include <chrono>
#include <system_error>

#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

constexpr std::size_t worth_a_thread = 128U << 10;  // bytes of blocks
constexpr std::size_t most_waiting = 1024;

}  // namespace

NameAudit::NameAudit(std::string where, bool encrypted, std::uint32_t block_size,
                     std::optional<IndexAudit> index)
    : where_("ext, " + std::move(where)),
      encrypted_(encrypted),
      block_size_(block_size),
      index_(std::move(index)) {}

void NameAudit::look(ConstByteSpan entries, std::uint64_t logical) {
  std::size_t at = 0;
  for (std::uint32_t index = 0; entries.size() - at >= sizeof(DirEntry); ++index) {
    const auto entry = parse_as<DirEntry>(entries, at);
    const std::uint32_t length = entry_length(entry.rec_len.value(), block_size_);
    if (!is_whole(entry, length, entries.size() - at)) return;
    const bool is_head = logical == 0 && index < 2;  // "." and ".."
    if (!is_head && entry.inode.value() != 0)
      check(std::string(reinterpret_cast<const char*>(entries.data() + at + sizeof(DirEntry)),
                        entry.name_len),
            logical);
    at += length;
  }
}

void NameAudit::check(const std::string& name, std::uint64_t logical) {
  const auto find = [&](const std::string& what) {
    findings_.add(where_, fmt::format("the name \"{}\" {}", printable(name), what));
  };
  if (name.empty() || name == "." || name == ".." || name.find('\0') != std::string::npos ||
      (name.find('/') != std::string::npos && !encrypted_))
    find("is not allowed");
  if (!names_.insert(name).second) find("is there twice");
  if (index_ && !index_->is_sought_in(logical, name))
    find(fmt::format("lies in block {}, where its index would not look for it", logical));
}

void NameAudit::keep(Buffer entries, std::uint64_t logical) {
  kept_.push_back({std::move(entries), logical});
}

std::size_t NameAudit::kept_bytes() const {
  std::size_t sum = 0;
  for (const Block& block : kept_) sum += block.entries.size();
  return sum;
}

const Findings& NameAudit::finish() {
  for (const Block& block : kept_) look(block.entries, block.logical);
  kept_.clear();
  return findings_;
}

Findings NameAuditWorker::done(const Work& work) {
  Findings all;
  for (const auto& names : work)
    for (const Finding& each : names->finish().kept()) all.add(each.where, each.what);
  return all;
}

void NameAuditWorker::add(std::unique_ptr<NameAudit> names) {
  waiting_bytes_ += names->kept_bytes();
  waiting_.push_back(std::move(names));
  if (waiting_bytes_ >= worth_a_thread || waiting_.size() >= most_waiting) dispatch();
}

void NameAuditWorker::dispatch() {
  const auto work = std::make_shared<const Work>(std::move(waiting_));
  waiting_.clear();
  waiting_bytes_ = 0;
  const std::uint64_t number = dispatched_++;
  const bool is_busy =
      at_work_.valid() && at_work_.wait_for(std::chrono::seconds(0)) != std::future_status::ready;
  if (!is_busy) {
    if (at_work_.valid()) found_.emplace(at_work_on_, at_work_.get());
    try {
      at_work_ = std::async(std::launch::async, [work] { return done(*work); });
      at_work_on_ = number;
      return;
    } catch (const std::system_error&) {
      // No thread is to be had.
    }
  }
  found_.emplace(number, done(*work));
}

void NameAuditWorker::finish() {
  found_.emplace(dispatched_++, done(waiting_));
  waiting_.clear();
  if (at_work_.valid()) found_.emplace(at_work_on_, at_work_.get());
  for (const auto& [number, found] : found_)
    for (const Finding& each : found.kept()) findings_.add(each.where, each.what);
  found_.clear();
}

}  // namespace jh::ext
