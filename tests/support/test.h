// What nearly every test needs: the framework, the program, the judges, samples, shares, sizes.
#pragma once

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <array>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <functional>
#include <map>
#include <memory>
#include <nlohmann/json.hpp>
#include <numeric>
#include <optional>
#include <random>
#include <set>
#include <sstream>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/base/progress.h"
#include "core/fs/filesystem.h"
#include "support/judges.h"
#include "support/program.h"
#include "support/samples.h"
#include "support/share.h"
#include "support/sizes.h"

namespace jh::test {

namespace files = std::filesystem;
using testing::HasSubstr;
using testing::Not;

/// Hears nothing.
inline NullProgress silent;

/// Names the cases of a suite: each has a name, or is one.
inline constexpr auto by_name = [](const auto& test) {
  if constexpr (requires { test.param.name; })
    return std::string(test.param.name);
  else
    return std::string(test.param);
};

/// Expects that the work ends with an error of this status that has this text in its message.
inline Error expect_error(Status status, const std::string& text,
                          const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    EXPECT_EQ(error.status(), status) << error.what();
    EXPECT_THAT(error.what(), HasSubstr(text));
    return error;
  }
  ADD_FAILURE() << "it was done: " << text;
  return Error(Status::done, "", "", "");
}

/// What the audit of a container or of a filesystem finds, a line each.
template <class Audited>
std::string audited(Audited&& layer) {
  Findings findings;
  if constexpr (requires { layer.audit(findings); })
    layer.audit(findings);
  else
    layer.audit(AuditScope::full, {}, findings, silent);
  std::string all;
  for (const Finding& each : findings.kept()) all += each.where + ": " + each.what + "\n";
  return all;
}

}  // namespace jh::test
