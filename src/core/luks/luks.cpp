#include "core/luks/luks.h"

#include <fmt/format.h>
#include <sodium.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "core/base/checked.h"
#include "core/luks/format.h"

namespace jh::luks {
namespace {

using nlohmann::json;

[[noreturn]] void corrupt(const std::string& what) {
  damaged("the LUKS header is corrupt: " + what, {},
          "restore the header from a backup, in the guest");
}

template <std::size_t N>
std::string text_of(const std::array<char, N>& field) {
  return {field.begin(), std::find(field.begin(), field.end(), '\0')};
}

Header read_first_version(Store& place) {
  if (place.size() < sizeof(Header1)) corrupt("it is cut off");
  const auto raw = parse_as<Header1>(read_buffer(place, 0, sizeof(Header1)), 0);
  Header header;
  header.version = 1;
  header.cipher = text_of(raw.cipher) + "-" + text_of(raw.mode);
  header.key_bits = raw.key_bytes.value() * 8;
  header.slots = raw.slots.size();
  for (const Slot& slot : raw.slots) {
    if (slot.state.value() == slot_in_use)
      ++header.slots_in_use;
    else if (slot.state.value() != slot_free)
      corrupt("a key slot is neither in use nor free");
  }
  header.uuid = text_of(raw.uuid);
  header.payload_offset = std::uint64_t{raw.payload.value()} * sector;
  if (raw.key_bytes.value() == 0 || raw.key_bytes.value() > 128)
    corrupt(fmt::format("a key of {} bytes", raw.key_bytes.value()));
  return header;
}

// One copy of version 2 with its JSON text; nothing: it is damaged.
struct Copy {
  Header2 header;
  std::string text;
};

bool checksum_matches(Header2 header, ConstByteSpan whole) {
  if (text_of(header.checksum_kind) != "sha256") return true;  // the JSON text has to be sound then
  const auto expected = header.checksum;
  header.checksum = {};
  crypto_hash_sha256_state state;
  crypto_hash_sha256_init(&state);
  crypto_hash_sha256_update(&state, bytes_of(header).data(), sizeof(header));
  const ConstByteSpan rest = whole.subspan(sizeof(header));
  crypto_hash_sha256_update(&state, rest.data(), rest.size());
  std::array<std::uint8_t, crypto_hash_sha256_BYTES> found{};
  crypto_hash_sha256_final(&state, found.data());
  return std::equal(found.begin(), found.end(), expected.begin());
}

std::optional<Copy> read_copy(Store& place, std::uint64_t at, const Magic& magic) {
  if (at + json_at > place.size()) return std::nullopt;
  const auto header = parse_as<Header2>(read_buffer(place, at, sizeof(Header2)), 0);
  const std::uint64_t size = header.size.value();
  if (header.start.magic != magic || header.start.version.value() != 2 ||
      header.offset.value() != at || size < least_size || size > most_size ||
      (size & (size - 1)) != 0 || size > place.size() - at)
    return std::nullopt;
  const Buffer whole = read_buffer(place, at, size);
  if (!checksum_matches(header, whole)) return std::nullopt;
  const auto from = whole.begin() + json_at;
  return Copy{header, std::string(from, std::find(from, whole.end(), '\0'))};
}

// The second copy lies right behind the first, whose size may be lost with it.
std::optional<Copy> newest_copy(Store& place) {
  std::optional<Copy> newest = read_copy(place, 0, first_magic);
  for (std::uint64_t at = least_size; at <= most_size; at *= 2) {
    std::optional<Copy> second = read_copy(place, at, second_magic);
    if (!second) continue;
    if (!newest || second->header.sequence.value() > newest->header.sequence.value())
      newest = std::move(second);
    break;
  }
  return newest;
}

std::uint64_t number_in(const json& object, const char* key) {
  const std::string& text = object.at(key).get_ref<const std::string&>();
  if (text.empty() || text.size() > 18 ||
      !std::all_of(text.begin(), text.end(), [](char c) { return c >= '0' && c <= '9'; }))
    corrupt(fmt::format("\"{}\" is no number", key));
  return std::stoull(text);
}

void read_segments(const json& document, Header& header) {
  const json& segments = document.at("segments");
  if (segments.size() != 1)
    unsupported(
        fmt::format("its payload lies in {} segments: it is being encrypted anew", segments.size()),
        "LUKS", "let the guest finish that first");
  const json& segment = segments.front();
  if (segment.at("type") != "crypt")
    unsupported("its payload is not encrypted in a known way", "LUKS", "leave it to its guest");
  header.cipher = segment.at("encryption");
  header.payload_offset = number_in(segment, "offset");
  if (segment.at("size") != "dynamic") header.fixed_size = number_in(segment, "size");
}

Header read_second_version(Store& place) {
  const std::optional<Copy> copy = newest_copy(place);
  if (!copy) corrupt("neither of its two copies is sound");
  Header header;
  header.version = 2;
  header.uuid = text_of(copy->header.uuid);
  header.label = text_of(copy->header.label);
  try {
    const json document = json::parse(copy->text);
    read_segments(document, header);
    for (const json& slot : document.at("keyslots")) {
      ++header.slots_in_use;
      header.key_bits = slot.at("key_size").get<std::uint32_t>() * 8;
    }
  } catch (const json::exception&) {
    corrupt("its description (JSON) cannot be understood");
  }
  return header;
}

std::optional<RecognisedLayer> recognise(Store& place) {
  if (place.size() < sizeof(Start)) return std::nullopt;
  const auto start = parse_as<Start>(read_buffer(place, 0, sizeof(Start)), 0);
  if (start.magic != first_magic) return std::nullopt;
  RecognisedLayer found;
  found.kind = ContentKind::encrypted;
  found.facts.name = fmt::format("encrypted (LUKS{})", start.version.value());
  found.facts.state = "locked";
  found.header.remains =
      "open it in the guest with its key, then make the layer and what is in it larger there";
  try {
    const Header header = read_header(place);
    const std::uint64_t room = place.size() - header.payload_offset;
    found.facts.label = header.label;
    found.facts.uuid = header.uuid;
    found.header.details = {
        {"version", std::to_string(header.version)},
        {"cipher", header.cipher},
        {"key size", fmt::format("{} bits", header.key_bits)},
        {"key slots in use", header.slots == 0
                                 ? std::to_string(header.slots_in_use)
                                 : fmt::format("{} of {}", header.slots_in_use, header.slots)}};
    found.header.payload = {header.payload_offset, header.fixed_size.value_or(room),
                            "it is encrypted, and no key was given"};
  } catch (const Error& error) {
    if (error.status() == Status::io) throw;
    found.header.defect = error;
    found.facts.state =
        error.status() == Status::damaged ? "its header is corrupt" : "not looked into";
  }
  return found;
}

}  // namespace

Header read_header(Store& place) {
  const auto start = parse_as<Start>(read_buffer(place, 0, sizeof(Start)), 0);
  const std::uint16_t version = start.version.value();
  if (version != 1 && version != 2)
    unsupported(fmt::format("LUKS version {} is not known", version), "LUKS",
                "leave it to its guest");
  Header header = version == 1 ? read_first_version(place) : read_second_version(place);
  if (header.payload_offset >= place.size() ||
      header.fixed_size.value_or(0) > place.size() - header.payload_offset)
    corrupt("its payload lies behind the end of its place");
  return header;
}

const LayerKind kind{"LUKS", recognise};

}  // namespace jh::luks
