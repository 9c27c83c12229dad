// Alarm rules of frost watch: read, compiled to IR, verified, optimized, compiled to machine code and run
// over a night of readings; the reference evaluator checks every moment.
//
//   alarm_rules RULES NIGHT          such as demo/alarm.rules demo/night.txt
#include <fmt/format.h>

#include <cstring>

#include "compile.h"
#include "porphyry/analyze/verify.h"
#include "porphyry/base/files.h"
#include "porphyry/call/call.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/text.h"
#include "porphyry/jit/jit.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/targets/targets.h"

namespace {

using namespace porphyry;

int refuse(const Diagnostics& why) {
  fmt::print(stderr, "{}", render(why));
  return 1;
}

// "19:40", from minutes of the day
std::string clock(float minute) {
  int m = static_cast<int>(minute) % 1440;
  return fmt::format("{:02}:{:02}", m / 60, m % 60);
}

std::vector<float> column(const std::string& path, unsigned k) {
  auto bytes = read_numbers(path, Type::f32(), k);
  std::vector<float> out(bytes ? bytes->size() / 4 : 0);
  if (!out.empty()) std::memcpy(out.data(), bytes->data(), bytes->size());
  return out;
}

}  // namespace

int main(int count, char** arguments) {
  if (count < 3) return fmt::print(stderr, "alarm_rules RULES NIGHT [--ir]\n"), 2;
  auto text = read_file(arguments[1]);
  if (!text) return refuse(text.why());
  SourceText source(arguments[1], *text);
  auto program = rules::parse(source);
  if (!program) return refuse(program.why());
  Realm realm;
  Module module(realm, "rules");
  if (Diagnostics wrong = rules::compile(**program, source, module); !wrong.empty()) return refuse(wrong);
  if (Diagnostics wrong = verify(module); !wrong.empty()) return refuse(wrong);
  if (count > 3) return fmt::print("{}", write_text(module)), 0;
  if (Diagnostics wrong = run_pipeline(module, level_named("-O1")->pipeline()); !wrong.empty())
    return refuse(wrong);
  auto jit = Jit::compile(module, *native_target());
  if (!jit) return refuse(jit.why());

  // The night's columns: minute, dry bulb, wet bulb, humidity; readings take them in this order.
  std::vector<float> minutes = column(arguments[2], 1);
  std::vector<std::vector<float>> series;
  for (const rules::Definition& d : (*program)->definitions)
    if (d.kind == rules::Definition::Reading)
      series.push_back(column(arguments[2], d.unit == "percent" ? 4 : d.name == "wet" ? 3 : 2));
  if (series.size() != 2)
    return refuse({complaint("the night is read for two readings", "one in C and one in percent")});
  Evaluator evaluator(module);
  std::vector<Datum> pointers;
  for (auto& s : series)
    pointers.push_back(
        evaluator.attach({reinterpret_cast<uint8_t*>(s.data()), s.size() * 4}, "readings", false));
  int differ = 0;
  for (const rules::Definition& d : (*program)->definitions) {
    if (d.kind != rules::Definition::Alarm) continue;
    auto rings = (*jit)->function<bool(const float*, const float*, int64_t)>(d.name);
    if (!rings) return refuse(rings.why());
    std::string times;
    int moments = 0;
    bool before = false;
    for (size_t now = 0; now < minutes.size(); ++now) {
      bool is = (*rings)(series[0].data(), series[1].data(), static_cast<int64_t>(now));
      Datum words[] = {pointers[0], pointers[1], {now, 0}};
      differ += (evaluator.call(module.find(d.name), words).results[0].bits != 0) != is;
      if (is && !before) times += (times.empty() ? "" : ", ") + clock(minutes[now]);
      if (!is && before) times += " to " + clock(minutes[now]);
      before = is, moments += is;
    }
    if (before) times += " to the end";
    fmt::print("{:<8} {:>3} of {} readings{}{}\n", d.name, moments, minutes.size(), times.empty() ? "" : ": ",
               times);
  }
  if (differ) return refuse({complaint(fmt::format("{} moments differ from the evaluator", differ), "none")});
}
