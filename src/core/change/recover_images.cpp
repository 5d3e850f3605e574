#include "core/change/recover_images.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <regex>
#include <set>

#include "core/base/checksum.h"
#include "core/base/printable.h"
#include "core/base/shell_word.h"
#include "core/base/sizes.h"
#include "core/container/container.h"
#include "core/guest/audit.h"

namespace jh {
namespace {

namespace files = std::filesystem;

std::vector<std::string> parts_by_its_own_word(Host& host, const std::string& image) {
  HostFileResolver resolver(host);
  std::vector<std::string> parts;
  try {
    const auto file = host.open(image, Access::read_only);
    try {
      return open_container(*file, &resolver)->facts().parts;
    } catch (const Error&) {
      // In the middle of a change it may not be readable, but for its list of files.
      for (const std::string& part : part_names(*file))
        if (resolver.part(part) != nullptr) parts.push_back(part);
    }
  } catch (const Error&) {
    return {};
  }
  return parts;
}

// disk.vmdk has pieces disk-s001.vmdk and so on, whether or not it names them just now.
bool is_named_as_piece(const std::string& image, const std::string& file) {
  const files::path whole(image);
  const files::path piece(file);
  const std::string stem = whole.stem().string();
  const std::string name = piece.stem().string();
  static const std::regex count("(-[A-Za-z]+)?-[sf][0-9]{3,6}");
  return whole.parent_path() == piece.parent_path() && whole.extension() == piece.extension() &&
         whole.extension() == ".vmdk" && name.starts_with(stem) &&
         std::regex_match(name.substr(stem.size()), count);
}

}  // namespace

Named named_images(Host& host, const std::vector<std::string>& images) {
  return {images, [&host](const std::string& image, const std::string& file) {
            if (is_named_as_piece(image, file)) return true;
            const auto parts = parts_by_its_own_word(host, image);
            return std::any_of(parts.begin(), parts.end(), [&](const std::string& part) {
              return host.ledger_path(part) == host.ledger_path(file);
            });
          }};
}

namespace {

template <class Work>
std::vector<Recovered> for_each_ledger(Host& host, const std::vector<std::string>& images,
                                       Work work) {
  const Named named = named_images(host, images);
  waiting_changes(host, named);  // refuses before any of them is touched
  std::vector<Recovered> all;
  for (const std::string& image : images) {
    Recovered done = work(host, image, named);
    if (done.result != RecoverResult::nothing_to_do) all.push_back(std::move(done));
    // A cut before the ledger was begun leaves pointers to nothing beside parts.
    for (const std::string& part : parts_by_its_own_word(host, image))
      Ledger::open(host, part, /*tidy=*/true);
  }
  return all;
}

// What the change handed out must hold what it held then: whoever uses it writes there, or to the
// head of what lies in front of it, where every filesystem keeps its size.
void check_assigned(Host& host, const UndoFacts& facts) {
  HostFileResolver resolver(host);
  std::string path;
  std::unique_ptr<Store> file;
  std::unique_ptr<Container> container;
  for (const UndoFacts::AssignedRange& assigned_ranges : facts.assigned_ranges) {
    if (path != assigned_ranges.path) {
      container.reset();
      file = host.open(assigned_ranges.path, Access::read_only);
      container = open_container(*file, &resolver);
      path = assigned_ranges.path;
    }
    Store& disk = container->disk();
    const std::uint64_t end = checked_add(assigned_ranges.offset, assigned_ranges.length);
    bool same = end <= disk.size();
    if (same && assigned_ranges.zero)
      same = range_is_zero(disk, assigned_ranges.offset, assigned_ranges.length);
    if (same && !assigned_ranges.zero)
      same = crc32c_of(disk, assigned_ranges.offset, assigned_ranges.length) == assigned_ranges.crc;
    if (!same)
      throw Error(Status::refused,
                  fmt::format("the room that the change handed out has been used since (at byte {} "
                              "of the disk)",
                              assigned_ranges.offset),
                  assigned_ranges.path,
                  "the image stays as it is; the change cannot be undone any more")
          .with_reason(Reason::written_since);
  }
}

// Whether taking the change back writes into what this place shows, wherever that is kept.
bool is_touched(Host& host, const UndoFacts& facts, Store& place) {
  for (std::uint64_t at = 0; at < place.size();) {
    const Location where = place.locate(at, place.size() - at);
    if (where.store != nullptr)
      for (std::size_t i = 0; i < facts.images.size(); ++i)
        if (overlaps(facts.touched[i], where.at, where.at + where.length) &&
            host.ledger_path(facts.images[i].path) == host.ledger_path(where.store->name()))
          return true;
    at += where.length;
  }
  return false;
}

// A guest that ran since may have written to other places than the change did, and yet what it left
// there counts on those: a log names places by their numbers, a system that sleeps has all of its
// filesystems in its memory. What stands against a change stands against taking one back.
void check_guest_at_rest(Host& host, const UndoFacts& facts,
                         const std::vector<std::string>& images) {
  HostFileResolver resolver(host);
  std::vector<std::unique_ptr<Store>> files;
  std::vector<Guest::Image> disks;
  for (const std::string& path : images) {
    if (!host.exists(path)) continue;
    files.push_back(host.open(path, Access::read_only));
    disks.push_back({path, files.back().get(), false, &resolver});
  }
  const Guest guest(disks);
  check_awake(guest);
  const auto refuse_for = [&](const Layer& layer, const std::string& what) {
    if (!is_touched(host, facts, *layer.window)) return;
    refuse(fmt::format("the guest has run since, and {} is not at rest: {}; taking the change back "
                       "would change what that counts on",
                       guest.best_name(layer), what),
           guest.disks()[layer.disk].path,
           "start the guest, shut it down properly, then run again; what it has written since may "
           "stand against the undo then, and is worth more than it");
  };
  for (const Layer* layer : guest.layers()) {
    if (!layer->window) continue;
    if (layer->content.replay()) refuse_for(*layer, layer->content.replay()->action);
    for (const Error& blocker : layer->content.blockers)
      if (blocker.status() == Status::refused) refuse_for(*layer, blocker.what());
  }
}

// What the ledger alone does not know: what the guest's layers say of taking the change back.
void check_layers(Host& host, const UndoFacts& facts, const std::vector<std::string>& images) {
  check_guest_at_rest(host, facts, images);
  check_assigned(host, facts);
}

}  // namespace

std::vector<std::string> files_of_changes(Host& host, const std::vector<std::string>& images) {
  std::vector<std::string> files = images;
  std::vector<std::string> seen;
  for (const Waiting& waiting : waiting_changes(host, named_images(host, images)))
    files.insert(files.end(), waiting.images.begin(), waiting.images.end());
  files.erase(std::remove_if(files.begin(), files.end(),
                             [&](const std::string& file) {
                               const std::string real = real_path(file);
                               if (std::find(seen.begin(), seen.end(), real) != seen.end())
                                 return true;
                               seen.push_back(real);
                               return false;
                             }),
              files.end());
  return files;
}

std::vector<Recovered> recover_images(Host& host, const std::vector<std::string>& images) {
  return for_each_ledger(host, images, [](Host& on, const std::string& image, const Named& named) {
    return recover(on, image, named);
  });
}

std::vector<Recovered> keep_images_as_they_are(Host& host, const std::vector<std::string>& images,
                                               std::uint32_t sector_size, Progress& progress) {
  HostFileResolver resolver(host);
  std::vector<std::unique_ptr<Store>> opened;
  std::vector<Guest::Image> disks;
  for (const std::string& path : images) {
    opened.push_back(host.open(path, Access::read_only));
    disks.push_back({path, opened.back().get(), false, &resolver});
  }
  const Guest guest(disks, sector_size);
  Findings findings;
  audit_guest(guest, findings, progress);
  // What the next change puts right by itself, such as a backup copy, is no reason to keep a
  // ledger.
  std::set<std::string> repairs;
  for (const Disk& disk : guest.disks())
    if (disk.table)
      repairs.insert(disk.table->facts().repairs.begin(), disk.table->facts().repairs.end());
  const auto& kept = findings.kept();
  const auto bad = std::find_if(kept.begin(), kept.end(), [&](const Finding& finding) {
    return !repairs.contains(finding.what);
  });
  if (bad != kept.end() || findings.count() > kept.size())
    damaged(
        "as it is now the image is not in order: " + (bad == kept.end() ? kept.back() : *bad).what,
        (bad == kept.end() ? kept.back() : *bad).where,
        "nothing was done; put the image back from a backup (all findings: " +
            suggest("audit", images) + ")");
  return for_each_ledger(host, images, [](Host& on, const std::string& image, const Named& named) {
    return forget_change(on, image, named);
  });
}

namespace {

// What the images' own lists of snapshots say of a change whose bytes were written over since;
// empty without any. Whoever makes, removes or goes back to one writes to counts and tables.
std::string told_by_snapshots(Host& host, const std::vector<std::string>& images) {
  const auto ledger = Ledger::open(host, images.front(), /*tidy=*/false);
  if (!ledger) return {};
  HostFileResolver resolver(host);
  std::string told;
  for (const std::string& path : images) {
    const auto file = host.open(path, Access::read_only);
    const std::vector<Snapshot> kept = open_container(*file, &resolver)->facts().snapshots;
    std::string since;
    for (const Snapshot& snapshot : kept)
      if (snapshot.made_at > ledger->created())
        since += fmt::format("{}\"{}\"", since.empty() ? "" : ", ", printable(snapshot.name));
    if (!since.empty())
      told += "; made since and kept inside: snapshot " + since;
    else if (!kept.empty())
      told += fmt::format(
          "; of the {} kept inside none is newer: the guest ran, or went back to one, or one was "
          "removed",
          counted(kept.size(), "snapshot"));
  }
  return told;
}

template <class Work>
UndoFacts naming_snapshots(Host& host, const std::vector<std::string>& images, Work work) {
  try {
    return work();
  } catch (const Error& error) {
    if (error.reason() != Reason::written_since) throw;
    std::string told;
    try {
      told = told_by_snapshots(host, images);
    } catch (const Error&) {
      throw error;  // an image that cannot be read now tells nothing
    }
    if (told.empty()) throw;
    throw Error(error.status(), error.what() + told, error.where(), error.next())
        .with_outcome(error.outcome())
        .with_reason(error.reason());
  }
}

}  // namespace

UndoFacts check_undo_images(Host& host, const std::vector<std::string>& images) {
  return naming_snapshots(host, images, [&] {
    UndoFacts facts = check_undo(host, images.front(), named_images(host, images));
    failing_with(Outcome::unchanged, [&] { check_layers(host, facts, images); });
    return facts;
  });
}

UndoFacts undo_images(Host& host, const std::vector<std::string>& images) {
  return naming_snapshots(host, images, [&] {
    return undo(host, images.front(), named_images(host, images),
                [&](const UndoFacts& facts) { check_layers(host, facts, images); });
  });
}

}  // namespace jh
