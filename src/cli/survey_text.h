#pragma once

#include "cli/session.h"
#include "core/plan/floors.h"

namespace jh::cli {

/// The survey as text on stdout. `blockers`: what on the host stands against a change.
void print_survey(const Session& session, Host& host, const std::vector<Error>& blockers);

/// --figure: draws the present state, by the file's ending as SVG or as PNG.
void write_figure(const Guest& guest, const std::string& path);

/// Parts of it: the table and the places of one disk; all groups; what would help.
void print_disk_layers(const Guest& guest, Floors& floors, std::size_t index);
void print_groups(const Guest& guest, Floors& floors);
void print_advice(const Guest& guest);

}  // namespace jh::cli
