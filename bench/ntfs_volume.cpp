// Fills an NTFS volume for a bench: IMAGE FOLDERS FILES_EACH BYTES_EACH FROM_PERCENT [NAME].
#include <cstdio>
#include <cstdlib>

#include "core/store/file_store.h"
#include "support/ntfs_writer.h"

int main(int argc, char** argv) {
  if (argc < 6) return 2;
  const auto number = [&](int i) { return std::strtoull(argv[i], nullptr, 10); };
  try {
    jh::FileStore file(argv[1], jh::Access::read_write);
    jh::test::NewNtfsFiles wanted{number(2), number(3), number(4), 1, number(5)};
    if (argc > 6) wanted.name = argv[6];
    jh::test::add_ntfs_files(file, wanted);
    file.flush();
  } catch (const std::exception& error) {
    std::fprintf(stderr, "%s\n", error.what());
    return 1;
  }
  return 0;
}
