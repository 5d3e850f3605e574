#include "support/xfs_guest.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "support/judges.h"
#include "support/program.h"
#include "support/samples.h"

namespace jh::test {
namespace files = std::filesystem;

const std::vector<XfsMade>& xfs_makes() {
  static const std::vector<XfsMade> all{
      {"Plain", {}},
      {"ReverseMap", {"-m", "rmapbt=1"}},
      {"NoSharing", {"-m", "reflink=0"}},
      {"NoFreeInodeTree", {"-m", "finobt=0,reflink=0"}},
      {"NoCounts", {"-m", "inobtcount=0,bigtime=0"}},
      {"OldInodes", {"-i", "sparse=0,size=2048"}},
      {"ManyExtents", {"-i", "nrext64=1"}},
      {"SmallBlocks", {"-b", "size=1024", "-m", "rmapbt=1"}},
      {"LargeSectors", {"-s", "size=4096"}},
      {"LargeFolders", {"-n", "size=65536"}},
      {"ManyGroups", {"-d", "agcount=5"}},
      {"Striped", {"-d", "su=65536,sw=4", "-l", "su=65536"}},
      {"AllAtOnce",
       {"-b", "size=2048", "-m", "rmapbt=1", "-i", "nrext64=1,size=1024", "-n", "size=8192"}}};
  return all;
}

std::vector<std::string> any_xfs_options(std::mt19937_64& random) {
  const auto one_of = [&](std::initializer_list<unsigned> values) {
    return *(values.begin() + random() % values.size());
  };
  const auto either = [&] { return random() % 2; };
  const unsigned block = one_of({1024, 2048, 4096, 4096});
  const unsigned sector = block == 4096 && either() ? 4096 : 512;
  const unsigned inode = std::min(one_of({512, 512, 1024, 2048}), block / 2);
  const bool free_inodes = random() % 4 != 0;
  const bool sparse = either();
  std::vector<std::string> out{
      "-b",
      fmt::format("size={}", block),
      "-s",
      fmt::format("size={}", sector),
      "-m",
      fmt::format("finobt={},rmapbt={},reflink={},inobtcount={},bigtime={}", int{free_inodes},
                  either(), either(), free_inodes ? either() : 0, either()),
      "-i",
      fmt::format("size={},sparse={},nrext64={},maxpct={}", inode, int{sparse}, either(),
                  one_of({0, 5, 25, 50})),
      "-n",
      fmt::format("size={}", std::max(block, one_of({4096, 4096, 16384, 65536})))};
  if (either()) {
    out.insert(out.end(), {"-d", fmt::format("agcount={}", 2 + random() % 3)});
  } else if (random() % 4 == 0) {
    out.insert(out.end(), {"-d", "su=65536,sw=4"});
  }
  return out;
}

void live_in_xfs(const std::string& image, std::mt19937_64& random) {
  const Mounted mounted(image, 0, 0, /*writable=*/true);
  const std::string root = mounted.path();
  for (const unsigned names : {3U, 40U, 300U, 2500U}) {
    const std::string folder = fmt::format("{}/birds-{}", root, names);
    files::create_directory(folder);
    for (unsigned i = 0; i < names; ++i) {
      const std::string name =
          fmt::format("{}/ring-{}-{}", folder, i, std::string(random() % 40, 'a' + i % 26));
      if (random() % 9 == 0)
        files::create_directory(name);
      else if (random() % 9 == 0)
        files::create_symlink(std::string(random() % 2 == 0 ? 30 : 900, 'l'), name);
      else
        write_file(name, random() % 3 == 0 ? std::string() : std::string(random() % 9000, 'b'));
    }
    unsigned seen = 0;
    for (const auto& entry : files::directory_iterator(folder))
      if (++seen % 2 == 0 && names > 3) files::remove(entry.path());
  }
  for (const unsigned attributes : {2U, 30U, 400U}) {
    const std::string file = fmt::format("{}/noted-{}", root, attributes);
    write_file(file, "noted");
    for (unsigned i = 0; i < attributes; ++i) {
      const std::string value(random() % 20 == 0 ? 3000 + random() % 20000 : random() % 60, 'v');
      ::setxattr(file.c_str(), fmt::format("user.note-{}", i).c_str(), value.data(), value.size(),
                 0);
    }
    for (unsigned i = 1; i < attributes; i += 3)
      ::removexattr(file.c_str(), fmt::format("user.note-{}", i).c_str());
  }
  // One with many extents, and one that shares its blocks with another.
  const std::string film = root + "/film";
  write_file(film, std::string(2 << 20, 'f'));
  for (int i = 0; i < 200; ++i) {
    const int file = ::open(film.c_str(), O_RDWR);
    ::fallocate(file, 0x02 | 0x01, std::int64_t{i} * 8192, 4096);  // a hole, the length is kept
    ::close(file);
  }
  const int from = ::open(film.c_str(), O_RDONLY);
  const int to = ::open((root + "/film-again").c_str(), O_RDWR | O_CREAT, 0644);
  ::ioctl(to, FICLONE, from);
  ::close(from);
  ::close(to);
  run({"sync", "-f", root});
}

}  // namespace jh::test
