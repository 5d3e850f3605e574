#include "support/fault_host.h"

#include <utility>

#include "core/store/views.h"

namespace jh::test {

std::unique_ptr<Store> FaultHost::open(const std::string& path, Access) {
  const auto found = files_.find(path);
  if (found == files_.end()) refuse("cannot open the image: no such file", path);
  return std::make_unique<FaultStore>(found->second, power_, path);
}

std::unique_ptr<Store> FaultHost::open_plain(const std::string& path, Access access) {
  if (const auto act = std::exchange(before_opening_, {})) act();
  auto file = open(path, access);
  const auto act = std::exchange(after_opening_, {});
  if (!act) return file;
  const std::uint64_t size = file->size();
  act();
  return std::make_unique<WindowStore>(std::move(file), 0, size, path);
}

// Names are durable when the call returns; a cut in the middle leaves the old or the new state.
bool FaultHost::name_operation() {
  const bool cut = power_.tick();
  return !cut || mode_ == Unflushed::kept;
}

std::unique_ptr<Store> FaultHost::create(const std::string& path) {
  if (files_.contains(path)) io_failed("creating the file failed: it exists", path);
  if (name_operation()) {
    files_[path] = std::make_shared<FaultFile>(0);
    files_[path]->whole_sectors = path.find(".juneheath") == std::string::npos;
  }
  if (power_.is_off()) throw PowerCut();
  return open(path, Access::read_write);
}

void FaultHost::remove(const std::string& path) {
  if (!files_.contains(path)) return;
  if (name_operation()) files_.erase(path);
  if (power_.is_off()) throw PowerCut();
}

void FaultHost::rename(const std::string& from, const std::string& to) {
  if (name_operation()) {
    files_[to] = files_.at(from);
    files_.erase(from);
  }
  if (power_.is_off()) throw PowerCut();
}

FileIdentity FaultHost::identity(const std::string& path) {
  return {1, reinterpret_cast<std::uintptr_t>(files_.at(path).get())};
}

void FaultHost::put(const std::string& path, const MemoryStore& content) {
  files_[path] = std::make_shared<FaultFile>(content);
  files_[path]->whole_sectors = path.find(".juneheath") == std::string::npos;
}

void FaultHost::overwrite(const std::string& path, const MemoryStore& content) {
  files_.at(path)->durable.assign(content);
  files_.at(path)->view.assign(content);
}

std::vector<std::string> FaultHost::names() const {
  std::vector<std::string> all;
  for (const auto& [name, file] : files_) all.push_back(name);
  return all;
}

std::uint64_t FaultHost::taken() const {
  std::uint64_t bytes = 0;
  for (const auto& [name, file] : files_) bytes += file->taken();
  return bytes;
}

std::uint64_t FaultHost::room_left() const {
  if (!room_) return 1ULL << 50;
  const std::uint64_t used = taken();
  return used >= *room_ ? 0 : *room_ - used;
}

void FaultHost::leave_room(std::optional<std::uint64_t> bytes, std::uint64_t told) {
  told_ = told;
  room_.reset();
  if (bytes) room_ = taken() + *bytes;
  least_ = UINT64_MAX;
  power_.ask_for_room([this](std::uint64_t more) {
    const std::uint64_t left = room_left();
    if (more > left) return false;
    least_ = std::min(least_, left - more);
    return true;
  });
}

void FaultHost::cut_at(std::uint64_t n, Unflushed mode) {
  mode_ = mode;
  power_.cut_at(n);
}

void FaultHost::restart(std::mt19937& random) {
  for (auto& [name, file] : files_) file->power_lost(mode_, random);
  power_.switch_on();
}

namespace {

std::vector<std::string> all_named(const FaultHost& host, const std::string& first) {
  std::vector<std::string> images{first};
  for (const std::string& name : host.names())
    if (name != first && name.find(".juneheath") == std::string::npos) images.push_back(name);
  return images;
}

}  // namespace

RecoverResult recover(FaultHost& host, const std::string& image) {
  const Named named{all_named(host, image), {}};
  RecoverResult result = RecoverResult::nothing_to_do;
  for (const std::string& each : named.images) {
    const RecoverResult one = jh::recover(host, each, named).result;
    if (result == RecoverResult::nothing_to_do) result = one;
  }
  return result;
}

UndoFacts undo(FaultHost& host, const std::string& image) {
  return jh::undo(host, image, {all_named(host, image), {}});
}

UndoFacts check_undo(FaultHost& host, const std::string& image) {
  return jh::check_undo(host, image, {all_named(host, image), {}});
}

}  // namespace jh::test
