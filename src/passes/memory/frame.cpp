// frame: memory that is asked for and seen by nobody else is taken from the frame. What `allocates` gives
// becomes a `reserve` where its address stays in the function, all accesses lie at known places, and no loop
// comes to it; it is as large as what they reach. Calls of what `frees` it go, as it ends with the function,
// and so do those of null. Such a slot is then taken apart and promoted like any other. O(uses of what is
// asked for).
#include <fmt/format.h>

#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr uint64_t most_bytes = 1024, most_together = 8192;

class Lodger {
 public:
  explicit Lodger(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    std::vector<Instruction> calls;
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b)) {
        if (f_.op(i) == Op::Reserve) bytes_ += f_.reserve_shape(i).bytes;
        if (f_.op(i) == Op::Call && outside_of(i) & (outside::allocates | outside::frees)) calls.push_back(i);
      }
    if (calls.empty()) return;
    const Dominators& dominators = c_.facts.get<Dominators>();
    const Loops& loops = c_.facts.get<Loops>();
    all_loops_known_ = is_reducible(f_, dominators);
    for (Instruction i : calls) {
      if (!f_.alive(i) || !dominators.reachable(f_.block(i))) continue;
      if (outside_of(i) & outside::frees)
        free_of_null(i);
      else
        allocation(i, loops);
    }
  }

 private:
  uint8_t outside_of(Instruction call) const { return c_.module[f_.symbol(call)].facts.outside; }
  bool is_null(Value v) const {
    return f_.is_constant(v) && f_.type(v).is_pointer() && f_.constant_bits(v) == 0;
  }

  void free_of_null(Instruction i) {
    if (f_.operand_count(i) == 0 || !is_null(f_.operand(i, 0)) || f_.result_count(i)) return;
    if (c_.wants_notes())
      c_.done(f_.position(i), "", "the call is gone", "there is no object to free",
              {{"operation", write_text(c_.module, f_, i)}});
    f_.erase(i);
  }

  // What is done with an object.
  struct Seen {
    uint64_t bytes = 0;
    uint32_t align = 1;
    std::vector<Instruction> frees, comparisons;
    std::string other;  // what keeps it from being the frame's
  };
  void allocation(Instruction i, const Loops& loops) {
    Seen seen;
    if (loops.depth(f_.block(i)) > 0 || !all_loops_known_) seen.other = "a loop comes to it";
    if (seen.other.empty() && f_.result_count(i) == 1) look(f_.result(i), 0, seen);
    if (seen.other.empty() && (seen.bytes > most_bytes || bytes_ + seen.bytes > most_together))
      seen.other = fmt::format("it is of {} bytes", seen.bytes);
    if (!seen.other.empty()) {
      if (c_.wants_notes())
        c_.declined(f_.position(i), c_.name(f_.result(i)), "the object is not taken from the frame",
                    seen.other, "an object of known size that only this function sees",
                    {{"operation", write_text(c_.module, f_, i)}});
      return;
    }
    if (c_.wants_notes())
      c_.done(f_.position(i), c_.name(f_.result(i)), "the object is taken from the frame",
              "nobody else sees it", {{"bytes", fmt::to_string(seen.bytes)}});
    bytes_ += seen.bytes;
    Pen pen(c_.module, f_);
    pen.before(i).from(f_.position(i));
    Value slot = pen.reserve(std::max<uint64_t>(seen.bytes, 1), std::max<uint32_t>(seen.align, 16));
    for (Instruction call : seen.frees) f_.erase(call);
    for (Instruction compare : seen.comparisons) {
      f_.replace_uses(f_.result(compare), f_.constant(Type::boolean(), f_.op(compare) == Op::Ne));
      f_.erase(compare);
    }
    if (Name name = f_.name(f_.result(i)); name.exists())
      f_.set_name(f_.result(i), {}), f_.set_name(slot, name);
    f_.replace_uses(f_.result(i), slot);
    f_.erase(i);
  }

  void look(Value p, int64_t offset, Seen& seen) const {
    for (Slot s : f_.uses(p)) {
      auto use = f_.use(s);
      Instruction i = use.user;
      if (!seen.other.empty()) return;
      if (!c_.facts.get<Dominators>().reachable(f_.block(i))) continue;
      if (use.edge.exists()) {
        seen.other = "its address goes to another block as an argument";
      } else if (f_.op(i) == Op::Load || (f_.op(i) == Op::Store && f_.operand(i, 0) != p)) {
        Type t = f_.op(i) == Op::Load ? f_.type(f_.result(i)) : f_.type(f_.operand(i, 0));
        reached(i, f_.address(i), offset, t.bytes(), seen);
      } else if (f_.op(i) == Op::Fill || f_.op(i) == Op::Copy) {
        Value bytes = f_.operand(i, f_.operand_count(i) - 1);
        bool to = f_.op(i) == Op::Fill || s == f_.operand_slot(i, 0);
        const Address& a = f_.op(i) == Op::Fill ? f_.address(i)
                           : to                 ? f_.copy_shape(i).to
                                                : f_.copy_shape(i).from;
        if (!f_.is_constant(bytes))
          unknown_place(i, seen);
        else
          reached(i, a, offset, f_.constant_bits(bytes), seen);
      } else if (f_.op(i) == Op::At && !f_.address(i).indexed) {
        look(f_.result(i), offset + f_.address(i).offset, seen);
      } else if (f_.op(i) == Op::Call && outside_of(i) & outside::frees && s == f_.operand_slot(i, 0) &&
                 offset == 0 && f_.result_count(i) == 0) {
        seen.frees.push_back(i);
      } else if ((f_.op(i) == Op::Eq || f_.op(i) == Op::Ne) && offset == 0 &&
                 (is_null(f_.operand(i, 0)) || is_null(f_.operand(i, 1)))) {
        seen.comparisons.push_back(i);
      } else if (f_.op(i) != Op::Watch) {
        seen.other = fmt::format("'{}' shows its address", write_text(c_.module, f_, i));
      }
    }
  }
  void unknown_place(Instruction i, Seen& seen) const {
    seen.other = fmt::format("'{}' accesses it at a place that is not known", write_text(c_.module, f_, i));
  }
  void reached(Instruction i, const Address& a, int64_t offset, uint64_t bytes, Seen& seen) const {
    int64_t from = offset + a.offset;
    if (a.indexed || a.masked || a.is_volatile || a.guarded || from < 0 || bytes > most_bytes)
      return unknown_place(i, seen);
    seen.bytes = std::max(seen.bytes, static_cast<uint64_t>(from) + bytes);
    seen.align = std::max(seen.align, a.align);
  }

  FunctionContext& c_;
  Function& f_;
  uint64_t bytes_ = 0;  // that the function reserves
  bool all_loops_known_ = false;
};

}  // namespace

void frame(FunctionContext& c) { Lodger(c).run(); }

}  // namespace porphyry
