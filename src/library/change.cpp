#include "core/change/recover_images.h"
#include "core/guest/audit.h"
#include "library/inside.h"

namespace juneheath {
namespace {

// The core's progress, told to whoever is interested.
class Told final : public jh::Progress {
 public:
  explicit Told(Observer* observer) : observer_(observer) {}
  void begin(const std::string& what, std::uint64_t total) override {
    if (observer_ != nullptr) observer_->begin(what, total);
  }
  void advance(std::uint64_t done) override {
    if (observer_ != nullptr && !observer_->advance(done)) jh::refuse("stopped, as was asked for");
  }
  void end() override {
    if (observer_ != nullptr) observer_->end();
  }

 private:
  Observer* observer_;
};

Recovery public_result(jh::RecoverResult result) {
  const bool dropped =
      result == jh::RecoverResult::dropped || result == jh::RecoverResult::undo_dropped;
  return dropped ? Recovery::rolled_back : Recovery::finished;
}

}  // namespace

Observer::~Observer() = default;
void Observer::begin(const std::string&, std::uint64_t) {}
bool Observer::advance(std::uint64_t) { return true; }
void Observer::end() {}

Change carry_out(const Guest& guest, const Plan& plan, const ChangeOptions& options) {
  return translated([&] {
    const Guest::Inside& inside = guest.inside();
    if (inside.options.purpose != Purpose::change)
      jh::wrong_usage("the guest was opened to be looked at", "open it for a change");
    if (plan.inside().guest != &guest) jh::wrong_usage("the plan is one for another guest");
    const jh::Plan& steps = plan.inside().plan;
    jh::failing_with(jh::Outcome::unchanged, [&] {
      for (std::size_t i = 0; i < steps.disks.size(); ++i)
        if (steps.touches(i)) jh::check_image_sound(inside.opened.guest->disks()[i]);
    });
    jh::ChangeOptions how;
    how.keep_undo = options.keep_undo;
    how.proof = options.full_proof ? jh::ProofEffort::full : jh::ProofEffort::usual;
    Told progress(options.observer);
    jh::FileHost host = host_for(inside.images, inside.options);
    const jh::ChangeResult result = jh::carry_out(host, *inside.opened.guest, steps, how, progress);
    Change change;
    change.written_directly = result.written_directly;
    change.moved_by_sharing = result.moved_by_sharing;
    change.ledger_bytes = result.ledger_bytes;
    for (const jh::Evidence& seen : result.evidence.all())
      change.evidence.push_back({seen.what, seen.count, seen.unit});
    return change;
  });
}

void undo(const std::vector<std::string>& images, const OpenOptions& options) {
  translated([&] {
    jh::FileHost host = host_for(images, options);
    // Somebody who is still at work on the change holds the locks.
    const jh::Locks locks = jh::lock_all(jh::files_of_changes(host, images));
    jh::undo_images(host, images);
  });
}

std::vector<Recovered> recover(const std::vector<std::string>& images, const OpenOptions& options) {
  return translated([&] {
    jh::FileHost host = host_for(images, options);
    const jh::Locks locks = jh::lock_all(jh::files_of_changes(host, images));
    std::vector<Recovered> all;
    for (const jh::Recovered& done : jh::recover_images(host, images))
      if (done.result != jh::RecoverResult::nothing_to_do)
        all.push_back({done.images, public_result(done.result)});
    return all;
  });
}

}  // namespace juneheath
