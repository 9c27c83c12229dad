// Relocatable objects of any compiler, loaded into this process: what a linker does for one file, in memory.
//
//   auto object = read_object("twin.o", bytes);
//   auto loaded = LoadedObject::load(object->file, *native_target(), usual_externals);
//   auto chill = reinterpret_cast<float (*)(const float*, long, float, float)>((*loaded)->address("chill"));
//
// Sources: System V ABI, chapter 4 (relocation), and the processor's supplement, as the target tells them.
#pragma once

#include <memory>
#include <string_view>

#include "porphyry/jit/jit.h"
#include "porphyry/object/object.h"

namespace porphyry {

class LoadedObject {
 public:
  // Sections that are loaded at all, with relocations of addresses, distances and entries of the table of
  // addresses settled; thread-local data are refused. Undefined names are asked for, all missing ones are
  // told at once. O(size + relocations).
  static Result<std::unique_ptr<LoadedObject>> load(const ObjectFile& object, const machine::Target& target,
                                                    const Resolver& externals);
  ~LoadedObject();
  LoadedObject(const LoadedObject&) = delete;
  LoadedObject& operator=(const LoadedObject&) = delete;

  // Of a name that the object defines, null otherwise. Valid while this lives.
  void* address(std::string_view name) const;

 private:
  friend class ObjectLoader;
  LoadedObject() = default;
  uint8_t* memory_ = nullptr;
  size_t bytes_ = 0;
  std::vector<std::pair<std::string, uint8_t*>> names_;  // sorted
};

}  // namespace porphyry
