#include "core/report/output_file.h"

#include "core/store/durable.h"

namespace jh {

void make_folder(const std::string& path, const std::string& what, const Advice& next) {
  try {
    make_durable_folder(path);
  } catch (const Error& error) {
    io_failed(what + ": " + error.what(), error.where(), next.empty() ? error.next() : next);
  }
}

void write_output(const std::string& path, const std::string& bytes) {
  write_durable_file(path, text_bytes(bytes));
}

}  // namespace jh
