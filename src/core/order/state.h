// State: what became of each guest of an order, in a file of its own, so that a second run knows
// what is done, and what was begun.
#pragma once

#include <cstdint>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>
#include <vector>

#include "core/order/order.h"
#include "core/report/report.h"

namespace jh {

struct TaskState {
  enum class Kind { waiting, begun, done, refused, failed };

  Kind kind = Kind::waiting;
  std::string name;
  std::string change;
  std::vector<std::string> arguments;
  /// Layers that the change was to bring from one size to another.
  struct LayerGoal {
    std::string layer;
    std::uint64_t from = 0;
    std::uint64_t to = 0;
  };
  std::vector<LayerGoal> goals;
  int status = 0;       // exit status of the command
  std::string message;  // what it said: one line
  std::string where;
  std::string next;
  std::string machine;  // that it ran on
  std::int64_t started = 0;
  double seconds = 0;
  std::uint64_t peak = 0;  // bytes of memory
  std::uint64_t disk_before = 0;
  std::uint64_t disk_after = 0;
  std::uint64_t host_before = 0;  // bytes that its files take there
  std::uint64_t host_after = 0;
  int runs = 0;  // how often it was begun
};

/// What a dry run has found out of one guest.
struct TaskPlan {
  int status = 0;
  std::string message;  // why it is refused; empty: it is not
  std::string where;
  std::string next;
  std::string words;  // what would be done
  std::uint64_t disk_before = 0;
  std::uint64_t disk_after = 0;
};
std::optional<TaskPlan> read_plan(const Order& order, const Task& task);
void write_plan(const Order& order, const Task& task, const TaskPlan& plan);

/// Throws io.
void make_results_folder(const std::string& path);
/// The folder of one guest's results.
std::string task_folder(const Order& order, const Task& task);

/// Whether it is of this change, and not of an order as it was before somebody edited it.
bool is_of(const TaskState& state, const Task& task);

/// Nothing: it was never begun. Throws refused when it cannot be read.
std::optional<TaskState> read_state(const Order& order, const Task& task);
/// What results show of it, too: how it ended, where, when, and what it took.
nlohmann::json ending_json(const TaskState& state);
/// Durable on return.
void write_state(const Order& order, const Task& task, const TaskState& state);

/// What the guest looks like now, seen from a change that was begun.
enum class RunState { before, after, neither };
RunState run_state(const std::vector<TaskState::LayerGoal>& goals,
                   const std::vector<LayerSize>& now);

/// The goals of a plan: its layers that change their size, by the names that layer_sizes() has.
std::vector<TaskState::LayerGoal> goals_of(const Plan& plan);

const char* kind_word(TaskState::Kind kind);

}  // namespace jh
