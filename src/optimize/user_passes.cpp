#include "porphyry/optimize/user_passes.h"

#include <dlfcn.h>
#include <fmt/format.h>

namespace porphyry {

static_assert(std::string_view(version_text) == PORPHYRY_VERSION, "the build's version and the header's");

Diagnostics load_passes(const std::string& path, PassTable& table) {
  // A name without a slash would be looked for among the system's libraries.
  const std::string file = path.find('/') == path.npos ? "./" + path : path;
  void* library = dlopen(file.c_str(), RTLD_NOW | RTLD_LOCAL);
  if (!library) {
    const char* why = dlerror();
    return {complaint(fmt::format("'{}' cannot be loaded: {}", path, why ? why : "no reason is given"),
                      "a shared library of passes, compiled against this version")};
  }
  auto made_for = reinterpret_cast<MadeFor (*)()>(dlsym(library, "porphyry_made_for"));
  auto add = reinterpret_cast<void (*)(PassTable&)>(dlsym(library, "porphyry_add_passes"));
  if (!made_for || !add) {
    dlclose(library);
    return {
        complaint(fmt::format("'{}' holds no passes", path), "a library that defines PORPHYRY_USER_PASSES")};
  }
  const MadeFor theirs = made_for();
  if (std::string_view(theirs.version) != version_text || theirs.layout != layout_stamp()) {
    std::string is = fmt::format("'{}' was compiled against version {}", path, theirs.version);
    if (std::string_view(theirs.version) == version_text) is += " with other headers or another compiler";
    dlclose(library);
    return {complaint(
        is, fmt::format("the same library, compiled against version {} as it is installed", version_text))};
  }
  const size_t before = table.all().size();
  add(table);
  if (table.all().size() == before)
    return {complaint(fmt::format("'{}' adds no pass", path), "passes with names that are not taken yet")};
  return {};
}

}  // namespace porphyry
