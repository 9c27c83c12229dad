// Reads a program, evaluates it and runs it on the processor: what an outside project does first.
#include <porphyry/analyze/verify.h>
#include <porphyry/eval/evaluator.h>
#include <porphyry/jit/jit.h>
#include <porphyry/targets/targets.h>

#include <cstdio>
#include "porphyry/formats/text.h"

int main() {
  using namespace porphyry;
  Realm realm;
  auto module = load_text(realm, SourceText("alarm.por", R"(module alarm

func colder(a: i32, b: i32) -> i32 {
enter:
  c = min.s a, b
  return c
}
)"));
  if (!module) return 1;
  Evaluator evaluator(**module);
  Datum arguments[] = {{7, 0}, {static_cast<uint32_t>(-3), 0}};
  Outcome run = evaluator.call((*module)->find("colder"), arguments);
  auto jit = Jit::compile(**module, *native_target());
  if (!jit) return 1;
  auto native = reinterpret_cast<int (*)(int, int)>((*jit)->address("colder"));
  std::printf("%d %d\n", static_cast<int>(run.results[0].bits), native(7, -3));
}
