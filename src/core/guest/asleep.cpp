// Where a guest keeps the memory of a system that was put to sleep: in a place of its own, or in a
// file that fstab or the kernel's resume entry names.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <set>
#include <sstream>

#include "core/base/printable.h"
#include "core/guest/guest.h"

namespace jh {
namespace {

// The largest page of any machine: the mark is at the end of the first.
constexpr std::uint64_t first_page = 64U << 10;

bool holds_saved_system(ConstByteSpan head) {
  const auto& kinds = filesystem_kinds();
  return std::any_of(kinds.begin(), kinds.end(), [&](const FilesystemKind* kind) {
    return kind->holds_saved_system != nullptr && kind->holds_saved_system(head);
  });
}

// Files in which systems keep what their kernel is told at its start.
constexpr std::array<const char*, 10> kernel_settings{
    "/boot/grub/grub.cfg", "/boot/grub2/grub.cfg",
    "/grub/grub.cfg",      "/grub2/grub.cfg",
    "/etc/default/grub",   "/etc/kernel/cmdline",
    "/boot/cmdline.txt",   "/cmdline.txt",
    "/etc/lilo.conf",      "/etc/initramfs-tools/conf.d/resume"};
// Usual names of swap files: no fstab need name them, where a service makes them.
constexpr std::array<const char*, 4> usual_files{"/swapfile", "/swap.img", "/swap/swapfile",
                                                 "/var/swap"};

/// Where a kernel is told to look for a saved system.
struct ResumeEntry {
  std::string device;
  std::uint64_t offset = 0;  // pages
  bool operator<(const ResumeEntry& other) const {
    return std::tie(device, offset) < std::tie(other.device, other.offset);
  }
};

std::string without_quotes(std::string word) {
  std::erase_if(word, [](char c) { return c == '"' || c == '\'' || c == '\\'; });
  return word;
}

// Of each line that has a "resume=": with the offset that the same line gives.
void add_resume_entries(const std::string& text, std::set<ResumeEntry>& entries) {
  constexpr std::size_t most = 64;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line) && entries.size() < most;) {
    ResumeEntry entry;
    std::istringstream words(line);
    for (std::string word; words >> word;) {
      word = without_quotes(word);
      const auto after = [&](const std::string& key) -> std::optional<std::string> {
        const std::size_t at = word.find(key);
        if (at == std::string::npos || (at != 0 && word[at - 1] != '=')) return std::nullopt;
        return word.substr(at + key.size());
      };
      if (const auto device = after("resume=")) entry.device = *device;
      if (const auto device = after("RESUME=")) entry.device = *device;
      if (const auto pages = after("resume_offset="))
        std::from_chars(pages->data(), pages->data() + pages->size(), entry.offset);
    }
    if (!entry.device.empty() && entry.device != "none" && entry.device != "auto")
      entries.insert(entry);
  }
}

// Where the files of a boot partition may be, under names without "/boot".
bool has_kernels(const Layer& layer) {
  return std::find(layer.mount_points.begin(), layer.mount_points.end(), "/boot") !=
         layer.mount_points.end();
}

bool is_path(const std::string& device) {
  return device.starts_with('/') && !device.starts_with("/dev/");
}

std::optional<std::string> text_of(Filesystem& fs, const std::string& path, std::uint64_t limit) {
  try {
    return fs.read_text(path, limit);
  } catch (const Error&) {
    return std::nullopt;  // what cannot be read has no say; its audit tells what is wrong
  }
}

void read_resume_entries(Filesystem& fs, std::set<ResumeEntry>& entries) {
  constexpr std::uint64_t most = 1U << 20;
  for (const char* path : kernel_settings)
    if (const auto text = text_of(fs, path, most)) add_resume_entries(*text, entries);
}

// Of a path as the guest has it: the place whose mount point is the longest in front of it, and the
// rest of the path.
std::pair<const Layer*, std::string> place_of_path(const Guest& guest, const std::string& path) {
  const Layer* best = nullptr;
  std::size_t length = 0;
  for (const Layer* layer : guest.layers())
    for (const std::string& point : layer->mount_points) {
      const std::string prefix = point == "/" ? point : point + "/";
      if (!point.starts_with('/') || !path.starts_with(prefix) || point.size() < length) continue;
      best = layer;
      length = point.size();
    }
  return {best, length <= 1 ? path : path.substr(length)};
}

}  // namespace

void Guest::note_asleep(const Layer& layer, const std::string& what) {
  asleep_.push_back(Error(Status::refused,
                          "the guest is suspended: " + what +
                              ", and its saved memory "
                              "holds the current state of its filesystems",
                          disks_[layer.disk].path + ", " + best_name(layer),
                          "wake the guest and shut it down properly, then run again")
                        .with_reason(Reason::suspended));
}

void Guest::find_saved_systems(Filesystem* root) {
  // A guest whose disk lies in one of these layers sleeps for itself.
  std::vector<const Layer*> own = layers();
  std::erase_if(own, [](const Layer* layer) { return layer->is_inner(); });
  for (const Layer* layer : own)
    for (const Error& blocker : layer->content.blockers)
      if (blocker.reason() == Reason::suspended) {
        asleep_.push_back(Error(blocker.status(),
                                std::string("the guest is suspended: ") + blocker.what(),
                                disks_[layer->disk].path + ", " + best_name(*layer), blocker.next())
                              .with_reason(Reason::suspended));
        break;
      }
  std::set<std::string> files(usual_files.begin(), usual_files.end());
  for (const FstabEntry& entry : fstab_)
    if (entry.type == "swap" && is_path(entry.device)) files.insert(entry.device);
  std::set<ResumeEntry> entries;
  for (const Layer* layer : own)
    if (layer->content.filesystem() &&
        (root == nullptr || layer->content.filesystem() == root || has_kernels(*layer)))
      read_resume_entries(*layer->content.filesystem(), entries);
  const auto look_at_file = [&](const Layer& layer, const std::string& path,
                                const std::string& name) {
    if (!layer.content.filesystem()) return false;
    const auto head = text_of(*layer.content.filesystem(), path, first_page);
    if (!head || !holds_saved_system(text_bytes(*head))) return false;
    note_asleep(layer, "a saved image is in the swap file " + printable(name));
    return true;
  };
  for (const std::string& path : files) {
    const auto [layer, rest] = place_of_path(*this, path);
    // A subvolume that is mounted there has a name of its own in the place.
    if (layer != nullptr && !look_at_file(*layer, rest, path) && rest != path)
      look_at_file(*layer, path, path);
  }
  for (const ResumeEntry& entry : entries) {
    if (entry.offset == 0) continue;  // a place of its own, which says so by itself
    for (const Layer* layer : own) {
      // By whatever name: a page that is marked so is no chance.
      if (!layer->window) continue;
      constexpr std::uint64_t page = 4096;
      if (entry.offset > layer->size.value() / page) continue;
      const std::uint64_t at = entry.offset * page;
      const std::uint64_t length = std::min(first_page, layer->size.value() - at);
      if (holds_saved_system(read_buffer(*layer->window, at, static_cast<std::size_t>(length))))
        note_asleep(*layer, fmt::format("a saved image is where the kernel is told to "
                                        "look for it (page {})",
                                        entry.offset));
    }
  }
}

void check_awake(const Guest& guest) {
  if (!guest.asleep().empty()) throw guest.asleep().front();
}

}  // namespace jh
