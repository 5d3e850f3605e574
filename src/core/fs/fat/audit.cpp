#include "core/fs/fat/audit.h"

#include <fmt/format.h>

#include <deque>

#include "core/base/printable.h"

namespace jh::fat {
namespace {

class Audit {
 public:
  Audit(Volume& volume, Findings& findings, Progress& progress)
      : volume_(volume),
        g_(volume.geometry()),
        findings_(findings),
        progress_(progress),
        claimed_(std::size_t{g_.clusters} + first_cluster) {}

  void run() {
    compare_tables();
    if (g_.width == Width::bits32) claim("/", g_.root_cluster);
    folders_.push_back({"/", 0, 0});
    while (!folders_.empty()) {
      const Folder folder = folders_.front();
      folders_.pop_front();
      try {
        look_into(folder);
      } catch (const Error& error) {
        if (error.status() == Status::io) throw;
        find(folder.path, error.what());
      }
      progress_.advance(0);
    }
    count();
  }

 private:
  struct Folder {
    std::string path;
    std::uint32_t cluster;
    std::uint32_t parent;
  };

  void find(const std::string& where, const std::string& what) {
    findings_.add("FAT, " + printable(where), what);
  }

  void compare_tables() {
    if (!g_.copies_are_kept) return;
    constexpr std::uint64_t piece = 1U << 20;
    for (std::uint32_t copy = 1; copy < g_.tables; ++copy)
      for (std::uint64_t at = 0; at < g_.table_bytes; at += piece) {
        const std::uint64_t step = std::min(piece, g_.table_bytes - at);
        if (read_buffer(volume_.store(), g_.table_at + at, step) ==
            read_buffer(volume_.store(), g_.table_at + copy * g_.table_bytes + at, step))
          continue;
        find("table", fmt::format("copy {} of it differs from the first", copy + 1));
        break;
      }
  }

  // The length of a chain, in clusters.
  std::uint64_t claim(const std::string& path, std::uint32_t first) {
    std::uint64_t length = 0;
    for (std::uint32_t at = first; at < Volume::bad_mark; at = volume_.next(at)) {
      if (!g_.is_cluster(at)) {
        find(path, fmt::format("its chain leads to cluster {}, which is not there", at));
        return length;
      }
      if (claimed_[at]) {
        find(path, fmt::format("cluster {} of it is that of another too, or twice its own", at));
        return length;
      }
      claimed_[at] = true;
      ++length;
      if (volume_.next(at) == Volume::bad_mark)
        find(path, fmt::format("its chain leads to a bad cluster behind {}", at));
    }
    return length;
  }

  void look_into(const Folder& folder) {
    constexpr std::size_t deepest = 4096;
    volume_.for_each_file(folder.cluster, [&](const Volume::File& file) {
      const std::string path = folder.path + (folder.path == "/" ? "" : "/") + file.name;
      if (file.short_name == "." || file.short_name == "..") {
        const std::uint32_t wanted = file.short_name == "." ? folder.cluster : folder.parent;
        if (file.cluster != wanted)
          find(folder.path, "its entry \"" + file.short_name + "\" leads elsewhere");
        return true;
      }
      if (!file.is_proper) find(path, "its short name has letters that it must not have");
      if (file.cluster == 0) {
        if (file.folder || file.size != 0) find(path, "it has no clusters");
        return true;
      }
      const std::uint64_t length = claim(path, file.cluster);
      if (!file.folder && (length - 1) * g_.cluster_size >= file.size && length != 0)
        find(path, fmt::format("{} bytes need fewer clusters than it has ({})", file.size, length));
      if (!file.folder && length * g_.cluster_size < file.size)
        find(path, fmt::format("{} bytes need more clusters than it has ({})", file.size, length));
      if (file.folder && file.size != 0) find(path, "a folder with a size");
      if (file.folder && length != 0 && path.size() < deepest)
        folders_.push_back({path, file.cluster, folder.cluster});
      return true;
    });
  }

  void count() {
    std::uint64_t lost = 0;
    std::uint32_t free = 0;
    std::uint32_t first_lost = 0;
    for (std::uint32_t at = first_cluster; at < g_.clusters + first_cluster; ++at) {
      const std::uint32_t next = volume_.next(at);
      if (next == Volume::unused) ++free;
      if (next == Volume::unused || next == Volume::bad_mark || claimed_[at]) continue;
      if (lost++ == 0) first_lost = at;
    }
    if (lost != 0)
      find("table", fmt::format("{} clusters are in use, and nothing leads to them (the first: {})",
                                lost, first_lost));
    if (g_.information_at == 0) return;
    const auto information = read_as<Information>(volume_.store(), g_.information_at);
    if (information.lead.value() != information_lead ||
        information.mark.value() != information_mark)
      find("information sector", "it is none");
    else if (information.free.value() != UINT32_MAX && information.free.value() != free)
      find("information sector",
           fmt::format("it counts {} free clusters, there are {}", information.free.value(), free));
  }

  Volume& volume_;
  const Geometry& g_;
  Findings& findings_;
  Progress& progress_;
  std::vector<bool> claimed_;
  std::deque<Folder> folders_;
};

}  // namespace

void audit(Volume& volume, Findings& findings, Progress& progress) {
  Audit(volume, findings, progress).run();
}

}  // namespace jh::fat
