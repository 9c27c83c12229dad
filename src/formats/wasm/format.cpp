// WebAssembly as a row of all forms.
#include "porphyry/formats/format.h"
#include "porphyry/formats/wasm.h"

namespace porphyry::wasm {

extern const Format format;
const Format format = {
    .name = "wasm",
    .ending = ".wasm",
    .doc = "WebAssembly, what compilers of many languages write; only read",
    .is_text = false,
    .recognizes = is_wasm,
    .load = [](Realm& realm, const SourceText& source) -> Result<std::unique_ptr<Module>> {
      auto program = read_wasm(realm, source.name(), source.text());
      if (!program) return program.why();
      return std::move(program->module);
    },
    .write = nullptr,
};

}  // namespace porphyry::wasm
