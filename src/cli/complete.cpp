// What a shell may offer for the last word of a command line.
#include <algorithm>
#include <filesystem>
#include <iostream>
#include <map>
#include <set>

#include "cli/commands.h"
#include "cli/session.h"
#include "core/guest/many_files.h"

namespace jh::cli {

namespace files = std::filesystem;

namespace {

constexpr std::size_t most_files = 400;  // that are looked into

struct Candidate {
  std::string word;
  std::string about;
};

class Completion {
 public:
  explicit Completion(const Arguments& words) : words_(words), last_(words.back()) {}

  std::vector<Candidate> run() {
    if (words_.size() == 1) {
      for (const Command& command : all_commands()) add(command.name, command.line().brief);
      add("--help", "what there is");
      add("--version", "which version this is");
      return std::move(found_);
    }
    const Command* command = find_command(words_.front());
    if (command == nullptr) return {};
    const CommandLine line = command->line();
    const po::options_description all = all_options(line);
    if (words_.size() > 2)
      if (const auto* before = option_of(all, words_[words_.size() - 2]);
          before != nullptr && takes_value(*before)) {
        value_of(before->long_name(), all);
        return std::move(found_);
      }
    if (last_.starts_with("-")) {
      for (const auto& option : all.options())
        add("--" + option->long_name(), option->description());
      return std::move(found_);
    }
    if (line.takes == CommandLine::Takes::images) add_files(true, "");
    if (line.takes == CommandLine::Takes::order) add_files(false, ".toml");
    if (line.takes == CommandLine::Takes::folder) add_files(false, "/");
    return std::move(found_);
  }

 private:
  void add(const std::string& word, const std::string& about) {
    if (word.starts_with(last_)) found_.push_back({word, about});
  }

  static const po::option_description* option_of(const po::options_description& all,
                                                 const std::string& word) {
    return word.starts_with("--") ? all.find_nothrow(word.substr(2), false) : nullptr;
  }

  void value_of(const std::string& option, const po::options_description& all) {
    static const std::map<std::string, std::vector<std::string>> words{
        {"form", {"raw", "qcow2", "vdi", "vmdk", "vhd", "vhdx"}},
        {"store", {"sparse", "full", "packed"}},
        {"proof", {"usual", "full"}},
        {"color", {"auto", "always", "never"}},
        {"sector-size", {"512", "4096"}},
        {"on", {"slurm"}}};
    if (const auto known = words.find(option); known != words.end()) {
      for (const std::string& word : known->second) add(word, "");
    } else if (option == "give" || option == "take") {
      add_targets(all, option == "give");
    } else if (option == "report" || option == "ledger-dir") {
      add_files(false, "/");
    } else if (option == "backup" || option == "into" || option == "log" || option == "figure") {
      add_files(false, "");
    } else if (option == "to" && words_.front() == "shrink") {
      add("floor", "as small as it can be");
    }
  }

  // The images that are named so far.
  std::vector<std::string> images(const po::options_description& all) const {
    std::vector<std::string> names;
    for (std::size_t i = 1; i + 1 < words_.size(); ++i) {
      if (words_[i].starts_with("-")) {
        const auto* option = option_of(all, words_[i]);
        if (option != nullptr && takes_value(*option)) ++i;
        continue;
      }
      names.push_back(words_[i]);
    }
    return names;
  }

  void add_targets(const po::options_description& all, bool giving) {
    const std::vector<std::string> named = images(all);
    if (named.empty()) return;
    Parsed parsed;
    parsed.images = named;
    const Session session = open_session(parsed, named);
    const Guest& guest = *session.guest;
    std::set<std::string> seen;
    for (const Layer* layer : guest.layers()) {
      if (layer->content.kind == ContentKind::logical_partitions) continue;
      const std::string about = guest.name_of(*layer) + ", " + layer->content.name;
      std::vector<std::string> names = layer->mount_points;
      names.push_back(guest.name_of(*layer));
      if (!layer->content.label.empty() && layer->content.kind == ContentKind::filesystem)
        names.push_back("label:" + layer->content.label);
      for (const std::string& name : names)
        if (name != "disk" && printable(name) == name && seen.insert(name).second) add(name, about);
    }
    if (giving) add("nothing", "the disk alone");
  }

  // Names in the folder that the word is in. `images`: only those that hold a disk.
  void add_files(bool images, const std::string& ending) {
    const std::size_t slash = last_.rfind('/');
    const std::string lead = slash == std::string::npos ? "" : last_.substr(0, slash + 1);
    const std::string begin = slash == std::string::npos ? last_ : last_.substr(slash + 1);
    std::error_code error;
    std::size_t looked = 0;
    for (const auto& entry : files::directory_iterator(lead.empty() ? "." : lead, error)) {
      const std::string name = entry.path().filename().string();
      if (!name.starts_with(begin) || (name.starts_with(".") && begin.empty())) continue;
      if (entry.is_directory(error)) {
        add(lead + name + "/", "folder");
        continue;
      }
      if (ending == "/" || (!ending.empty() && !name.ends_with(ending))) continue;
      if (name.ends_with(".juneheath") || name.ends_with(".juneheath.open")) continue;
      if (!images)
        add(lead + name, "");
      else if (++looked <= most_files)
        add_image(lead + name);
    }
    std::sort(found_.begin(), found_.end(),
              [](const Candidate& a, const Candidate& b) { return a.word < b.word; });
  }

  void add_image(const std::string& path) {
    std::error_code error;
    if (!files::is_regular_file(path, error) && !files::is_block_file(path, error)) return;
    try {
      Parsed parsed;
      parsed.images = {path};
      const Session session = open_session(parsed, {path});
      if (!looks_like_disk(*session.guest)) return;
      const ContainerFacts facts = session.guest->disks().front().container->facts();
      add(path, std::string(format_name(facts.format)) + ", " + human(facts.disk_size));
    } catch (const Error&) {
      return;  // what cannot be opened is not offered
    }
  }

  const Arguments& words_;
  const std::string& last_;
  std::vector<Candidate> found_;
};

}  // namespace

int run_complete(const Arguments& words) {
  if (words.empty()) return 0;
  try {
    for (const Candidate& each : Completion(words).run())
      std::cout << each.word << "\t" << printable(each.about.substr(0, each.about.find('\n')))
                << "\n";
  } catch (const std::exception&) {
    return 0;  // nothing to offer: a shell must not print messages in the middle of a line
  }
  return 0;
}

}  // namespace jh::cli
