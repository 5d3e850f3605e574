// Running systems for tests, over a kernel in memory, and a change of one.
#pragma once

#include "core/live/live_change.h"
#include "support/memory_kernel.h"

namespace jh::test {

using live::LiveChange;
using live::Notes;
using live::RunningSystem;

/// A plain disk: root, mounted. It became larger by 300 MiB.
MemoryKernel plain_system();
/// Volumes: root, logs and home mounted, swap in use. The disk became larger by 300 MiB.
MemoryKernel system_with_volumes();
/// A sample's disk, larger by so many bytes.
MemoryStore larger_sample(const std::string& name, std::uint64_t more);

/// A request for these targets, as on the command line.
GrowRequest give(const std::vector<std::string>& targets);
/// Plans and carries out; notes are kept in a folder.
void change(MemoryKernel& kernel, const GrowRequest& request, const std::string& notes);
/// What was told to the kernel, without the bytes that were written.
std::vector<std::string> orders(const MemoryKernel& kernel);
/// What must hold at any moment, whatever has happened: nothing is smaller or elsewhere than it
/// was, and what is mounted fits into its device.
void expect_sound(const MemoryKernel& kernel, const MemoryKernel& before);

}  // namespace jh::test
