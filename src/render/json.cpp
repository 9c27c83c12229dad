#include "json.h"

namespace porphyry {

std::string json_text(const Json& value) {
  return value.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

}  // namespace porphyry
