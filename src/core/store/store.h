// Store: bytes at offsets. Everything above this file sees disks and files only through it.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <cstring>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/checked.h"

namespace jh {

using ByteSpan = std::span<std::uint8_t>;
using ConstByteSpan = std::span<const std::uint8_t>;
using Buffer = std::vector<std::uint8_t>;

/// A run of bytes that is known to read as zeros, or that may hold anything.
struct Range {
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
  bool zero = false;
};

class Store;

/// Where bytes that a view shows really are.
struct Location {
  Store* store = nullptr;  // null: in no one place (they read as zeros, or are compressed)
  std::uint64_t at = 0;
  std::uint64_t length = 0;
};

/// Offsets and lengths are in bytes. An access that is not wholly inside [0, size) is refused with
/// an Error before anything is touched.
class Store {
 public:
  Store() = default;
  Store(const Store&) = delete;
  Store& operator=(const Store&) = delete;
  virtual ~Store() = default;

  virtual std::uint64_t size() const = 0;
  virtual void read(std::uint64_t offset, ByteSpan out) = 0;
  virtual void write(std::uint64_t offset, ConstByteSpan data) = 0;
  /// The same, for bytes that the present, sealed state does not refer to (free blocks, new
  /// clusters): losing or keeping such a write harms nothing, so a Stage need not hold it back.
  virtual void write_unreferenced(std::uint64_t offset, ConstByteSpan data) { write(offset, data); }
  /// The run that begins at `offset`, at most `length` long; never empty when length is not.
  virtual Range map(std::uint64_t offset, std::uint64_t length) {
    check_range(offset, length);
    return {offset, length, false};
  }
  /// Makes `length` bytes from `offset` on read as those of `from` at `source` without copying
  /// them: both files use the same blocks of the host until one of them is written. For bytes that
  /// the present state does not refer to. Only files do this; below views, transfer() finds them.
  /// Returns how many, from the first one on, are so now; 0: this host, or these places, cannot,
  /// and nothing was changed. Throws refused (no room) and io.
  virtual std::uint64_t share(std::uint64_t /*offset*/, Store& /*from*/, std::uint64_t /*source*/,
                              std::uint64_t /*length*/) {
    return 0;
  }
  /// The same of bytes that a view below this one has at `source`, for what moves inside of a
  /// change; who does not pass writes on as they are says 0, and they are copied.
  virtual std::uint64_t share_unreferenced(std::uint64_t /*offset*/, const Location& /*source*/) {
    return 0;
  }
  /// Whether share_unreferenced() of what is here may work: as long as the host has not said no.
  virtual bool may_share() const { return false; }
  /// How many bytes, from the first one on, are the same blocks of the host as those of `other` at
  /// `there`: they need not be compared. 0: that is not known.
  virtual std::uint64_t same_blocks(std::uint64_t /*offset*/, Store& /*other*/,
                                    std::uint64_t /*there*/, std::uint64_t /*length*/) {
    return 0;
  }
  /// A hint that these bytes will be read soon: the host may begin with it.
  virtual void will_read(std::uint64_t /*offset*/, std::uint64_t /*length*/) {}
  /// Where the bytes from `offset` on are, as far as they lie in one run there, at most `length`.
  virtual Location locate(std::uint64_t offset, std::uint64_t length) {
    return {this, offset, length};
  }
  /// Makes the range read as zeros, giving back host space where it can.
  virtual void discard(std::uint64_t offset, std::uint64_t length) = 0;
  virtual void flush() = 0;
  /// A hint that flush() will follow: what was written so far may be brought out meanwhile.
  virtual void begin_flush() {}
  /// Asks for the host space that writes to this range will need; refuses when the host is full.
  virtual void reserve(std::uint64_t /*offset*/, std::uint64_t /*length*/) {}
  /// Changes the size; new bytes read as zeros. Stores of a fixed size refuse.
  virtual void resize(std::uint64_t new_size) = 0;
  virtual bool has_fixed_size() const { return false; }
  /// Where these bytes are, for messages.
  virtual std::string name() const = 0;

  void check_range(std::uint64_t offset, std::uint64_t length) const;
};

/// Reads an on-disk structure. T is a plain struct of Endian buffers.
template <class T>
T read_as(Store& store, std::uint64_t offset) {
  static_assert(std::is_trivially_copyable_v<T>);
  std::array<std::uint8_t, sizeof(T)> raw{};
  store.read(offset, raw);
  T value;
  std::memcpy(&value, raw.data(), sizeof(T));
  return value;
}

template <class T>
ConstByteSpan bytes_of(const T& value) {
  static_assert(std::is_trivially_copyable_v<T>);
  return {reinterpret_cast<const std::uint8_t*>(&value), sizeof(T)};
}

inline ConstByteSpan text_bytes(std::string_view text) {
  return {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()};
}

/// A structure inside a buffer; the range is checked.
template <class T>
T parse_as(ConstByteSpan buffer, std::size_t offset) {
  static_assert(std::is_trivially_copyable_v<T>);
  if (offset > buffer.size() || buffer.size() - offset < sizeof(T))
    damaged("a structure reaches past the end of its block");
  T value;
  std::memcpy(&value, buffer.data() + offset, sizeof(T));
  return value;
}

template <class T>
void put_at(ByteSpan buffer, std::size_t offset, const T& value) {
  static_assert(std::is_trivially_copyable_v<T>);
  ensure(offset <= buffer.size() && buffer.size() - offset >= sizeof(T), "a write fits its buffer");
  std::memcpy(buffer.data() + offset, &value, sizeof(T));
}

/// Files of most hosts share whole blocks of this size; places that differ by less cannot.
inline constexpr std::uint64_t share_alignment = 4096;

bool all_zero(ConstByteSpan data);
/// Discards what is no hole already: what the host has promised, but nobody wrote to, stays
/// promised.
void discard_data(Store& store, std::uint64_t offset, std::uint64_t length);
/// Whether these bytes are there; false when the store ends before.
bool holds(Store& store, std::uint64_t offset, std::string_view bytes);
Buffer read_buffer(Store& store, std::uint64_t offset, std::size_t length);
/// True when the range reads as zeros; holes are not read. Reads at most `length` bytes.
bool range_is_zero(Store& store, std::uint64_t offset, std::uint64_t length);
/// CRC-32C of a range of any length.
std::uint32_t crc32c_of(Store& store, std::uint64_t offset, std::uint64_t length);
/// Writes to bytes that read as zeros so far and that nothing refers to: what is zero in the data
/// too is left out, in whole pages, so that holes of the host's file stay holes.
void write_into_zeros(Store& store, std::uint64_t offset, ConstByteSpan data);
/// Copies a piece of one store to a place of another (or the same) that nothing refers to. Where
/// both are known to be zero nothing is written, so that holes stay holes; large pieces that a
/// stage can share with their old place are not copied.
void copy_unreferenced(Store& from, std::uint64_t offset, Store& to, std::uint64_t target,
                       std::uint64_t length);
/// Whoever moves much does it in pieces of this, and says how far it is in between.
inline constexpr std::uint64_t moved_at_once = 16U << 20;
/// The same in such pieces; `told` hears how many bytes are done after each.
template <class Told>
void copy_in_pieces(Store& from, std::uint64_t offset, Store& to, std::uint64_t target,
                    std::uint64_t length, Told told) {
  for (std::uint64_t done = 0; done < length;) {
    const std::uint64_t step = std::min(moved_at_once, length - done);
    copy_unreferenced(from, offset + done, to, target + done, step);
    told(done += step);
  }
}
/// Writes zeros where the range does not read as zeros already. Returns the bytes written.
std::uint64_t write_zeros_where_needed(Store& store, std::uint64_t offset, std::uint64_t length);

}  // namespace jh
