#include "porphyry/formats/format.h"

namespace porphyry {

#define PORPHYRY_FORMAT(name) \
  namespace name {            \
  extern const Format format; \
  }
#include "formats.inc"
#undef PORPHYRY_FORMAT

std::span<const Format> all_formats() {
  static const Format formats[] = {
#define PORPHYRY_FORMAT(name) name::format,
#include "formats.inc"
#undef PORPHYRY_FORMAT
  };
  return formats;
}

namespace {

template <typename Fits>
const Format* first_that(Fits fits) {
  for (const Format& f : all_formats())
    if (fits(f)) return &f;
  return nullptr;
}

}  // namespace

const Format* format_named(std::string_view name) {
  return first_that([&](const Format& f) { return f.name == name; });
}

const Format* format_of_path(std::string_view path) {
  return first_that([&](const Format& f) { return path.ends_with(f.ending); });
}

const Format* format_of_bytes(std::string_view bytes) {
  return first_that([&](const Format& f) { return f.recognizes(bytes); });
}

Result<std::unique_ptr<Module>> load_module(Realm& realm, const SourceText& source) {
  if (const Format* f = format_of_bytes(source.text())) return f->load(realm, source);
  std::vector<std::string> names;
  for (const Format& f : all_formats()) names.emplace_back(f.name);
  return complaint("'" + source.name() + "' is in no form that is known", "a module: " + listed(names));
}

}  // namespace porphyry
