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
#include "core/base/markup.h"
#include "core/plan/plan.h"
#include "core/report/output_file.h"
#include "core/report/page_parts.h"
#include "core/store/file_store.h"

namespace jh::cli {
namespace {

namespace files = std::filesystem;

files::path sample_folder() {
  // Installed beside the program, wherever that was put; or in the checkout that it was built in.
  std::error_code error;
  const files::path program = files::read_symlink("/proc/self/exe", error);
  const files::path installed = program.parent_path().parent_path() / "share/juneheath/demo";
  if (files::exists(installed / "heather.img.zst")) return installed;
  for (files::path above = program.parent_path(); above != above.root_path();
       above = above.parent_path())
    if (files::exists(above / "demo/heather.img.zst")) return above / "demo";
  refuse("the sample guests are not there", installed.string(),
         "run from a checkout of the source, or install the program with its data");
}

// Streams, so that an image's size does not matter; zeros become holes.
void unpack(const files::path& from, const files::path& to) {
  std::ifstream in(from, std::ios::binary);
  if (!in) io_failed("cannot read the sample", from.string());
  const auto out = FileHost().create(to.string());
  const std::unique_ptr<ZSTD_DStream, decltype(&ZSTD_freeDStream)> stream(ZSTD_createDStream(),
                                                                          &ZSTD_freeDStream);
  std::vector<char> compressed(ZSTD_DStreamInSize());
  Buffer plain(1U << 20);
  std::uint64_t at = 0;
  ZSTD_inBuffer input{compressed.data(), 0, 0};
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
      in.read(compressed.data(), static_cast<std::streamsize>(compressed.size()));
      input = {compressed.data(), static_cast<std::size_t>(in.gcount()), 0};
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
  void say(const std::string& text) {
    said_ = text;
    std::cout << "\n" << styled(text, Style::heading) << "\n";
  }

  /// `report`: a page of it is written there, and listed in the index.
  void run(const std::string& name, Arguments arguments, int expected = 0,
           const std::string& report = {}) {
    if (!report.empty()) arguments.insert(arguments.end(), {"--report", "reports/" + report});
    std::string shown = "juneheath " + name;
    for (const std::string& argument : arguments) shown += " " + shell_word(argument);
    std::cout << "\n" << styled("$ " + shown, Style::command) << "\n" << std::flush;
    // Run in the folder, so that the images have short names.
    CommandRun run(name, arguments);
    const int status = run.finish([&] { return find_command(name)->run(run, arguments); });
    std::cout << std::flush;
    if (status != expected)
      throw Error(Status::internal,
                  fmt::format("the example ended with status {} instead of {}", status, expected),
                  shown, "please report this as a bug");
    if (!report.empty()) list(report + "/report.html", run.record);
  }

  void write_index() {
    add_row("season/index.html", "batch season.toml",
            "the guests of the order, each with its page");
    write_output("reports/index.html",
                 html_page({"The ringing station's reports",
                            "<header><h1>The ringing station's reports</h1></header>\n"
                            "<table><thead><tr><th scope=\"col\">report</th>"
                            "<th scope=\"col\">what it tells of</th></tr></thead><tbody>\n" +
                                rows_ + "</tbody></table>\n"}));
  }

 private:
  void list(const std::string& page, const RunRecord& record) {
    add_row(page, record.command + ": " + outcome_of(record), said_);
  }
  void add_row(const std::string& page, const std::string& name, const std::string& about) {
    rows_ += fmt::format("<tr><th scope=\"row\"><a href=\"{}\">{}</a></th><td>{}</td></tr>\n",
                         markup_text(page), markup_text(name), markup_text(about));
  }

  std::string said_;
  std::string rows_;
};

// What a failing disk does: a few bytes of a filesystem's descriptors are others.
void spoil(const std::string& path) {
  const Buffer wrong(16, 0x5A);
  FileHost().open(path, Access::read_write)->write(1048576 + 4096 + 4, wrong);
}

}  // namespace

CommandLine demo_line() {
  return {
      "demo",
      "DIR",
      "unpack the sample guests and show the whole story",
      "Unpacks seven sample guests of a small bird-ringing station into the folder DIR and shows "
      "the\n"
      "whole story on them: survey, dry run, grow, undo, volumes, other forms, shrink, compact, "
      "orders.",
      "  juneheath demo /tmp/station\n",
      boost::program_options::options_description("Demo"),
      CommandLine::Takes::folder};
}

int run_demo(CommandRun& /*run*/, const Parsed& parsed) {
  const files::path folder = parsed.images.front();
  const files::path samples = sample_folder();
  files::create_directories(folder);
  for (const char* name : {"heather.img", "nestcam.img", "fieldstation.img", "dispatch.img",
                           "moorhost.img", "moss.img", "hide.qcow2"}) {
    if (files::exists(folder / name))
      refuse("the folder has a file of that name already", (folder / name).string(),
             "name an empty folder");
    unpack(samples / (std::string(name) + ".zst"), folder / name);
  }
  files::copy_file(samples / "season.toml", folder / "season.toml",
                   files::copy_options::overwrite_existing);
  files::current_path(folder);
  Story story;
  story.say("1. Heather keeps the ringing database and needs more room. What is on its disk?");
  story.run("survey", {"heather.img"});
  story.say("2. What would happen if its disk had 1 GiB?");
  story.run("grow", {"heather.img", "--to", "1GiB", "--dry-run"});
  story.say("3. Do it: image, partition and filesystem in one step.");
  story.run("grow", {"heather.img", "--to", "1GiB", "--yes"}, 0, "grow");
  story.run("survey", {"heather.img"});
  story.say("4. Second thoughts: take it back, to the byte.");
  story.run("undo", {"heather.img", "--yes"});
  story.say("5. An increment is not a total. A wish for less than there is changes nothing:");
  story.run("grow", {"heather.img", "--to", "100MiB"}, static_cast<int>(Status::refused),
            "refusal");
  story.say("6. The nest camera keeps its films on /. Give it another GiB, by that name.");
  story.run("survey", {"nestcam.img"});
  story.run("grow", {"nestcam.img", "--by", "1GiB", "--give", "/", "--yes"});
  story.say("7. Is everything sound?");
  story.run("audit", {"nestcam.img"});
  story.say("8. The field station keeps its filesystems in volumes. Where do they live?");
  story.run("survey", {"fieldstation.img"});
  story.say("9. Logs and swap run short. One command, from the disk to the filesystems:");
  story.run("grow", {"fieldstation.img", "--by", "512MiB", "--give", "/var/log=300MiB", "--give",
                     "swap=64MiB", "--yes"});
  story.say("10. The archive gets a disk of its own; the group extends onto it.");
  story.run("grow",
            {"fieldstation.img", "--add-disk", "archive.img=2GiB", "--give", "/home", "--yes"});
  story.run("audit", {"fieldstation.img", "archive.img"});
  story.say("11. /boot is too small, and the volumes stand behind it: they move out of the way.");
  story.run("grow", {"fieldstation.img", "archive.img", "--disk", "1", "--by", "128MiB", "--give",
                     "/boot=100MiB", "--give", "/", "--allow-move", "--yes"});
  story.say("12. Heather moves to another hypervisor, which wants qcow2; and grows there.");
  story.run("recast", {"heather.img", "heather.qcow2"}, 0, "recast");
  story.run("grow", {"heather.qcow2", "--to", "1GiB", "--yes"});
  story.run("audit", {"heather.qcow2"});
  story.say(
      "13. The field station got more than it needs. How small could it be, and what would move?");
  story.run("survey", {"fieldstation.img", "archive.img"});
  story.run("shrink", {"fieldstation.img", "archive.img", "--take", "/home=2044MiB",
                       "--remove-disk", "2", "--yes"});
  story.run("shrink", {"fieldstation.img", "--to", "floor", "--yes"}, 0, "shrink");
  story.say("14. The nest camera deleted its films long ago; its file never became smaller.");
  story.run("compact", {"nestcam.img", "--yes"}, 0, "compact");
  story.run("audit", {"nestcam.img", "fieldstation.img"});
  story.say(
      "15. The desk that sends out rings runs on NTFS; its C: cannot grow: a rescue partition is "
      "in the way.");
  story.run("survey", {"dispatch.img"});
  story.run("grow", {"dispatch.img", "--by", "1GiB", "--give", "C:", "--allow-move", "--yes"});
  story.run("shrink", {"dispatch.img", "--to", "floor", "--allow-move", "--yes"});
  story.run("audit", {"dispatch.img"});
  story.say("16. The moor's host has its root as XFS, on a volume. Room for it, in one step:");
  story.run("survey", {"moorhost.img"});
  story.run("grow", {"moorhost.img", "--by", "1GiB", "--give", "/", "--yes"}, 0, "xfs");
  story.say("It was more than / needs: half of what it can lose goes back to the group.");
  story.run("shrink", {"moorhost.img", "--take", "/=50%", "--yes"});
  story.say("17. The moss survey keeps snapshots, on btrfs. It grew too far; back to the floor.");
  story.run("grow", {"moss.img", "--by", "2GiB", "--give", "p1", "--yes"});
  story.run("shrink", {"moss.img", "--to", "floor", "--yes"}, 0, "btrfs");
  story.run("audit", {"moorhost.img", "moss.img", "--proof", "full"});
  story.say(
      "18. The guest in the hide has two snapshots in its image. They stay, and read as ever.");
  story.run("survey", {"hide.qcow2"});
  story.run("grow", {"hide.qcow2", "--by", "1GiB", "--give", "/", "--yes"}, 0, "snapshots");
  story.run("audit", {"hide.qcow2"});
  story.say("19. The ringing season begins: one work order for all guests, plans first.");
  story.run("batch", {"season.toml", "--dry-run"});
  story.run("batch", {"season.toml", "--yes"}, 0, "batch");
  story.say("20. Run again it does what is left: nothing.");
  story.run("batch", {"season.toml", "--yes"});
  story.say("21. And what does the folder hold now?");
  story.run("survey", {"--each", "."}, 0, "survey");
  story.say("22. A copy from the attic has a bad block. Would anybody have noticed?");
  files::copy_file("heather.qcow2", "attic.qcow2");
  story.run("recast", {"attic.qcow2", "attic.img", "--quiet"});
  spoil("attic.img");
  story.run("audit", {"attic.img"}, static_cast<int>(Status::damaged), "audit");
  story.write_index();
  std::cout << "\nReports of all this: " << (folder / "reports/index.html").string() << "\n";
  std::cout << "\nThe images are in " << folder.string() << ": try your own commands on them.\n";
  return 0;
}

}  // namespace jh::cli
