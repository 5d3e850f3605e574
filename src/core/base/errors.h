// What can go wrong, and what the technician is told about it.
//
// Every failure carries three sentences: what is the matter, where (image, layer, offset) and what
// to do next. The status decides the exit code; the table is in docs/commands.md.
#pragma once

#include <stdexcept>
#include <string>
#include <type_traits>
#include <utility>

#include "core/base/advice.h"

namespace jh {

enum class Status {
  done = 0,
  internal = 1,
  usage = 2,
  refused = 3,      // nothing was changed
  damaged = 4,      // an audit or a proof found damage
  io = 5,           // input or output failed
  unsupported = 6,  // a format or feature we name and leave alone
};

/// What a failure left behind, as far as it is certain.
enum class Outcome {
  unsaid,
  unchanged,   // every image is as it was
  sound,       // something was done; the guest sees what it saw
  unfinished,  // `recover` has to finish it or roll it back
  done,        // what was asked for is done, and sealed; something behind it failed
};

/// What stands in the way, for those who decide by it; words are for people.
enum class Reason {
  other,
  errors_noted,   // the guest has noted errors of a filesystem
  not_unmounted,  // and nothing can put it right
  in_use,
  suspended,      // a suspended system depends on it
  has_parent,     // an image builds on another
  beyond_place,   // a layer says that it is longer than the place it lies in
  missing_part,   // a physical volume of a group is on none of the disks
  array_member,   // a part of an array shows through as if it were the whole
  no_room,        // what is asked for has none: there is nothing to do
  written_since,  // somebody else wrote over what a change left
};

class Error : public std::runtime_error {
 public:
  Error(Status status, const std::string& what, std::string where, Advice next)
      : std::runtime_error(what),
        status_(status),
        where_(std::move(where)),
        next_(std::move(next)) {}

  Status status() const { return status_; }
  const std::string& where() const { return where_; }
  const Advice& next() const { return next_; }

  Outcome outcome() const {
    return outcome_ == Outcome::unsaid && status_ == Status::refused ? Outcome::unchanged
                                                                     : outcome_;
  }

  /// The same error seen from one layer further up: `place` is put before the place known so far.
  Error with_context(const std::string& place) const {
    Error error = *this;
    error.where_ = where_.empty() ? place : place + ", " + where_;
    return error;
  }
  Reason reason() const { return reason_; }
  Error with_reason(Reason reason) const {
    Error error = *this;
    error.reason_ = reason;
    return error;
  }
  Error with_outcome(Outcome outcome) const {
    Error error = *this;
    error.outcome_ = outcome;
    return error;
  }

 private:
  Status status_;
  std::string where_;
  Advice next_;
  Outcome outcome_ = Outcome::unsaid;
  Reason reason_ = Reason::other;
};

[[noreturn]] inline void refuse(const std::string& what, std::string where = {}, Advice next = {}) {
  throw Error(Status::refused, what, std::move(where), std::move(next));
}
[[noreturn]] inline void damaged(const std::string& what, std::string where = {},
                                 Advice next = {}) {
  throw Error(Status::damaged, what, std::move(where), std::move(next));
}
[[noreturn]] inline void unsupported(const std::string& what, std::string where = {},
                                     Advice next = {}) {
  throw Error(Status::unsupported, what, std::move(where), std::move(next));
}
[[noreturn]] inline void io_failed(const std::string& what, std::string where = {},
                                   Advice next = {}) {
  throw Error(Status::io, what, std::move(where), std::move(next));
}
[[noreturn]] inline void wrong_usage(const std::string& what, Advice next = {}) {
  throw Error(Status::usage, what, {}, std::move(next));
}

/// A promise the code makes to itself. A failure is our bug, never the image's fault.
inline void ensure(bool holds, const char* promise) {
  if (!holds) throw Error(Status::internal, promise, {}, "please report this as a bug");
}

/// Runs `work`; an Error that comes out of it and does not say yet what it left says this.
template <class Work>
auto failing_with(Outcome outcome, Work&& work) -> decltype(work()) {
  try {
    return work();
  } catch (const Error& error) {
    if (error.outcome() != Outcome::unsaid) throw;
    throw error.with_outcome(outcome);
  }
}

/// Runs what comes behind a sealed change. Whatever goes wrong there, the change is done: `what`
/// could not be ("the report could not be written").
template <class Work>
auto done_but(const std::string& what, Work&& work) -> decltype(work()) {
  const auto failed = [&](const std::string& why, const std::string& where, const Advice& next) {
    return Error(Status::io, "the change is done, but " + what + ": " + why, where, next)
        .with_outcome(Outcome::done);
  };
  try {
    return work();
  } catch (const Error& error) {
    throw failed(error.what(), error.where(), error.next());
  } catch (const std::exception& error) {
    throw failed(error.what(), {}, {});
  }
}

/// Runs `work`; an Error that leaves it gains `place` in front of its own place. `place`: a text,
/// or what makes it when it is needed.
template <class Place, class Work>
auto at_place(const Place& place, Work&& work) -> decltype(work()) {
  try {
    return work();
  } catch (const Error& error) {
    if constexpr (std::is_invocable_v<const Place&>)
      throw error.with_context(place());
    else
      throw error.with_context(place);
  }
}

}  // namespace jh
