#include "core/fs/ntfs/rest.h"

#include <fmt/format.h>

#include <algorithm>
#include <string_view>

#include "core/fs/ntfs/index.h"

namespace jh::ntfs {
namespace {

enum class LogState { clean, unclean, damaged };

// Of two restart pages the newer one counts. A log filled with ones was never used.
LogState state_of_log(Filesystem& fs) {
  const Stream log = File(fs, fs.read_record(file::log)).stream(type::data);
  LogState state = LogState::damaged;
  std::optional<std::uint64_t> newest;
  std::uint64_t page_size = 4096;
  for (std::uint64_t at = 0; at <= page_size; at += std::max<std::uint64_t>(page_size, 512)) {
    if (log.size() < at + page_size) break;
    Buffer page = log.read(at, page_size);
    if (at == 0 && std::all_of(page.begin(), page.end(), [](auto byte) { return byte == 0xFF; }))
      return LogState::clean;
    const auto header = parse_as<RestartPage>(page, 0);
    const std::string_view magic(header.block.magic.data(), 4);
    if (magic != "RSTR" && magic != "CHKD") continue;
    if (const std::uint64_t said = header.system_page_size.value();
        at == 0 && is_power_of_two(said) && said >= 512 && said <= (64U << 10) &&
        said != page_size) {
      page_size = said;
      if (log.size() < page_size) break;
      page = log.read(0, page_size);
    }
    try {
      undo_fixups(page, magic, "NTFS, $LogFile");
    } catch (const Error&) {
      continue;
    }
    const std::size_t area_at = header.area_offset.value();
    if (area_at + sizeof(RestartArea) > page.size()) continue;
    const auto area = parse_as<RestartArea>(page, area_at);
    if (newest && *newest >= area.current_lsn.value()) continue;
    newest = area.current_lsn.value();
    const bool clean =
        (area.flags.value() & restart_clean) != 0 || area.client_in_use.value() == no_client;
    state = clean ? LogState::clean : LogState::unclean;
  }
  return state;
}

Error blocker(Reason reason, const std::string& what, const std::string& next) {
  return Error(Status::refused, what, "NTFS", next).with_reason(reason);
}

enum class Sleep { none, suspended, unknown };

// The first page of the file that a suspended system wakes from.
Sleep sleep_of(Filesystem& fs) {
  const auto number = find_file(fs, "hiberfil.sys");
  if (!number) return Sleep::none;
  const File file(fs, fs.read_record(*number));
  const auto first = file.find(type::data);
  if (!first) return Sleep::none;
  const Stream stream = file.stream(*first);
  const Buffer page = stream.read(0, std::min<std::uint64_t>(stream.size(), 4096));
  if (all_zero(page)) return Sleep::none;
  std::string mark(page.begin(), page.begin() + std::min<std::ptrdiff_t>(4, std::ssize(page)));
  std::transform(mark.begin(), mark.end(), mark.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  if (mark == "wake" || mark == "rstr") return Sleep::none;
  return mark == "hibr" || mark == "horm" || mark == "link" ? Sleep::suspended : Sleep::unknown;
}

constexpr const char* shut_down =
    "start the guest and shut it down completely (hold Shift on \"Shut down\", or turn fast "
    "startup "
    "off), then run again";

}  // namespace

std::vector<Error> find_blockers(Filesystem& fs) {
  std::vector<Error> blockers;
  const std::uint16_t flags = fs.information().flags.value();
  if ((flags & (volume_flags::dirty | volume_flags::check_underway)) != 0)
    blockers.push_back(blocker(Reason::errors_noted,
                               "the guest has marked the volume to be checked",
                               "let the guest check it (at its next start), shut it down, then run "
                               "again"));
  if ((flags & (volume_flags::resize_log | volume_flags::upgrade)) != 0)
    blockers.push_back(
        blocker(Reason::other, "the guest has work on the volume to finish", shut_down));
  const Sleep sleep = sleep_of(fs);
  if (sleep != Sleep::none)
    blockers.push_back(blocker(
        Reason::suspended,
        sleep == Sleep::suspended
            ? "a suspended system (or one shut down with fast startup) is kept in hiberfil.sys"
            : "hiberfil.sys holds what is not known: a suspended system may depend on it",
        shut_down));
  switch (state_of_log(fs)) {
    case LogState::clean:
      break;
    case LogState::unclean:
      blockers.push_back(blocker(Reason::not_unmounted,
                                 "its log holds changes that are not in its files yet", shut_down));
      break;
    case LogState::damaged:
      blockers.push_back(blocker(Reason::not_unmounted, "its log cannot be read",
                                 "let the guest check it (at its next start), shut it down, then "
                                 "run again"));
      break;
  }
  return blockers;
}

bool has_shadow_copies(Filesystem& fs) {
  // What their files are named after; the file of that name alone is their catalogue.
  const std::u16string id = u"{3808876B-C176-4E48-B7AE-04046E6CC752}";
  const auto number = find_file(fs, "System Volume Information");
  if (!number) return false;
  const Record record = fs.read_record(*number);
  if (!record.in_use() || !record.is_folder()) return false;
  const Upcase upcase(fs);
  bool found = false;
  Index(fs, File(fs, record)).for_each_key([&](const Index::Entry& entry) {
    const std::u16string name = upcase(parse_name(entry.key).name);
    found = found || (name.size() > id.size() && name.ends_with(id));
  });
  return found;
}

}  // namespace jh::ntfs
