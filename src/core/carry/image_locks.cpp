#include "core/carry/image_locks.h"

#include <algorithm>

#include "core/carry/dependents.h"
#include "core/container/container.h"
#include "core/container/file_resolver.h"
#include "core/store/ledger.h"

namespace jh {

namespace {

struct ImageFiles {
  std::vector<std::string> own;
  std::vector<std::string> parents;  // what they build on, and is none of them
};

ImageFiles files_of(Host& host, const std::vector<std::string>& images) {
  HostFileResolver resolver(host);
  ImageFiles files;
  for (const std::string& image : images) {
    files.own.push_back(image);
    const ContainerFacts facts = look_unlocked({image}, [&] {
      const auto file = host.open(image, Access::read_only);
      return open_container(*file, &resolver)->facts();
    });
    files.own.insert(files.own.end(), facts.parts.begin(), facts.parts.end());
    files.parents.insert(files.parents.end(), facts.parents.begin(), facts.parents.end());
  }
  std::erase_if(files.parents, [&](const std::string& file) {
    return std::find(files.own.begin(), files.own.end(), file) != files.own.end();
  });
  return files;
}

void check_all(const std::vector<std::string>& files, LockKind kind, bool are_ours) {
  for (const std::string& file : files)
    kind == LockKind::changing ? check_not_in_use(file, are_ours)
                               : check_not_written_elsewhere(file);
}

// Looked at again behind the locks: somebody may have come in between.
Locks locked(const std::vector<std::string>& files, LockKind checked, LockKind held) {
  check_all(files, checked, /*are_ours=*/false);
  if (checked == LockKind::changing) check_no_dependents(files);
  Locks locks;
  for (const std::string& file : files) locks.push_back(std::make_unique<ImageLock>(file, held));
  check_all(files, checked, /*are_ours=*/true);
  return locks;
}

}  // namespace

std::vector<std::string> all_files(Host& host, const std::vector<std::string>& images,
                                   bool with_parents) {
  ImageFiles files = files_of(host, images);
  if (with_parents) files.own.insert(files.own.end(), files.parents.begin(), files.parents.end());
  return files.own;
}

Locks lock_all(const std::vector<std::string>& files) {
  return locked(files, LockKind::changing, LockKind::changing);
}

std::vector<Error> host_blockers(Host& host, const std::vector<std::string>& images) {
  std::vector<Error> found;
  const auto note = [&](const auto& check) {
    try {
      check();
    } catch (const Error& error) {
      if (error.status() == Status::refused) found.push_back(error);
    }
  };
  std::vector<std::string> files = images;
  note([&] { files = all_files(host, images); });
  note([&] { check_no_unfinished_change(host, images); });
  for (const std::string& file : files) note([&] { check_not_in_use(file); });
  note([&] { check_no_dependents(files); });
  return found;
}

Locks lock_for_reading(const std::vector<std::string>& files) {
  return locked(files, LockKind::reading, LockKind::reading);
}

Locks lock_images(Host& host, const std::vector<std::string>& images, const ChangeOptions& options,
                  bool dry_run) {
  for (std::size_t i = 0; i < images.size(); ++i)
    for (std::size_t j = 0; j < i; ++j)
      if (host.exists(images[i]) && host.exists(images[j]) &&
          host.identity(images[i]) == host.identity(images[j]))
        wrong_usage("the same image is named twice: " + images[i]);
  const ImageFiles files = files_of(host, images);
  // What would be in the way of the change is in the way of its dry run.
  Locks locks = options.into_copy ? lock_for_reading(files.own)
                                  : locked(files.own, LockKind::changing,
                                           dry_run ? LockKind::reading : LockKind::changing);
  // What an image builds on is only read, and must stay as it is meanwhile.
  for (auto& lock : lock_for_reading(files.parents)) locks.push_back(std::move(lock));
  return locks;
}

bool check_no_unfinished_change(Host& host, const std::vector<std::string>& images) {
  bool has_undo = false;
  for (const std::string& path : images) {
    const auto ledger = Ledger::open(host, path, /*tidy=*/false);
    if (ledger && ledger->state() != Ledger::State::done)
      refuse("an earlier change of this image was interrupted", ledger->path(),
             "run: " + suggest("recover", {path}));
    has_undo |= ledger && ledger->has_undo();
  }
  return has_undo;
}

}  // namespace jh
