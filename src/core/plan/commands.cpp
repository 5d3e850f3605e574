#include "core/plan/commands.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh {
namespace {

// Of the disk, as it was asked for.
template <class Request>
void add_size(Suggestion& command, const Request& request) {
  if (request.to) command.with("to", paste_size(*request.to));
  if (request.by) command.with("by", paste_size(*request.by));
}

template <class Request>
void add_disk_choice(Suggestion& command, const Request& request) {
  if (request.disk_chosen) command.with("disk", fmt::format("{}", request.disk + 1));
}

}  // namespace

Suggestion command_with(const GrowRequest& request, const std::string& give) {
  Suggestion command = suggest("grow");
  if (request.running) command.with("live");
  for (const std::string& image : request.images)
    if (std::find(request.blank_disks.begin(), request.blank_disks.end(), image) ==
        request.blank_disks.end())
      command.images.push_back(image);
  add_size(command, request);
  for (const auto& [path, size] : request.add_disks)
    command.with("add-disk", request.running ? path : path + "=" + paste_size(size));
  for (const std::string& path : request.blank_disks) command.with("add-disk", path);
  if (request.new_partition) command.with("new-partition");
  if (request.allow_move) command.with("allow-move");
  add_disk_choice(command, request);
  // Other targets stay as they were asked for.
  const std::string target = give.substr(0, give.rfind('='));
  bool there = false;
  for (const Give& other : request.gives) {
    const bool same = !give.empty() && (other.target == target || request.gives.size() == 1);
    there = there || same;
    command.with("give", same ? give : other.written);
  }
  if (!there && !give.empty()) command.with("give", give);
  return command;
}

Suggestion command_with(const ShrinkRequest& request, const std::string& take) {
  Suggestion command = suggest("shrink", request.images);
  add_size(command, request);
  if (request.to_floor)
    command.with("to",
                 request.margin == Bytes(0) ? "floor" : "floor+" + paste_size(request.margin));
  if (request.take_nothing) command.with("take", "nothing");
  add_disk_choice(command, request);
  if (request.remove_disk) command.with("remove-disk", fmt::format("{}", *request.remove_disk + 1));
  if (request.allow_move) command.with("allow-move");
  const std::string target = take.substr(0, take.rfind('='));
  for (const Give& other : request.takes)
    if (other.target != target) command.with("take", other.written);
  if (!take.empty()) command.with("take", take);
  return command;
}

}  // namespace jh
