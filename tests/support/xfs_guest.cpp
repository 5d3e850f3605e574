#include "support/xfs_guest.h"

#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/utsname.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "core/fs/xfs/geometry.h"
#include "support/test.h"

namespace jh::test {

const std::vector<XfsMade>& xfs_makes() {
  static const std::vector<XfsMade> all = [] {
    std::vector<XfsMade> makes{
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
        {"Parents", {"-m", "rmapbt=1", with_parents}},
        {"ParentsInSmallBlocks", {"-b", "size=1024", with_parents}},
        {"AllAtOnce",
         {"-b", "size=2048", "-m", "rmapbt=1", "-i", "nrext64=1,size=1024", "-n", "size=8192"}}};
    if (!kernel_knows_parents())
      std::erase_if(makes, [](const XfsMade& each) {
        return std::string_view(each.name).starts_with("Parents");
      });
    return makes;
  }();
  return all;
}

Words any_xfs_options(std::mt19937_64& random) {
  const auto one_of = [&](std::initializer_list<unsigned> values) {
    return *(values.begin() + random() % values.size());
  };
  const auto either = [&] { return random() % 2; };
  const unsigned block = one_of({1024, 2048, 4096, 4096});
  const unsigned sector = block == 4096 && either() ? 4096 : 512;
  const unsigned inode = std::min(one_of({512, 512, 1024, 2048}), block / 2);
  const bool free_inodes = random() % 4 != 0;
  const bool sparse = either();
  Words out{"-b",
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
  if (random() % 4 == 0 && kernel_knows_parents()) out.emplace_back(with_parents);
  return out;
}

bool kernel_knows_parents() {
  utsname name{};
  ::uname(&name);
  int major = 0;
  int minor = 0;
  std::istringstream text(name.release);
  char dot = 0;
  text >> major >> dot >> minor;
  return major > 6 || (major == 6 && minor >= 10);
}

void add_parents(const std::string& image) {
  MemoryStore place = load(image);
  const xfs::Geometry geometry(place);
  xfs::Superblock super = geometry.superblock();
  super.incompatible = super.incompatible.value() | xfs::incompatible::parent_pointers |
                       xfs::incompatible::exchanges_ranges;
  const Buffer sector = xfs::superblock_sector(place, geometry, super);
  for (std::uint32_t group = 0; group < geometry.groups(); ++group)
    place.write(geometry.group_at(group), sector);
  save(place, image);
}

bool has_parents(const std::string& image) {
  std::array<char, 220> super{};
  std::ifstream(image, std::ios::binary).read(super.data(), super.size());
  return (super[219] & 0x80) != 0;
}

namespace {

// As the kernel's interface has it: who is asked about, and each answer.
struct ParentsAsked {
  std::array<std::uint32_t, 4> cursor{};
  std::uint16_t flags = 0;
  std::uint16_t said = 0;  // 2: the last
  std::uint32_t bytes = 0;
  std::uint64_t reserved = 0;
  std::uint64_t buffer = 0;
};
struct ParentSaid {
  std::array<std::uint8_t, 16> handle{};
  std::uint64_t inode = 0;
  std::uint32_t length = 0;
  std::uint32_t reserved = 0;  // the name follows
};

std::set<std::pair<std::uint64_t, std::string>> parents_of(const std::string& path) {
  std::set<std::pair<std::uint64_t, std::string>> all;
  const int file = ::open(path.c_str(), O_RDONLY);
  std::vector<char> answers(65536);
  ParentsAsked asked;
  asked.bytes = static_cast<std::uint32_t>(answers.size());
  asked.buffer = reinterpret_cast<std::uint64_t>(answers.data());
  while ((asked.said & 2) == 0) {
    if (::ioctl(file, _IOWR('X', 62, ParentsAsked), &asked) != 0) {
      all.emplace(0, fmt::format("error {}", errno));
      break;
    }
    for (std::size_t at = 0; at + sizeof(ParentSaid) < answers.size() && (asked.said & 1) == 0;) {
      ParentSaid said;
      std::memcpy(&said, &answers[at], sizeof(said));
      if (said.length == 0) break;
      all.emplace(said.inode, std::string(&answers[at + sizeof(said)]));
      at += said.length;
    }
    std::fill(answers.begin(), answers.end(), '\0');
    if ((asked.said & 1) != 0) break;  // the root folder
  }
  ::close(file);
  return all;
}

std::uint64_t inode_of(const std::string& path) {
  struct stat facts {};
  ::lstat(path.c_str(), &facts);
  return facts.st_ino;
}

}  // namespace

std::string check_parents(const std::string& image) {
  const Mounted mounted(image, 0, 0);
  std::map<std::uint64_t, std::set<std::pair<std::uint64_t, std::string>>> found;
  std::map<std::uint64_t, std::string> paths;
  for (const auto& entry : files::recursive_directory_iterator(mounted.path())) {
    if (entry.is_symlink() || !(entry.is_directory() || entry.is_regular_file())) continue;
    const std::uint64_t inode = inode_of(entry.path());
    found[inode].emplace(inode_of(entry.path().parent_path()), entry.path().filename());
    paths[inode] = entry.path();
  }
  std::string wrong;
  for (const auto& [inode, expected] : found)
    if (const auto said = parents_of(paths[inode]); said != expected)
      wrong += fmt::format("{} (inode {}): {} parents, and the kernel says {}\n", paths[inode],
                           inode, expected.size(), said.size());
  return wrong;
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
  // Names in several folders: enough of them that they fill blocks.
  for (const unsigned names : {2U, 30U, 400U}) {
    const std::string file = fmt::format("{}/linked-{}", root, names);
    write_file(file, "linked");
    for (unsigned i = 0; i < names; ++i)
      files::create_hard_link(
          file, fmt::format("{}/birds-{}/link-{}-{}", root, i % 2 == 0 ? 3 : 2500, names, i));
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
