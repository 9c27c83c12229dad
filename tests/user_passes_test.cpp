// Passes in shared libraries: loaded, run, believed; what is none is refused.
#include <gtest/gtest.h>

#include "porphyry/optimize/user_passes.h"
#include "porphyry/passes/passes.h"
#include "support/json.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

const std::string library = PORPHYRY_EXAMPLES "/example_regions.so";
const std::string tool_path = PORPHYRY_TOOL, demo = PORPHYRY_ROOT "/demo/";

testing::Ran ran(const std::string& words) { return testing::run_command(tool_path + " " + words + " 2>&1"); }

TEST(UserPasses, TellWhatTheyFind) {
  auto notes = testing::read_json(
      ran("why " + demo + "ledger.por --json --pipeline tell-regions --pass tell-regions --passes " + library)
          .out);
  ASSERT_GT(notes.size(), 10u);
  for (const auto& n : notes)
    EXPECT_NE(n["what"].get<std::string>().find("a region starts at"), std::string::npos);
  const std::string drawn = ran("show " + demo + "ledger.por --pipeline tell-regions --passes " + library +
                                " --view drawings --function shade")
                                .out;
  EXPECT_NE(drawn.find("regions of shade"), std::string::npos) << drawn;
  // It changes nothing, and stands in pipelines like any other.
  EXPECT_EQ(
      ran("optimize " + demo + "ledger.por --pipeline 'fold; tell-regions; sweep' --passes " + library).out,
      ran("optimize " + demo + "ledger.por --pipeline 'fold; sweep'").out);
  EXPECT_NE(ran("optimize " + demo + "ledger.por --steps --pipeline tell-regions --passes " + library)
                .out.find("tell-regions"),
            std::string::npos);
}

TEST(UserPasses, WhatIsNoneIsRefused) {
  testing::TemporaryFolder folder;
  const std::string none = folder.write("none.so", "no library");
  EXPECT_EQ(ran("show " + demo + "night.por --pipeline fold --passes " + none).status, 2);
  EXPECT_NE(ran("show " + demo + "night.por --pipeline fold --passes " + none).out.find("cannot be loaded"),
            std::string::npos);
  EXPECT_NE(ran("show " + demo + "night.por --pipeline fold --passes " + folder.file("gone.so"))
                .out.find("cannot be loaded"),
            std::string::npos);
  EXPECT_NE(
      ran("show " + demo + "night.por --pipeline tell-region --passes " + library).out.find("tell-regions"),
      std::string::npos);
  PassTable table = standard_passes();
  EXPECT_NE(load_passes("libm.so.6", table)[0].message.find("cannot be loaded"),
            std::string::npos);  // not the system's
  EXPECT_EQ(table.all().size(), standard_passes().all().size());
}

}  // namespace
}  // namespace porphyry
