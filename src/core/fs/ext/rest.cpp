#include "core/fs/ext/rest.h"

#include <fmt/format.h>

#include "core/base/sizes.h"
#include "core/fs/ext/fast_commit.h"
#include "core/fs/ext/journal.h"
#include "core/fs/ext/orphans.h"

namespace jh::ext {

std::string RestReport::text() const {
  std::string text = counted(transactions, "transaction") + ", " + counted(blocks, "block");
  if (fast_commits != 0) text += ", " + counted(fast_commits, "fast commit");
  if (orphans_removed != 0) text += "; " + counted(orphans_removed, "orphaned file") + " removed";
  if (orphans_cut != 0) text += "; " + counted(orphans_cut, "file") + " cut to their length";
  return text;
}

bool is_at_rest(const Superblock& super) {
  return (super.feature_incompat.value() & incompat::recover) == 0 &&
         super.last_orphan.value() == 0 &&
         (super.feature_ro_compat.value() & ro_compat::orphan_present) == 0;
}

RestReport bring_to_rest(Store& store) {
  RestReport report;
  {
    Filesystem fs(store);
    if (fs.geometry().has_incompat(incompat::recover)) {
      Journal journal(fs);
      const Journal::Contents contents = journal.scan();
      report.transactions = contents.transactions;
      report.blocks = contents.home.size();
      report.revoked = contents.revoked;
      bring_home(fs, journal, contents);
      if (journal.has_fast_commits() && !journal.is_empty())
        report.fast_commits = replay_fast_commits(store, journal, contents.next_sequence);
      journal.set_empty(contents.next_sequence + 1);
    }
  }
  Filesystem fs(store);  // as the journal left it
  fs.edit_super().feature_incompat = fs.super().feature_incompat.value() & ~incompat::recover;
  const OrphanCounts orphans = clean_up_orphans(fs);
  report.orphans_removed = orphans.removed;
  report.orphans_cut = orphans.cut;
  fs.edit_super().state = static_cast<std::uint16_t>(fs.super().state.value() | state_clean);
  refresh_totals(fs);
  return report;
}

}  // namespace jh::ext
