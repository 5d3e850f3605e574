#include "support/ntfs_accounting.h"

#include <stdexcept>

#include "support/test.h"

namespace jh::test {
namespace {

using Bytes = std::vector<unsigned char>;

struct Extent {
  std::uint64_t vcn, lcn, count;  // lcn ~0: a hole
};
constexpr std::uint64_t nowhere = ~std::uint64_t{0};

struct Part {  // one attribute header
  std::uint32_t type = 0;
  std::string name;
  bool far = false;
  unsigned flags = 0, instance = 0, unit = 0;
  std::uint64_t first = 0, last = 0, allocated = 0, size = 0, written = 0;
  Bytes value;
  std::vector<Extent> extents;
  std::uint64_t record = 0;
};

[[noreturn]] void wrong(const std::string& what) { throw std::runtime_error(what); }

class Volume {
 public:
  Volume(const std::string& image, std::uint64_t offset) : offset_(offset) {
    file_.open(image, std::ios::binary);
    const Bytes boot = at(0, 512);
    if (std::memcmp(&boot[3], "NTFS    ", 8) != 0) wrong("no NTFS");
    sector = number(boot, 11, 2);
    const unsigned per = boot[13];
    cluster = sector * (per > 128 ? std::uint64_t{1} << (256 - per) : per);
    sectors = number(boot, 40, 8);
    clusters = sectors * sector / cluster;
    mft = number(boot, 48, 8);
    mirror = number(boot, 56, 8);
    const auto field = static_cast<signed char>(boot[64]);
    record = field < 0 ? std::uint64_t{1} << -field : cluster * static_cast<unsigned>(field);
    table_ = {{0, mft, (record + cluster - 1) / cluster}};
    records = 1;
    read_table();
  }

  Bytes at(std::uint64_t where, std::uint64_t count) {
    Bytes out(count);
    file_.clear();
    file_.seekg(static_cast<std::streamoff>(offset_ + where));
    file_.read(reinterpret_cast<char*>(out.data()), static_cast<std::streamsize>(count));
    if (static_cast<std::uint64_t>(file_.gcount()) != count) wrong("the image ends too early");
    return out;
  }
  static std::uint64_t number(const Bytes& b, std::size_t where, int count) {
    std::uint64_t n = 0;
    if (where + static_cast<std::size_t>(count) > b.size()) wrong("a field lies outside");
    for (int i = count; i-- > 0;) n = n << 8 | b[where + static_cast<std::size_t>(i)];
    return n;
  }
  // Holes and what was never written are zeros.
  Bytes content(const std::vector<Extent>& extents, std::uint64_t size, std::uint64_t written) {
    Bytes out(size);
    for (const Extent& e : extents) {
      const std::uint64_t from = e.vcn * cluster;
      if (e.lcn == nowhere || from >= std::min(size, written)) continue;
      const std::uint64_t count = std::min(e.count * cluster, std::min(size, written) - from);
      const Bytes part = at(e.lcn * cluster, count);
      std::copy(part.begin(), part.end(), out.begin() + static_cast<std::ptrdiff_t>(from));
    }
    return out;
  }
  Bytes raw(std::uint64_t n) {
    Bytes out;
    for (std::uint64_t done = 0; done < record;) {
      const std::uint64_t where = n * record + done;
      bool found = false;
      for (const Extent& e : table_)
        if (where >= e.vcn * cluster && where < (e.vcn + e.count) * cluster) {
          const std::uint64_t step = std::min(record - done, (e.vcn + e.count) * cluster - where);
          const Bytes part = at(e.lcn * cluster + where - e.vcn * cluster, step);
          out.insert(out.end(), part.begin(), part.end());
          done += step;
          found = true;
          break;
        }
      if (!found) wrong("record " + std::to_string(n) + " has no place");
    }
    return out;
  }
  static void mend(Bytes& block) {
    const std::uint64_t where = number(block, 4, 2);
    const std::uint64_t count = number(block, 6, 2);
    for (std::uint64_t i = 1; i < count; ++i) {
      if (block[i * 512 - 2] != block[where] || block[i * 512 - 1] != block[where + 1])
        wrong("a torn block");
      block[i * 512 - 2] = block[where + 2 * i];
      block[i * 512 - 1] = block[where + 2 * i + 1];
    }
  }
  std::vector<Part> parts(std::uint64_t n) {
    Bytes b = raw(n);
    if (std::memcmp(b.data(), "FILE", 4) != 0) wrong("record " + std::to_string(n) + ": no FILE");
    mend(b);
    std::vector<Part> out;
    for (std::uint64_t p = number(b, 20, 2); number(b, p, 4) != 0xFFFFFFFF;) {
      const std::uint64_t length = number(b, p + 4, 4);
      if (length < 24 || p + length > number(b, 24, 4)) wrong("an attribute that does not fit");
      out.push_back(part(b, p, length));
      out.back().record = n;
      p += length;
    }
    return out;
  }
  Bytes list(const Part& p) { return p.far ? content(p.extents, p.size, p.written) : p.value; }
  // All attributes of a file, further records included; pieces of one joined.
  std::vector<Part> file(std::uint64_t n, std::vector<std::uint64_t>* further = nullptr) {
    std::vector<Part> own = parts(n);
    std::vector<Part> all;
    const Part* list_part = nullptr;
    for (const Part& p : own)
      if (p.type == 0x20) list_part = &p;
    if (list_part == nullptr) {
      all = own;
    } else {
      all.push_back(*list_part);
      const Bytes b = list(*list_part);
      std::uint64_t before = 0;
      for (std::uint64_t p = 0; p + 26 <= b.size(); p += number(b, p + 4, 2)) {
        if (number(b, p, 4) < before) wrong("a list out of order");
        before = number(b, p, 4);
        const std::uint64_t where = number(b, p + 16, 6);
        const Bytes there = raw(where);
        if (number(there, 16, 2) != number(b, p + 22, 2)) wrong("a list with an old reference");
        if (where != n) {
          if (number(there, 32, 6) != n) wrong("a further record of another file");
          if (further != nullptr) further->push_back(where);
        }
        bool found = false;
        for (const Part& q : parts(where))
          if (q.type == number(b, p, 4) && q.instance == number(b, p + 24, 2) &&
              q.first == number(b, p + 8, 8)) {
            all.push_back(q);
            found = true;
          }
        if (!found) wrong("file " + std::to_string(n) + ": its list names what is not there");
      }
    }
    std::vector<Part> joined;
    for (const Part& p : all) {
      if (p.far && p.first != 0) {
        if (joined.empty() || joined.back().type != p.type || joined.back().name != p.name ||
            joined.back().last + 1 != p.first)
          wrong("file " + std::to_string(n) + ": a gap between pieces");
        joined.back().last = p.last;
        for (const Extent& e : p.extents) joined.back().extents.push_back(e);
        continue;
      }
      joined.push_back(p);
    }
    return joined;
  }

  std::uint64_t sector = 0, cluster = 0, sectors = 0, clusters = 0, mft = 0, mirror = 0, record = 0,
                records = 0;

 private:
  Part part(const Bytes& b, std::uint64_t p, std::uint64_t length) {
    Part out;
    out.type = static_cast<std::uint32_t>(number(b, p, 4));
    out.far = b[p + 8] != 0;
    const unsigned letters = b[p + 9];
    for (unsigned i = 0; i < letters; ++i)
      out.name += static_cast<char>(number(b, p + number(b, p + 10, 2) + 2 * i, 2));
    out.flags = static_cast<unsigned>(number(b, p + 12, 2));
    out.instance = static_cast<unsigned>(number(b, p + 14, 2));
    if (!out.far) {
      const std::uint64_t size = number(b, p + 16, 4);
      const std::uint64_t where = p + number(b, p + 20, 2);
      if (where + size > p + length) wrong("a value outside of its attribute");
      out.value.assign(b.begin() + static_cast<std::ptrdiff_t>(where),
                       b.begin() + static_cast<std::ptrdiff_t>(where + size));
      out.size = size;
      return out;
    }
    out.first = number(b, p + 16, 8);
    out.last = number(b, p + 24, 8);
    out.unit = b[p + 34];
    if (out.first == 0) {
      out.allocated = number(b, p + 40, 8);
      out.size = number(b, p + 48, 8);
      out.written = number(b, p + 56, 8);
    }
    std::uint64_t vcn = out.first;
    std::uint64_t lcn = 0;
    for (std::uint64_t q = p + number(b, p + 32, 2); b.at(q) != 0;) {
      const int count_bytes = b[q] & 15;
      const int lcn_bytes = b[q] >> 4;
      const std::uint64_t count = number(b, q + 1, count_bytes);
      if (lcn_bytes != 0) {
        std::uint64_t step = number(b, q + 1 + static_cast<std::uint64_t>(count_bytes), lcn_bytes);
        if (lcn_bytes < 8 && (step >> (8 * lcn_bytes - 1)) != 0) step |= nowhere << (8 * lcn_bytes);
        lcn += step;
      }
      out.extents.push_back({vcn, lcn_bytes == 0 ? nowhere : lcn, count});
      vcn += count;
      q += 1 + static_cast<std::uint64_t>(count_bytes + lcn_bytes);
    }
    if (vcn != out.last + 1) wrong("extents that do not reach as far as is said");
    return out;
  }
  // Records that list its further pieces lie in the pieces in front.
  void read_table() {
    const std::vector<Part> first = parts(0);
    std::vector<Extent> known;
    std::uint64_t size = 0;
    for (const Part& p : first)
      if (p.type == 0x80) {
        known = p.extents;
        size = p.size;
      }
    table_ = known;
    records = size / record;
    for (const Part& p : first) {
      if (p.type != 0x20) continue;
      const Bytes b = list(p);
      for (std::uint64_t q = 0; q + 26 <= b.size(); q += number(b, q + 4, 2)) {
        if (number(b, q, 4) != 0x80 || number(b, q + 8, 8) == 0) continue;
        for (const Part& piece : parts(number(b, q + 16, 6)))
          if (piece.type == 0x80 && piece.first == number(b, q + 8, 8))
            for (const Extent& e : piece.extents) table_.push_back(e);
      }
    }
  }

  std::ifstream file_;
  std::uint64_t offset_;
  std::vector<Extent> table_;
};

void claim(std::vector<bool>& used, const Part& p, std::uint64_t file) {
  for (const Extent& e : p.extents) {
    if (e.lcn == nowhere) continue;
    for (std::uint64_t i = e.lcn; i < e.lcn + e.count; ++i) {
      if (i >= used.size()) wrong("file " + std::to_string(file) + " lies behind the end");
      if (used[i]) wrong("cluster " + std::to_string(i) + " has two owners");
      used[i] = true;
    }
  }
}

void account(Volume& v, std::uint64_t length) {
  if (length != 0 && (v.sectors + 1) * v.sector > length) wrong("it is longer than its place");
  if (v.at(0, v.sector) != v.at(v.sectors * v.sector, v.sector)) wrong("the boot sector's copy");
  for (std::uint64_t i = 0; i < 4; ++i)
    if (v.at(v.mirror * v.cluster + i * v.record, v.record) != v.raw(i)) wrong("the mirror");
  std::vector<bool> used(v.clusters);
  std::vector<int> in_use(v.records);
  Bytes bitmap;
  Bytes records;
  for (std::uint64_t n = 0; n < v.records; ++n) {
    const Bytes raw = v.raw(n);
    if (std::memcmp(raw.data(), "FILE", 4) != 0 || (raw[22] & 1) == 0) continue;
    in_use[n] |= 1;
    if (Volume::number(raw, 32, 8) != 0) continue;
    in_use[n] |= 2;
    std::vector<std::uint64_t> further;
    for (const Part& p : v.file(n, &further)) {
      if (p.far && p.allocated != 0 && (p.last + 1) * v.cluster != p.allocated)
        wrong("file " + std::to_string(n) + ": its allocated size");
      if (p.far && (p.size > p.allocated || p.written > p.size))
        wrong("file " + std::to_string(n) + ": its sizes");
      if (n == 6 && p.type == 0x80) bitmap = v.content(p.extents, p.size, p.written);
      if (n == 0 && p.type == 0xB0)
        records = p.far ? v.content(p.extents, p.size, p.written) : p.value;
      if (n == 8 && p.name == "$Bad" && p.size != v.clusters * v.cluster)
        wrong("the stream of bad clusters");
      if (n == 1 && p.type == 0x80 && p.extents.front().lcn != v.mirror)
        wrong("the mirror's place");
      if (n == 0 && p.type == 0x80 && p.extents.front().lcn != v.mft) wrong("the table's place");
      claim(used, p, n);
    }
    for (const std::uint64_t at : further) in_use[at] |= 2;
  }
  for (std::uint64_t n = 0; n < v.records; ++n) {
    const bool marked = n / 8 < records.size() && (records[n / 8] >> (n % 8) & 1) != 0;
    if (in_use[n] == 1) wrong("record " + std::to_string(n) + " belongs to nobody");
    if (marked != (in_use[n] != 0)) wrong("the bit of record " + std::to_string(n));
  }
  if (bitmap.size() % 8 != 0 || bitmap.size() * 8 < v.clusters) wrong("the bitmap's length");
  for (std::uint64_t i = 0; i < bitmap.size() * 8; ++i) {
    const bool marked = (bitmap[i / 8] >> (i % 8) & 1) != 0;
    if (marked != (i >= v.clusters || used[i])) wrong("the bit of cluster " + std::to_string(i));
  }
}

}  // namespace

std::string account_ntfs(const std::string& image, std::uint64_t offset, std::uint64_t length) {
  try {
    Volume volume(image, offset);
    account(volume, length);
    return {};
  } catch (const std::exception& error) {
    return error.what();
  }
}

std::map<std::string, std::uint64_t> ntfs_contents(const std::string& image, std::uint64_t offset) {
  Volume v(image, offset);
  std::map<std::string, std::uint64_t> found;
  for (std::uint64_t n = 2; n < v.records; ++n) {
    if (n == 6 || n == 7 || n == 8) continue;
    const Bytes raw = v.raw(n);
    if (std::memcmp(raw.data(), "FILE", 4) != 0 || (raw[22] & 1) == 0 ||
        Volume::number(raw, 32, 8) != 0)
      continue;
    for (const Part& p : v.file(n)) {
      if (p.type == 0x20) continue;
      const std::uint64_t written = p.unit != 0 ? p.allocated : p.written;
      const Bytes bytes =
          p.far ? v.content(p.extents, p.unit != 0 ? p.allocated : p.size, written) : p.value;
      std::uint64_t sum = 0xCBF29CE484222325 + p.flags * 31 + p.size;
      for (const unsigned char byte : bytes) sum = (sum ^ byte) * 0x100000001B3;
      // Names are several attributes of one type.
      found[std::to_string(n) + ":" + std::to_string(p.type) + ":" + p.name] += sum;
    }
  }
  return found;
}

std::uint64_t ntfs_size(const std::string& image, std::uint64_t offset) {
  const Volume v(image, offset);
  return (v.sectors + 1) * v.sector;
}

}  // namespace jh::test
