// The page without its data: page.html, as the build puts it into the library.
#pragma once

#include <string_view>

namespace porphyry {
extern const std::string_view page_text;
}
