// The host's disk fails at every single operation of a change: what the Error says was left behind
// must be what is there.
#pragma once

#include "cli/terminal.h"
#include "core/store/transaction.h"
#include "support/fault_host.h"
#include "support/test.h"

namespace jh::test {

using Contents = std::map<std::string, MemoryStore>;

/// How often each thing was said.
struct SaidLeft {
  std::uint64_t unchanged = 0;
  std::uint64_t sound = 0;
  std::uint64_t unfinished = 0;
};

/// Calls `work` with one failing operation, and with all failing from one on; then, when the disk
/// is repaired and recover has run where the Error asks for it, look(host).
template <class Work, class Look>
SaidLeft fail_everywhere(const Contents& old, const std::string& image, std::uint64_t stride,
                         Work work, Look look) {
  const auto put = [&](FaultHost& host) {
    for (const auto& [path, content] : old) host.put(path, content);
  };
  FaultHost whole;
  put(whole);
  whole.fail_at(0, false);
  work(whole);
  const std::uint64_t operations = whole.operations();
  SaidLeft said;
  for (std::uint64_t n = 1; n <= operations; n += stride)
    for (const bool lasting : {false, true}) {
      SCOPED_TRACE(fmt::format("operation {} of {} fails{}", n, operations,
                               lasting ? ", and all behind it" : ""));
      FaultHost host;
      put(host);
      host.fail_at(n, lasting);
      std::optional<Error> error;
      try {
        work(host);
      } catch (const Error& failure) {
        error = failure;
      }
      host.mend();
      if (!error) {
        ADD_FAILURE() << "nobody noticed";
        continue;
      }
      EXPECT_EQ(error->status(), Status::io) << error->what();
      switch (error->outcome()) {
        case Outcome::unchanged:
          ++said.unchanged;
          EXPECT_EQ(recover(host, image), RecoverResult::nothing_to_do);
          for (const auto& [path, content] : old)
            EXPECT_TRUE(host.content(path).same_content(content)) << path << error->what();
          // At most an empty file is left of one that the change was to make.
          for (const std::string& name : host.names())
            if (!old.contains(name)) {
              EXPECT_TRUE(lasting && host.content(name).size() == 0) << name;
            }
          break;
        case Outcome::unfinished:
          ++said.unfinished;
          EXPECT_THAT(cli::text_of(error->next()), HasSubstr("juneheath recover " + image));
          recover(host, image);
          break;
        case Outcome::sound:
          ++said.sound;
          EXPECT_EQ(recover(host, image), RecoverResult::nothing_to_do);
          break;
        case Outcome::done:
          EXPECT_EQ(recover(host, image), RecoverResult::nothing_to_do);
          break;
        case Outcome::unsaid:
          ADD_FAILURE() << "it does not say what it left: " << error->what();
      }
      for (const std::string& name : host.names()) EXPECT_FALSE(name.ends_with(".open")) << name;
      look(host);
      if (testing::Test::HasFailure()) return said;
    }
  return said;
}

}  // namespace jh::test
