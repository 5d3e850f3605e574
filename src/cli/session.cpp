#include "cli/session.h"

#include "core/plan/plan.h"
#include "core/store/ledger.h"

namespace jh::cli {

Session open_session(const Parsed& parsed, const std::vector<std::string>& images,
                     const std::vector<std::pair<std::string, Bytes>>& added) {
  Session session;
  std::vector<Guest::Image> opened;
  session.host = std::make_unique<FileHost>(parsed.common.ledger_folder, reach_of(parsed, images));
  session.resolver = std::make_unique<HostFileResolver>(*session.host);
  Host& host = *session.host;
  for (const std::string& path : images) {
    session.files.push_back(std::make_unique<FileStore>(path, Access::read_only));
    for (std::size_t i = 0; i < opened.size(); ++i)
      if (host.identity(opened[i].path) == host.identity(path))
        wrong_usage("the same image is named twice: " + path);
    opened.push_back({path, session.files.back().get(), false, session.resolver.get()});
  }
  for (const auto& [path, size] : added) {
    // An empty file may be left from a change that was cut off before it began.
    if (host.exists(path) && FileStore(path, Access::read_only).size() != 0)
      refuse("the file for the new disk exists already", path, "name a file that does not");
    session.blanks.push_back(std::make_unique<MemoryStore>(size.value(), path));
    opened.push_back({path, session.blanks.back().get(), true});
  }
  session.guest = std::make_unique<Guest>(opened, parsed.common.sector_size);
  return session;
}

std::uint64_t allocated_on_host(const std::vector<std::string>& files) {
  std::uint64_t sum = 0;
  for (const std::string& file : files) sum += FileStore(file, Access::read_only).allocated();
  return sum;
}

Allocation allocation_on_host(const ContainerFacts& facts, std::uint64_t allocated) {
  if (facts.format != ImageFormat::raw) return facts.allocation;
  return allocated + 4096 < facts.file_length.value() ? Allocation::sparse : Allocation::full;
}

bool check_no_unfinished_change(Host& host, const std::vector<std::string>& images) {
  bool has_undo = false;
  for (const std::string& path : images) {
    const auto ledger = Ledger::open(host, path, /*tidy=*/false);
    if (ledger && ledger->state() != Ledger::State::done)
      refuse("an earlier change of this image was interrupted", ledger->path(),
             "run: juneheath recover " + shell_word(path));
    has_undo |= ledger && ledger->has_undo();
  }
  return has_undo;
}

}  // namespace jh::cli
