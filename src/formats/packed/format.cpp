// The packed form as a row of all forms.
#include "porphyry/formats/format.h"

#include "porphyry/analyze/verify.h"
#include "porphyry/formats/packed.h"

namespace porphyry {

Result<std::unique_ptr<Module>> load_packed(Realm& realm, const std::string& name, std::string_view bytes) {
  auto read = read_packed(realm, name, bytes);
  if (!read) return read.why();
  Diagnostics found = verify(**read);
  if (found.empty()) return read;
  for (Diagnostic& d : found) d.file = name;
  return found;
}

namespace packed {

extern const Format format;
const Format format = {
    .name = "packed",
    .ending = ".porb",
    .doc = "few bytes, read several times faster than text",
    .is_text = false,
    .recognizes = is_packed,
    .load = [](Realm& realm,
               const SourceText& source) { return load_packed(realm, source.name(), source.text()); },
    .write = write_packed,
};

}  // namespace packed
}  // namespace porphyry
