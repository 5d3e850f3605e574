#include "core/plan/grow.h"
#include "core/plan/shrink.h"
#include "library/inside.h"

namespace juneheath {
namespace {

// What both ways ask for in the same way.
template <class Asked, class Request>
void fill_request(const Guest& guest, const Asked& asked, Request& request) {
  request.images = guest.images();
  if (asked.to) request.to = jh::Bytes(*asked.to);
  if (asked.by) request.by = jh::Bytes(*asked.by);
  if (asked.to && asked.by) jh::wrong_usage("a disk's new size is named twice", "name to, or by");
  request.allow_move = asked.allow_move;
  if (!asked.disk) return;
  if (*asked.disk >= guest.images().size()) jh::wrong_usage("the guest has no such disk");
  request.disk = *asked.disk;
  request.disk_chosen = true;
}

}  // namespace

Plan::Plan(const Guest& guest, const Growth& growth) : inside_(std::make_unique<Inside>()) {
  inside_->guest = &guest;
  translated([&] {
    jh::GrowRequest request;
    fill_request(guest, growth, request);
    request.new_partition = growth.new_partition;
    for (const std::string& give : growth.give) request.gives.push_back(jh::parse_give(give));
    inside_->plan = jh::plan_growth(*guest.inside().opened.guest, request);
  });
}

Plan::Plan(const Guest& guest, const Shrinking& shrinking) : inside_(std::make_unique<Inside>()) {
  inside_->guest = &guest;
  translated([&] {
    jh::ShrinkRequest request;
    fill_request(guest, shrinking, request);
    request.to_floor = shrinking.to_floor;
    for (const std::string& take : shrinking.take) request.takes.push_back(jh::parse_give(take));
    inside_->plan = jh::plan_shrink(*guest.inside().opened.guest, request);
  });
}
Plan::~Plan() = default;
Plan::Plan(Plan&&) noexcept = default;
Plan& Plan::operator=(Plan&&) noexcept = default;

std::string Plan::target() const { return inside_->plan.target; }

std::vector<Step> Plan::steps() const {
  std::vector<Step> steps;
  for (const jh::Step& step : inside_->plan.steps)
    steps.push_back({step.name, step.action, step.from.value(), step.to.value()});
  return steps;
}

std::vector<std::string> Plan::notes() const { return inside_->plan.notes; }
std::vector<std::string> Plan::remains() const { return inside_->plan.remains; }
std::uint64_t Plan::bytes_to_write() const { return inside_->plan.bytes_to_write; }

}  // namespace juneheath
