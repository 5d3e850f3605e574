#include "support/hive.h"

#include "core/base/endian.h"

namespace jh::test {
namespace {

template <class Number>
void put(Buffer& b, std::size_t at, std::uint64_t value) {
  Number number;
  number = static_cast<typename Number::value_type>(value);
  put_at(b, at, number);
}

Buffer name_bytes(const std::string& name, bool wide) {
  Buffer out;
  for (const char c : name) {
    out.push_back(static_cast<std::uint8_t>(c));
    if (wide) out.push_back(0);
  }
  return out;
}

class Bin {
 public:
  Bin() : bytes_(32) {
    std::memcpy(bytes_.data(), "hbin", 4);
    put<Le32>(bytes_, 8, 4096);
  }
  std::uint32_t cell(const Buffer& content) {
    const std::size_t at = bytes_.size();
    const std::size_t size = (content.size() + 4 + 7) / 8 * 8;
    bytes_.resize(at + size);
    put<Le32>(bytes_, at, std::uint32_t(0) - static_cast<std::uint32_t>(size));
    std::copy(content.begin(), content.end(), bytes_.begin() + static_cast<std::ptrdiff_t>(at) + 4);
    return static_cast<std::uint32_t>(at);
  }
  Buffer& bytes() { return bytes_; }

 private:
  Buffer bytes_;
};

Buffer key(const std::string& name, bool wide, std::uint32_t values, std::uint32_t list) {
  const Buffer letters = name_bytes(name, wide);
  Buffer out(0x4C);
  std::memcpy(out.data(), "nk", 2);
  put<Le16>(out, 2, wide ? 0 : 0x20);
  put<Le32>(out, 0x24, values);
  put<Le32>(out, 0x28, list);
  put<Le16>(out, 0x48, letters.size());
  out.insert(out.end(), letters.begin(), letters.end());
  return out;
}

Buffer list_of(const char* kind, const std::vector<std::uint32_t>& cells, bool hashed) {
  Buffer out(4);
  std::memcpy(out.data(), kind, 2);
  put<Le16>(out, 2, cells.size());
  for (const std::uint32_t cell : cells) {
    const std::size_t at = out.size();
    out.resize(at + (hashed ? 8 : 4));
    put<Le32>(out, at, cell);
  }
  return out;
}

}  // namespace

Buffer make_hive(const HiveValues& values, bool wide) {
  Bin bin;
  const std::uint32_t root = bin.cell(key("ROOT", false, 0, 0));
  Buffer list;
  for (const auto& [name, content] : values) {
    const std::uint32_t data = bin.cell(content);
    const Buffer letters = name_bytes(name, wide);
    Buffer value(0x14);
    std::memcpy(value.data(), "vk", 2);
    put<Le16>(value, 2, letters.size());
    put<Le32>(value, 4, content.size());
    put<Le32>(value, 8, data);
    put<Le32>(value, 12, 3);
    put<Le16>(value, 0x10, wide ? 0 : 1);
    value.insert(value.end(), letters.begin(), letters.end());
    const std::size_t at = list.size();
    list.resize(at + 4);
    put<Le32>(list, at, bin.cell(value));
  }
  const std::uint32_t all = list.empty() ? 0 : bin.cell(list);
  const std::uint32_t select = bin.cell(key("Select", wide, 0, 0));
  const std::uint32_t mounted =
      bin.cell(key("MountedDevices", wide, static_cast<std::uint32_t>(values.size()), all));
  std::uint32_t keys = 0;
  if (wide) {
    const std::uint32_t one = bin.cell(list_of("li", {select}, false));
    const std::uint32_t two = bin.cell(list_of("lh", {mounted}, true));
    keys = bin.cell(list_of("ri", {one, two}, false));
  } else {
    keys = bin.cell(list_of("lf", {select, mounted}, true));
  }
  put<Le32>(bin.bytes(), root + 4 + 0x14, 2);
  put<Le32>(bin.bytes(), root + 4 + 0x1C, keys);
  const std::size_t used = bin.bytes().size();
  bin.bytes().resize(4096);
  put<Le32>(bin.bytes(), used, 4096 - used);
  Buffer hive(4096);
  std::memcpy(hive.data(), "regf", 4);
  put<Le32>(hive, 0x24, root);
  put<Le32>(hive, 0x28, 4096);
  hive.insert(hive.end(), bin.bytes().begin(), bin.bytes().end());
  return hive;
}

Buffer mbr_place(std::uint32_t signature, std::uint64_t offset) {
  Buffer out(12);
  put<Le32>(out, 0, signature);
  put<Le64>(out, 4, offset);
  return out;
}

Buffer gpt_place(const std::vector<std::uint8_t>& guid) {
  Buffer out{'D', 'M', 'I', 'O', ':', 'I', 'D', ':'};
  out.insert(out.end(), guid.begin(), guid.end());
  return out;
}

}  // namespace jh::test
