// One change of the running system, from the locks to the last step.
#pragma once

#include "core/live/carry_live.h"
#include "core/live/notes.h"
#include "core/live/plan_live.h"

namespace jh::live {

class LiveChange {
 public:
  /// Asks disks for their sizes, looks at the system, and plans. `to_change`: takes the locks of
  /// the system's volume tools first, and puts in order what an earlier run left. Throws what
  /// plan_live throws.
  LiveChange(Kernel& kernel, GrowRequest request, Notes notes, bool to_change);

  const RunningSystem& system() const { return *system_; }
  const Plan& plan() const { return plan_; }
  /// What was put in order, in words.
  const std::vector<std::string>& repaired() const { return repaired_; }

  /// As carry_out_live. When one of the system's own volume tools came in between, the rest is
  /// planned anew: plan() stays what it was.
  void carry_out(Progress& progress, const std::function<void(const Step&)>& done);
  /// The system as it is now.
  std::unique_ptr<RunningSystem> look_again() const;

 private:
  /// What is planned, by the system as it is.
  struct Prepared {
    std::unique_ptr<RunningSystem> system;
    Plan plan;
    bool all_done = false;  // by an earlier run that was cut off: nothing is planned
  };

  void lock();
  bool others_go_first();
  void put_swap_back();
  std::unique_ptr<RunningSystem> look(bool with_added) const;
  Prepared prepare();
  bool ask_for_what_is_left(const RunningSystem& system, GrowRequest& request) const;
  std::string goals() const;
  void claim_new_disks();
  std::optional<NewDisk> begun(const std::string& disk) const;
  std::vector<NewDisk> new_disks(const RunningSystem& system, const Plan& plan) const;

  Kernel& kernel_;
  GrowRequest request_;
  Notes notes_;
  std::vector<std::unique_ptr<Kernel::Lock>> locks_;
  std::vector<std::unique_ptr<Kernel::Lock>> claims_;  // of disks that are taken
  std::vector<std::string> repaired_;
  std::unique_ptr<RunningSystem> system_;
  Plan plan_;
};

}  // namespace jh::live
