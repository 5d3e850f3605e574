// Fields: values of a TOML text, with what is wrong with them, where, and what is allowed there.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#ifndef TOML_HEADER_ONLY
#define TOML_HEADER_ONLY 0
#endif
#include <toml++/toml.h>

namespace jh {

class Fields {
 public:
  /// `path`: the file, for messages.
  explicit Fields(std::string path) : path_(std::move(path)) {}

  /// Throw usage errors.
  [[noreturn]] void invalid(const toml::node& at, const std::string& what,
                            const Advice& allowed) const;
  [[noreturn]] void wrong_line(int line, const std::string& what, const Advice& allowed) const;
  /// Null: there is none.
  const toml::table* table_at(const toml::table& root, const char* name) const;
  std::string text_of(const toml::node& node, const std::string& key, const Advice& allowed) const;
  /// A text, or a list of them.
  std::vector<std::string> texts_of(const toml::node& node, const std::string& key) const;
  std::size_t count_of(const toml::node& node, const std::string& key, std::int64_t least,
                       std::int64_t most) const;
  /// "2GiB", in bytes.
  std::uint64_t size_of(const toml::node& node, const std::string& key) const;
  /// 2026-11-27T05:00:00, with or without an offset, or "2h30min" from `now`; seconds since 1970.
  std::int64_t deadline_of(const toml::node& node, std::int64_t now) const;

 private:
  std::string path_;
};

}  // namespace jh
