#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <limits>
#include <set>
#include <sstream>

#include "core/order/fields.h"
#include "core/order/order.h"
#include "core/order/patterns.h"

namespace jh {
namespace {

namespace files = std::filesystem;

constexpr std::uintmax_t largest_order = 4U << 20;  // bytes
constexpr std::size_t most_guests = 100000;

// What an order decides itself, and what makes no sense in one.
const std::set<std::string> never_in_an_order{
    "help", "dry-run", "json",   "quiet", "verbose", "color",      "report",
    "log",  "yes",     "figure", "each",  "csv",     "ledger-dir", "keep-as-is"};

class Reader : private Fields {
 public:
  Reader(const std::string& path, const OptionsOf& options, std::int64_t now)
      : Fields(path), options_(options), now_(now) {
    order_.path = path;
    const files::path folder = files::path(order_.path).parent_path();
    order_.folder = folder.empty() ? "." : folder.string();
  }

  Order run() {
    const toml::table root = parse();
    top_level(root);
    const toml::table* defaults = table_at(root, "defaults");
    const auto* guests = root.get("guest");
    if (guests == nullptr)
      invalid(root, "the order names no guest", "add a [[guest]] with disks = ...");
    const toml::array* list = guests->as_array();
    if (list == nullptr || list->empty() || !list->is_array_of_tables())
      invalid(*guests, "guest is not a list of tables", "write [[guest]] for each of them");
    for (const toml::node& guest : *list) add_guest(*guest.as_table(), defaults);
    check_names();
    check_images();
    return std::move(order_);
  }

 private:
  toml::table parse() {
    std::error_code error;
    const auto size = files::file_size(order_.path, error);
    if (error) io_failed("the work order cannot be read: " + error.message(), order_.path);
    if (size > largest_order) wrong_line(1, "the work order is larger than 4 MiB", "use patterns");
    std::ifstream in(order_.path, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    if (!in) io_failed("the work order cannot be read", order_.path);
    try {
      return toml::parse(text.str(), order_.path);
    } catch (const toml::parse_error& wrong_text) {
      wrong_line(static_cast<int>(wrong_text.source().begin.line),
                 std::string(wrong_text.description()), "see docs/order.md for an example");
    }
  }

  void top_level(const toml::table& root) {
    const std::vector<std::string> known{"order",  "title",    "report",        "jobs",
                                         "memory", "storage",  "after_failure", "deadline",
                                         "slurm",  "defaults", "guest"};
    for (const auto& [key, node] : root)
      if (std::find(known.begin(), known.end(), key.str()) == known.end())
        invalid(node, fmt::format("\"{}\" is not known here", key.str()),
                fmt::format("allowed: {}", fmt::join(known, ", ")));
    const toml::node* format = root.get("order");
    if (format == nullptr || format->value<std::int64_t>() != 1)
      invalid(format != nullptr ? *format : static_cast<const toml::node&>(root),
              "the work order does not say which format it has", "begin with: order = 1");
    order_.report =
        (files::path(order_.folder) / (files::path(order_.path).stem().string() + ".results"))
            .string();
    if (const toml::node* node = root.get("title"))
      order_.title = text_of(*node, "title", "a text");
    if (const toml::node* node = root.get("report"))
      order_.report =
          (files::path(order_.folder) / text_of(*node, "report", "a folder's name")).string();
    if (const toml::node* node = root.get("jobs")) order_.jobs = count_of(*node, "jobs", 1, 1024);
    if (const toml::node* node = root.get("memory")) {
      order_.memory = size_of(*node, "memory");
      if (*order_.memory < least_memory)
        invalid(*node, "no guest can be worked on in so little memory", "use \"128MiB\" or more");
    }
    if (const toml::table* storage = table_at(root, "storage")) {
      for (const auto& [key, node] : *storage)
        if (key.str() == "jobs")
          order_.jobs_per_storage = count_of(node, "jobs", 1, 1024);
        else
          invalid(node, fmt::format("\"{}\" is not known here", key.str()), "allowed: jobs");
    }
    if (const toml::node* node = root.get("after_failure")) {
      const std::string text = text_of(*node, "after_failure", "use \"go on\" or \"stop\"");
      if (text != "go on" && text != "stop")
        invalid(*node, fmt::format("after_failure \"{}\" is not known", text),
                "use \"go on\" or \"stop\"");
      order_.after_failure =
          text == "stop" ? Order::AfterFailure::stop : Order::AfterFailure::go_on;
    }
    if (const toml::node* node = root.get("deadline")) order_.deadline = deadline_of(*node, now_);
    if (const toml::table* slurm = table_at(root, "slurm")) {
      for (const auto& [key, node] : *slurm)
        if (key.str() == "options")
          order_.slurm_options = texts_of(node, "options");
        else if (key.str() == "program")
          order_.slurm_program = text_of(node, "program", "a path");
        else
          invalid(node, fmt::format("\"{}\" is not known here", key.str()),
                  "allowed: options, program");
    }
  }

  void add_guest(const toml::table& guest, const toml::table* defaults) {
    const int line = static_cast<int>(guest.source().begin.line);
    const auto setting = [&](const char* key) -> const toml::node* {
      if (const toml::node* own = guest.get(key)) return own;
      return defaults == nullptr ? nullptr : defaults->get(key);
    };
    const std::string changes = fmt::format("allowed: {}", fmt::join(order_changes(), ", "));
    const toml::node* change_node = setting("change");
    if (change_node == nullptr)
      invalid(guest, "it is not said what is to be done to this guest",
              "add change = \"grow\" here or in [defaults]; " + changes);
    const std::string change = text_of(*change_node, "change", changes);
    const auto allowed = options_(change);
    if (!allowed) invalid(*change_node, fmt::format("change \"{}\" is not known", change), changes);

    const toml::node* disks = guest.get("disks");
    const toml::node* each = guest.get("each");
    if ((disks == nullptr) == (each == nullptr))
      invalid(guest, "a guest has either disks or each",
              "disks: the images of one guest; each: a pattern, every image is a guest");
    if (each != nullptr) {
      if (guest.contains("name"))
        invalid(*guest.get("name"), "guests of a pattern are named after their images",
                "leave name out, or give disks");
      std::vector<std::string> found;
      for (const std::string& pattern : texts_of(*each, "each"))
        for (const std::string& image : files_matching(order_.folder, pattern))
          if (std::find(found.begin(), found.end(), image) == found.end()) found.push_back(image);
      if (found.empty())
        invalid(*each, "no file is found by this pattern", "look from: " + order_.folder);
      for (const std::string& image : found)
        add_task(guest, defaults, *allowed, {name_for(image), change, {image}, {}, {}, {}, line});
      return;
    }
    std::vector<std::string> images;
    for (const std::string& pattern : texts_of(*disks, "disks")) {
      const std::vector<std::string> found = files_matching(order_.folder, pattern);
      if (found.empty())
        invalid(*disks, fmt::format("there is no file {}", pattern), "look from: " + order_.folder);
      images.insert(images.end(), found.begin(), found.end());
    }
    if (images.empty()) invalid(*disks, "a guest without disks", "disks = [\"system.img\"]");
    std::string name = name_for(images.front());
    if (const toml::node* own = guest.get("name")) {
      name = text_of(*own, "name", "a text");
      if (name.empty() || name != safe_name(name))
        invalid(*own, fmt::format("name \"{}\" cannot be a folder's name", name),
                "use letters, digits, dots, hyphens and underscores");
    }
    add_task(guest, defaults, *allowed, {name, change, images, {}, {}, {}, line});
  }

  void add_task(const toml::table& guest, const toml::table* defaults,
                const std::vector<OptionFact>& allowed, Task task) {
    if (order_.tasks.size() >= most_guests)
      invalid(guest, "the order has more than 100 000 guests", "make several orders of it");
    task.arguments = task.images;
    const bool wants_new = task.change == "recast";
    for (const toml::table* table : {&guest, defaults}) {
      if (table == nullptr) continue;
      for (const auto& [key, node] : *table) {
        std::string name(key.str());
        if (name == "name" || name == "change" || name == "disks" || name == "each") {
          if (table == defaults && name != "change")
            invalid(node, fmt::format("\"{}\" has no place in [defaults]", name),
                    "give it to a guest");
          continue;
        }
        // The guest's own word counts; a new total and an increment are two words for one thing.
        if (table == defaults &&
            (guest.contains(key.str()) || (name == "to" && guest.contains("by")) ||
             (name == "by" && guest.contains("to"))))
          continue;
        if (name == "new" && wants_new) {
          task.made.push_back(filled(text_of(node, name, "the new image's name"), task));
          continue;
        }
        std::replace(name.begin(), name.end(), '_', '-');
        const auto option = std::find_if(allowed.begin(), allowed.end(),
                                         [&](const OptionFact& fact) { return fact.name == name; });
        if (option == allowed.end() || never_in_an_order.contains(name)) {
          // Of the defaults each change takes what is its own.
          if (table == defaults && is_known_somewhere(name)) continue;
          invalid(node, fmt::format("\"{}\" is not known for {}", key.str(), task.change),
                  "allowed: " + words_of(allowed, wants_new));
        }
        add_option(node, *option, task);
      }
    }
    if (wants_new) {
      if (task.made.empty())
        invalid(guest, "recast needs the name of the new image",
                "add new = \"{name}.qcow2\"; {name} stands for the guest's name");
      task.arguments.insert(
          task.arguments.begin() + static_cast<std::ptrdiff_t>(task.images.size()),
          task.made.begin(), task.made.end());
    }
    order_.tasks.push_back(std::move(task));
  }

  bool is_known_somewhere(const std::string& name) const {
    if (never_in_an_order.contains(name)) return false;
    for (const std::string& change : order_changes())
      for (const OptionFact& fact : options_(change).value_or(std::vector<OptionFact>{}))
        if (fact.name == name) return true;
    return false;
  }

  static std::string words_of(const std::vector<OptionFact>& allowed, bool wants_new) {
    std::string words = "name, change, disks, each";
    if (wants_new) words += ", new";
    for (const OptionFact& fact : allowed) {
      if (never_in_an_order.contains(fact.name)) continue;
      std::string name = fact.name;
      std::replace(name.begin(), name.end(), '-', '_');
      words += ", " + name;
    }
    return words;
  }

  // "{name}" stands for the guest's name.
  static std::string filled(std::string text, const Task& task) {
    for (std::size_t at = 0; (at = text.find("{name}", at)) != std::string::npos;
         at += task.name.size())
      text.replace(at, 6, task.name);
    return text;
  }

  void add_option(const toml::node& node, const OptionFact& option, Task& task) {
    if (!option.takes_value) {
      const auto value = node.value<bool>();
      if (!node.is_boolean() || !value)
        invalid(node, fmt::format("{} is a switch", option.name), "use true or false");
      if (*value) task.arguments.push_back("--" + option.name);
      return;
    }
    std::vector<std::string> values;
    if (node.is_integer())
      values.push_back(std::to_string(*node.value<std::int64_t>()));
    else
      values = texts_of(node, option.name);
    if (values.size() > 1 && !option.repeats)
      invalid(node, fmt::format("{} takes one value", option.name), "give one");
    for (const std::string& value : values) {
      const std::string text = filled(value, task);
      if (option.name == "into") task.made.push_back(text);
      if (option.name == "add-disk") task.added.push_back(text.substr(0, text.rfind('=')));
      task.arguments.push_back("--" + option.name);
      task.arguments.push_back(text);
    }
  }

  static std::string name_for(const std::string& image) {
    return safe_name(files::path(image).stem().string());
  }

  // Images of one name in several folders are told apart by the folders.
  void check_names() {
    std::map<std::string, std::size_t> count;
    for (const Task& task : order_.tasks) ++count[task.name];
    for (Task& task : order_.tasks)
      if (count[task.name] > 1 &&
          safe_name(files::path(task.images.front()).stem().string()) == task.name)
        task.name = safe_name(files::path(task.images.front()).replace_extension().string());
    std::map<std::string, int> lines;
    for (const Task& task : order_.tasks) {
      const auto [known, fresh] = lines.emplace(task.name, task.line);
      if (!fresh)
        wrong_line(task.line,
                   fmt::format("a guest of the name {} is there already (line {})", task.name,
                               known->second),
                   "give one of them another name");
    }
  }

  // A file that two guests would change, or make.
  void check_images() {
    std::map<std::string, const Task*> owners;
    for (const Task& task : order_.tasks)
      for (const auto* list : {&task.images, &task.made, &task.added})
        for (const std::string& file : *list) {
          std::error_code error;
          const std::string real =
              files::weakly_canonical(files::path(order_.folder) / file, error).string();
          const auto [known, fresh] = owners.emplace(real, &task);
          if (!fresh)
            wrong_line(task.line,
                       fmt::format("{} belongs to {} already (line {})", file, known->second->name,
                                   known->second->line),
                       "an order works on each file once");
        }
  }

  static constexpr std::uint64_t least_memory = 128ULL << 20;

  const OptionsOf& options_;
  std::int64_t now_;
  Order order_;
};

}  // namespace

const std::vector<std::string>& order_changes() {
  static const std::vector<std::string> changes{"grow",   "shrink", "compact",
                                                "recast", "audit",  "survey"};
  return changes;
}

Order read_order(const std::string& path, const OptionsOf& options, std::int64_t now) {
  return Reader(path, options, now).run();
}

}  // namespace jh
