// Compiles a function just in time and calls it from C++.
#include <fmt/format.h>

#include "porphyry/analyze/verify.h"
#include "porphyry/formats/text.h"
#include "porphyry/jit/jit.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/targets/targets.h"

int main() {
  using namespace porphyry;
  const char* text = R"(
module orchard

-- Liters that a tank loses in a night of frost irrigation.
func irrigation(rows: i32, minutes: i32, rate: f32) -> f32 {
enter:
  area = mul rows, minutes
  size = to_float.s f32 area
  used = mul size, rate
  return used
}
)";
  Realm realm;
  SourceText source("irrigation", text);
  auto module = load_text(realm, source);  // read and verified; every mistake is reported
  if (!module) return fmt::print(stderr, "{}", render(module.why())), 1;

  auto jit = Jit::compile(**module, *native_target());
  if (!jit) return fmt::print(stderr, "{}", render(jit.why())), 1;

  // The C++ type is checked against the function's own.
  auto irrigation = (*jit)->function<float(int32_t, int32_t, float)>("irrigation");
  if (!irrigation) return fmt::print(stderr, "{}", render(irrigation.why())), 1;
  fmt::print("12 rows for 90 minutes use {} liters\n", (*irrigation)(12, 90, 2.25f));

  auto wrong = (*jit)->function<double(int32_t)>("irrigation");
  fmt::print("asked for as double(int): {}", render(wrong.why()));
  return wrong.good() ? 1 : 0;
}
