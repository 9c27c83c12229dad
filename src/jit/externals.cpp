// The functions of the C library that programs and legalization may call without anyone naming their
// addresses.
#include <cmath>

#include "porphyry/jit/jit.h"

namespace porphyry {

void* usual_externals(std::string_view name) {
  struct Row {
    std::string_view name;
    void* address;
  };
  auto one = [](double (*f)(double)) { return reinterpret_cast<void*>(f); };
  auto one_single = [](float (*f)(float)) { return reinterpret_cast<void*>(f); };
  auto two = [](double (*f)(double, double)) { return reinterpret_cast<void*>(f); };
  auto two_single = [](float (*f)(float, float)) { return reinterpret_cast<void*>(f); };
  const Row rows[] = {
      {"floor", one(std::floor)},
      {"floorf", one_single(std::floor)},
      {"ceil", one(std::ceil)},
      {"ceilf", one_single(std::ceil)},
      {"rint", one(std::rint)},
      {"rintf", one_single(std::rint)},
      {"trunc", one(std::trunc)},
      {"truncf", one_single(std::trunc)},
      {"fmod", two(std::fmod)},
      {"fmodf", two_single(std::fmod)},
      {"pow", two(std::pow)},
      {"powf", two_single(std::pow)},
      {"exp", one(std::exp)},
      {"log", one(std::log)},
      {"fma", reinterpret_cast<void*>(static_cast<double (*)(double, double, double)>(std::fma))},
      {"fmaf", reinterpret_cast<void*>(static_cast<float (*)(float, float, float)>(std::fma))}};
  for (const Row& r : rows)
    if (r.name == name) return r.address;
  return nullptr;
}

}  // namespace porphyry
