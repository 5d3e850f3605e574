#include "support/judges.h"

#include <sys/statvfs.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <chrono>
#include <stdexcept>
#include <thread>

#include "support/test.h"
#include "support/xfs_guest.h"

namespace jh::test {

namespace {

void fill_tree(const files::path& root) {
  std::mt19937 random(20261123);
  const auto noise = [&](std::size_t size) {
    std::string text(size, '\0');
    for (char& c : text) c = static_cast<char>(random());
    return text;
  };
  files::create_directories(root / "etc");
  write_file((root / "etc/fstab").string(), "LABEL=moor / ext4 defaults 0 1\n");
  write_file((root / "etc/hostname").string(), "merlin\n");
  files::create_directories(root / "rings");
  for (int i = 0; i < 300; ++i)
    write_file((root / "rings" / fmt::format("ring-{:05}-curlew-and-a-long-name", i)).string(),
               i % 10 == 0 ? noise(static_cast<std::size_t>(i) * 31) : std::string());
  files::path deep = root / "deep";
  for (int i = 0; i < 12; ++i) {
    deep /= fmt::format("level{}", i);
    files::create_directories(deep);
  }
  write_file((deep / "nest.txt").string(), "four eggs\n");
  write_file((root / "film.bin").string(), noise(300'000));
  files::create_symlink("film.bin", root / "latest");
  files::create_symlink(std::string(100, 'x') + "/far/away", root / "long-link");
  files::create_hard_link(root / "film.bin", root / "film-again.bin");
  std::ofstream sparse(root / "sparse.bin", std::ios::binary);
  sparse.seekp(3'000'000);
  sparse << "the end";
  sparse.close();
  files::permissions(root / "film.bin", files::perms(0640));
  const std::string value = "heather";
  ::setxattr((root / "film.bin").c_str(), "user.place", value.data(), value.size(), 0);
}

}  // namespace

const std::string& sample_tree() {
  static const TempFolder folder;
  static const std::string path = [] {
    fill_tree(folder.path() / "tree");
    return folder / "tree";
  }();
  return path;
}

std::string make_ext(const std::string& path, std::uint64_t size, const Words& options,
                     bool filled) {
  make_sparse_file(path, size);
  Words command{"mkfs.ext4", "-q", "-F", "-L", "moor"};
  if (filled) command.insert(command.end(), {"-d", sample_tree()});
  const ProgramResult outcome = run(command + options + Words{path});
  if (outcome.status != 0) throw std::runtime_error(fmt::format("mkfs.ext4: {}", outcome.err));
  return path;
}

std::string check_ext(const std::string& image, std::uint64_t offset) {
  const std::string name = offset == 0 ? image : fmt::format("{}?offset={}", image, offset);
  const ProgramResult outcome = run({"e2fsck", "-f", "-n", name});
  return outcome.status == 0 ? std::string() : outcome.out + outcome.err;
}

namespace {

void fill_by_kernel(const std::string& path) {
  const Mounted mounted(path, 0, 0, /*writable=*/true);
  run({"cp", "-a", sample_tree() + "/.", mounted.path()});
}

void make_by(Words maker, const std::string& path, std::uint64_t size, const Words& options,
             bool filled) {
  make_sparse_file(path, size);
  const std::string name = maker.front();
  maker.insert(maker.end(), options.begin(), options.end());
  maker.push_back(path);
  const ProgramResult outcome = run(maker);
  if (outcome.status != 0) throw std::runtime_error(fmt::format("{}: {}", name, outcome.err));
  if (filled && can_mount()) fill_by_kernel(path);
}

}  // namespace

std::string make_xfs(const std::string& path, std::uint64_t size, const Words& options,
                     bool filled) {
  Words known = options;
  const bool parents = std::erase(known, with_parents) != 0;
  make_by({"mkfs.xfs", "-q", "-f"}, path, size, known, filled && !parents);
  if (!parents) return path;
  add_parents(path);
  if (filled && can_mount()) fill_by_kernel(path);
  return path;
}

std::string make_btrfs(const std::string& path, std::uint64_t size, const Words& options,
                       bool filled) {
  make_by({"mkfs.btrfs", "-q", "-f"}, path, size, options, filled);
  return path;
}

std::string check_btrfs(const std::string& image) {
  const ProgramResult outcome = run({"btrfs", "check", "--readonly", image});
  return outcome.status == 0 ? "" : outcome.out + outcome.err;
}

std::string check_xfs(const std::string& image) {
  if (has_parents(image)) return can_mount() ? check_parents(image) : std::string();
  const ProgramResult outcome = run({"xfs_repair", "-n", "-f", image});
  return outcome.status == 0 ? std::string() : outcome.out + outcome.err;
}

bool can_mount() {
  return ::geteuid() == 0 && files::exists("/dev/loop-control") && files::exists("/dev/loop0");
}

Mounted::Mounted(const std::string& image, std::uint64_t offset, std::uint64_t size,
                 bool writable) {
  std::string pattern = (files::temp_directory_path() / "juneheath-mount-XXXXXX").string();
  if (::mkdtemp(pattern.data()) == nullptr) throw std::runtime_error("no mount point");
  path_ = pattern;
  std::string options = fmt::format("loop,{},offset={}", writable ? "rw" : "ro", offset);
  if (size != 0) options += fmt::format(",sizelimit={}", size);
  // Its kernel takes no two of one identity otherwise, and tests run side by side.
  std::array<char, 4> magic{};
  std::ifstream(image, std::ios::binary)
      .seekg(static_cast<std::streamoff>(offset))
      .read(magic.data(), magic.size());
  if (std::string_view(magic.data(), magic.size()) == "XFSB") options += ",nouuid";
  // A loop device that a read-only mount of the same file has left may not be gone yet, and is
  // taken again.
  for (int attempt = 0; attempt < 40; ++attempt) {
    const ProgramResult outcome = run({"mount", "-o", options, image, path_});
    if (outcome.status != 0) {
      files::remove(path_);
      throw std::runtime_error("the kernel does not mount it: " + outcome.err);
    }
    struct statvfs facts {};
    if (!writable || (::statvfs(path_.c_str(), &facts) == 0 && (facts.f_flag & ST_RDONLY) == 0))
      return;
    run({"umount", path_});
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  files::remove(path_);
  throw std::runtime_error("the kernel mounts it read-only: " + image);
}

std::string mounted_tree(const std::string& image) {
  const Mounted mounted(image, 0);
  return run({"bash", "-c",
              "cd '" + mounted.path() +
                  "' && find . -printf '%p %m %U %G %n %s %T@ %l\\n' | sort && "
                  "find . -type f -print0 | sort -z | xargs -0 sha256sum && "
                  "getfattr -Rd -m - . 2>/dev/null"})
      .out;
}

Mounted::~Mounted() {
  // Another test may just be looking at what is mounted here; what stays would keep its file busy.
  for (int attempt = 0; run({"umount", path_}).status != 0; ++attempt) {
    if (attempt == 100) {
      ADD_FAILURE() << path_ << " stays mounted";
      run({"umount", "--lazy", path_});
      break;
    }
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  std::error_code ignored;
  files::remove(path_, ignored);
}

std::uint64_t Mounted::capacity() const {
  struct statvfs info {};
  if (::statvfs(path_.c_str(), &info) != 0) throw std::runtime_error("statvfs");
  return static_cast<std::uint64_t>(info.f_blocks) * info.f_frsize;
}

std::size_t fill_and_delete(const std::string& raw, std::uint64_t offset, int files) {
  const Mounted mounted(raw, offset, 0, true);
  std::string noise(300000, ' ');
  std::mt19937 random(7);
  for (char& c : noise) c = static_cast<char>(random());
  Words names;
  for (int i = 0; i < files; ++i) {
    names.push_back(fmt::format("{}/film-{}", mounted.path(), i));
    std::ofstream file(names.back(), std::ios::binary);
    if (!file.write(noise.data() + i % 1000, 250000).flush()) break;
  }
  run({"sync", "-f", mounted.path()});
  for (std::size_t i = 0; i < names.size(); ++i)
    if (i % 10 != 0) files::remove(names[i]);
  return names.size();
}

std::string archiver_difference(const std::string& format, const std::string& image,
                                const std::string& raw) {
  const ProgramResult same =
      run({"sh", "-c",
           fmt::format("7zz x -so -t{} '{}' 2>/dev/null | cmp - '{}'", format, image, raw)});
  return same.status == 0 ? "" : format + ": " + same.out + same.err;
}

std::map<std::uint64_t, std::uint64_t> listed_partitions(const std::string& image,
                                                         const std::string& kind) {
  std::map<std::uint64_t, std::uint64_t> found;
  std::istringstream lines(run({"7zz", "l", "-slt", "-t" + kind, image}).out);
  std::uint64_t size = 0;
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("Size = ")) size = std::stoull(line.substr(7));
    if (line.starts_with("Offset = ")) found[std::stoull(line.substr(9))] = size;
  }
  return found;
}

std::uint64_t come_and_go(const std::string& image, int mebibytes) {
  const Mounted mounted(image, 0, 0, /*writable=*/true);
  const std::string films = mounted.path() + "/films";
  files::create_directory(films);
  for (int i = 0; i < mebibytes && files::space(films).available > 4ULL << 20; ++i)
    write_file(films + "/film-" + std::to_string(i), std::string(1 << 20, 'n'));
  run({"sync", "-f", mounted.path()});
  files::remove_all(films);
  return mounted.capacity();
}

MemoryStore ext_image(std::uint64_t size, const Words& options, bool filled) {
  const TempFolder folder;
  return load(make_ext(folder / "fs", size, options, filled));
}

MemoryStore xfs_image(std::uint64_t size, const Words& options, bool filled) {
  const TempFolder folder;
  return load(make_xfs(folder / "fs", size, options, filled));
}

Verdicts verdicts_on(Store& place, const std::function<std::string(const std::string&)>& checker) {
  const TempFolder folder;
  const std::string copy = folder / "copy.img";
  save(place, copy);
  Verdicts both{checker(copy), juneheath({"audit", copy})};
  EXPECT_TRUE(both.audit.status == 0 || both.audit.status == 4) << both.audit.err;
  return both;
}

}  // namespace jh::test
