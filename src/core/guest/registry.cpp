#include "core/guest/registry.h"

#include <algorithm>
#include <functional>

#include "core/base/endian.h"

namespace jh {
namespace {

constexpr const char* hive_place = "registry hive";
constexpr std::uint64_t bins_at = 4096;
constexpr std::uint32_t most_entries = 65536;  // of one list, or values of one key

class Hive {
 public:
  explicit Hive(Store& store) : store_(store), visits_(store.size() / least_cell) {
    if (store.size() < bins_at || !holds(store, 0, "regf")) damaged("it is no hive", hive_place);
  }
  std::uint32_t root() { return read_as<Le32>(store_, 0x24).value(); }

  /// The content of a cell in use, at most `most` bytes of it.
  Buffer cell(std::uint32_t at, std::size_t least, std::size_t most) {
    const std::uint64_t start = bins_at + std::uint64_t{at};
    const auto size = static_cast<std::int32_t>(read_as<Le32>(store_, start).value());
    if (size >= 0 || size == INT32_MIN) damaged("it leads to what is not in use", hive_place);
    const auto length = static_cast<std::uint64_t>(-size) - 4;
    if (length < least) damaged("a cell of it is too short", hive_place);
    return read_buffer(store_, start + 4, std::min<std::uint64_t>(length, most));
  }

  /// visit(key cell, name); false: stop.
  using Visit = std::function<bool(std::uint32_t, const std::string&)>;
  void for_each_key(std::uint32_t parent, const Visit& visit) {
    const Buffer key = cell(parent, key_size, key_size);
    if (u32(key, 0x14) != 0) walk_list(u32(key, 0x1C), visit, 0);
  }
  void for_each_value(std::uint32_t parent,
                      const std::function<void(const std::string&, const Buffer&)>& visit) {
    const Buffer key = cell(parent, key_size, key_size);
    const std::uint32_t count = u32(key, 0x24);
    if (count == 0) return;
    if (count > most_entries) damaged("a key of it has too many values", hive_place);
    const Buffer list = cell(u32(key, 0x28), 4ULL * count, 4ULL * count);
    for (std::uint32_t i = 0; i < count; ++i) {
      const Buffer value = cell(u32(list, 4ULL * i), 0x14, 0x14 + 512);
      if (value[0] != 'v' || value[1] != 'k') damaged("a value of it is none", hive_place);
      constexpr std::uint32_t inside = 0x80000000;
      const std::uint32_t size = u32(value, 4);
      // What is longer says nothing of letters.
      if ((size & inside) != 0 || size > 512) continue;
      visit(text(value, 0x14, u16(value, 2), (u16(value, 0x10) & 1) != 0),
            cell(u32(value, 8), size, size));
    }
  }

 private:
  static constexpr std::size_t key_size = 0x4C;

  static std::uint16_t u16(const Buffer& b, std::size_t at) {
    return parse_as<Le16>(b, at).value();
  }
  static std::uint32_t u32(const Buffer& b, std::size_t at) {
    return parse_as<Le32>(b, at).value();
  }
  // What is no letter of the common alphabet is of no interest here.
  static std::string text(const Buffer& b, std::size_t at, std::size_t length, bool narrow) {
    std::string found;
    for (std::size_t i = 0; i < length; i += narrow ? 1 : 2) {
      const unsigned unit = narrow ? parse_as<std::uint8_t>(b, at + i) : u16(b, at + i);
      found += unit < 0x80 ? static_cast<char>(unit) : '?';
    }
    return found;
  }

  void walk_list(std::uint32_t at, const Visit& visit, int depth) {
    if (depth > 4) damaged("its lists of keys lead in a circle", hive_place);
    const Buffer head = cell(at, 4, 4);
    const std::string kind(head.begin(), head.begin() + 2);
    const std::uint32_t count = u16(head, 2);
    const std::size_t width = kind == "lf" || kind == "lh" ? 8 : 4;
    if (width == 4 && kind != "li" && kind != "ri") damaged("a list of keys is none", hive_place);
    const Buffer list = cell(at, 4 + width * count, 4 + width * count);
    for (std::uint32_t i = 0; i < count && !done_; ++i) {
      // Each entry leads to a cell of its own: there are no more than the hive has room for.
      if (visits_-- == 0) damaged("its lists name more keys than it can hold", hive_place);
      const std::uint32_t next = u32(list, 4 + width * i);
      if (kind == "ri") {
        walk_list(next, visit, depth + 1);
        continue;
      }
      const Buffer key = cell(next, key_size, key_size + 512);
      if (key[0] != 'n' || key[1] != 'k') damaged("a key of it is none", hive_place);
      const std::size_t length = std::min<std::size_t>(u16(key, 0x48), key.size() - key_size);
      done_ = !visit(next, text(key, key_size, length, (u16(key, 2) & 0x20) != 0));
    }
  }

  static constexpr std::uint64_t least_cell = 8;

  Store& store_;
  std::uint64_t visits_;
  bool done_ = false;
};

std::optional<DriveLetter> letter_of(const std::string& name, const Buffer& value) {
  const std::string prefix = "\\DosDevices\\";
  if (!name.starts_with(prefix) || name.size() != prefix.size() + 2 || name.back() != ':')
    return std::nullopt;
  DriveLetter found;
  found.letter = name[prefix.size()];
  if (found.letter < 'A' || found.letter > 'Z') return std::nullopt;
  const std::string identity = "DMIO:ID:";
  if (value.size() == 12) {
    found.disk_signature = parse_as<Le32>(value, 0).value();
    found.offset = parse_as<Le64>(value, 4).value();
  } else if (value.size() == 24 && std::equal(identity.begin(), identity.end(), value.begin())) {
    found.partition = parse_as<Uuid>(value, 8);
  } else {
    return std::nullopt;  // a drive for discs, or a network's
  }
  return found;
}

}  // namespace

std::vector<DriveLetter> read_drive_letters(Store& store) {
  Hive hive(store);
  std::vector<DriveLetter> letters;
  hive.for_each_key(hive.root(), [&](std::uint32_t key, const std::string& name) {
    if (fold_case(name) != "mounteddevices") return true;
    hive.for_each_value(key, [&](const std::string& value, const Buffer& content) {
      if (const auto letter = letter_of(value, content)) letters.push_back(*letter);
    });
    return false;
  });
  std::sort(letters.begin(), letters.end(),
            [](const DriveLetter& a, const DriveLetter& b) { return a.letter < b.letter; });
  return letters;
}

}  // namespace jh
