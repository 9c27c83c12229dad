#include "porphyry/ir/type.h"

namespace porphyry {

std::optional<Type> Type::named(std::string_view name) {
  if (name == "bool") return boolean();
  if (name == "ptr") return pointer();
  if (name == "f32") return f32();
  if (name == "f64") return f64();
  for (unsigned bits : {8u, 16u, 32u, 64u})
    if (name == "i" + std::to_string(bits)) return integer(bits);
  return std::nullopt;
}

std::string Type::name() const {
  switch (shape_) {
    case Shape::None: return "nothing";
    case Shape::Bool: return "bool";
    case Shape::Pointer: return "ptr";
    case Shape::Integer: return "i" + std::to_string(bits_);
    case Shape::Float: return "f" + std::to_string(bits_);
  }
  return "nothing";
}

}  // namespace porphyry
