#include <fmt/format.h>
#include <unistd.h>
#include <zstd.h>

#include <filesystem>
#include <fstream>
#include <functional>
#include <iostream>
#include <memory>

#include "cli/commands.h"
#include "cli/options.h"
#include "cli/terminal.h"
#include "core/plan/plan.h"
#include "core/store/file_store.h"

namespace jh::cli {
namespace {

namespace files = std::filesystem;

files::path sample_folder() {
  for (const char* place : {JUNEHEATH_DEMO_FOLDER, JUNEHEATH_INSTALLED_DEMO})
    if (files::exists(files::path(place) / "heather.img.zst")) return place;
  refuse("the sample guests are not there", JUNEHEATH_INSTALLED_DEMO,
         "run from a checkout of the source, or install the program with its data");
}

// Streams, so that an image's size does not matter; zeros become holes.
void unpack(const files::path& from, const files::path& to) {
  std::ifstream in(from, std::ios::binary);
  if (!in) io_failed("cannot read the sample", from.string());
  const auto out = FileStore::create(to.string());
  const std::unique_ptr<ZSTD_DStream, decltype(&ZSTD_freeDStream)> stream(ZSTD_createDStream(),
                                                                          &ZSTD_freeDStream);
  std::vector<char> packed(ZSTD_DStreamInSize());
  Buffer plain(1U << 20);
  std::uint64_t at = 0;
  ZSTD_inBuffer input{packed.data(), 0, 0};
  ZSTD_outBuffer output{plain.data(), plain.size(), 0};
  const auto put = [&] {
    out->resize(at + output.pos);
    const ConstByteSpan fresh = ConstByteSpan(plain).first(output.pos);
    if (!all_zero(fresh)) out->write(at, fresh);
    at += output.pos;
    output.pos = 0;
  };
  while (true) {
    if (input.pos == input.size) {
      in.read(packed.data(), static_cast<std::streamsize>(packed.size()));
      input = {packed.data(), static_cast<std::size_t>(in.gcount()), 0};
      if (input.size == 0) break;
    }
    const std::size_t result = ZSTD_decompressStream(stream.get(), &output, &input);
    if (ZSTD_isError(result) != 0) io_failed("the sample is damaged", from.string());
    if (output.pos == output.size) put();
  }
  put();
}

class Story {
 public:
  explicit Story(files::path folder) : folder_(std::move(folder)) {}

  void say(const std::string& text) { std::cout << "\n" << styled(text, Style::heading) << "\n"; }

  void run(int (*command)(Run&, const Arguments&), const std::string& name,
           const Arguments& arguments, int expected = 0) {
    std::string shown = "juneheath " + name;
    for (const std::string& argument : arguments) shown += " " + shell_word(argument);
    std::cout << "\n" << styled("$ " + shown, Style::command) << "\n" << std::flush;
    // Run in the folder, so that the images have short names.
    Run run(name, arguments);
    const int status = run.finish([&] { return command(run, arguments); });
    std::cout << std::flush;
    if (status != expected)
      throw Error(Status::internal,
                  fmt::format("the example ended with status {} instead of {}", status, expected),
                  shown, "please report this as a bug");
  }

 private:
  files::path folder_;
};

}  // namespace

CommandLine demo_line() {
  return {
      "demo",
      "DIR",
      "unpack the sample guests and show the whole story",
      "Unpacks four sample guests of a small bird-ringing station into the folder DIR and shows "
      "the\n"
      "whole story on them: survey, dry run, grow, undo, volumes, other forms, shrink, compact, "
      "orders.",
      "  juneheath demo /tmp/station\n",
      boost::program_options::options_description("Demo"),
      CommandLine::Takes::folder};
}

int run_demo(Run& run, const Arguments& arguments) {
  const Parsed parsed = parse(run, demo_line(), arguments);
  if (parsed.help_shown) return 0;
  const files::path folder = parsed.images.front();
  const files::path samples = sample_folder();
  files::create_directories(folder);
  for (const char* name : {"heather.img", "nestcam.img", "fieldstation.img", "dispatch.img"}) {
    if (files::exists(folder / name))
      refuse("the folder has a file of that name already", (folder / name).string(),
             "name an empty folder");
    unpack(samples / (std::string(name) + ".zst"), folder / name);
  }
  files::copy_file(samples / "season.toml", folder / "season.toml",
                   files::copy_options::overwrite_existing);
  files::current_path(folder);
  Story story(folder);
  story.say("1. Heather keeps the ringing database and needs more room. What is on its disk?");
  story.run(run_survey, "survey", {"heather.img"});
  story.say("2. What would happen if its disk had 1 GiB?");
  story.run(run_grow, "grow", {"heather.img", "--to", "1GiB", "--dry-run"});
  story.say("3. Do it: image, partition and filesystem in one step.");
  story.run(run_grow, "grow", {"heather.img", "--to", "1GiB", "--yes"});
  story.run(run_survey, "survey", {"heather.img"});
  story.say("4. Second thoughts: take it back, to the byte.");
  story.run(run_undo, "undo", {"heather.img", "--yes"});
  story.say("5. An increment is not a total. A wish for less than there is changes nothing:");
  story.run(run_grow, "grow", {"heather.img", "--to", "100MiB"}, static_cast<int>(Status::refused));
  story.say("6. The nest camera keeps its films on /. Give it another GiB, by that name.");
  story.run(run_survey, "survey", {"nestcam.img"});
  story.run(run_grow, "grow", {"nestcam.img", "--by", "1GiB", "--give", "/", "--yes"});
  story.say("7. Is everything sound?");
  story.run(run_audit, "audit", {"nestcam.img"});
  story.say("8. The field station keeps its filesystems in volumes. Where do they live?");
  story.run(run_survey, "survey", {"fieldstation.img"});
  story.say("9. Logs and swap run short. One command, from the disk to the filesystems:");
  story.run(run_grow, "grow",
            {"fieldstation.img", "--by", "512MiB", "--give", "/var/log=300MiB", "--give",
             "swap=64MiB", "--yes"});
  story.say("10. The archive gets a disk of its own; the group extends onto it.");
  story.run(run_grow, "grow",
            {"fieldstation.img", "--add-disk", "archive.img=2GiB", "--give", "/home", "--yes"});
  story.run(run_audit, "audit", {"fieldstation.img", "archive.img"});
  story.say("11. /boot is too small, and the volumes stand behind it: they move out of the way.");
  story.run(run_grow, "grow",
            {"fieldstation.img", "archive.img", "--disk", "1", "--by", "128MiB", "--give",
             "/boot=100MiB", "--give", "/", "--allow-move", "--yes"});
  story.say("12. Heather moves to another hypervisor, which wants qcow2; and grows there.");
  story.run(run_recast, "recast", {"heather.img", "heather.qcow2"});
  story.run(run_grow, "grow", {"heather.qcow2", "--to", "1GiB", "--yes"});
  story.run(run_audit, "audit", {"heather.qcow2"});
  story.say(
      "13. The field station got more than it needs. How small could it be, and what would move?");
  story.run(run_survey, "survey", {"fieldstation.img", "archive.img"});
  story.run(run_shrink, "shrink",
            {"fieldstation.img", "archive.img", "--take", "/home=2044MiB", "--remove-disk", "2",
             "--yes"});
  story.run(run_shrink, "shrink", {"fieldstation.img", "--to", "floor", "--yes"});
  story.say("14. The nest camera deleted its films long ago; its file never became smaller.");
  story.run(run_compact, "compact", {"nestcam.img", "--yes"});
  story.run(run_audit, "audit", {"nestcam.img", "fieldstation.img"});
  story.say(
      "15. The desk that sends out rings runs on NTFS; its C: cannot grow: a rescue partition is "
      "in the way.");
  story.run(run_survey, "survey", {"dispatch.img"});
  story.run(run_grow, "grow",
            {"dispatch.img", "--by", "1GiB", "--give", "C:", "--allow-move", "--yes"});
  story.run(run_shrink, "shrink", {"dispatch.img", "--to", "floor", "--allow-move", "--yes"});
  story.run(run_audit, "audit", {"dispatch.img"});
  story.say("16. Heather grows once more; this time with a page for the ticket.");
  story.run(run_grow, "grow",
            {"heather.img", "--by", "128MiB", "--yes", "--report", "heather-report"});
  std::cout << "\n  " << (folder / "heather-report/report.html").string() << "\n";
  story.say("17. The ringing season begins: one work order for all guests, plans first.");
  story.run(run_batch, "batch", {"season.toml", "--dry-run"});
  story.run(run_batch, "batch", {"season.toml", "--yes"});
  story.say("18. Run again it does what is left: nothing.");
  story.run(run_batch, "batch", {"season.toml", "--yes"});
  story.say("19. And what does the folder hold now?");
  story.run(run_survey, "survey", {"--each", "."});
  std::cout << "\nThe images are in " << folder.string() << ": try your own commands on them.\n";
  return 0;
}

}  // namespace jh::cli
