// Which values of a module's functions are secret, and by which way they became it: through operands, memory,
// branches and calls.
#pragma once

#include <map>
#include <memory>
#include <optional>

#include "porphyry/analyze/dependences.h"

namespace porphyry::ask {

class SecretFlow {
 public:
  using Node = Dependences::Node;
  // By symbol and parameter: whether it is a source. Of a pointer, what it leads to is.
  using Sources = std::vector<std::vector<uint8_t>>;
  static Sources marked(const Module& module);

  // The module must outlive it. O(links of all functions).
  SecretFlow(const Module& module, const Sources& sources);

  bool is_secret(Symbol f, Value v) const { return found(f, Dependences::value(v), Colour::Secret); }
  // From a source to the node: texts of what lies on the way.
  std::vector<std::string> way(Symbol f, Value v) const;

 private:
  // Secret: it is one. Leads: a pointer to some. Writes: of a call, it may leave some in memory. Holds: of
  // what writes memory, and of memory as it was found: there may be pointers to some in it.
  enum class Colour : uint8_t { Secret, Leads, Writes, Holds };
  struct Place {
    uint32_t function, code;
    Colour colour;
    bool operator<(const Place& o) const {
      return std::tie(function, code, colour) < std::tie(o.function, o.code, o.colour);
    }
  };
  struct Site {
    Symbol caller;
    Instruction call;
  };

  bool found(Symbol f, Node n, Colour c) const { return from_.contains({f.index, n.code, c}); }
  void reach(Place to, const Place& from);
  void spread(const Place& p);
  void secret(const Place& p);
  void leads(const Place& p);
  void writes(const Place& p);
  void holds(const Place& p);
  void argument(const Place& p, Instruction call, size_t operand);
  void returned(const Place& p, Instruction end);
  void leaves_memory(const Place& p, Colour colour);
  bool is_known(const Function& f, Instruction call) const;
  std::string text(const Place& p) const;

  const Module& module_;
  std::vector<std::unique_ptr<Dependences>> all_;                   // by symbol
  std::vector<std::vector<std::vector<Dependences::Link>>> users_;  // by symbol, by code
  std::vector<std::vector<Site>> sites_;                            // by symbol: who calls it
  std::map<Place, Place> from_;  // what was found, and from where; a source comes from itself
  std::vector<Place> todo_;
};

}  // namespace porphyry::ask
