#include "support/volumes.h"

#include "core/store/file_store.h"
#include "support/test.h"

namespace jh::test {
namespace {

using nlohmann::json;

Words loader(const Words& images) {
  Words command = Words{"grub-fstest", "-c", std::to_string(images.size())} + images;
  return command;
}

std::uint64_t little(const std::string& bytes, std::size_t at, std::size_t size) {
  std::uint64_t value = 0;
  for (std::size_t i = size; i-- > 0;)
    value = value << 8 | static_cast<unsigned char>(bytes.at(at + i));
  return value;
}

// The specification's checksum, bit by bit.
std::uint32_t sum(const std::string& bytes, std::size_t at, std::size_t size) {
  std::uint32_t crc = 0xF597A6CF;
  for (std::size_t i = at; i < at + size; ++i) {
    crc ^= static_cast<unsigned char>(bytes.at(i));
    for (int bit = 0; bit < 8; ++bit) crc = crc >> 1 ^ ((crc & 1) != 0 ? 0xEDB88320U : 0U);
  }
  return crc;
}

std::string part(const std::string& image, std::uint64_t offset, std::size_t size) {
  std::ifstream in(image, std::ios::binary);
  in.seekg(static_cast<std::streamoff>(offset));
  std::string bytes(size, '\0');
  in.read(bytes.data(), static_cast<std::streamsize>(size));
  return bytes;
}

}  // namespace

std::vector<VolumePiece> volume_pieces(const Words& images, const std::string& volume) {
  const json survey = survey_of(images);
  std::vector<VolumePiece> pieces;
  for (const json& group : survey.at("groups")) {
    std::map<std::string, VolumePiece> devices;
    for (const json& device : group.at("physical_volumes")) {
      const std::string place = device.at("place");
      for (std::size_t i = 0; i < images.size(); ++i)
        for (const json& known : survey.at("disks").at(i).at("places"))
          if (known.at("name") == place) {
            const std::uint64_t start = known.at("offset");
            const std::string text = metadata_text(images[i], start);
            // The first extent's sector, from the text itself.
            const std::size_t own = text.find(device.at("id").get<std::string>());
            const std::size_t at = text.find("pe_start = ", own) + 11;
            devices[device.at("name")] = {images[i], start + std::stoull(text.substr(at)) * 512, 0};
          }
    }
    const std::uint64_t unit = group.at("extent_size");
    for (const json& known : group.at("volumes")) {
      if (known.at("name") != volume) continue;
      for (const json& segment : known.at("segments")) {
        const auto& stripes = segment.at("stripes");
        const std::uint64_t bytes = segment.at("extents").get<std::uint64_t>() * unit;
        const std::uint64_t chunk = stripes.size() == 1 ? bytes : 65536;
        for (std::uint64_t done = 0; done < bytes; done += chunk) {
          const json& stripe = stripes.at(done / chunk % stripes.size());
          VolumePiece piece = devices.at(stripe.at("device"));
          piece.offset += stripe.at("extent").get<std::uint64_t>() * unit +
                          done / chunk / stripes.size() * chunk;
          piece.length = chunk;
          pieces.push_back(piece);
        }
      }
    }
  }
  return pieces;
}

void extract_volume(const Words& images, const std::string& volume, const std::string& to) {
  const auto out = FileStore::create(to);
  std::uint64_t total = 0;
  for (const VolumePiece& piece : volume_pieces(images, volume)) {
    FileStore in(piece.image, Access::read_only);
    out->resize(total + piece.length);
    // Zeros stay holes.
    for (std::uint64_t done = 0; done < piece.length;) {
      const auto run = in.map(piece.offset + done, piece.length - done);
      const std::uint64_t step =
          run.zero ? run.length : std::min<std::uint64_t>(run.length, 1U << 20);
      if (!run.zero) out->write(total + done, read_buffer(in, piece.offset + done, step));
      done += step;
    }
    total += piece.length;
  }
}

std::string loader_devices(const Words& images) {
  Words command = loader(images);
  command.emplace_back("ls");
  const ProgramResult outcome = run(command);
  return outcome.out + outcome.err;
}

std::string loader_sum(const Words& images, const std::string& file) {
  Words command = loader(images);
  command.emplace_back("crc");
  command.push_back(file);
  const ProgramResult outcome = run(command);
  return outcome.status == 0 ? outcome.out : "failed: " + outcome.err;
}

std::string metadata_text(const std::string& image, std::uint64_t offset) {
  const std::string start = part(image, offset, 8192);
  EXPECT_EQ(start.substr(512, 8), "LABELONE");
  EXPECT_EQ(sum(start, 512 + 20, 512 - 20), little(start, 512 + 16, 4)) << "label of " << image;
  EXPECT_EQ(sum(start, 4096 + 4, 512 - 4), little(start, 4096, 4)) << "area of " << image;
  const std::uint64_t area_size = little(start, 4096 + 32, 8);
  const std::uint64_t at = little(start, 4096 + 40, 8);
  const std::uint64_t size = little(start, 4096 + 48, 8);
  const std::string area = part(image, offset + 4096, area_size);
  const std::uint64_t first = std::min(size, area_size - at);
  std::string text = area.substr(at, first) + area.substr(512, size - first);
  EXPECT_EQ(sum(text, 0, text.size()), little(start, 4096 + 56, 4)) << "text on " << image;
  while (!text.empty() && text.back() == '\0') text.pop_back();
  return text;
}

}  // namespace jh::test
