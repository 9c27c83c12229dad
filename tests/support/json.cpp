#include "json.h"

namespace porphyry::testing {

Json read_json(const std::string& text) { return Json::parse(text); }

}  // namespace porphyry::testing
