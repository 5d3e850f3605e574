// The log of XFS: filesystems that lost power, brought to rest here and by the kernel.
#include <fcntl.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "core/base/checksum.h"
#include "core/fs/xfs/log_format.h"
#include "core/fs/xfs/rest.h"
#include "core/guest/content.h"
#include "support/test.h"

namespace jh::test {
namespace {

const std::vector<Words>& log_makes() {
  static const std::vector<Words> all{
      {},
      {"-m", "rmapbt=1"},
      {"-m", "finobt=0,reflink=0"},
      {"-m", "inobtcount=0,bigtime=0"},
      {"-i", "sparse=0,size=2048"},
      {"-i", "nrext64=1"},
      {"-b", "size=1024", "-m", "rmapbt=1"},
      {"-s", "size=4096"},
      {"-n", "size=65536"},
      {"-d", "agcount=5"},
      {"-d", "su=65536,sw=4", "-l", "su=65536"},
      {"-b", "size=2048", "-m", "rmapbt=1", "-i", "nrext64=1,size=1024", "-n", "size=8192"}};
  return all;
}

// What a guest does in a minute: files come, grow, get holes, attributes and other owners, are
// renamed and go; folders get many names and lose them.
class Workload {
 public:
  Workload(std::string root, std::mt19937& random) : root_(std::move(root)), random_(random) {
    files::create_directory(root_ + "/d");
  }

  void step() {
    std::error_code passed_over;  // what is not there cannot be renamed
    const std::string file = some_file();
    switch (random_() % 12) {
      case 0:
      case 1:
        write(file, random_() % 300'000);
        break;
      case 2:
        files::remove_all(file, passed_over);
        break;
      case 3:
        files::rename(file, some_file() + "-renamed", passed_over);
        break;
      case 4:
        files::create_directories(folder() + "/deeper", passed_over);
        break;
      case 5:
        files::create_directory(folder(), passed_over);
        for (unsigned i = random_() % 80; i > 0; --i)
          std::ofstream(fmt::format("{}/ring-{}-{}", folder(), number_, i)) << i;
        break;
      case 6:
        files::create_symlink(std::string(1 + random_() % 900, 'x'), file + "-link", passed_over);
        break;
      case 7:
        attribute(file);
        break;
      case 8:
        if (::chown(file.c_str(), random_() % 5, random_() % 5) != 0) write(file, 10);
        break;
      case 9:
        files::resize_file(file, random_() % 3'000'000, passed_over);
        break;
      case 10:
        files::create_hard_link(file, some_file() + "-again", passed_over);
        break;
      default:
        files::remove_all(folder(), passed_over);
        number_ = random_() % 20;
    }
  }

 private:
  std::string some_file() {
    return fmt::format("{}/d/a-rather-long-name-of-a-bird-{}", root_, random_() % 150);
  }
  std::string folder() const { return fmt::format("{}/d/folder{}", root_, number_); }
  void write(const std::string& file, std::size_t length) {
    std::string noise(length, '\0');
    for (std::size_t i = 0; i < length; i += 997) noise[i] = static_cast<char>(random_());
    std::ofstream(file, std::ios::binary) << noise;
  }
  void attribute(const std::string& file) {
    const std::string value(random_() % 3000, 'y');
    const std::string name = fmt::format("user.ring{}", random_() % 9);
    if (::setxattr(file.c_str(), name.c_str(), value.data(), value.size(), 0) != 0) write(file, 9);
  }

  std::string root_;
  std::mt19937& random_;
  unsigned number_ = 0;
};

// A guest at work, and then no more. Returns whether a file was deleted while it was open.
bool lose_power(const std::string& image, std::mt19937& random) {
  const Mounted mounted(image, 0, 0, /*writable=*/true);
  Workload work(mounted.path(), random);
  const unsigned steps = 20 + random() % 400;
  const unsigned synced = random() % steps;
  for (unsigned i = 0; i < steps; ++i) {
    work.step();
    if (i == synced) run({"sync", "-f", mounted.path()});
  }
  int open = -1;
  if (random() % 3 == 0) {
    const std::string name = mounted.path() + "/d/deleted";
    std::ofstream(name) << "still open";
    open = ::open(name.c_str(), O_RDONLY);
    files::remove(name);
  }
  // With what is in memory of the log, or without.
  Words down{"xfs_io", "-x", "-c", "shutdown -f", mounted.path()};
  if (random() % 3 == 0) {
    run({"sync", "-f", mounted.path()});
    for (int i = 0; i < 9; ++i) std::ofstream(fmt::format("{}/late{}", mounted.path(), i));
    down[3] = "shutdown";
  }
  run(down);
  if (open >= 0) ::close(open);
  return open >= 0;
}

// As its kernel shows it, once that has replayed the log and freed what was deleted.
std::string replayed_tree(const std::string& image) {
  { const Mounted mounted(image, 0, 0, /*writable=*/true); }
  return mounted_tree(image);
}

void copy_sparse(const std::string& from, const std::string& to) {
  run({"cp", "--sparse=always", from, to});
}

TEST(XfsLog, IsReplayedAsTheKernelDoes) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const unsigned first = seed_of_run();
  const int rounds = takes_all() ? 120 : 6;
  int replayed = 0;
  int unfinished = 0;
  for (int i = 0; i < rounds; ++i) {
    const unsigned seed = first + static_cast<unsigned>(i);
    SCOPED_TRACE(fmt::format("seed {}", seed));
    std::mt19937 random{seed};
    const TempFolder folder;
    const std::string theirs = folder / "kernel.img";
    const std::string ours = folder / "ours.img";
    make_xfs(theirs, 600 * mib, log_makes()[random() % log_makes().size()], false);
    const bool deleted = lose_power(theirs, random);
    copy_sparse(theirs, ours);
    const std::string tree = replayed_tree(theirs);
    const ProgramResult grown =
        juneheath({"grow", ours, "--by", "100MiB", "--give", "disk", "--yes"});
    if (grown.status == 3 && grown.said("which only it can finish")) {
      EXPECT_TRUE(grown.said("Nothing was changed")) << grown.err;
      ++unfinished;
      continue;
    }
    ASSERT_EQ(grown.status, 0) << grown.err;
    replayed += grown.said("replay the log") ? 1 : 0;
    expect_status(0, {"audit", ours});
    // What was deleted and not freed yet waits for its kernel, and the report says so.
    if (!grown.said("deleted while open")) {
      EXPECT_EQ(check_xfs(ours), "");
      EXPECT_FALSE(deleted);
    }
    EXPECT_EQ(replayed_tree(ours), tree);
    EXPECT_EQ(check_xfs(ours), "");
    expect_status(0, {"audit", ours});
  }
  fmt::print("  {} replayed, {} with work that only the guest can finish\n", replayed, unfinished);
  EXPECT_GT(replayed, rounds / 2);
}

// The newest records may be torn: what is in front of them counts. Further back it is damage.
TEST(XfsLog, TornRecordsEndItAndDamagedOnesAreRefused) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const unsigned seed = seed_of_run();
  SCOPED_TRACE(fmt::format("seed {}", seed));
  std::mt19937 random{seed};
  const TempFolder folder;
  const std::string image = make_xfs(folder / "place.img", 320 * mib, {}, false);
  {
    const Mounted mounted(image, 0, 0, /*writable=*/true);
    Workload work(mounted.path(), random);
    // A record each.
    for (int i = 0; i < 40; ++i) {
      for (int k = 0; k < 8; ++k) work.step();
      run({"sync", "-f", mounted.path()});
    }
    run({"xfs_io", "-x", "-c", "shutdown -f", mounted.path()});
  }
  MemoryStore whole = load(image);
  const xfs::Geometry geometry(whole);
  const std::uint64_t start = geometry.block_at(geometry.superblock().log_start.value());
  std::vector<std::uint64_t> records;  // where they begin, in bytes
  for (std::uint64_t at = 0; at < geometry.superblock().log_blocks.value() * geometry.block_size();
       at += xfs::basic_block) {
    const auto header = read_as<xfs::LogRecord>(whole, start + at);
    if (header.magic.value() == xfs::log_magic && header.operations.value() > 1)
      records.push_back(start + at);
  }
  ASSERT_GT(records.size(), 20U);
  for (const std::size_t back : {1, 2, 5, 15}) {
    SCOPED_TRACE(fmt::format("record {} from the end", back));
    MemoryStore torn(whole, "torn");
    const std::uint64_t at = records[records.size() - back] + xfs::basic_block + 40;
    Buffer byte = read_buffer(torn, at, 1);
    byte[0] ^= 0x10;
    torn.write(at, byte);
    const std::string theirs = folder / "kernel.img";
    const std::string ours = folder / "ours.img";
    save(torn, theirs);
    save(torn, ours);
    const std::uint32_t before = file_digest(ours);
    const ProgramResult grown =
        juneheath({"grow", ours, "--by", "100MiB", "--give", "disk", "--yes"});
    if (back < 9) {
      ASSERT_EQ(grown.status, 0) << grown.err;
      expect_status(0, {"audit", ours});
      EXPECT_EQ(replayed_tree(ours), replayed_tree(theirs));
      EXPECT_EQ(check_xfs(ours), "");
    } else {
      EXPECT_EQ(grown.status, 4) << grown.err;
      EXPECT_TRUE(grown.said("of the log is damaged")) << grown.err;
      EXPECT_EQ(file_digest(ours), before);
      EXPECT_THROW(Mounted(theirs, 0, 0, /*writable=*/true), std::exception)
          << "the kernel takes it";
    }
    files::remove(theirs);
    files::remove(ours);
  }
}

// Work that was begun in one transaction and is finished in another: its guest knows how.
TEST(XfsLog, UnfinishedWorkIsNamed) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  std::mt19937 random{7};
  const TempFolder folder;
  const std::string image = make_xfs(folder / "place.img", 320 * mib, {"-m", "rmapbt=1"}, false);
  lose_power(image, random);
  MemoryStore place = load(image);
  const xfs::Geometry geometry(place);
  xfs::Log log(place, geometry);
  // The log as it is, and behind it a transaction that begins to free something.
  const std::uint64_t start = geometry.block_at(geometry.superblock().log_start.value());
  log.close(/*ends=*/false);
  const xfs::Log closed(place, geometry);
  EXPECT_FALSE(closed.at_rest());
  EXPECT_FALSE(xfs::holds_items(closed));
  std::uint64_t record = 0;
  std::uint64_t newest = 0;
  for (std::uint64_t at = 0; at < geometry.superblock().log_blocks.value() * geometry.block_size();
       at += xfs::basic_block) {
    const auto header = read_as<xfs::LogRecord>(place, start + at);
    if (header.magic.value() == xfs::log_magic && header.operations.value() == 2 &&
        header.sequence.value() >= newest) {
      record = start + at;
      newest = header.sequence.value();
    }
  }
  ASSERT_NE(record, 0U);
  Buffer text;
  const auto add = [&](const auto& part) {
    const ConstByteSpan bytes = bytes_of(part);
    text.insert(text.end(), bytes.begin(), bytes.end());
  };
  const auto operation = [&](std::uint8_t flags, std::uint32_t length) {
    xfs::LogOperation made{};
    made.transaction = 77;
    made.length = length;
    made.client = xfs::log_client::transaction;
    made.flags = flags;
    add(made);
  };
  operation(xfs::log_flag::start, 0);
  operation(0, sizeof(xfs::TransactionHeader));
  xfs::TransactionHeader head{};
  head.magic = xfs::transaction_magic;
  head.items = 1;
  add(head);
  operation(0, sizeof(xfs::LogItem));
  xfs::LogItem intent{};
  intent.type = xfs::log_item::free_intent;
  intent.regions = 1;
  intent.count = 0;
  intent.id = 4711;
  add(intent);
  operation(xfs::log_flag::commit, 0);
  auto header = read_as<xfs::LogRecord>(place, record);
  header.operations = 4;
  header.cycles[0] = parse_as<Be32>(text, 0);
  const auto cycle = read_as<Be32>(place, record + xfs::basic_block);
  put_at(text, 0, cycle);
  place.write(record + xfs::basic_block, text);
  header.checksum = 0;
  Buffer bytes(xfs::basic_block + header.length.value());
  put_at(bytes, 0, header);
  place.read(record + xfs::basic_block, ByteSpan(bytes).subspan(xfs::basic_block));
  Buffer summed(bytes.begin(), bytes.begin() + 328);
  summed.insert(summed.end(), bytes.begin() + xfs::basic_block, bytes.end());
  header.checksum = crc32c(summed);
  put_at(bytes, 0, header);
  place.write(record, ConstByteSpan(bytes).first(xfs::basic_block));
  const std::string stuck = folder / "stuck.img";
  save(place, stuck);
  expect_status(3, {"grow", stuck, "--by", "1GiB", "--give", "disk", "--yes"},
                {"stopped while it was freeing blocks", "start the guest"});
  expect_said({"survey", stuck}, {"needs log replay"});
}

// A guest that lost power for good, in a volume of a real disk: what replay must show is there.
TEST(XfsLog, OfARealGuestIsReplayedInOneCommand) {
  const TempFolder folder;
  const std::string image = unpack_sample("dirty-xfs", folder / "dirty.img");
  const std::uint32_t before = file_digest(image);
  expect_said({"survey", image}, {"needs log replay"});
  EXPECT_EQ(file_digest(image), before);
  succeeds({"grow", image, "--by", "1GiB", "--give", "/", "--yes"},
           {"replay the log: 2 transactions"});
  expect_status(0, {"audit", image});
  expect_status(0, {"undo", image, "--yes"});
  EXPECT_EQ(file_digest(image), before);
}

}  // namespace
}  // namespace jh::test
