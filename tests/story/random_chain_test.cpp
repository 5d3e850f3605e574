// Random chains of commands on every sample guest and form, with cuts in between: after each of them
// the outside checker is content and every file is there.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>
#include <random>
#include <sstream>

#include "core/store/host.h"
#include "support/judges.h"
#include "support/program.h"
#include "support/same_guest.h"
#include "support/samples.h"

namespace jh::test {
namespace {

namespace files = std::filesystem;
using Words = std::vector<std::string>;

#ifdef JUNEHEATH_SANITIZED
constexpr int usual_steps = 40;
#else
constexpr int usual_steps = 300;
#endif

std::uint32_t number_from(const char* name, std::uint32_t otherwise) {
  const char* given = std::getenv(name);
  return given != nullptr ? static_cast<std::uint32_t>(std::stoul(given)) : otherwise;
}

// One guest on its way: an image, or two, in some form.
class Walk {
 public:
  Walk(const TempFolder& folder, std::mt19937& random) : folder_(folder), random_(random) {}

  void begin() {
    for (const auto& entry : files::directory_iterator(folder_.path())) files::remove_all(entry);
    static const std::vector<Words> samples{{"heather"},      {"nestcam"},    {"fieldstation"},
                                            {"mbr-boot-lvm"}, {"mbr-extended"}, {"whole-disk-pv"},
                                            {"two-disk-a", "two-disk-b"}};
    const Words& sample = samples[random_() % samples.size()];
    images_.clear();
    log_ = sample[0];
    for (const std::string& name : sample) {
      images_.push_back(folder_ / (name + ".img"));
      unpack_sample(name, images_.back());
    }
    if (sample.size() == 1 && random_() % 3 != 0) recast();
    files_ = files_now();
  }

  // One command. False: it ended in a way that the caller has to report.
  bool step() {
    const Words command = pick();
    std::map<std::string, std::string> environment;
#ifndef JUNEHEATH_SANITIZED
    if (random_() % 4 == 0 && command[0] != "recover")
      environment = {{"LD_PRELOAD", JUNEHEATH_STOPPER},
                     {"JUNEHEATH_STOP_AT", std::to_string(1 + random_() % 60)}};
#endif
    const Outcome outcome = juneheath(command, environment);
    log_ += fmt::format("\n  {} -> {}", fmt::join(command, " "), outcome.status);
    if (!outcome.err.empty()) log_ += " " + outcome.err.substr(0, outcome.err.find('\n'));
    const bool known = outcome.status == 0 || outcome.status == 3 || outcome.status == 99 ||
                       outcome.status == 2 || outcome.status == 6;
    if (!known) return false;
    if (outcome.status == 99) {
      ++cuts_;
      if (!recover()) return false;
    } else if (outcome.status == 0) {
      ++done_;
    }
    drop_leftovers();
    return is_sound();
  }

  const std::string& log() const { return log_; }
  int done() const { return done_; }
  int cuts() const { return cuts_; }

 private:
  Words with_images(Words command) const {
    command.insert(command.begin() + 1, images_.begin(), images_.end());
    return command;
  }

  Words pick() {
    const std::string size = fmt::format("{}MiB", 1 + random_() % 120);
    const std::string disk = std::to_string(1 + random_() % images_.size());
    switch (random_() % 10) {
      case 0:
      case 1:
        return with_images({"grow", "--by", size, "--disk", disk});
      case 2:
        return with_images({"grow", "--by", size, "--disk", disk, "--give", "nothing"});
      case 3:
        return with_images({"grow", "--give", random_() % 2 == 0 ? "/" : "p1"});
      case 4:
        return with_images({"shrink", "--by", size, "--disk", disk, "--yes"});
      case 5:
        return with_images({"shrink", "--to", "floor", "--disk", disk, "--yes",
                            random_() % 2 == 0 ? "--no-undo" : "--allow-move"});
      case 6:
        return with_images({"compact", "--yes"});
      case 7:
        return with_images({"recover"});
      default:
        return with_images({"undo", "--yes"});
    }
  }

  bool recover() {
    const Outcome recovered = juneheath(with_images({"recover"}));
    log_ += fmt::format("\n  cut; recover -> {} {}", recovered.status, recovered.err);
    return recovered.status == 0;
  }

  // New images of --into, and what a cut left of them.
  void drop_leftovers() const {
    for (const auto& entry : files::directory_iterator(folder_.path()))
      if (entry.path().string().ends_with(".juneheath.new")) files::remove_all(entry);
  }

  void recast() {
    static const Words forms{"qcow2", "vdi", "vmdk", "vhd", "vhdx"};
    const std::string form = forms[random_() % forms.size()];
    const std::string to = folder_ / ("guest." + form);
    const bool full = form != "qcow2" && random_() % 3 == 0;
    const Outcome done =
        juneheath({"recast", images_[0], to, "--quiet", "--store", full ? "full" : "sparse"});
    if (done.status != 0) return;
    files::remove(images_[0]);
    images_[0] = to;
    log_ += " as " + form + (full ? ", full" : "");
  }

  // The files in all filesystems; sizes may change.
  std::string files_now() const {
    FileHost host;
    std::string found;
    std::istringstream lines(what_the_guests_disks_hold(host, images_));
    for (std::string line; std::getline(lines, line);)
      if (line.starts_with('/')) found += line + "\n";
    return found;
  }

  bool is_sound() {
    try {
      if (files_now() != files_) {
        log_ += "\n  files differ";
        return false;
      }
    } catch (const Error& error) {
      log_ += fmt::format("\n  {}", error.what());
      return false;
    }
    Words audit{"audit"};
    audit.insert(audit.end(), images_.begin(), images_.end());
    if (const Outcome outcome = juneheath(audit); outcome.status != 0) {
      log_ += "\n  audit: " + outcome.out;
      return false;
    }
    FileHost host;
    const std::string said = checker_says(host, images_);
    log_ += said;
    return said.empty();
  }

  const TempFolder& folder_;
  std::mt19937& random_;
  Words images_;
  std::string files_;
  std::string log_;
  int done_ = 0;
  int cuts_ = 0;
};

TEST(RandomChain, EveryFileIsThereAfterEveryCommand) {
  const std::uint32_t seed = number_from("JUNEHEATH_SEED", std::random_device()());
  const auto steps =
      static_cast<int>(number_from("JUNEHEATH_STEPS", static_cast<std::uint32_t>(usual_steps)));
  fmt::print("  JUNEHEATH_SEED={} JUNEHEATH_STEPS={}\n", seed, steps);
  std::mt19937 random(seed);
  const TempFolder folder;
  Walk walk(folder, random);
  for (int i = 0; i < steps; ++i) {
    if (i % 12 == 0) walk.begin();
    ASSERT_TRUE(walk.step()) << "step " << i << ": " << walk.log();
  }
  fmt::print("  {} commands done, {} cut\n", walk.done(), walk.cuts());
  EXPECT_GT(walk.done(), steps / 5);
}

}  // namespace
}  // namespace jh::test
