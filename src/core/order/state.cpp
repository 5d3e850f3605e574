#include "core/order/state.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

#include "core/base/shell_word.h"
#include "core/report/output_file.h"

namespace jh {

using nlohmann::json;

namespace {

constexpr const char* schema = "juneheath-task/1";

std::string state_path(const Order& order, const Task& task) {
  return (std::filesystem::path(task_folder(order, task)) / "task.json").string();
}

TaskState::Kind kind_from(const std::string& word) {
  for (const auto kind : {TaskState::Kind::begun, TaskState::Kind::done, TaskState::Kind::refused,
                          TaskState::Kind::failed})
    if (word == kind_word(kind)) return kind;
  return TaskState::Kind::waiting;
}

}  // namespace

const char* kind_word(TaskState::Kind kind) {
  switch (kind) {
    case TaskState::Kind::waiting:
      return "waiting";
    case TaskState::Kind::begun:
      return "begun";
    case TaskState::Kind::done:
      return "done";
    case TaskState::Kind::refused:
      return "refused";
    case TaskState::Kind::failed:
      break;
  }
  return "failed";
}

void make_results_folder(const std::string& path) {
  make_folder(path, "the folder of results cannot be made");
}

bool is_of(const TaskState& state, const Task& task) {
  return state.arguments == task.arguments && state.change == task.change;
}

std::string task_folder(const Order& order, const Task& task) {
  return (std::filesystem::path(order.report) / "guests" / task.name).string();
}

std::optional<TaskState> read_state(const Order& order, const Task& task) {
  std::ifstream in(state_path(order, task));
  if (!in) return std::nullopt;
  // One that cannot be read is not taken for one that is not there: a change would be made twice.
  try {
    const json read = json::parse(in);
    if (read.at("schema") != schema) throw json::other_error::create(599, "another schema", &read);
    TaskState state;
    state.kind = kind_from(read.at("state"));
    state.name = read.at("name");
    state.change = read.at("change");
    state.arguments = read.at("arguments").get<std::vector<std::string>>();
    for (const json& goal : read.at("goals"))
      state.goals.push_back({goal.at("layer"), goal.at("from"), goal.at("to")});
    state.status = read.at("status");
    state.message = read.at("message");
    state.where = read.at("where");
    state.next = read.at("next");
    state.machine = read.at("machine");
    state.started = read.at("started");
    state.seconds = read.at("seconds");
    state.peak = read.at("peak_memory");
    state.disk_before = read.at("disk_before");
    state.disk_after = read.at("disk_after");
    state.host_before = read.at("host_before");
    state.host_after = read.at("host_after");
    state.runs = read.at("runs");
    return state;
  } catch (const json::exception&) {
    refuse("the state of this guest cannot be read", state_path(order, task),
           "look at the guest (" + suggest("survey", task.images) +
               "), then remove the file; the guest counts as never begun then");
  }
}

json ending_json(const TaskState& state) {
  return {{"status", state.status},
          {"message", state.message},
          {"where", state.where},
          {"next", state.next},
          {"machine", state.machine},
          {"started", state.started},
          {"seconds", state.seconds},
          {"peak_memory", state.peak},
          {"disk_before", state.disk_before},
          {"disk_after", state.disk_after},
          {"host_before", state.host_before},
          {"host_after", state.host_after},
          {"runs", state.runs}};
}

void write_state(const Order& order, const Task& task, const TaskState& state) {
  json goals = json::array();
  for (const auto& goal : state.goals)
    goals.push_back({{"layer", goal.layer}, {"from", goal.from}, {"to", goal.to}});
  json out = ending_json(state);
  out.update({{"schema", schema},
              {"state", kind_word(state.kind)},
              {"name", state.name},
              {"change", state.change},
              {"arguments", state.arguments},
              {"goals", goals}});
  make_results_folder(task_folder(order, task));
  write_output(state_path(order, task),
               out.dump(2, ' ', false, json::error_handler_t::replace) + "\n");
}

std::optional<TaskPlan> read_plan(const Order& order, const Task& task) {
  std::ifstream in(std::filesystem::path(task_folder(order, task)) / "plan.json");
  const json read = in ? json::parse(in, nullptr, /*allow_exceptions=*/false) : json();
  if (!read.is_object()) return std::nullopt;
  try {
    return TaskPlan{read.at("status"),    read.at("message"), read.at("where"),
                    read.at("next"),      read.at("words"),   read.at("disk_before"),
                    read.at("disk_after")};
  } catch (const json::exception&) {
    return std::nullopt;
  }
}

void write_plan(const Order& order, const Task& task, const TaskPlan& plan) {
  const json out{{"status", plan.status},        {"message", plan.message},
                 {"where", plan.where},          {"next", plan.next},
                 {"words", plan.words},          {"disk_before", plan.disk_before},
                 {"disk_after", plan.disk_after}};
  make_results_folder(task_folder(order, task));
  write_output((std::filesystem::path(task_folder(order, task)) / "plan.json").string(),
               out.dump(2, ' ', false, json::error_handler_t::replace) + "\n");
}

RunState run_state(const std::vector<TaskState::LayerGoal>& goals,
                   const std::vector<LayerSize>& now) {
  bool before = true;
  bool after = true;
  bool any = false;
  for (const auto& goal : goals) {
    const auto row = std::find_if(now.begin(), now.end(),
                                  [&](const LayerSize& size) { return size.name == goal.layer; });
    // What has gone is neither what it was nor what it was to become.
    const std::uint64_t size = row == now.end() ? 0 : row->size.value();
    any = true;
    before &= size == goal.from;
    after &= size == goal.to;
  }
  if (any && after) return RunState::after;
  return before || !any ? RunState::before : RunState::neither;
}

std::vector<TaskState::LayerGoal> goals_of(const Plan& plan) {
  std::vector<TaskState::LayerGoal> goals;
  for (const Step& step : plan.steps) {
    const bool has_a_row = step.is<step::GrowContainer>() || step.is<step::ShrinkContainer>() ||
                           step.is<step::GrowPartition>() || step.is<step::ShrinkPartition>() ||
                           step.is<step::GrowVolume>() || step.is<step::ShrinkVolume>() ||
                           step.is<step::GrowContent>() || step.is<step::ShrinkContent>();
    if (step.from == step.to || !has_a_row) continue;
    const auto known = std::find_if(goals.begin(), goals.end(),
                                    [&](const auto& goal) { return goal.layer == step.name; });
    if (known != goals.end())
      known->to = step.to.value();  // several steps on one layer: the last one counts
    else
      goals.push_back({step.name, step.from.value(), step.to.value()});
  }
  return goals;
}

}  // namespace jh
