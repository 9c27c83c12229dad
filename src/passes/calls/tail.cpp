// tail: a function that calls itself last becomes a loop, and where what it calls last calls it in turn, the
// call becomes a `return call`, which leaves no frame.
//
// The function's parameters become those of a loop's head, to which a call in last place goes with its
// arguments. A call may also be the last but for one operation that may be bracketed and ordered at will, on
// integers: `return n * f(n - 1)`. Then the head has one more parameter, the accumulator, which starts with
// the operation's neutral element; each such place takes its operand into it, and each return takes what it
// has. A call is not the last where the callee may look into the frame, or anything but plain operations
// stands behind it. O(instructions).
#include <fmt/format.h>

#include "porphyry/analyze/alias.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"
#include "registers.h"

namespace porphyry {
namespace {

// A call whose results are returned, maybe through one operation.
struct Place {
  Instruction call;
  Instruction end;        // the block's last instruction
  Instruction operation;  // on the result, which is returned; nothing: the result itself is
};

// What leaves the other operand as it is, for operations on integers that may be bracketed and ordered at
// will; nothing for others.
std::optional<Bits> neutral(Op op, unsigned width) {
  const Bits all = mask_of(width), sign = Bits(1) << (width - 1);
  switch (op) {
    case Op::Add:
    case Op::Or:
    case Op::Xor:
    case Op::MaxU: return 0;
    case Op::Mul: return 1;
    case Op::And:
    case Op::MinU: return all;
    case Op::MinS: return all & ~sign;
    case Op::MaxS: return sign;
    default: return std::nullopt;
  }
}

class TailCalls {
 public:
  explicit TailCalls(FunctionContext& c)
      : c_(c),
        f_(c.function),
        effects_(c.in_module.get<CallEffects>()),
        alias_(c.module, f_, c.module[c.symbol].facts),
        pen_(c.module, f_) {}

  void run() {
    if (c_.symbol.index >= effects_.symbol_count() || !effects_.in_one_ring(c_.symbol, c_.symbol)) return;
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (info(f_.op(i)).layout == Layout::Call) look(i);
    if (places_.empty() && jumps_.empty()) return;
    if (const char* why = frame_is_seen()) {
      for (const Place& p : places_) declined(p.call, why, "slots whose addresses stay in the function");
      for (Instruction i : jumps_) declined(i, why, "slots whose addresses stay in the function");
      return;
    }
    choose_operation();
    for (Instruction i : jumps_) jump(i);
    if (!places_.empty()) loop();
  }

 private:
  void look(Instruction call) {
    const Symbol s = f_.symbol(call);
    if (s.index >= effects_.symbol_count() || !effects_.in_one_ring(s, c_.symbol)) return;
    const bool itself = s == c_.symbol;
    if (f_.op(call) == Op::ReturnCall) {
      if (itself) places_.push_back({call, call, {}});
      return;
    }
    Place p{call, f_.terminator(f_.block(call)), {}};
    if (const char* why = not_last(p)) return declined(call, why, "a call that is the last thing done");
    if (itself) return places_.push_back(p);
    if (p.operation.exists())
      return declined(call, "another function's result is computed with", "a call whose result is returned");
    if (!fits(s)) return declined(call, "its arguments may need the stack", "fewer, or narrower, arguments");
    jumps_.push_back(call);
  }

  // What is returned at the end of a block, maybe by way of a block that only returns.
  std::optional<std::vector<Value>> returned(Instruction end) const {
    std::vector<Value> out;
    if (f_.op(end) == Op::Return) {
      for (Value v : f_.operands(end)) out.push_back(v);
      return out;
    }
    if (f_.op(end) != Op::Go) return std::nullopt;
    Edge e = f_.edge(end, 0);
    Instruction only = f_.first(f_.to(e));
    if (f_.op(only) != Op::Return) return std::nullopt;
    for (Value v : f_.operands(only)) {
      bool own =
          !f_.is_constant(v) && f_.kind(v) == ValueKind::BlockParameter && f_.defining_block(v) == f_.to(e);
      out.push_back(own ? f_.argument(e, f_.result_index(v)) : v);
    }
    return out;
  }

  // Why something is done behind the call; fills in the rest of the place.
  const char* not_last(Place& p) const {
    auto results = returned(p.end);
    if (!results) return "something is done behind it";
    std::vector<Value> meant;
    for (Value v : f_.results(p.call)) meant.push_back(v);
    for (Instruction i = f_.next(p.call); i != p.end; i = f_.next(i))
      if (!info(f_.op(i)).is_plain() || f_.has_effect(i)) return "something is done behind it";
    for (Value v : meant)
      for (Slot s : f_.uses(v)) {
        auto use = f_.use(s);
        if (use.user == p.end) continue;
        if (p.operation.exists() || f_.block(use.user) != f_.block(p.call))
          return "its result is computed with";
        p.operation = use.user;
      }
    if (*results == meant && !p.operation.exists()) return nullptr;
    if (!p.operation.exists() || meant.size() != 1) return "something else is returned";
    if (*results != std::vector<Value>{f_.result(p.operation)}) return "something else is returned";
    Op op = f_.op(p.operation);
    if (!f_.type(meant[0]).is_integer() || !neutral(op, f_.type(meant[0]).bits()))
      return "its result is computed with in a fixed order";
    Value a = f_.operand(p.operation, 0), b = f_.operand(p.operation, 1);
    if (a == b) return "its result is computed with itself";
    return f_.has_one_use(f_.result(p.operation)) ? nullptr : "its result is computed with";
  }
  // All convention's registers hold so many.
  bool fits(Symbol s) const {
    const Signature& to = *c_.module.signature(s);
    return fits_registers(to.parameters) && to.results == f_.signature().results;
  }
  const char* frame_is_seen() const {
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Reserve && alias_.escapes(f_.result(i)))
          return "the callee may look into the frame";
    return nullptr;
  }

  // One operation for all places; those with another are left. None where a call of another function leaves
  // in this one's place: what was accumulated would be lost with the frame.
  void choose_operation() {
    const bool leaves = !jumps_.empty() || leaves_otherwise();
    for (const Place& p : places_)
      if (p.operation.exists() && !operation_ && !leaves) operation_ = f_.op(p.operation);
    std::erase_if(places_, [&](const Place& p) {
      if (!p.operation.exists() || operation_ == f_.op(p.operation)) return false;
      if (leaves)
        declined(p.call, "another call leaves no frame to compute in", "returns in place of that call");
      else
        declined(p.call, "another call's result goes into another operation", "one operation for all");
      return true;
    });
  }
  bool leaves_otherwise() const {
    for (Block b : f_.blocks())
      if (Op op = f_.op(f_.terminator(b));
          op == Op::ReturnCallThrough || (op == Op::ReturnCall && f_.symbol(f_.terminator(b)) != c_.symbol))
        return true;
    return false;
  }

  void jump(Instruction call) {
    Block home = f_.block(call);
    if (c_.wants_notes())
      c_.done(f_.position(call), name(call), "the call leaves no frame", "it is the last thing done",
              {{"operation", write_text(c_.module, f_, call)}});
    std::vector<Value> arguments;
    for (Value v : f_.operands(call)) arguments.push_back(v);
    Symbol callee = f_.symbol(call);
    Position position = f_.position(call);
    f_.erase(f_.terminator(home));
    while (f_.last(home) != call) f_.erase(f_.last(home));
    f_.erase(call);
    pen_.at_end(home).from(position);
    pen_.return_call(callee, arguments);
  }

  void loop() {
    Block entry = f_.entry(), head = f_.split(entry, f_.first(entry));
    std::vector<Value> start;
    FurtherNames names(c_.module.realm(), f_);
    for (size_t k = 0; k < f_.parameters().size(); ++k) {  // a span would move with each that is added
      Value v = f_.parameters()[k];
      Value p = f_.add_parameter(head, f_.type(v));
      // The function's parameter keeps its name.
      if (Name n = f_.name(v); n.exists()) f_.set_name(p, names.next(n));
      f_.replace_uses(v, p);
      start.push_back(v);
    }
    if (operation_) {
      Type t = f_.signature().results[0];
      accumulator_ = f_.add_parameter(head, t);
      start.push_back(f_.constant(t, *neutral(*operation_, t.bits())));
      take_at_returns();
    }
    Position position = f_.position(f_.terminator(entry));
    f_.erase(f_.terminator(entry));
    pen_.at_end(entry).from(position);
    pen_.go(head, start);
    for (const Place& p : places_) go_around(p, head);
  }
  void take_at_returns() {
    for (Block b : f_.blocks()) {
      Instruction end = f_.terminator(b);
      if (f_.op(end) != Op::Return) continue;
      bool is_place =
          std::any_of(places_.begin(), places_.end(), [&](const Place& p) { return p.end == end; });
      if (is_place) continue;
      pen_.before(end).from(f_.position(end));
      f_.set(f_.operand_slot(end, 0), pen_.write(*operation_, {accumulator_, f_.operand(end, 0)}));
    }
  }
  void go_around(const Place& p, Block head) {
    if (c_.wants_notes())
      c_.done(f_.position(p.call), name(p.call), "the call became a jump to the start",
              p.operation.exists()
                  ? "it is the last thing done but for an operation that may be ordered at will"
                  : "it is the last thing done",
              {{"operation", write_text(c_.module, f_, p.call)}});
    Block home = f_.block(p.call);
    std::vector<Value> arguments;
    for (Value v : f_.operands(p.call)) arguments.push_back(v);
    Position position = f_.position(p.call);
    if (operation_) {
      Value now = accumulator_;
      if (p.operation.exists()) {
        pen_.before(p.operation).from(f_.position(p.operation));
        Value a = f_.operand(p.operation, 0), b = f_.operand(p.operation, 1);
        now = pen_.write(*operation_, {accumulator_, a == f_.result(p.call) ? b : a});
      }
      arguments.push_back(now);
    }
    if (p.end != p.call) f_.erase(p.end);
    if (p.operation.exists()) f_.erase(p.operation);
    f_.erase(p.call);
    pen_.at_end(home).from(position);
    pen_.go(head, arguments);
  }

  std::string name(Instruction call) const { return f_.result_count(call) ? c_.name(f_.result(call)) : ""; }
  void declined(Instruction call, const char* why, const char* unlock) {
    if (c_.wants_notes())
      c_.declined(f_.position(call), name(call), "the call keeps its frame", why, unlock,
                  {{"operation", write_text(c_.module, f_, call)}});
  }

  FunctionContext& c_;
  Function& f_;
  const CallEffects& effects_;
  Alias alias_;
  Pen pen_;
  std::vector<Place> places_;       // calls of itself
  std::vector<Instruction> jumps_;  // calls of others in the ring
  std::optional<Op> operation_;     // that accumulates
  Value accumulator_;
};

}  // namespace

void tail(FunctionContext& c) { TailCalls(c).run(); }

}  // namespace porphyry
