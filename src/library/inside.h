// What lies behind the public classes, and the way of errors out of the core.
#pragma once

#include "core/base/errors.h"
#include "core/carry/image_locks.h"
#include "core/change/carry_out.h"
#include "core/change/opened_guest.h"
#include "core/plan/plan.h"
#include "core/plan/request.h"
#include "juneheath/juneheath.h"

namespace juneheath {

struct Guest::Inside {
  std::vector<std::string> images;
  OpenOptions options;
  jh::Locks locks;
  jh::OpenedGuest opened;
};

struct Plan::Inside {
  const Guest* guest = nullptr;
  jh::Plan plan;
};

Error public_error(const jh::Error& error);
jh::FileHost host_for(const std::vector<std::string>& images, const OpenOptions& options);

/// Runs work of the core; whatever it throws becomes an Error of the library.
template <class Work>
auto translated(Work&& work) -> decltype(work()) {
  try {
    return work();
  } catch (const jh::Error& error) {
    throw public_error(error);
  } catch (const std::bad_alloc&) {
    throw Error(Status::internal, "out of memory", {}, {}, {}, Left::unsaid);
  } catch (const Error&) {
    throw;
  } catch (const std::exception& error) {
    throw Error(Status::internal, error.what(), {}, "please report this as a bug", {},
                Left::unsaid);
  }
}

}  // namespace juneheath
