#include <fmt/format.h>

#include <algorithm>
#include <ctime>
#include <filesystem>
#include <iostream>
#include <map>
#include <nlohmann/json.hpp>
#include <sstream>

#include "cli/batch_jobs.h"
#include "cli/batch_slurm.h"
#include "cli/batch_task.h"
#include "cli/commands.h"
#include "cli/interrupt.h"
#include "cli/terminal.h"
#include "core/base/shell_word.h"
#include "core/order/order.h"
#include "core/order/results.h"

namespace jh::cli {

namespace {

// Whether it may be given several times: its value is a list.
bool repeats(const po::option_description& option) {
  const auto* typed = dynamic_cast<const po::typed_value_base*>(option.semantic().get());
  return typed != nullptr && typed->value_type() == typeid(std::vector<std::string>);
}

std::optional<std::vector<OptionFact>> options_of(const std::string& change) {
  const auto& changes = order_changes();
  if (std::find(changes.begin(), changes.end(), change) == changes.end()) return std::nullopt;
  std::vector<OptionFact> facts;
  const po::options_description all = all_options(find_command(change)->line());
  for (const auto& option : all.options())
    facts.push_back({option->long_name(), takes_value(*option), repeats(*option)});
  return facts;
}

class Batch {
 public:
  Batch(CommandRun& run, Order order, bool yes) : run_(run), order_(std::move(order)), yes_(yes) {
    for (const Task& task : order_.tasks) {
      TaskResult result;
      result.task = &task;
      try {
        const auto state = read_state(order_, task);
        const bool same = state && is_of(*state, task);
        if (state && (same || state->kind == TaskState::Kind::begun)) result.state = *state;
        result.earlier = same && state->kind == TaskState::Kind::done;
      } catch (const Error& error) {
        result.why = error.what();
      }
      results_.push_back(std::move(result));
    }
  }

  int dry_run() {
    look();
    run_.record.dry_run = true;
    run_.record.document = plans_json();
    if (run_.text()) {
      print_plans();
      std::cout << "\n  This was a dry run: nothing was changed.\n";
    }
    return refused_ == 0 ? 0 : static_cast<int>(Status::refused);
  }

  int here() {
    if (!goes_on()) return nothing_begun();
    carry_out();
    return collect();
  }

  int on_slurm(const std::string& program) {
    if (!goes_on()) return nothing_begun();
    const std::vector<const Task*> tasks = to_do();
    if (!tasks.empty()) run_on_slurm(order_, tasks, program, run_.text());
    for (TaskResult& result : results_) read_again(result);
    return collect();
  }

 private:
  // Of those that are to be done: what a dry run says.
  void look() {
    JobLimits limits = limits_of(order_);
    limits.deadline.reset();
    limits.stop_after_failure = false;
    // What was cut off is recovered first: no plan can be made on it.
    std::vector<const Task*> fresh;
    for (const TaskResult& result : results_)
      if (!result.earlier && result.state.kind != TaskState::Kind::begun)
        fresh.push_back(result.task);
    const auto outcomes = run_jobs(order_, fresh, limits, "looked at", run_.text(), plan_task);
    if (was_interrupted(/*reset=*/true))
      refuse("stopped while the guests were looked at", order_.path, "run the order again");
    plans_.clear();
    for (std::size_t i = 0; i < fresh.size(); ++i) {
      TaskPlan plan;
      if (const auto read = read_plan(order_, *fresh[i]); read && outcomes[i].began)
        plan = *read;
      else
        plan = {1,
                outcomes[i].why.empty() ? "it could not be looked at" : outcomes[i].why,
                task_folder(order_, *fresh[i]),
                "see output.txt there",
                "",
                0,
                0};
      if (plan.status == 0 && outcomes[i].status != 0) plan.status = outcomes[i].status;
      plans_[fresh[i]->name] = plan;
      refused_ += plan.status != 0 ? 1 : 0;
    }
  }

  std::string title() const {
    return styled(order_.title.empty() ? order_.path : order_.title, Style::heading);
  }

  std::vector<const Task*> to_do() const {
    std::vector<const Task*> tasks;
    for (const TaskResult& result : results_)
      if (!result.earlier) tasks.push_back(result.task);
    return tasks;
  }

  void print_plans() const {
    std::vector<Row> rows{{{"  guest", Style::dim},
                           {"change", Style::dim},
                           {"disk now", Style::dim, true},
                           {"then", Style::dim, true},
                           {"what", Style::dim}}};
    for (const TaskResult& result : results_) {
      Row row{{"  " + result.task->name, Style::heading}, {result.task->change}, {""}, {""}, {""}};
      if (result.earlier) {
        row[4] = {"done by an earlier run", Style::good};
      } else if (result.state.kind == TaskState::Kind::begun) {
        row[4] = {"was cut off: settled first, then what is left of it", Style::warn};
      } else if (const auto plan = plans_.find(result.task->name); plan != plans_.end()) {
        const TaskPlan& facts = plan->second;
        if (facts.disk_before != 0) {
          row[2] = {human(Bytes(facts.disk_before)), Style::plain, true};
          row[3] = {human(Bytes(facts.disk_after)), Style::plain, true};
        }
        row[4] =
            facts.status == 0 ? Cell{facts.words} : Cell{"refused: " + facts.message, Style::bad};
      }
      rows.push_back(std::move(row));
    }
    std::cout << title() << "\n\n";
    print_table(rows);
    for (const auto& [name, plan] : plans_) {
      if (plan.status == 0) continue;
      std::cout << "  " << styled(name, Style::heading) << ": " << printable(plan.message) << "\n";
      if (!plan.where.empty()) std::cout << "    where: " << printable(plan.where) << "\n";
      if (!plan.next.empty()) {
        std::istringstream lines(plan.next);
        const char* lead = "    next:  ";
        for (std::string line; std::getline(lines, line); lead = "           ")
          std::cout << lead << printable(line) << "\n";
      }
    }
  }

  nlohmann::json plans_json() const {
    nlohmann::json guests = nlohmann::json::array();
    for (const TaskResult& result : results_) {
      nlohmann::json row{{"name", result.task->name},
                         {"change", result.task->change},
                         {"images", result.task->images},
                         {"done_earlier", result.earlier}};
      if (const auto plan = plans_.find(result.task->name); plan != plans_.end()) {
        row["status"] = plan->second.status;
        row["message"] = plan->second.message;
        row["where"] = plan->second.where;
        row["next"] = plan->second.next;
        row["disk_before"] = plan->second.disk_before;
        row["disk_after"] = plan->second.disk_after;
      }
      guests.push_back(std::move(row));
    }
    return {{"order", order_.path}, {"title", order_.title}, {"done", false}, {"guests", guests}};
  }

  // A refusal ends an order that says so.
  bool is_ended() const {
    return refused_ != 0 && order_.after_failure == Order::AfterFailure::stop;
  }

  bool goes_on() {
    // Where nobody is asked and no refusal ends the order, each guest is planned when its turn
    // comes, and only then.
    if (yes_ && order_.after_failure != Order::AfterFailure::stop) {
      if (run_.text()) std::cout << title() << "\n";
      return true;
    }
    look();
    if (run_.text()) print_plans();
    return !is_ended() && may_go_on();
  }

  bool may_go_on() const {
    if (yes_ || to_do().empty()) return true;
    const bool shrinks =
        std::any_of(results_.begin(), results_.end(), [](const TaskResult& result) {
          return !result.earlier && result.task->change == "shrink";
        });
    if (is_interactive()) return confirmed("\n  Go ahead?");
    if (shrinks)
      refuse("shrinking needs confirmation", order_.path,
             "look at the plans (--dry-run), then add --yes");
    return true;
  }

  int nothing_begun() {
    if (is_ended())
      refuse(fmt::format("{} guest{} of the order {} refused, and it says to stop then", refused_,
                         refused_ == 1 ? "" : "s", refused_ == 1 ? "is" : "are"),
             order_.path, "put right what stands in the way, or set after_failure = \"go on\"");
    std::cout << "  Nothing was changed.\n";
    return static_cast<int>(Status::refused);
  }

  void carry_out() {
    const std::vector<const Task*> tasks = to_do();
    const auto outcomes =
        run_jobs(order_, tasks, limits_of(order_), "done", run_.text(), perform_task);
    for (std::size_t i = 0; i < tasks.size(); ++i)
      for (TaskResult& result : results_) {
        if (result.task != tasks[i]) continue;
        read_again(result);
        result.why = outcomes[i].why;
        if (!outcomes[i].began) {
          result.state.kind = TaskState::Kind::waiting;
        } else if (outcomes[i].status != 0 && result.state.status == 0) {
          // It could not even write its state: it was killed, or another run is at work on it.
          result.state.status = outcomes[i].status;
          if (result.why.empty()) result.why = "see output.txt in its folder";
          if (result.state.kind == TaskState::Kind::done)
            result.state.kind = TaskState::Kind::failed;
        }
      }
  }

  void read_again(TaskResult& result) {
    if (result.earlier) return;
    if (const auto state = read_state(order_, *result.task)) result.state = *state;
  }

  void note_results() {
    RunRecord::Table table{"Guests", {"guest", "change", "result", "message"}, {}};
    for (const TaskResult& result : results_)
      table.rows.push_back(
          {result.task->name, result.task->change, result_word(result), message_of(result)});
    run_.record.tables.push_back(std::move(table));
    run_.record.notes.push_back("a page for each guest: " + order_.report + "/index.html");
  }

  int collect() {
    write_results(order_, results_);
    note_results();
    run_.record.document = results_json(order_, results_);
    if (run_.text()) print_results();
    return status_of_all(results_);
  }

  void print_results() const {
    std::vector<Row> rows{{{"  guest", Style::dim},
                           {"change", Style::dim},
                           {"result", Style::dim},
                           {"disk before", Style::dim, true},
                           {"after", Style::dim, true},
                           {"host before", Style::dim, true},
                           {"after", Style::dim, true},
                           {"took", Style::dim, true},
                           {"", Style::dim}}};
    const auto size = [](std::uint64_t bytes) {
      return Cell{bytes == 0 ? "" : human(Bytes(bytes)), Style::plain, true};
    };
    for (const TaskResult& result : results_) {
      const TaskState& state = result.state;
      const bool good = state.kind == TaskState::Kind::done;
      rows.push_back(
          {{"  " + result.task->name, Style::heading},
           {result.task->change},
           {result_word(result), good ? Style::good : Style::bad},
           size(state.disk_before),
           size(state.disk_after),
           size(state.host_before),
           size(state.host_after),
           {state.runs == 0 ? "" : fmt::format("{:.1f} s", state.seconds), Style::plain, true},
           {message_of(result), Style::dim}});
    }
    std::cout << "\n";
    print_table(rows);
    const int status = status_of_all(results_);
    std::cout << "\n  " << styled(totals(results_), status == 0 ? Style::good : Style::bad)
              << fmt::format(". All of it: {}/index.html\n", printable(order_.report));
    if (status != 0)
      std::cout << "  Run the order again to do what is left; what is done is not repeated.\n";
  }

  CommandRun& run_;
  Order order_;
  bool yes_;
  std::vector<TaskResult> results_;
  std::map<std::string, TaskPlan> plans_;
  std::size_t refused_ = 0;
};

bool any_failed(const Order& order) {
  return std::any_of(order.tasks.begin(), order.tasks.end(), [&](const Task& task) {
    const auto state = read_state(order, task);
    return state &&
           (state->kind == TaskState::Kind::failed || state->kind == TaskState::Kind::refused);
  });
}

// For a job of a scheduler: this guest only, in this process.
int only_one(const Order& order, const std::string& name) {
  for (const Task& task : order.tasks) {
    if (task.name != name) continue;
    const Order here = enter_folder(order);
    if (order.after_failure == Order::AfterFailure::stop && any_failed(here))
      refuse("a guest before it failed, and the order says to stop then", order.path,
             "put it right, then run the order again");
    return perform_task(here, task, -1);
  }
  wrong_usage(fmt::format("the order has no guest \"{}\"", name),
              "see: juneheath batch " + shell_word(order.path) + " --dry-run");
}

}  // namespace

CommandLine batch_line() {
  auto own = own_options("Batch");
  own.add_options()("dry-run", po::bool_switch(), "all plans and all that stands in the way; stop")(
      "yes", po::bool_switch(), "do not ask; needed where something becomes smaller")(
      "only", po::value<std::string>()->value_name("GUEST"), "this guest of the order")(
      "on", po::value<std::string>()->value_name("WHERE"),
      "slurm: one array job over a shared folder");
  return {"batch",
          "ORDER.toml",
          "many guests, from a work order",
          "Carries out a work order: first the plans of all guests, then the changes side by side, "
          "and\n"
          "one table and one page of what became of each. Run again it does what is left; what is\n"
          "done is not done twice, whatever happened in between.",
          "  juneheath batch season.toml --dry-run\n"
          "  juneheath batch season.toml --yes\n"
          "  juneheath batch season.toml --on slurm --yes\n",
          own,
          CommandLine::Takes::order};
}

int run_batch(CommandRun& run, const Parsed& parsed) {
  if (parsed.images.size() != 1) wrong_usage("batch takes one work order", "run them one by one");
  const Order order = read_order(parsed.images.front(), options_of, std::time(nullptr));
  const bool dry_run = parsed.values["dry-run"].as<bool>();
  if (parsed.values.count("only") != 0 && !dry_run)
    return only_one(order, parsed.values["only"].as<std::string>());
  Batch batch(run, order, parsed.values["yes"].as<bool>());
  if (dry_run) return batch.dry_run();
  if (parsed.values.count("on") == 0) return batch.here();
  const std::string where = parsed.values["on"].as<std::string>();
  if (where != "slurm")
    wrong_usage(fmt::format("--on {} is not known", where), "use slurm, or leave it out");
  return batch.on_slurm(std::filesystem::read_symlink("/proc/self/exe").string());
}

}  // namespace jh::cli
