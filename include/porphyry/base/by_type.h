// Objects kept by their type: at most one of each. For what a table cannot list beforehand, since users add
// types of their own: analyses of a function, what surrounds a pass.
//
//   TypeMap all;
//   all.put(std::make_unique<Loops>(f, dominators));
//   if (const Loops* loops = all.find<Loops>()) …
#pragma once

#include <algorithm>
#include <memory>
#include <vector>

namespace porphyry {

// The identity of a type at run time, equal in all of a process. A constant expression.
using TypeId = const void*;
namespace detail {
template <class T>
inline constexpr char type_tag = 0;
}
template <class T>
inline constexpr TypeId type_id = &detail::type_tag<T>;

// Owns what is put in; references stay valid until the object is erased. A search is linear: a map has a few.
class TypeMap {
 public:
  template <class T>
  T* find() const {
    for (const Item& i : items_)
      if (i.id == type_id<T>) return static_cast<T*>(i.object.get());
    return nullptr;
  }
  // In place of what was there.
  template <class T>
  T& put(std::unique_ptr<T> object) {
    erase_if([](TypeId id) { return id == type_id<T>; });
    T& out = *object;
    items_.push_back({type_id<T>, {object.release(), [](void* p) { delete static_cast<T*>(p); }}});
    return out;
  }
  // An object that the caller owns.
  template <class T>
  void lend(T& object) {
    erase_if([](TypeId id) { return id == type_id<T>; });
    items_.push_back({type_id<T>, {&object, [](void*) {}}});
  }
  bool has(TypeId id) const {
    return std::any_of(items_.begin(), items_.end(), [&](const Item& i) { return i.id == id; });
  }
  template <class Condition>
  void erase_if(Condition condition) {
    std::erase_if(items_, [&](const Item& i) { return condition(i.id); });
  }

 private:
  struct Item {
    TypeId id;
    std::unique_ptr<void, void (*)(void*)> object;
  };
  std::vector<Item> items_;
};

}  // namespace porphyry
