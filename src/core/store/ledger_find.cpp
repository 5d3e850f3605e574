// Finding the ledger that concerns an image.
#include <fmt/format.h>

#include <filesystem>

#include "core/store/ledger.h"

namespace jh {

namespace {

namespace files = std::filesystem;

std::string lengthen(const std::string& path, const std::string& ledger_path) {
  if (files::path(path).is_absolute()) return path;
  return (files::path(ledger_path).parent_path() / path).string();
}

std::optional<std::string> read_pointer(Store& file) {
  const std::string_view intro(ledger::pointer_text);
  if (file.size() <= intro.size() || file.size() > 8192) return std::nullopt;
  const Buffer raw = read_buffer(file, 0, file.size());
  const std::string text(raw.begin(), raw.end());
  if (text.compare(0, intro.size(), intro) != 0 || text.back() != '\n') return std::nullopt;
  return text.substr(intro.size(), text.size() - intro.size() - 1);
}

// What changes with every step in the life of the ledger that concerns an image: which of its names
// there are, how long it is, its marks and its header.
Buffer fingerprint(Host& host, const std::string& image_path) {
  Buffer all;
  const auto add = [&](const std::string& ledger_path) {
    std::string target;
    for (const std::string& name : {open_name(ledger_path), ledger_path}) {
      try {
        if (!host.exists(name)) continue;
        const auto file = host.open_plain(name, Access::read_only);
        const std::uint64_t size = file->size();
        const Buffer start =
            read_buffer(*file, 0, std::min(size, ledger::header_offset + ledger::block_size));
        const std::string about = fmt::format("{} {} ", name, size);
        all.insert(all.end(), about.begin(), about.end());
        all.insert(all.end(), start.begin(), start.end());
        target = pointer_target(*file, ledger_path).value_or(target);
      } catch (const Error& error) {
        const std::string_view what = error.what();
        all.insert(all.end(), what.begin(), what.end());
      }
    }
    return target;
  };
  const std::string target = add(host.ledger_path(image_path));
  if (!target.empty()) add(target);
  return all;
}

}  // namespace

std::optional<std::string> pointer_target(Store& file, const std::string& name) {
  const auto text = read_pointer(file);
  if (!text) return std::nullopt;
  return files::absolute(lengthen(*text, name)).lexically_normal().string();
}

std::unique_ptr<Ledger> Ledger::open(Host& host, const std::string& image_path, bool tidy) {
  // Nobody is asked to hold a lock only to look: another command may be writing the ledger at this
  // moment, or giving it its other name. What is wrong with it counts once it stands still.
  constexpr int most = 16;
  std::optional<Buffer> seen;
  for (int turn = 1;; ++turn) {
    try {
      return find(host, image_path, tidy);
    } catch (const Error&) {
      Buffer now = fingerprint(host, image_path);
      if (turn == most || seen == now) throw;
      seen = std::move(now);
    }
  }
}

std::unique_ptr<Ledger> Ledger::find(Host& host, const std::string& image_path, bool tidy) {
  const std::string own = host.ledger_path(image_path);
  const Access access = tidy ? Access::read_write : Access::read_only;
  // An unfinished change comes before a finished one that is only kept for its undo.
  for (const std::string& name : {open_name(own), own}) {
    if (!host.exists(name)) continue;
    std::unique_ptr<Ledger> found(new Ledger(host));
    found->path_ = own;
    found->file_ = host.open_plain(name, access);
    found->lasting_ = name == own;
    const auto pointer = read_pointer(*found->file_);
    if (pointer) {
      found->path_ = lengthen(*pointer, own);
      found->lasting_ = host.exists(found->path_) && !host.exists(open_name(found->path_));
      const std::string target = found->lasting_ ? found->path_ : open_name(found->path_);
      // The ledger gets its lasting name after its pointers: one that has not got its own yet does
      // not mean the finished change that lies there.
      const bool there = host.exists(target) && (name == own || !found->lasting_);
      if (there) found->file_ = host.open_plain(target, access);
      // A pointer outlives its ledger when the change was dropped or undone; and one that leads to
      // another pointer leads nowhere.
      if (!there || read_pointer(*found->file_)) {
        if (tidy) host.remove(name);
        continue;
      }
    }
    if (!found->read_header()) {
      if (tidy) host.remove(name);
      continue;
    }
    for (Image& image : found->images_) image.path = lengthen(image.path, found->path_);
    if (!pointer) {
      // It lies beside this image and is about it, also when both have been renamed since.
      found->images_.front().path = image_path;
    } else if (!found->names(host, own)) {
      if (tidy) host.remove(name);
      continue;  // the ledger pointed to has since been replaced by one about other images
    }
    for (std::size_t i = 1; i < found->images_.size(); ++i)
      found->pointers_.push_back(host.ledger_path(found->images_[i].path));
    return found;
  }
  return nullptr;
}

bool Ledger::names(Host& host, const std::string& own_ledger_path) const {
  return std::any_of(images_.begin(), images_.end(), [&](const Image& image) {
    return host.ledger_path(image.path) == own_ledger_path;
  });
}

}  // namespace jh
