#include "core/order/results.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>

#include "core/base/csv.h"
#include "core/base/markup.h"
#include "core/report/output_file.h"
#include "core/report/page_parts.h"
#include "core/report/record.h"

namespace jh {

using nlohmann::json;

namespace {

std::string size_text(std::uint64_t size) { return size == 0 ? "" : human(Bytes(size)); }

std::string index_page(const Order& order, const std::vector<TaskResult>& results) {
  const bool good = status_of_all(results) == 0;
  const std::string title = order.title.empty() ? "Work order" : order.title;
  std::string body = fmt::format(
      "<header><h1>{}</h1><p class=\"outcome {}\"><strong>{}</strong> {}</p></header>\n"
      "<h2>Guests</h2>\n<table><thead><tr><th scope=\"col\">guest</th><th scope=\"col\">change</th>"
      "<th scope=\"col\">result</th><th scope=\"col\" class=\"n\">disk before</th>"
      "<th scope=\"col\" class=\"n\">after</th><th scope=\"col\" class=\"n\">on the host "
      "before</th>"
      "<th scope=\"col\" class=\"n\">after</th><th scope=\"col\" class=\"n\">took</th>"
      "<th scope=\"col\">message</th></tr></thead><tbody>\n",
      markup_text(title), good ? "good" : "bad", good ? "✓" : "✗", markup_text(totals(results)));
  for (const TaskResult& result : results) {
    const TaskState& state = result.state;
    std::error_code ignored;
    const bool page = std::filesystem::exists(
        std::filesystem::path(task_folder(order, *result.task)) / "report.html", ignored);
    const std::string name = markup_text(result.task->name);
    body += fmt::format(
        "<tr><th scope=\"row\">{}</th><td>{}</td><td>{} {}</td><td class=\"n\">{}</td>"
        "<td class=\"n\">{}</td><td class=\"n\">{}</td><td class=\"n\">{}</td>"
        "<td class=\"n\">{}</td><td>{}</td></tr>\n",
        page ? fmt::format("<a href=\"guests/{0}/report.html\">{0}</a>", name) : name,
        markup_text(result.task->change), state.kind == TaskState::Kind::done ? "✓" : "✗",
        markup_text(result_word(result)), size_text(state.disk_before), size_text(state.disk_after),
        size_text(state.host_before), size_text(state.host_after),
        state.runs == 0 ? "" : fmt::format("{:.1f} s", state.seconds),
        markup_text(message_of(result)));
  }
  body += fmt::format(
      "</tbody></table>\n<h2>About this order</h2>\n<dl><dt>file</dt><dd>{}</dd>"
      "<dt>guests</dt><dd>{}</dd></dl>\n",
      markup_text(order.path), results.size());
  return html_page({title, body});
}

}  // namespace

std::string result_word(const TaskResult& result) {
  if (result.state.kind == TaskState::Kind::done) return result.earlier ? "done earlier" : "done";
  if (result.state.kind == TaskState::Kind::waiting) return "not begun";
  if (result.state.kind == TaskState::Kind::begun) return "not finished";
  return kind_word(result.state.kind);
}

std::string message_of(const TaskResult& result) {
  return result.why.empty() ? result.state.message : result.why;
}

std::string totals(const std::vector<TaskResult>& results) {
  std::map<std::string, std::size_t> counts;
  for (const TaskResult& result : results) ++counts[result_word(result)];
  std::string text;
  for (const auto& [word, count] : counts)
    text += fmt::format("{}{} {}", text.empty() ? "" : ", ", count, word);
  return text;
}

int status_of_all(const std::vector<TaskResult>& results) {
  constexpr std::array<int, 7> gravest{1, 5, 4, 6, 2, 3, 0};
  std::size_t worst = gravest.size() - 1;
  for (const TaskResult& result : results) {
    int status = result.state.status;
    // What an earlier run has done is done; what this one could not report is said.
    if (result.state.kind == TaskState::Kind::done && result.earlier) status = 0;
    if (result.state.kind == TaskState::Kind::waiting) status = 3;
    if (result.state.kind == TaskState::Kind::begun) status = 5;
    const auto rank = static_cast<std::size_t>(std::find(gravest.begin(), gravest.end(), status) -
                                               gravest.begin());
    worst = std::min(worst, rank == gravest.size() ? 0 : rank);  // none of ours: it was killed
  }
  return gravest[worst];
}

json results_json(const Order& order, const std::vector<TaskResult>& results) {
  json guests = json::array();
  for (const TaskResult& result : results) {
    json row = ending_json(result.state);
    row.update({{"name", result.task->name},
                {"change", result.task->change},
                {"images", result.task->images},
                {"result", result_word(result)},
                {"message", message_of(result)}});
    guests.push_back(std::move(row));
  }
  return {{"order", order.path},
          {"title", order.title},
          {"report", order.report},
          {"totals", totals(results)},
          {"guests", guests}};
}

std::string results_csv(const std::vector<TaskResult>& results) {
  std::string text =
      csv_line({"name", "change", "result", "status", "disk_before", "disk_after", "host_before",
                "host_after", "seconds", "peak_memory", "machine", "message"});
  for (const TaskResult& result : results) {
    const TaskState& state = result.state;
    text += csv_line({result.task->name, result.task->change, result_word(result),
                      std::to_string(state.status), std::to_string(state.disk_before),
                      std::to_string(state.disk_after), std::to_string(state.host_before),
                      std::to_string(state.host_after), fmt::format("{:.2f}", state.seconds),
                      std::to_string(state.peak), state.machine, message_of(result)});
  }
  return text;
}

void write_results(const Order& order, const std::vector<TaskResult>& results) {
  make_results_folder(order.report);
  const auto path = [&](const char* name) {
    return (std::filesystem::path(order.report) / name).string();
  };
  json document = results_json(order, results);
  document["schema"] = "juneheath/1";
  document["command"] = "batch";
  write_output(path("results.json"),
               document.dump(2, ' ', false, json::error_handler_t::replace) + "\n");
  write_output(path("results.csv"), results_csv(results));
  write_output(path("index.html"), index_page(order, results));
}

}  // namespace jh
