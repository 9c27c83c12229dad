// Analyses of one function, computed when they are asked for and kept as long as they hold.
//
//   const Loops& loops = facts.get<Loops>();
//
// An analysis is any type that can be made from a function, or from a function and its facts, which it may
// ask for others in turn. It is registered nowhere.
#pragma once

#include <concepts>
#include <initializer_list>
#include <mutex>
#include <string>

#include "porphyry/analyze/dominators.h"
#include "porphyry/analyze/loops.h"
#include "porphyry/base/by_type.h"
#include "porphyry/ir/module.h"

namespace porphyry {

// Which analyses still hold after a function was changed.
struct Kept {
  bool all = false;
  std::vector<TypeId> types;
  bool has(TypeId id) const { return all || std::find(types.begin(), types.end(), id) != types.end(); }
};
inline Kept keeps_all() { return {true, {}}; }
template <class... Analysis>
Kept keeps() {
  return {false, {type_id<Analysis>...}};
}

class Facts {
 public:
  // The function must outlive this. Who changes it says what still holds: see keep.
  explicit Facts(const Function& function) : function_(&function) {}

  // The reference is valid until the analysis is dropped.
  template <class Analysis>
  const Analysis& get() {
    if (const Analysis* known = known_.find<Analysis>()) return *known;
    std::unique_ptr<Analysis> made;
    if constexpr (std::is_constructible_v<Analysis, const Function&, Facts&>)
      made = std::make_unique<Analysis>(*function_, *this);
    else
      made = std::make_unique<Analysis>(*function_);
    if constexpr (std::equality_comparable<Analysis>)
      if (!checks_.has(type_id<Analysis>))
        checks_.list.push_back({type_id<Analysis>, Analysis::name, still_holds<Analysis>});
    return known_.put(std::move(made));
  }
  // Names of those kept that differ from ones made now: passes that claim too much. Of analyses that can be
  // compared, which have a `static constexpr const char* name`. As expensive as making them.
  std::vector<std::string> false_claims() const {
    std::vector<std::string> out;
    for (const auto& check : checks_.list)
      if (known_.has(check.id) && !check.holds(*this)) out.push_back(check.name);
    return out;
  }
  // Drops all others.
  void keep(const Kept& kept) {
    if (!kept.all) known_.erase_if([&](TypeId id) { return !kept.has(id); });
  }

 private:
  struct Check {
    TypeId id;
    const char* name;
    bool (*holds)(const Facts&);
  };
  struct Checks {
    std::vector<Check> list;
    bool has(TypeId id) const {
      return std::any_of(list.begin(), list.end(), [&](const Check& c) { return c.id == id; });
    }
  };
  template <class Analysis>
  static bool still_holds(const Facts& facts) {
    Facts fresh(*facts.function_);
    return fresh.get<Analysis>() == *facts.known_.find<Analysis>();
  }

  const Function* function_;
  TypeMap known_;
  Checks checks_;
};

// Analyses of a module, which passes over functions may ask for while they run: one must stay right whatever
// they do.
class ModuleFacts {
 public:
  explicit ModuleFacts(const Module& module) : module_(&module) {}
  // Several threads may ask.
  template <class Analysis>
  const Analysis& get() {
    std::lock_guard lock(mutex_);
    if (const Analysis* known = known_.find<Analysis>()) return *known;
    return known_.put(std::make_unique<Analysis>(*module_));
  }

 private:
  const Module* module_;
  TypeMap known_;
  std::mutex mutex_;
};

}  // namespace porphyry
