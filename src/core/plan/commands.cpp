#include "core/plan/commands.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/shell_word.h"

namespace jh {

std::string command_with(const GrowRequest& request, const std::string& give) {
  std::string command = request.running ? "juneheath grow --live" : "juneheath grow";
  for (const std::string& image : request.images)
    if (std::find(request.blank_disks.begin(), request.blank_disks.end(), image) ==
        request.blank_disks.end())
      command += " " + shell_word(image);
  if (request.to) command += " --to " + paste_size(*request.to);
  if (request.by) command += " --by " + paste_size(*request.by);
  for (const auto& [path, size] : request.add_disks)
    command += " --add-disk " + shell_word(request.running ? path : path + "=" + paste_size(size));
  for (const std::string& path : request.blank_disks) command += " --add-disk " + shell_word(path);
  if (request.new_partition) command += " --new-partition";
  if (request.allow_move) command += " --allow-move";
  if (request.disk_chosen) command += fmt::format(" --disk {}", request.disk + 1);
  // Other targets stay as they were asked for.
  const std::string target = give.substr(0, give.rfind('='));
  bool there = false;
  for (const Give& other : request.gives) {
    const bool same = !give.empty() && (other.target == target || request.gives.size() == 1);
    there = there || same;
    command += " --give " + shell_word(same ? give : other.written);
  }
  return there || give.empty() ? command : command + " --give " + shell_word(give);
}

std::string command_with(const ShrinkRequest& request, const std::string& take) {
  std::string command = "juneheath shrink";
  for (const std::string& image : request.images) command += " " + shell_word(image);
  if (request.to) command += " --to " + paste_size(*request.to);
  if (request.by) command += " --by " + paste_size(*request.by);
  if (request.to_floor)
    command +=
        request.margin == Bytes(0) ? " --to floor" : " --to floor+" + paste_size(request.margin);
  if (request.take_nothing) command += " --take nothing";
  if (request.disk_chosen) command += fmt::format(" --disk {}", request.disk + 1);
  if (request.remove_disk) command += fmt::format(" --remove-disk {}", *request.remove_disk + 1);
  if (request.allow_move) command += " --allow-move";
  const std::string target = take.substr(0, take.rfind('='));
  for (const Give& other : request.takes)
    if (other.target != target) command += " --take " + shell_word(other.written);
  return take.empty() ? command : command + " --take " + shell_word(take);
}

}  // namespace jh
