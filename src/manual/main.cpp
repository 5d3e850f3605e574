// Writes a manual page for each command into a folder, from what the commands say of themselves, so
// that the pages cannot say anything else.
#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <iostream>
#include <sstream>

#include "cli/commands.h"
#include "core/base/version.h"

namespace jh::cli {
namespace {

// Text for roff: hyphens that are meant as such, and no line that looks like a request.
std::string roff(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '\\')
      out += "\\e";
    else if (c == '-')
      out += "\\-";
    else if ((c == '.' || c == '\'') && (out.empty() || out.back() == '\n'))
      out += std::string("\\&") + c;
    else
      out += c;
  }
  return out;
}

std::string upper(std::string text) {
  for (char& c : text) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
  return text;
}

void put_options(std::ostream& page, const po::options_description& options) {
  for (const auto& option : options.options()) {
    page << ".TP\n\\fB\\-\\-" << roff(option->long_name()) << "\\fR";
    if (takes_value(*option)) {
      std::string value = option->format_parameter();
      if (const auto extra = value.find(" (="); extra != std::string::npos)
        page << " \\fI" << roff(value.substr(0, extra))
             << "\\fR (default: " << roff(value.substr(extra + 3, value.size() - extra - 4)) << ")";
      else
        page << " \\fI" << roff(value) << "\\fR";
    }
    page << "\n" << roff(option->description()) << ".\n";
  }
}

std::string page_of(const Command& command) {
  const CommandLine line = command.line();
  const std::string name = std::string("juneheath-") + command.name;
  std::ostringstream page;
  page << ".TH " << upper(name) << " 1 \"2026-11-26\" \"juneheath " << core_version()
       << "\" \"User commands\"\n.SH NAME\n"
       << roff(name) << " \\- " << roff(line.brief) << "\n.SH SYNOPSIS\n\\fBjuneheath "
       << command.name << "\\fR";
  if (!line.usage.empty()) page << " " << roff(line.usage);
  page << " [\\fIOPTION\\fR]...\n.SH DESCRIPTION\n" << roff(line.summary) << "\n";
  if (!line.own.options().empty()) {
    page << ".SH OPTIONS\n";
    put_options(page, line.own);
  }
  page << ".SH OPTIONS OF EVERY COMMAND\n";
  put_options(page, common_options());
  if (!line.examples.empty()) {
    page << ".SH EXAMPLES\n.nf\n";
    std::istringstream lines(line.examples);
    for (std::string each; std::getline(lines, each);)
      page << roff(each.substr(std::min<std::size_t>(each.find_first_not_of(' '), each.size())))
           << "\n";
    page << ".fi\n";
  }
  page << ".SH EXIT STATUS\n"
          ".TP\n0\nDone.\n.TP\n1\nInternal error.\n.TP\n2\nWrong usage.\n"
          ".TP\n3\nRefused; nothing was changed.\n.TP\n4\nDamage was found.\n"
          ".TP\n5\nInput or output failed; the message says whether anything was changed.\n"
          ".TP\n6\nNot supported.\n"
          ".SH FILES\n.TP\n$XDG_CONFIG_HOME/juneheath/juneheath.conf\n"
          "Defaults of options; juneheath config shows them.\n"
          ".TP\n/var/lib/juneheath\nLedgers of block devices (\\-\\-ledger\\-dir).\n"
          ".SH SEE ALSO\n\\fBjuneheath\\fR(1)";
  for (const Command& other : all_commands())
    if (std::string(other.name) != command.name)
      page << ",\n\\fBjuneheath\\-" << other.name << "\\fR(1)";
  page << "\n";
  return page.str();
}

}  // namespace
}  // namespace jh::cli

int main(int argc, char** argv) {
  if (argc != 2) {
    std::cerr << "usage: manual FOLDER\n";
    return 2;
  }
  const std::filesystem::path folder(argv[1]);
  std::filesystem::create_directories(folder);
  for (const auto& command : jh::cli::all_commands()) {
    std::ofstream out(folder / fmt::format("juneheath-{}.1", command.name));
    out << jh::cli::page_of(command);
    if (!out.flush()) {
      std::cerr << "a page cannot be written\n";
      return 5;
    }
  }
  return 0;
}
