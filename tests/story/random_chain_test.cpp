// Random chains of commands on every sample guest and form, with cuts in between: after each of
// them the outside checker is content and every file is there.
#include "core/store/host.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr int usual_steps = is_sanitized ? 40 : 200;

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
    static const std::vector<Words> samples{{"heather"},
                                            {"nestcam"},
                                            {"fieldstation"},
                                            {"mbr-boot-lvm"},
                                            {"mbr-extended"},
                                            {"whole-disk-pv"},
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
    made_.clear();
    const Words command = pick();
    Facts environment;
    if (!is_sanitized && random_() % 4 == 0 && command[0] != "recover")
      environment = {
          {"LD_PRELOAD", JUNEHEATH_STOPPER},
          // Early, or anywhere in what takes long: some come too late.
          {"JUNEHEATH_STOP_AT", std::to_string(1 + random_() % (random_() % 2 == 0 ? 60 : 1500))}};
    const ProgramResult outcome = juneheath(command, environment);
    log_ += fmt::format("\n  {} -> {}", fmt::join(command, " "), outcome.status);
    if (!outcome.err.empty()) log_ += " " + outcome.err.substr(0, outcome.err.find('\n'));
    const bool known = outcome.status == 0 || outcome.status == 3 || outcome.status == 99 ||
                       outcome.status == 2 || outcome.status == 6;
    if (!known) return false;
    if (outcome.status == 99) ++cuts_;
    if (outcome.status == 0) {
      ++done_;
      ++by_command_[becomes_ == Becomes::another ? command[0] + " into a new image" : command[0]];
    }
    if (becomes_ == Becomes::one_more && files::exists(made_)) images_.push_back(made_);
    if (outcome.status == 99 && !recover()) return false;
    if (becomes_ == Becomes::another && outcome.status == 0) {
      files::remove(images_[0]);
      images_[0] = made_;
    }
    // A disk that the change had added goes with it; of one that was not begun an empty file may be
    // left.
    std::erase_if(images_, [](const std::string& image) {
      return !files::exists(image) || files::file_size(image) == 0;
    });
    drop_leftovers();
    return is_sound();
  }

  const std::string& log() const { return log_; }
  int done() const { return done_; }
  int cuts() const { return cuts_; }
  std::string counts() const {
    std::string text;
    for (const auto& [command, count] : by_command_) text += fmt::format(", {} {}", command, count);
    return text;
  }

 private:
  // What becomes of the file that a command makes.
  enum class Becomes { nothing, another, one_more };
  Words with_images(Words command) const {
    command.insert(command.begin() + 1, images_.begin(), images_.end());
    return command;
  }

  Words pick() {
    const std::string size = fmt::format("{}MiB", 1 + random_() % 120);
    const std::string disk = std::to_string(1 + random_() % images_.size());
    becomes_ = Becomes::nothing;
    switch (random_() % 13) {
      case 10:
        if (images_.size() != 1) return with_images({"recover"});
        return into_new_image({"recast", images_[0], new_name(), "--quiet"});
      case 11:
        if (images_.size() != 1) return with_images({"undo", "--yes"});
        switch (random_() % 3) {
          case 0:
            return into_new_image({"grow", images_[0], "--by", size, "--into", new_name()});
          case 1:
            return into_new_image({"compact", images_[0], "--into", new_name()});
          default:
            return into_new_image(
                {"shrink", images_[0], "--to", "floor", "--yes", "--into", new_name()});
        }
      case 12:
        if (images_.size() > 2) return with_images({"compact", "--yes"});
        becomes_ = Becomes::one_more;
        return with_images({"grow", "--add-disk", new_name() + "=" + size});
      case 0:
        return with_images({"grow", "--by", size, "--disk", disk});
      case 1:
        return with_images({"grow", "--by", size, "--disk", disk, "--allow-move", "--give",
                            any_target() + (random_() % 2 == 0 ? "" : "=50%")});
      case 2:
        return with_images({"grow", "--by", size, "--disk", disk, "--give", "nothing"});
      case 3:
        if (random_() % 2 == 0) return with_images({"grow", "--give", any_target()});
        return with_images({"grow", "--by", size, "--disk", disk, "--give", any_target() + "=8MiB",
                            "--give", any_target(), "--allow-move"});
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

  std::string any_target() {
    static const Words targets{"/", "p1", "/srv", "/home", "/var/log", "swap", "/boot"};
    return targets[random_() % targets.size()];
  }

  std::string new_name() {
    static const Words forms{"img", "qcow2", "vdi", "vmdk", "vhd", "vhdx"};
    made_ = folder_ / fmt::format("guest{}.{}", ++names_, forms[random_() % forms.size()]);
    return made_;
  }

  Words into_new_image(Words command) {
    becomes_ = Becomes::another;
    return command;
  }

  bool recover() {
    const ProgramResult recovered = juneheath(with_images({"recover"}));
    log_ += fmt::format("\n  cut; recover -> {} {}", recovered.status, recovered.err);
    // Of a disk that a dropped change was to add, a part may be left; it says so.
    if (recovered.said("is part of nothing")) files::remove(made_);
    return recovered.status == 0;
  }

  // New images of --into, and what a cut left of them.
  void drop_leftovers() const {
    for (const auto& entry : files::directory_iterator(folder_.path()))
      if (entry.path().string().ends_with(".juneheath.new")) files::remove_all(entry);
  }

  void recast() {
    static const Words forms{"qcow2", "vdi", "vmdk", "vhd", "vhdx"};
    const std::string format = forms[random_() % forms.size()];
    const std::string to = folder_ / ("guest." + format);
    const bool full = format != "qcow2" && random_() % 3 == 0;
    const ProgramResult done =
        juneheath({"recast", images_[0], to, "--quiet", "--store", full ? "full" : "sparse"});
    if (done.status != 0) return;
    files::remove(images_[0]);
    images_[0] = to;
    log_ += " as " + format + (full ? ", full" : "");
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
    Words audit = Words{"audit"} + images_;
    if (const ProgramResult outcome = juneheath(audit); outcome.status != 0) {
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
  std::string made_;  // the file that this command is to make
  Becomes becomes_ = Becomes::nothing;
  int names_ = 0;
  std::map<std::string, int> by_command_;
  std::string files_;
  std::string log_;
  int done_ = 0;
  int cuts_ = 0;
};

TEST(RandomChain, EveryFileIsThereAfterEveryCommand) {
  const std::uint32_t seed = seed_of_run();
  const auto steps = static_cast<int>(
      number_from("JUNEHEATH_STEPS", static_cast<std::uint32_t>(rounds_of(usual_steps))));
  fmt::print("  JUNEHEATH_STEPS={}\n", steps);
  std::mt19937 random(seed);
  const TempFolder folder;
  Walk walk(folder, random);
  for (int i = 0; i < steps; ++i) {
    if (i % 12 == 0) walk.begin();
    ASSERT_TRUE(walk.step()) << "step " << i << ": " << walk.log();
  }
  fmt::print("  {} commands done, {} cut{}\n", walk.done(), walk.cuts(), walk.counts());
  EXPECT_GT(walk.done(), steps / 5);
}

}  // namespace
}  // namespace jh::test
