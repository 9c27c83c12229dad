// Every report is what its schema in docs/ says.
#include <gtest/gtest.h>

#include "support/process.h"

namespace porphyry {
namespace {

TEST(Reports, AreWhatTheirSchemasSay) {
  testing::TemporaryFolder folder;
  const std::string tool = PORPHYRY_TOOL " ", demo = PORPHYRY_ROOT "/demo/", frost = demo + "frostwatch.por ",
                    ledger = demo + "ledger.por ";
  const std::string object = folder.file("o.o"),
                    left = folder.write(
                        "l.por",
                        "module l\n\nfunc f(n: i32 secret) -> i32 {\nenter:\n  q = div.s n, 2\n  c = eq q, "
                        "1\n  when c go x else y\nx:\n  return 1\ny:\n  return q\n}\n");
  const std::string right =
      folder.write("r.por",
                   "module r\n\nfunc f(n: i32) -> i32 {\nenter:\n  q = shr.s n, 1\n  c = eq q, 1\n  when c "
                   "go x else y\nx:\n  return 1\ny:\n  return q\n}\n");
  ASSERT_EQ(testing::run_command(tool + "lower " + frost + "-o " + object).status, 0);
  const std::vector<std::pair<std::string, std::string>> reports = {
      {"diagnostics", "check --json " + demo + "wrong.por"},
      {"operations", "operations --json"},
      {"listing", "lower --as json -O2 " + frost},
      {"listing", "show --as json " + object},
      {"why", "why --json -O2 " + ledger},
      {"why-code", "why --json -O2 --function chill --code next " + frost},
      {"steps", "optimize --steps --difference --json " + frost},
      {"check", "optimize --check --json " + frost},
      {"trace", "trace --json " + frost + "dew_point 3.5 80"},
      {"trace", "trace --json --stage encoded " + frost + "dew_point 3.5 80"},
      {"trace-against", "trace --json --against " + right + " " + left + " f -7"},
      {"compare", "compare --json " + frost + "--call 'dew_point 3.5 80' --side -O1 --side -O2"},
      {"compare", "compare --json " + frost + object},
      {"compare-lines", "compare --json --side -O1 --side -O2 --function chill " + frost},
      {"hunt", "hunt --json --rounds 1 --function clock " + ledger},
      {"prove", "prove --json " + left + " --against " + right},
      {"secrets", "check --secret --json " + left},
      {"slice", "show --as json --slice gap --function chill " + frost},
      {"drawing", "show --as json --view loops --function shade " + ledger},
  };
  const std::string script = folder.write("valid.py", R"(
import json, sys, jsonschema
schema = json.load(open(sys.argv[1]))
jsonschema.Draft202012Validator.check_schema(schema)
jsonschema.validate(json.load(open(sys.argv[3])), {**schema, "$ref": "#/$defs/" + sys.argv[2]}, cls=jsonschema.Draft202012Validator)
)");
  for (const auto& [name, call] : reports) {
    const std::string out = folder.file("report.json");
    testing::run_command(tool + call + " > " + out + " 2>/dev/null");
    const auto valid =
        testing::run_command("/usr/bin/python3 " + script + " " PORPHYRY_ROOT "/docs/reports.schema.json " +
                             name + " " + out + " 2>&1");
    EXPECT_EQ(valid.status, 0) << call << "\n" << valid.out.substr(0, 1500);
  }
}

}  // namespace
}  // namespace porphyry
