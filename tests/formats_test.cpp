// The forms of modules: each finds its own files and no others, and gives back what was written.
#include "porphyry/formats/format.h"

#include <gtest/gtest.h>

#include "porphyry/formats/text.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/sample/sample.h"
#include "support/measure.h"

namespace porphyry {
namespace {

TEST(Formats, EachGivesBackWhatWasWrittenInIt) {
  for (uint64_t seed = 1; seed <= testing::part_of(80); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed});
    // Numbered as a reader numbers what has no name.
    auto module = load_text(realm, SourceText("sample", write_text(*program.module)));
    ASSERT_TRUE(module.good()) << render(module.why());
    std::string text = write_text(**module);
    for (const Format& f : all_formats()) {
      if (!f.write) continue;
      std::string bytes = f.write(**module);
      EXPECT_EQ(format_of_bytes(bytes), &f) << f.name;
      Realm other;
      auto back = load_module(other, SourceText("file", bytes));
      ASSERT_TRUE(back.good()) << f.name << "\n" << render(back.why());
      EXPECT_EQ(write_text(**back), text) << f.name << ", seed " << seed;
      EXPECT_EQ(f.write(**back), bytes) << f.name << ", seed " << seed;
    }
  }
}

TEST(Formats, HaveNamesEndingsAndFirstBytesOfTheirOwn) {
  for (const Format& f : all_formats()) {
    EXPECT_EQ(format_named(f.name), &f);
    EXPECT_EQ(format_of_path("orchard/night" + std::string(f.ending)), &f);
    EXPECT_FALSE(f.doc.empty());
  }
  EXPECT_EQ(format_of_path("night.txt"), nullptr);
  EXPECT_EQ(format_named("none"), nullptr);
  Realm realm;
  std::string bytes;
  for (int k = 0; k < 400; ++k) bytes += static_cast<char>(1 + k * 89 % 255);
  auto none = load_module(realm, SourceText("night.bin", bytes));
  ASSERT_EQ(none.why().size(), 1u);
  EXPECT_EQ(none.why()[0].message, "'night.bin' is in no form that is known");
}

}  // namespace
}  // namespace porphyry
