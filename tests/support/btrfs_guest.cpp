#include "support/btrfs_guest.h"

#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "support/test.h"

namespace jh::test {
namespace {

class Life {
 public:
  Life(std::string top, std::mt19937& random) : top_(std::move(top)), random_(random) {
    run({"btrfs", "subvolume", "create", root()});
    write(top_ + "/moss", 40'000, true);
    files::create_directory(root() + "/etc");
    std::ofstream(root() + "/etc/fstab") << "LABEL=moss / btrfs subvol=@root 0 0\n";
  }

  void step() {
    std::error_code passed_over;
    const std::string file = some_file();
    switch (random_() % 12) {
      case 0:
      case 1:
      case 2:
        write(file, random_() % 900'000, random_() % 3 != 0);
        break;
      case 3:
      case 4:
        files::remove(file, passed_over);
        break;
      case 5:
        files::rename(file, some_file() + "-renamed", passed_over);
        break;
      case 6:
        many_names();
        break;
      case 7:
        files::create_hard_link(file, some_file() + "-again", passed_over);
        break;
      case 8:
        share(file, some_file() + "-shared");
        break;
      case 9:
        files::resize_file(file, random_() % 3'000'000, passed_over);
        break;
      case 10:
        prepare(some_file() + "-prepared");
        break;
      default:
        snapshot(file);
    }
    if (random_() % 50 == 0) run({"sync", "-f", top_});
  }

 private:
  std::string root() const { return top_ + "/@root"; }
  std::string some_file() {
    return fmt::format("{}/a-rather-long-name-of-a-bird-{}", root(), random_() % 120);
  }
  void write(const std::string& file, std::size_t length, bool noise) {
    std::string bytes(length, 'b');
    for (std::size_t i = 0; noise && i < length; ++i) bytes[i] = static_cast<char>(random_());
    std::ofstream(file, std::ios::binary) << bytes;
    ::setxattr(file.c_str(), "user.ring", bytes.data(), std::min<std::size_t>(length, 200), 0);
  }
  void many_names() {
    const std::string folder = fmt::format("{}/folder{}", root(), random_() % 20);
    std::error_code passed_over;
    if (random_() % 4 == 0) files::remove_all(folder, passed_over);
    files::create_directories(folder + "/deeper", passed_over);
    for (unsigned i = random_() % 60; i > 0; --i)
      std::ofstream(fmt::format("{}/ring{}", folder, i)) << i;
  }
  void share(const std::string& from, const std::string& to) {
    const int source = ::open(from.c_str(), O_RDONLY);
    const int target = ::open(to.c_str(), O_WRONLY | O_CREAT, 0644);
    if (source >= 0 && target >= 0) ::ioctl(target, FICLONE, source);
    if (source >= 0) ::close(source);
    if (target >= 0) ::close(target);
  }
  void prepare(const std::string& file) {
    const int open = ::open(file.c_str(), O_WRONLY | O_CREAT, 0644);
    if (open < 0) return;
    if (::fallocate(open, 0, 0, 1 + random_() % 500'000) == 0 && random_() % 2 == 0)
      (void)!::pwrite(open, "bird", 4, 8192);
    ::close(open);
  }
  void snapshot(const std::string& file) {
    if (random_() % 3 == 0) {
      run({"btrfs", "subvolume", "delete", fmt::format("{}/snap{}", top_, random_() % 6)});
      return;
    }
    run({"btrfs", "subvolume", "snapshot", root(), fmt::format("{}/snap{}", top_, random_() % 6)});
    write(file, 50'000, true);
  }

  std::string top_;
  std::mt19937& random_;
};

}  // namespace

const std::vector<BtrfsMade>& btrfs_makes() {
  static const std::vector<BtrfsMade> all{
      {"Plain", {}, ""},
      {"Xxhash", {"--csum", "xxhash"}, ",compress-force=zstd"},
      {"Sha256", {"--csum", "sha256", "-m", "single"}, ",compress-force=lzo"},
      {"Blake2", {"--csum", "blake2"}, ",nodatacow"},
      {"DoubledData", {"-d", "dup"}, ""},
      {"Mixed", {"-M"}, ",compress-force=zlib"},
      {"SmallNodes", {"-n", "4096"}, ""},
      {"LargeNodes", {"-n", "65536"}, ",compress=zstd"},
      {"Holes", {"-O", "^no-holes"}, ""},
      {"NoFreeSpaceTree", {"-R", "^free-space-tree"}, ""},
      {"OldMetadata", {"-O", "^skinny-metadata,^extref"}, ""},
      {"Quotas", {"-R", "quota"}, ""},
      {"AllAtOnce", {"-m", "single", "-n", "8192", "--csum", "xxhash"}, ",compress-force=zstd"}};
  return all;
}

void make_lived_in_btrfs(const std::string& image, std::uint64_t size, const BtrfsMade& made,
                         std::mt19937& random, unsigned steps) {
  make_btrfs(image, size, made.options, false);
  const Mounted mounted(image, 0, 0, /*writable=*/true);
  if (!made.mount.empty()) run({"mount", "-o", "remount" + made.mount, mounted.path()});
  Life life(mounted.path(), random);
  for (unsigned i = 0; i < steps; ++i) life.step();
}

std::string scrub(const std::string& image) {
  const Mounted mounted(image, 0);
  const ProgramResult outcome = run({"btrfs", "scrub", "start", "-B", "-r", mounted.path()});
  return outcome.status == 0 ? "" : outcome.out + outcome.err;
}

}  // namespace jh::test
