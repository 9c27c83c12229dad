// specialize: calls that give the same constants to a function get a copy of it in which those stand for its
// parameters, where they decide branches behind which a good part of the body lies. What a constant decides
// is known beforehand: comparisons of the parameter with numbers, choices by it, and the blocks that only the
// ways not taken lead to. Functions small enough to be put in place of the calls are left to `inline`. In the
// copy, calls of the function with these constants are calls of the copy. O(instructions), and what is
// copied, which is bounded for each function and for the module.
#include <fmt/format.h>

#include <map>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/order.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t least_size = 40, most_size = 600;  // instructions of what is copied
constexpr size_t most_copies = 4;                   // of one function
constexpr size_t most_growth = 1000;                // of the module, and a quarter of what it had
constexpr size_t part_that_goes = 4;                // one in so many instructions of the body at least

// A parameter and the constant that stands for it.
using Given = std::pair<size_t, uint64_t>;

class Specializer {
 public:
  explicit Specializer(ModuleContext& c) : c_(c), module_(c.module) {}

  void run() {
    find_calls();
    for (auto& [symbol, calls] : calls_) consider(Symbol(symbol), calls);
  }

 private:
  struct Call {
    Symbol caller;
    Instruction at;
  };
  // A function that may be copied.
  struct Body {
    const Function& f;
    Blocks order;  // reverse postorder
    size_t size = 0;
    std::vector<bool> decides;  // by parameter: whether branches and comparisons ask for it
  };

  void find_calls() {
    for (Symbol s : module_.functions()) {
      const Function& f = module_.function(s);
      for (Block b : f.blocks())
        for (Instruction i : f.instructions(b)) {
          ++size_;
          if ((f.op(i) == Op::Call || f.op(i) == Op::ReturnCall) && module_.is_function(f.symbol(i)) &&
              f.symbol(i) != s)
            calls_[f.symbol(i).index].push_back({s, i});
        }
    }
    left_ = most_growth + size_ / 4;
  }

  static bool is_number(Type t) {
    return (t.is_integer() || t.is_bool()) && !t.has_lanes() && t.bits() <= 64;
  }

  Body look(const Function& f) const {
    Body out{f, reverse_postorder(f), 0, {}};
    out.decides.resize(f.parameters().size());
    for (Block b : f.blocks()) out.size += f.instructions(b).count();
    for (size_t k = 0; k < out.decides.size(); ++k) {
      const Value v = f.parameters()[k];
      if (!is_number(f.type(v))) continue;
      for (Slot u : f.uses(v)) {
        const auto use = f.use(u);
        const OperationInfo& row = info(f.op(use.user));
        out.decides[k] =
            out.decides[k] || row.result == ResultRule::Truth || (row.ends_block() && !use.edge.exists());
      }
    }
    return out;
  }

  void consider(Symbol s, const std::vector<Call>& calls) {
    const SymbolRow& row = module_[s];
    if (row.is_weak || row.facts.keep_small || !module_.function(s).entry().exists()) return;
    const Body body = look(module_.function(s));
    if (body.size < least_size || body.size > most_size) return;
    std::map<std::vector<Given>, std::vector<Call>> all, groups;
    for (const Call& c : calls)
      if (std::vector<Given> given = given_by(c, body); !given.empty()) all[given].push_back(c);
    for (const auto& [given, group] : all) {
      std::vector<Call>& to = groups[what_matters(body, given)];
      to.insert(to.end(), group.begin(), group.end());
    }
    size_t copies = 0;
    for (const auto& [given, group] : groups) {
      const size_t goes = what_goes(body, given), stays = body.size - goes;
      if (goes * part_that_goes < body.size) {
        tell(s, group, given, false, "too little of the body depends on that", body.size, goes);
      } else if (copies == most_copies || stays > left_) {
        tell(s, group, given, false,
             copies == most_copies ? "there are copies enough" : "the module would grow too much", body.size,
             goes);
      } else {
        ++copies, left_ -= stays;
        tell(s, group, given, true, "much of the body depends on that", body.size, goes);
        copy_for(s, given, group);
      }
    }
  }

  std::vector<Given> given_by(const Call& c, const Body& body) const {
    const Function& f = module_.function(c.caller);
    std::vector<Given> out;
    for (size_t k = 0; k < body.decides.size(); ++k)
      if (const Value v = f.operand(c.at, k); body.decides[k] && f.is_constant(v))
        out.push_back({k, static_cast<uint64_t>(f.constant_bits(v))});
    return out;
  }

  // The constants without which much more of the body would stay: with fewer a copy serves more calls.
  std::vector<Given> what_matters(const Body& body, std::vector<Given> given) const {
    size_t all = what_goes(body, given);
    for (size_t k = given.size(); k-- > 0 && given.size() > 1;) {
      std::vector<Given> less = given;
      less.erase(less.begin() + static_cast<ptrdiff_t>(k));
      const size_t without = what_goes(body, less);
      if (4 * without >= 3 * all) given = std::move(less), all = without;
    }
    return given;
  }

  // How many instructions lie in blocks that only ways lead to which are never taken.
  size_t what_goes(const Body& body, const std::vector<Given>& given) const {
    const Function& f = body.f;
    std::map<uint32_t, uint64_t> known;  // by value
    for (auto [k, bits] : given) known[f.parameters()[k].index] = bits;
    auto number = [&](Value v) -> std::optional<Bits> {
      if (auto at = known.find(v.index); at != known.end()) return at->second;
      if (f.is_constant(v) && is_number(f.type(v))) return f.constant_bits(v);
      return std::nullopt;
    };
    for (auto [k, bits] : given)
      for (Slot u : f.uses(f.parameters()[k])) {
        const Instruction i = f.use(u).user;
        if (f.use(u).edge.exists() || info(f.op(i)).result != ResultRule::Truth || f.operand_count(i) != 2)
          continue;
        const auto a = number(f.operand(i, 0)), b = number(f.operand(i, 1));
        if (!a || !b) continue;
        const Bits both[] = {*a, *b};
        known[f.result(i).index] =
            static_cast<uint64_t>(compute(f.op(i), f.type(f.operand(i, 0)), Type::boolean(), both).bits);
      }
    // Blocks in an order in which those that lead to one stand before it, but for ways back, which are taken
    // to be there only when the block is reached at all.
    std::vector<bool> reached(f.block_limit());
    reached[f.entry().index] = true;
    size_t out = 0;
    for (Block b : body.order) {
      if (!reached[b.index]) {
        out += f.instructions(b).count();
        continue;
      }
      const Instruction end = f.terminator(b);
      const bool branches = f.op(end) == Op::When || f.op(end) == Op::Choose;
      const auto decided = branches ? number(f.operand(end, 0)) : std::nullopt;
      const size_t only = decided ? way_of(f, end, *decided) : 0;
      for (size_t k = 0; k < f.edge_count(end); ++k)
        if (!decided || k == only) reached[f.to(f.edge(end, k)).index] = true;
    }
    return out;
  }
  void copy_for(Symbol s, const std::vector<Given>& given, const std::vector<Call>& calls) {
    const std::string base(module_.symbol_name(s));
    std::string name;
    for (size_t k = 1; name.empty() || module_.find(name).exists(); ++k)
      name = fmt::format("{}_special{}", base, k);
    const Function body = module_.function(s);
    const FunctionFacts facts = module_[s].facts;
    const Symbol made = module_.add_function(name, body.signature());
    module_[made].is_local = true;
    module_[made].facts = facts;
    module_[made].section = module_[s].section;
    module_.set_body(made, body);
    Function& f = module_.function(made);
    for (auto [k, bits] : given) {
      const Value v = f.parameters()[k];
      f.replace_uses(v, f.constant(f.type(v), bits));
    }
    for (const Call& c : calls) module_.function(c.caller).set_detail(c.at, made.index);
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        if ((f.op(i) != Op::Call && f.op(i) != Op::ReturnCall) || f.symbol(i) != s) continue;
        bool same = true;
        for (auto [k, bits] : given)
          same &= f.is_constant(f.operand(i, k)) && f.constant_bits(f.operand(i, k)) == bits;
        if (same) f.set_detail(i, made.index);
      }
    c_.changed = true;
  }

  void tell(Symbol s, const std::vector<Call>& calls, const std::vector<Given>& given, bool done,
            const char* why, size_t size, size_t goes) {
    if (!c_.notes) return;
    const Function& f = module_.function(s);
    std::string constants;
    for (auto [k, bits] : given) {
      const Name name = f.name(f.parameters()[k]);
      constants += fmt::format(
          "{}{} = {}", constants.empty() ? "" : ", ",
          name.exists() ? std::string(module_.text(name)) : fmt::format("parameter {}", k + 1), bits);
    }
    const Function& caller = module_.function(calls[0].caller);
    c_.notes->push_back({.kind = done ? Note::Kind::Done : Note::Kind::Declined,
                         .pass = std::string(c_.pass),
                         .function = std::string(module_.symbol_name(s)),
                         .position = place_text(module_, caller.position(calls[0].at)),
                         .what = done ? fmt::format("a copy for calls with {} was made", constants)
                                      : fmt::format("calls with {} get no copy", constants),
                         .why = why,
                         .figures = {{"calls", std::to_string(calls.size())},
                                     {"instructions", std::to_string(size)},
                                     {"that go", std::to_string(goes)},
                                     {"the module may grow by", std::to_string(left_)}},
                         .unlock = done ? "" : "branches on it in front of more of the body"});
  }

  ModuleContext& c_;
  Module& module_;
  std::map<uint32_t, std::vector<Call>> calls_;  // by function that is called
  size_t size_ = 0, left_ = 0;  // of the module: instructions, and how many more there may be
};

}  // namespace

void specialize(ModuleContext& c) { Specializer(c).run(); }

}  // namespace porphyry
