// Results: one table of what became of all guests of an order, as rows, JSON, CSV and a page.
#pragma once

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "core/order/state.h"

namespace jh {

struct TaskResult {
  const Task* task = nullptr;
  TaskState state;
  bool earlier = false;  // done by an earlier run of the order
  std::string why;       // it was not begun: "the deadline has passed"
};

/// "done", "done earlier", "refused", "not begun" ...
std::string result_word(const TaskResult& result);
/// Why it is not done; empty: it is, and there is nothing to say.
std::string message_of(const TaskResult& result);
/// "3 done, 1 refused"
std::string totals(const std::vector<TaskResult>& results);

/// 0: every guest is done. Otherwise the gravest status of any guest: 1, 5, 4, 6, 2, then 3, which
/// also stands for those that were not begun.
int status_of_all(const std::vector<TaskResult>& results);

nlohmann::json results_json(const Order& order, const std::vector<TaskResult>& results);
/// Fields as RFC 4180 has them, with a line of names.
std::string results_csv(const std::vector<TaskResult>& results);
/// Writes index.html, results.json and results.csv into the order's report folder.
void write_results(const Order& order, const std::vector<TaskResult>& results);

}  // namespace jh
