// The power goes at every single operation of a shrinking, and of a compaction in place, in every
// form: afterwards the image is the old one, the new one or, while it is compacted, a sound one in
// between; the guest's files are the same in all of them.
#include "cli/terminal.h"
#include "core/base/checksum.h"
#include "core/base/stopped.h"
#include "core/change/carry_out.h"
#include "core/compact/compact.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/ext.h"
#include "core/fs/ext/read.h"
#include "core/plan/shrink.h"
#include "core/store/transaction.h"
#include "support/changes.h"
#include "support/children.h"
#include "support/ext_tools.h"
#include "support/failed_disk.h"
#include "support/fault_images.h"
#include "support/test.h"

namespace jh::test {
namespace {

// Some files, a journal and inode tables all over it, and old content in its free blocks.
const MemoryStore& full_disk() {
  static const MemoryStore disk = [] {
    MemoryStore content = ext_image(24U << 20, {"-b", "1024", "-N", "800"});
    const Guest guest({{first_image, &content}});
    std::mt19937 random(9);
    for (const UnusedRange& range : find_unused(guest, 0).ranges) {
      // Most of it, so that some places are holes.
      Buffer noise(std::min<std::uint64_t>(range.end - range.start, 700'000));
      for (std::uint8_t& byte : noise) byte = static_cast<std::uint8_t>(random());
      content.write(range.start, noise);
    }
    return MemoryStore(content, "full");
  }();
  return disk;
}

std::map<std::string, std::uint32_t> tree_of(Store& disk) {
  ext::Filesystem fs(disk);
  std::map<std::string, std::uint32_t> tree;
  ext::walk_tree(fs, [&](const std::string& path, const ext::InodeRecord& inode) {
    std::uint32_t sum = inode.fields.mode.value() + inode.fields.mtime.value();
    if (inode.type() == ext::mode_file) sum += crc32c(ext::read_file(fs, inode, 16U << 20));
    if (inode.type() == ext::mode_link)
      for (const char c : ext::read_link(fs, inode)) sum = sum * 31 + static_cast<unsigned char>(c);
    tree[path] = sum;
  });
  return tree;
}

class ShrinkPowerCut : public FaultImages {
 protected:
  void SetUp() override {
    MemoryStore disk(full_disk(), "full");
    tree_ = tree_of(disk);
    ASSERT_GT(tree_.size(), 100U);
    keep(disk);
  }
  // Sound in every layer, with the same files; the size of its disk.
  std::uint64_t expect_sound(FaultHost& host) const {
    HostFileResolver resolver(host);
    const auto file = host.open(first_image, Access::read_only);
    const auto container = open_container(*file, &resolver);
    const Findings findings = audit_ext_in(*container);
    EXPECT_TRUE(findings.clean()) << words_of(findings);
    EXPECT_EQ(tree_of(container->disk()), tree_);
    return container->disk().size();
  }
  // Calls look() after each recovery. Unflushed writes meet each fate at each operation; or, where
  // there are many, one fate in turn.
  void cut_everywhere(const PowerCuts::Work& work, const PowerCuts::Work& look,
                      bool in_turn = false) {
    PowerCuts cuts(prepared(), work);
    look(cuts.whole());
    cuts.everywhere(
        {all_fates, in_turn, /*may_end=*/true, points_of(cuts.operations(), stride_of(7) * 3, 60)},
        [&](FaultHost& host, std::uint64_t) {
          recover(host, first_image);
          look(host);
          for (const std::string& name : host.names())
            EXPECT_FALSE(name.ends_with(".open")) << name;
        });
    fmt::print("  {} operations\n", cuts.operations());
  }

  std::map<std::string, std::uint32_t> tree_;
};

void shrink_to_the_floor(FaultHost& host, bool allow_move) {
  HostFileResolver resolver(host);
  const auto file = host.open(first_image, Access::read_only);
  const Guest guest({{first_image, file.get(), false, &resolver}});
  ShrinkRequest request;
  request.images = {first_image};
  request.to_floor = true;
  request.allow_move = allow_move;
  carry_out(host, guest, plan_shrink(guest, request), request, silent);
}

TEST_P(ShrinkPowerCut, OldOrNew) {
  SKIP_UNLESS_TAKEN(3)
  std::uint64_t old_ones = 0;
  std::uint64_t new_ones = 0;
  const auto shrink = [](FaultHost& host) { shrink_to_the_floor(host, false); };
  cut_everywhere(shrink, [&](FaultHost& host) {
    if (is_old(host)) {
      ++old_ones;
      return;
    }
    ++new_ones;
    EXPECT_LT(expect_sound(host), 20U << 20);
  });
  EXPECT_GT(old_ones, 0U);
  EXPECT_GT(new_ones, 0U);
}

// Partitions move, the extended one and its records among them: a sample guest in a raw image.
class MovePowerCut : public ShrinkPowerCut {
 protected:
  void SetUp() override {
    const TempFolder folder;
    unpack_sample("mbr-extended", folder / "guest.img");
    MemoryStore disk = load(folder / "guest.img");
    files_ = files_of(disk);
    ASSERT_GT(files_.size(), 200U);
    keep(disk);
  }
  static std::map<std::string, std::uint32_t> files_of(Store& disk) {
    const Guest guest({{first_image, &disk}});
    std::map<std::string, std::uint32_t> all;
    for (const Disk& each : guest.disks())
      for (const jh::Layer& place : each.layers)
        if (ext_in(place.content))
          for (const auto& [path, sum] : tree_of(*place.window))
            all[guest.name_of(place) + path] = sum;
    return all;
  }
  std::map<std::string, std::uint32_t> files_;
};

TEST_P(MovePowerCut, OldOrNew) {
  std::uint64_t new_ones = 0;
  const auto look = [&](FaultHost& host) {
    if (is_old(host)) return;
    ++new_ones;
    const auto file = host.open(first_image, Access::read_only);
    EXPECT_LT(file->size(), 40U << 20);
    EXPECT_EQ(files_of(*file), files_);
  };
  const auto shrink = [](FaultHost& host) { shrink_to_the_floor(host, true); };
  cut_everywhere(shrink, look, /*in_turn=*/true);
  EXPECT_GT(new_ones, 0U);
}

INSTANTIATE_TEST_SUITE_P(Forms, MovePowerCut, testing::Values(kinds().front()), by_name);

void compact(FaultHost& host) {
  HostFileResolver resolver(host);
  const auto file = host.open(first_image, Access::read_only);
  const Guest guest({{first_image, file.get(), false, &resolver}});
  compact_in_place(host, guest, 0, false, Sharing::automatic, silent);
}

class CompactPowerCut : public ShrinkPowerCut {};

TEST_P(CompactPowerCut, LeavesSoundImagesAtAnyTime) {
  std::uint64_t smallest = UINT64_MAX;
  cut_everywhere(compact, [&](FaultHost& host) {
    EXPECT_EQ(expect_sound(host), 24U << 20);
    std::uint64_t length = 0;
    for (const auto& [path, content] : old_) length += host.content(path).size();
    smallest = std::min(smallest, length);
  });
  std::uint64_t before = 0;
  for (const auto& [path, content] : old_) before += content.size();
  // Blocks of two MiB, as VHD and VHDX have them, are all in use on so small a disk.
  const ImageFormat format = GetParam().format;
  if (format == ImageFormat::qcow2 || format == ImageFormat::vdi || format == ImageFormat::vmdk) {
    EXPECT_LT(smallest, before);
  }
}

// The top one of a chain, which holds part of what its parent holds too, and more.
class ChildPowerCut : public ShrinkPowerCut {
 protected:
  void SetUp() override {
    ShrinkPowerCut::SetUp();
    old_.emplace(parent_, MemoryStore(old_.at(first_image), parent_));
    MemoryStore child(0, first_image);
    NewContainer made = wanted(GetParam(), full_disk().size());
    made.id[0] = 99;
    create_container(child, made, nullptr);
    make_child_of(child, old_.at(parent_), GetParam().format, "parent.img");
    replace(child);
    FaultHost host;
    put(host);
    HostFileResolver resolver(host);
    const auto file = host.open(first_image, Access::read_write);
    const auto container = open_container(*file, &resolver);
    for (std::uint64_t at = 0; at < 12 * mib; at += 4 * mib)
      container->disk().write(at, read_buffer(container->disk(), at, 3 * mib));
    container->disk().flush();
    replace(host.content(first_image));
  }
  void replace(const MemoryStore& content) {
    old_.erase(first_image);
    old_.emplace(first_image, MemoryStore(content, first_image));
  }
  const std::string parent_ = "/moor/parent.img";
};

TEST_P(ChildPowerCut, CompactingLeavesParentAndFiles) {
  std::uint64_t smallest = UINT64_MAX;
  cut_everywhere(compact, [&](FaultHost& host) {
    EXPECT_EQ(expect_sound(host), 24U << 20);
    EXPECT_TRUE(host.content(parent_).same_content(old_.at(parent_)));
    smallest = std::min(smallest, host.content(first_image).size());
  });
  EXPECT_LT(smallest + 6 * mib, old_.at(first_image).size());
}

INSTANTIATE_TEST_SUITE_P(Forms, ChildPowerCut,
                         testing::Values(Kind{"Qcow2", ImageFormat::qcow2, Allocation::sparse},
                                         Kind{"Vmdk", ImageFormat::vmdk, Allocation::sparse},
                                         Kind{"Vhd", ImageFormat::vhd, Allocation::sparse},
                                         Kind{"Vhdx", ImageFormat::vhdx, Allocation::sparse}),
                         by_name);

// Compressed blocks, several in a cluster of the file, and over the borders of those.
class PackedPowerCut : public ShrinkPowerCut {
 protected:
  void SetUp() override {
    MemoryStore disk(full_disk(), "full");
    tree_ = tree_of(disk);
    std::mt19937 random(11);
    const Guest guest({{first_image, &disk}});
    for (const UnusedRange& range : find_unused(guest, 0).ranges) {
      Buffer text(range.end - range.start);
      for (std::uint8_t& byte : text) byte = static_cast<std::uint8_t>('a' + random() % 16);
      disk.write(range.start, text);
    }
    const auto from = open_container(disk);
    MemoryStore compressed(0, first_image);
    NewContainer wanted_form;
    wanted_form.format = ImageFormat::qcow2;
    wanted_form.allocation = Allocation::compressed;
    wanted_form.disk_size = Bytes(disk.size());
    fill_compressed(*from, compressed, wanted_form, silent);
    ASSERT_LT(compressed.size(), disk.size() * 2 / 3);
    old_.emplace(first_image, std::move(compressed));
  }
};

TEST_P(PackedPowerCut, CompactingLeavesSoundImagesAtAnyTime) {
  SKIP_UNLESS_ITS_TURN(2)
  std::uint64_t smallest = UINT64_MAX;
  cut_everywhere(compact, [&](FaultHost& host) {
    EXPECT_EQ(expect_sound(host), 24U << 20);
    smallest = std::min(smallest, host.content(first_image).size());
  });
  EXPECT_LT(smallest, old_.at(first_image).size() * 2 / 3);
}

INSTANTIATE_TEST_SUITE_P(Forms, PackedPowerCut, testing::Values(kinds().front()),
                         [](const auto&) { return std::string("Qcow2"); });

// Asks to stop when it is told of progress for the n-th time.
class StopAt final : public Progress {
 public:
  explicit StopAt(int n) : left_(n) {}
  void begin(const std::string&, std::uint64_t) override {}
  void advance(std::uint64_t) override {
    if (--left_ == 0) throw Stopped();
  }
  void end() override {}

 private:
  int left_;
};

TEST_P(CompactPowerCut, StopsOnRequestAndSaysWhatWasDone) {
  int before_anything = 0;
  int in_between = 0;
  for (int n = 1;; ++n) {
    FaultHost host;
    for (const auto& [path, content] : old_) host.put(path, content);
    bool finished = false;
    try {
      HostFileResolver resolver(host);
      const auto file = host.open(first_image, Access::read_only);
      const Guest guest({{first_image, file.get(), false, &resolver}});
      StopAt progress(n);
      compact_in_place(host, guest, 0, false, Sharing::automatic, progress);
      finished = true;
    } catch (const Stopped& stop) {
      ++(stop.outcome() == Outcome::sound ? in_between : before_anything);
      if (stop.outcome() == Outcome::sound) {
        EXPECT_THAT(stop.what(), HasSubstr("so far"));
        EXPECT_THAT(cli::text_of(stop.next()), HasSubstr("again"));
      } else {
        for (const auto& [path, content] : old_)
          EXPECT_TRUE(host.content(path).same_content(content)) << n;
      }
    }
    EXPECT_EQ(expect_sound(host), 24U << 20);
    for (const std::string& name : host.names()) EXPECT_FALSE(name.ends_with(".open")) << name;
    if (finished) break;
  }
  EXPECT_GT(before_anything, 0);
  const ImageFormat format = GetParam().format;
  if (format == ImageFormat::qcow2 || format == ImageFormat::vdi || format == ImageFormat::vmdk) {
    EXPECT_GT(in_between, 0);
  }
}

// It is the disk that fails, not the power: what the Error says of the image must be so.
class ShrinkFailedDisk : public ShrinkPowerCut {};

TEST_P(ShrinkFailedDisk, LeavesWhatTheErrorSays) {
  const SaidLeft said = fail_everywhere(
      old_, first_image, stride_of(7) * 2,
      [](FaultHost& host) { shrink_to_the_floor(host, false); },
      [&](FaultHost& host) {
        if (!is_old(host)) expect_sound(host);
      });
  EXPECT_GT(said.unchanged, 0U);
  EXPECT_GT(said.unfinished, 0U);
  EXPECT_EQ(said.sound, 0U);
}

TEST_P(ShrinkFailedDisk, LeavesASoundImageWhileCompacting) {
  const SaidLeft said =
      fail_everywhere(old_, first_image, stride_of(7), compact,
                      [&](FaultHost& host) { EXPECT_EQ(expect_sound(host), 24U << 20); });
  // A raw image only gets holes; the others begin with a sealed step.
  EXPECT_GT(GetParam().format == ImageFormat::raw ? said.sound : said.unchanged, 0U);
  if (GetParam().format == ImageFormat::qcow2) {
    EXPECT_GT(said.sound, 0U);
    EXPECT_GT(said.unfinished, 0U);
  }
}

INSTANTIATE_TEST_SUITE_P(Forms, ShrinkPowerCut, testing::ValuesIn(kinds()), by_name);

// Full images keep every block, used or not.
std::vector<Kind> sparse_kinds() {
  std::vector<Kind> sparse;
  for (const Kind& kind : kinds())
    if (kind.allocation == Allocation::sparse) sparse.push_back(kind);
  return sparse;
}

INSTANTIATE_TEST_SUITE_P(Forms, ShrinkFailedDisk, testing::Values(kinds()[0], kinds()[1]), by_name);

INSTANTIATE_TEST_SUITE_P(Forms, CompactPowerCut, testing::ValuesIn(sparse_kinds()), by_name);

}  // namespace
}  // namespace jh::test
