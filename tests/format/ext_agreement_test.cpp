// Our audit and the system's checker on filesystems damaged at random places: both find something,
// or neither does.
#include <regex>

#include "core/fs/ext/filesystem.h"
#include "core/store/file_store.h"
#include "support/ext_tools.h"
#include "support/test.h"

namespace jh::test {
namespace {

// Where we look and the checker (1.47.0) does not, seen one by one:
//  - the lists of reserved descriptor blocks: it follows them, but does not miss an entry;
//  - superblock copies that differ from the first: it reads them only when the first is lost;
//  - descriptor tables that differ in places, or have a wrong checksum, or say that something lies
//    on other metadata or outside: where the first one looks wrong, it goes on with a copy and
//    calls what that describes clean;
//  - the header of an extent tree that is empty: the kernel refuses the file;
//  - a mark that there are errors, when it finds none; where the log of a journal begins that needs
//    no replay;
//  - a journal of no length, which the kernel does not mount, and one longer than its blocks: it
//  goes
//    on with the superblock's copy of the journal's inode;
//  - inline data whose attribute has another name: it does not miss the attribute;
//  - a superblock that is impossible, or longer than what it lies on: it quietly goes on with a
//  copy of it;
//  - inline data with a size that it cannot have;
//  - a name that a folder has twice, in two of its blocks: it compares within a block;
//  - the superblock's two counts of what is free: it adds the groups up by itself;
//  - the extra size of the journal's inode;
//  - descriptors that say a group was never written where no group can be so: it says so, and ends
//    with 0 all the same when there is nothing else.
bool ours_alone(const Findings& findings) {
  const auto about = [](const Finding& finding, const char* words) {
    return (finding.where + finding.what).find(words) != std::string::npos;
  };
  const auto& all = findings.kept();
  return std::any_of(all.begin(), all.end(),
                     [&](const Finding& f) {
                       return about(f, "descriptor copy") ||
                              about(f, "the checksum of its descriptor is wrong") ||
                              about(f, "lies on other metadata") ||
                              (about(f, "ext, group") && about(f, "outside of the filesystem")) ||
                              about(f, "what it lies on holds only");
                     }) ||
         std::all_of(all.begin(), all.end(), [&](const Finding& f) {
           return about(f, "inode 7") || about(f, "superblock copy") ||
                  about(f, "lacks the attribute that belongs to it") ||
                  about(f, "its extent tree, which is empty, has a wrong header") ||
                  about(f, "the journal's size is not possible") ||
                  about(f, "the journal's inode is longer than its blocks") ||
                  about(f, "the journal's log lies outside of it") ||
                  about(f, "marked the filesystem as having errors") ||
                  about(f, "the superblock is damaged") || about(f, "inode 8its extra size") ||
                  about(f, "are more than there are") || about(f, "was never written") ||
                  about(f, "but the superblock says") || about(f, "but its inline data has") ||
                  (about(f, "the name \"") && about(f, "is there twice"));
         });
}

std::size_t count_of(const std::string& text, const std::string& words) {
  std::size_t count = 0;
  for (auto at = text.find(words); at != std::string::npos; at = text.find(words, at + 1)) ++count;
  return count;
}

// A folder that once had too many folders to count says 1 from then on, whatever it has now: so the
// kernel leaves it, and the checker would have it counted again.
bool theirs_alone(const std::string& path, const std::string& said) {
  FileStore file(path, Access::read_only);
  ext::Filesystem fs(file);
  const std::regex complaint("Inode ([0-9]+) ref count is 1, should be");
  std::size_t of_folders = 0;
  for (std::sregex_iterator at(said.begin(), said.end(), complaint), end; at != end; ++at) {
    const auto inode = static_cast<std::uint32_t>(std::stoul((*at)[1]));
    if (fs.read_inode(inode).type() == ext::mode_dir) ++of_folders;
  }
  return of_folders != 0 && of_folders == count_of(said, "? no");
}

TEST(ExtAgreement, OnFiveHundredDamagedFilesystems) {
  const int cases = is_sanitized ? 60 : inputs_of(500, 500);
  const char* chosen = std::getenv("JUNEHEATH_SEED");
  const unsigned seed = chosen == nullptr ? 20261123U : static_cast<unsigned>(std::atol(chosen));
  const std::vector<Words> kinds{{"-b", "1024"},
                                 {"-b", "1024", "-O", "^metadata_csum"},
                                 {"-b", "1024", "-t", "ext2"},
                                 {"-b", "4096", "-O", "^metadata_csum"},
                                 {"-b", "1024", "-t", "ext3"},
                                 {"-b", "4096"},
                                 {"-b", "1024", "-O", "^metadata_csum,inline_data"},
                                 {"-b", "2048", "-O", "^metadata_csum,bigalloc", "-N", "900"}};
  const TempFolder folder;
  std::vector<std::vector<std::uint64_t>> places(kinds.size());
  for (std::size_t i = 0; i < kinds.size(); ++i) {
    const std::string path = make_ext(folder / std::to_string(i), 16ULL << 20, kinds[i]);
    const std::string content = read_file(path);
    for (std::uint64_t at = 0; at < content.size(); at += 512) {
      // Sectors with something in them, but not a file's noise, in which nobody looks for damage.
      const std::string sector = content.substr(at, 512);
      const auto zeros = std::count(sector.begin(), sector.end(), '\0');
      if (zeros > 40 && zeros < 512) places[i].push_back(at);
    }
  }
  int both_found = 0;
  int both_clean = 0;
  int explained = 0;
  for (int n = 0; n < cases; ++n) {
    // Each its own: the maker's identities and times lead one of them elsewhere, and no other.
    std::mt19937 random(seed + static_cast<unsigned>(n));
    const std::size_t kind = static_cast<std::size_t>(n) % kinds.size();
    const std::string path = folder / std::to_string(kind);
    std::map<std::uint64_t, std::string> undo;
    std::string what;
    {
      FileStore file(path, Access::read_write);
      for (int hits = 1 + static_cast<int>(random() % 3); hits > 0; --hits) {
        const std::uint64_t sector = places[kind][random() % places[kind].size()];
        std::uint64_t at = sector + random() % 512;
        Buffer byte = read_buffer(file, at, 1);
        for (int tries = 0; byte[0] == 0 && tries < 40; ++tries) {
          at = sector + random() % 512;  // where something stands, more often than not
          byte = read_buffer(file, at, 1);
        }
        undo.try_emplace(at, std::string(1, static_cast<char>(byte[0])));
        const std::uint8_t flip = static_cast<std::uint8_t>(1U << (random() % 8));
        const Buffer fresh{
            static_cast<std::uint8_t>(random() % 2 == 0 ? byte[0] ^ flip : ~byte[0])};
        what += fmt::format(" byte {} from {} to {}", at, byte[0], fresh[0]);
        file.write(at, fresh);
      }
    }
    const std::string theirs = check_ext(path);
    const Findings ours = audit_ext(path);
    if (theirs.empty() == ours.clean()) {
      ++(ours.clean() ? both_clean : both_found);
    } else if (theirs.empty() ? ours_alone(ours) : theirs_alone(path, theirs)) {
      ++explained;
    } else {
      ADD_FAILURE() << "case " << n << ", kind " << kind << ":" << what
                    << "\nthe checker: " << theirs << "\nours: " << words_of(ours);
    }
    for (const auto& [at, byte] : undo) poke(path, at, byte);
  }
  fmt::print("  {} damaged: both found {}, both clean {}, one alone (explained) {}\n", cases,
             both_found, both_clean, explained);
  EXPECT_GT(both_found, cases / 3);
}

}  // namespace
}  // namespace jh::test
