#include "porphyry/machine/code.h"

namespace porphyry::machine {

unsigned Target::class_of(unsigned physical) const {
  for (size_t k = 0; k < classes.size(); ++k)
    if (physical >= classes[k].first && physical < classes[k].first + classes[k].count)
      return static_cast<unsigned>(k);
  return 0;
}

std::string_view Target::register_name(unsigned physical, unsigned bits) const {
  const RegisterClass& c = classes[class_of(physical)];
  for (size_t k = c.views.size(); k-- > 0;)  // the narrowest view that is wide enough
    if (c.views[k].bits >= bits) return c.views[k].names[physical - c.first];
  return c.views[0].names[physical - c.first];
}

FormIndex Target::find(std::string_view wanted) const {
  for (size_t k = first_real_form; k < forms.size(); ++k)
    if (forms[k].name == wanted) return static_cast<FormIndex>(k);
  return 0;
}

std::vector<size_t> pool_places(std::span<const PoolEntry> pool) {
  std::vector<size_t> out;
  size_t at = 0;
  for (const PoolEntry& e : pool) {
    at = (at + e.bytes - 1) / e.bytes * e.bytes;
    out.push_back(at);
    at += e.bytes;
  }
  out.push_back(at);
  return out;
}

}  // namespace porphyry::machine
