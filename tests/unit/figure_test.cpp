// Figures: true to scale, nothing that overlaps or is cut off, told apart without colours.
#include "core/base/markup.h"
#include "core/figure/layout.h"
#include "core/figure/occupancy.h"
#include "core/figure/painter.h"
#include "core/figure/strip.h"
#include "support/test.h"

namespace jh::test {
namespace {

std::mt19937_64 generator() {
  const auto seed = seed_of_run();
  fmt::print("  seed {}\n", seed);
  return std::mt19937_64(seed);
}

TEST(StripScale, IsTrueWhereNothingIsTooSmall) {
  const StripScale scale(1000, {{0, 400}, {400, 1000}}, 500, 7);
  EXPECT_DOUBLE_EQ(scale.at(0), 0);
  EXPECT_DOUBLE_EQ(scale.at(200), 100);
  EXPECT_DOUBLE_EQ(scale.at(400), 200);
  EXPECT_DOUBLE_EQ(scale.at(1000), 500);
  EXPECT_FALSE(scale.is_stretched());
}

TEST(StripScale, ShowsSliversAndKeepsTheOrder) {
  auto random = generator();
  for (int round = 0; round < 300; ++round) {
    const std::uint64_t size = 1 + random() % (1ULL << (10 + random() % 45));
    std::vector<ByteRange> spans;
    for (std::uint64_t at = 0; at < size && spans.size() < 40;) {
      const std::uint64_t length = 1 + random() % (1 + size / (1 + random() % 60));
      spans.push_back({at, std::min(size, at + length)});
      at += length;
    }
    const StripScale scale(size, spans, 1216, 7);
    EXPECT_NEAR(scale.at(size), 1216, 0.01);
    double before = -1;
    for (const ByteRange& span : spans) {
      EXPECT_GE(scale.at(span.start), before - 1e-9);
      before = scale.at(span.start);
      EXPECT_GE(scale.at(span.end) - before, 7 - 1e-6) << "a piece cannot be seen";
    }
  }
}

// Whatever is written: inside the figure, and on nothing else that is written.
void expect_legible(const Scene& scene, const Measure& measure) {
  std::vector<const Label*> labels;
  for (const auto& shape : scene.shapes)
    if (const Label* label = std::get_if<Label>(&shape)) labels.push_back(label);
  ASSERT_FALSE(labels.empty());
  for (std::size_t i = 0; i < labels.size(); ++i) {
    const Area& area = labels[i]->area;
    EXPECT_GE(area.x, 0) << labels[i]->text;
    EXPECT_GE(area.y, 0) << labels[i]->text;
    EXPECT_LE(area.right(), scene.width) << labels[i]->text;
    EXPECT_LE(area.bottom(), scene.height) << labels[i]->text;
    EXPECT_GE(area.width + 0.01, measure(labels[i]->text, labels[i]->size, labels[i]->bold))
        << labels[i]->text << " is cut off";
    for (std::size_t k = 0; k < i; ++k)
      EXPECT_FALSE(area.overlaps(labels[k]->area)) << labels[i]->text << " | " << labels[k]->text;
    for (const auto& shape : scene.shapes)
      if (const Rule* rule = std::get_if<Rule>(&shape); rule != nullptr && rule->x1 == rule->x2) {
        const bool through = rule->x1 > area.x + 0.5 && rule->x1 < area.right() - 0.5 &&
                             std::max(rule->y1, rule->y2) > area.y + 1 &&
                             std::min(rule->y1, rule->y2) < area.bottom() - 1;
        EXPECT_FALSE(through) << "a rule runs through " << labels[i]->text;
      }
  }
}

PanelView random_panel(std::mt19937_64& random, const std::string& key) {
  PanelView panel;
  panel.key = key;
  panel.title = key + std::string(random() % 120, 'x');
  panel.note = "raw, 1 GiB long";
  panel.size = Bytes(1 + random() % (1ULL << (20 + random() % 30)));
  std::uint64_t at = 0;
  const std::size_t count = random() % 30;
  for (std::size_t i = 0; i < count && at < panel.size.value(); ++i) {
    const std::uint64_t left = panel.size.value() - at;
    const std::uint64_t length = std::min(left, 1 + random() % (1 + left / (1 + random() % 40)));
    PieceView piece{fmt::format("p{}", i),
                    fmt::format("/srv/{}", std::string(random() % 30, 'w')),
                    "ext4",
                    static_cast<PieceKind>(random() % 7),
                    Bytes(at),
                    Bytes(length),
                    {},
                    {}};
    if (random() % 2 == 0) {
      piece.content = Bytes(length - random() % length);
      piece.used = Bytes(random() % (piece.content->value() + 1));
    }
    panel.pieces.push_back(piece);
    at += length + random() % (1 + left / 50);
  }
  return panel;
}

TEST(LayoutFigure, LabelsNeverOverlapAndAreNeverCut) {
  auto random = generator();
  const Measure measure = painter_measure();
  for (int round = 0; round < 120; ++round) {
    GuestView before;
    GuestView after;
    before.hostname = "moorhost";
    for (std::size_t i = 0; i < 1 + random() % 3; ++i) {
      const std::string key = fmt::format("disk {}", i + 1);
      before.panels.push_back(random_panel(random, key));
      if (random() % 8 != 0) after.panels.push_back(random_panel(random, key));
    }
    const bool one = random() % 3 == 0;
    const Scene scene =
        layout_scene(before, one ? std::nullopt : std::optional(after), random() % 2 == 0, measure);
    expect_legible(scene, measure);
    if (HasFailure()) FAIL() << "round " << round;
  }
}

TEST(OccupancyFigure, LabelsNeverOverlapAndAreNeverCut) {
  auto random = generator();
  const Measure measure = painter_measure();
  for (int round = 0; round < 50; ++round) {
    const auto state = [&] {
      Occupancy out;
      out.image = "/srv/" + std::string(random() % 200, 'y') + ".qcow2";
      out.length = random() % (1ULL << (random() % 50));
      out.host = random() % (1ULL << (random() % 50));
      out.disk = random() % (1ULL << (random() % 50));
      out.used = random() % (out.disk + 1);
      out.bins.resize(Occupancy::bin_count);
      for (OccupancyBin& bin : out.bins) {
        bin.used = static_cast<double>(random() % 100) / 100;
        bin.idle = (1 - bin.used) * static_cast<double>(random() % 100) / 100;
      }
      return out;
    };
    const Occupancy before = state();
    const std::optional<Occupancy> after =
        random() % 2 == 0 ? std::optional(state()) : std::nullopt;
    expect_legible(occupancy_scene(before, after, measure), measure);
  }
}

// Told apart without colours: by the pattern, or by how bright they are.
TEST(Palette, FillsDifferInGrey) {
  const std::vector<std::vector<Fill>> together{
      {Fill::files, Fill::idle, Fill::swap, Fill::device, Fill::encrypted, Fill::unknown,
       Fill::room},
      {Fill::files, Fill::kept, Fill::tables, Fill::hole, Fill::gone}};
  for (const Palette* palette : {&light_palette(), &dark_palette()})
    for (const auto& fills : together)
      for (std::size_t i = 0; i < fills.size(); ++i)
        for (std::size_t k = 0; k < i; ++k) {
          const Paint a = palette->paint(fills[i]);
          const Paint b = palette->paint(fills[k]);
          EXPECT_TRUE(a.pattern != b.pattern || contrast(a.color, b.color) >= 1.5)
              << static_cast<int>(fills[i]) << " and " << static_cast<int>(fills[k]);
        }
}

TEST(Palette, TextCanBeReadOnWhatItStandsOn) {
  for (const Palette* palette : {&light_palette(), &dark_palette()}) {
    for (const Fill fill : {Fill::none, Fill::idle, Fill::swap, Fill::device, Fill::encrypted,
                            Fill::unknown, Fill::room, Fill::files, Fill::disk})
      EXPECT_GE(contrast(palette->text, palette->paint(fill).color), 4.5) << static_cast<int>(fill);
    EXPECT_GE(contrast(palette->quiet, palette->ground), 4.5);
  }
}

TEST(Painter, WritesWhatOthersRead) {
  GuestView view;
  view.hostname = "<moor> & \"host\"\x1b[31m";
  PanelView panel;
  panel.key = "disk 1";
  panel.title = "heather.img";
  panel.size = 1_GiB;
  panel.pieces.push_back(
      {"p1", "</svg><script>", "ext4", PieceKind::files, 1_MiB, 100_MiB, 100_MiB, 10_MiB});
  view.panels.push_back(panel);
  const Scene scene = layout_scene(view, std::nullopt, false, painter_measure());
  const std::string svg = svg_of(scene, light_palette());
  EXPECT_THAT(svg,
              HasSubstr("<title>&lt;moor&gt; &amp; &quot;host&quot;\\x1b[31m: as it is</title>"))
      << svg.substr(0, 600);
  EXPECT_THAT(svg, HasSubstr("role=\"img\""));
  EXPECT_THAT(svg, Not(HasSubstr("<script")));
  EXPECT_THAT(svg, HasSubstr("10 MiB used")) << "its words are in it";
  const std::string png = png_of(scene, light_palette());
  ASSERT_GT(png.size(), 24U);
  EXPECT_EQ(png.substr(1, 3), "PNG");
  const auto number = [&](std::size_t at) {
    std::uint32_t value = 0;
    for (std::size_t i = 0; i < 4; ++i)
      value = value << 8 | static_cast<unsigned char>(png[at + i]);
    return value;
  };
  EXPECT_EQ(number(16), 1280U);
}

TEST(Markup, Base64IsThatOfTheStandard) {
  // RFC 4648, section 10.
  const std::vector<std::pair<std::string, std::string>> known{{"", ""},
                                                               {"f", "Zg=="},
                                                               {"fo", "Zm8="},
                                                               {"foo", "Zm9v"},
                                                               {"foob", "Zm9vYg=="},
                                                               {"fooba", "Zm9vYmE="},
                                                               {"foobar", "Zm9vYmFy"}};
  for (const auto& [plain, coded] : known) EXPECT_EQ(base64(plain), coded);
}

}  // namespace
}  // namespace jh::test
