// What the kernel lists of this machine: its mounts. Source: proc(5), /proc/[pid]/mountinfo.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace jh {

struct MountLine {
  std::uint64_t number = 0;  // that the kernel gives it
  std::string device;        // "253:2"
  std::string root;          // the folder of the filesystem that is shown there
  std::string point;
  std::string kind;    // "ext4"
  std::string source;  // "/dev/mapper/station-var"
  bool read_only = false;
};

/// Lines that are not understood are left out.
std::vector<MountLine> parse_mount_lines(const std::string& text);
/// "a b" for "a\040b", as these files write what would end a word.
std::string unescaped_word(const std::string& word);
/// The first line of a file; empty: there is none.
std::string first_line_of(const std::string& path);
std::string text_of_file(const std::string& path);

}  // namespace jh
