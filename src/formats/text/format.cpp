// The text form as a row of all forms, and reading it with verification: a function is verified right after
// its body was read, while it is in the processor's caches.
#include "porphyry/formats/format.h"

#include "porphyry/analyze/verify.h"
#include "porphyry/formats/text.h"
#include "porphyry/print/print.h"

namespace porphyry {

Result<std::unique_ptr<Module>> load_text(Realm& realm, const SourceText& source) {
  std::optional<Verification> verification;
  auto of = [&](const ReadModule& read) -> Verification& {
    return verification ? *verification : verification.emplace(*read.module);
  };
  auto origin = [&](const ReadModule& read) { return Origin{&source, &read.places, true}; };
  ReadModule read = read_text(realm, source, [&](ReadModule& so_far, Symbol s) {
    of(so_far).function(s, origin(so_far));
    so_far.module->function(s).compact();
  });
  Diagnostics found = of(read).finish(origin(read));
  if (read.problems.empty() && found.empty()) {
    read.module->compact();
    return std::move(read.module);
  }
  for (Diagnostic& d : found) read.problems.push_back(std::move(d));
  std::stable_sort(read.problems.begin(), read.problems.end(), [](const Diagnostic& a, const Diagnostic& b) {
    return std::pair(a.line, a.column) < std::pair(b.line, b.column);
  });
  return std::move(read.problems);
}

namespace {

// Whether the beginning has no zero and few other bytes that stand in no text.
bool looks_like_text(std::string_view bytes) {
  std::string_view head = bytes.substr(0, 1000);
  auto strange = std::count_if(head.begin(), head.end(), [](unsigned char c) {
    return (c < 0x20 && c != '\t' && c != '\n' && c != '\r') || c >= 0xf8;
  });
  return head.find('\0') == head.npos && (strange <= 8 || static_cast<size_t>(strange) * 20 <= head.size());
}

}  // namespace

namespace text {

extern const Format format;
const Format format = {
    .name = "text",
    .ending = ".por",
    .doc = "the language, as people write and read it",
    .is_text = true,
    .recognizes = looks_like_text,
    .load = load_text,
    .write = [](const Module& module) { return write_text(module); },
};

}  // namespace text
}  // namespace porphyry
