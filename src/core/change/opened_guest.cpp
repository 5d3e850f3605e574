#include "core/change/opened_guest.h"

#include "core/change/copy_preview.h"

namespace jh {

OpenedGuest open_guest(const ImagesToOpen& images) {
  OpenedGuest opened;
  std::vector<Guest::Image> seen;
  opened.host = std::make_unique<FileHost>(images.ledger_folder, images.reach);
  opened.resolver = std::make_unique<HostFileResolver>(*opened.host);
  Host& host = *opened.host;
  for (const std::string& path : images.paths) {
    opened.files.push_back(std::make_unique<FileStore>(path, Access::read_only));
    for (const Guest::Image& other : seen)
      if (host.identity(other.path) == host.identity(path))
        wrong_usage("the same image is named twice: " + path);
    Guest::Image image{path, opened.files.back().get(), false, opened.resolver.get()};
    if (!images.copies.empty())
      image.open = [&plan = images.copies[seen.size()]](Store& file, FileResolver* resolver) {
        return preview_of_copy(open_container(file, resolver), plan);
      };
    seen.push_back(std::move(image));
  }
  for (const auto& [path, size] : images.added) {
    // An empty file may be left from a change that was cut off before it began.
    if (host.exists(path) && FileStore(path, Access::read_only).size() != 0)
      refuse("the file for the new disk exists already", path, "name a file that does not");
    opened.blanks.push_back(std::make_unique<MemoryStore>(size.value(), path));
    seen.push_back({path, opened.blanks.back().get(), true});
  }
  opened.guest = std::make_unique<Guest>(seen, images.sector_size);
  return opened;
}

}  // namespace jh
