// bulk: a loop that stores one element behind the other is a `fill`, where all bytes it stores are the same,
// or a `copy`, where it stores what it loads one behind the other. The store is taken out of the loop and the
// operation put in front; a loop that does nothing else then goes (see outcome). How many elements there are
// must be known before (see rounds.h), no other access may touch them, and a copy's two ends must be shown to
// be apart, or the one that is read to lie ahead of the one that is written, in the direction of the loop: a
// copy reads all before it writes. O(instructions + accesses of a loop, squared within a limit).
#include <fmt/format.h>

#include "front.h"
#include "porphyry/analyze/alias.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"
#include "recurrences.h"

namespace porphyry {
namespace {

constexpr size_t most_accesses = 16;  // of a loop

class Gatherer {
 public:
  explicit Gatherer(FunctionContext& c)
      : c_(c),
        f_(c.function),
        dominators_(c.facts.get<Dominators>()),
        loops_(c.facts.get<Loops>()),
        alias_(c.module, f_, c.module[c.symbol].facts) {}

  void run() {
    for (LoopShape& loop : loop_shapes(f_, dominators_, loops_)) {
      find_ways_in(f_, loops_, loop);
      if (!loop.innermost || !look(loop)) continue;
      auto rounds = rounds_of(f_, loops_, dominators_, loop);
      if (!rounds || !rounds->only_exit) continue;
      RecurrenceReader reader(f_, loops_, loop, *rounds);
      for (Instruction store : std::vector<Instruction>(stores_)) one(loop, *rounds, reader, store);
    }
  }

 private:
  // Where accesses that follow each other begin, and how far it is from one to the next.
  struct Walk {
    Value base;        // in the first round
    Recurrence index;  // times scale: what is added to it; empty when there is none
    int64_t scale = 1, offset = 0, stride = 0;
  };

  // Gathers the accesses; false where something else has an effect.
  bool look(const LoopShape& loop) {
    stores_.clear(), loads_.clear();
    for (Block b : loop.blocks)
      for (Instruction i : f_.instructions(b)) {
        Op op = f_.op(i);
        if (op == Op::Load && !f_.has_effect(i) && !f_.address(i).masked)
          loads_.push_back(i);
        else if (op == Op::Store && plain(f_.address(i)))
          stores_.push_back(i);
        else if (!info(op).ends_block() && (f_.has_effect(i) || info(op).reads_memory()))
          return false;
      }
    return !stores_.empty() && stores_.size() + loads_.size() <= most_accesses;
  }
  static bool plain(const Address& a) { return !a.is_volatile && !a.guarded && !a.masked; }

  void one(const LoopShape& loop, const Rounds& rounds, RecurrenceReader& reader, Instruction store) {
    Value v = f_.operand(store, 0);
    Type t = f_.type(v);
    if (t.bits() % 8 || t.bytes() * 8 != t.bits() * t.lanes() || !each_round(loop, f_.block(store))) return;
    auto to = walk(loop, reader, store, 1);
    if (!to || !(to->stride == int64_t(t.bytes()) || to->stride == -int64_t(t.bytes()))) return;
    Instruction load = f_.definition(v);
    std::optional<Walk> from;
    if (load.exists() && f_.op(load) == Op::Load && each_round(loop, f_.block(load)))
      from = walk(loop, reader, load, 0);
    std::optional<Value> byte = from ? std::nullopt : byte_of(reader, v);
    if ((!from || from->stride != to->stride) && !byte) return;
    if (auto why = disturbed(store, from ? load : Instruction(), to, from)) {
      if (c_.wants_notes())
        c_.declined(f_.position(store), write_text(c_.module, f_, store),
                    from ? "the loop does not become a copy" : "the loop does not become a fill", *why,
                    "pointers that are marked 'sole', or lead to different objects");
      return;
    }
    write(loop, rounds, store, *to, from ? &*from : nullptr, byte ? *byte : Value());
  }

  // In every round, once.
  bool each_round(const LoopShape& loop, Block b) const {
    return loops_.header(b) == loop.head && dominators_.dominates(b, f_.from(loop.back));
  }

  std::optional<Walk> walk(const LoopShape& loop, RecurrenceReader& reader, Instruction i,
                           size_t first) const {
    const Address& a = f_.address(i);
    Walk out{.base = f_.operand(i, first), .index = {}, .scale = a.scale, .offset = a.offset};
    if (!stays_same(f_, loops_, loop.head, out.base)) {
      if (f_.kind(out.base) != ValueKind::BlockParameter || f_.defining_block(out.base) != loop.head)
        return std::nullopt;
      auto progress = progress_of(f_, loops_, loop, out.base);
      if (!progress || !progress->bytes) return std::nullopt;
      out.base = progress->start, out.stride = progress->bytes;
    }
    if (!a.indexed) return out;
    if (f_.type(f_.operand(i, first + 1)) != Type::integer(64)) return std::nullopt;
    auto index = reader.describe(f_.operand(i, first + 1));
    if (!index || index->size() > 2 || (index->size() == 2 && !(*index)[1].is_constant()))
      return std::nullopt;
    if (index->size() == 2)
      out.stride = wrapped(static_cast<uint64_t>(out.stride) +
                           static_cast<uint64_t>((*index)[1].constant) * static_cast<uint64_t>(a.scale));
    out.index = {(*index)[0]};
    return out;
  }

  // Addresses are counted modulo 2^64.
  static int64_t wrapped(uint64_t n) { return static_cast<int64_t>(n); }

  // The byte that a value is made of, again and again.
  std::optional<Value> byte_of(RecurrenceReader& reader, Value v) const {
    Type t = f_.type(v);
    if (t == Type::integer(8) && reader.stays(v)) return v;
    if (!f_.is_constant(v)) return std::nullopt;
    Bits first = f_.constant_word(v) & 0xff;
    for (unsigned lane = 0; lane < t.lanes(); ++lane)
      for (unsigned k = 0; k < t.element().bytes(); ++k)
        if (((f_.constant_word(v, lane) >> (8 * k)) & 0xff) != first) return std::nullopt;
    return f_.constant(Type::integer(8), first);
  }

  // Why the store cannot be taken out of the loop.
  std::optional<std::string> disturbed(Instruction store, Instruction load, const std::optional<Walk>& to,
                                       const std::optional<Walk>& from) const {
    auto apart = [&](Instruction other, const Walk* walk) -> std::optional<std::string> {
      AliasAnswer a = alias_.of(reach(store, 1, to->base),
                                reach(other, f_.op(other) == Op::Store ? 1 : 0, walk ? walk->base : Value()));
      if (a.relation == Overlap::Never) return std::nullopt;
      return fmt::format("'{}' may touch the same bytes: {}", write_text(c_.module, f_, other), a.why);
    };
    for (Instruction i : loads_)
      if (i != load)
        if (auto why = apart(i, nullptr)) return why;
    for (Instruction i : stores_)
      if (i != store)
        if (auto why = apart(i, nullptr)) return why;
    if (!load.exists()) return std::nullopt;
    auto why = apart(load, &*from);
    // What is read ahead is read in time by the copy, but not by the load behind it.
    bool in_time = why && f_.has_one_use(f_.result(load)) && reads_ahead(*to, *from);
    return in_time ? std::nullopt : why;
  }
  // All that an access may come to while the loop runs.
  MemoryAccess reach(Instruction i, size_t first, Value base) const {
    MemoryAccess out = alias_.from(base.exists() ? base : f_.operand(i, first), MemoryAccess::unknown_size);
    out.kind = f_.address(i).kind;
    return out;
  }
  // From one base, the same first index: what is read lies ahead of what is written, or is the same.
  static bool reads_ahead(const Walk& to, const Walk& from) {
    auto same = [](const Recurrence& a, const Recurrence& b) {
      if (a.size() != b.size()) return false;
      if (a.empty()) return true;
      if (a[0].terms.size() != b[0].terms.size()) return false;
      for (size_t k = 0; k < a[0].terms.size(); ++k) {
        const Term &x = a[0].terms[k], &y = b[0].terms[k];
        if (x.value != y.value || x.convert != y.convert || x.times != y.times) return false;
      }
      return true;
    };
    if (to.base != from.base || to.scale != from.scale || !same(to.index, from.index)) return false;
    uint64_t ahead = static_cast<uint64_t>(from.offset) - static_cast<uint64_t>(to.offset);
    if (!to.index.empty())
      ahead += static_cast<uint64_t>(from.index[0].constant - to.index[0].constant) *
               static_cast<uint64_t>(to.scale);
    return to.stride > 0 ? wrapped(ahead) >= 0 : wrapped(ahead) <= 0;
  }

  void write(const LoopShape& loop, const Rounds& rounds, Instruction store, const Walk& to, const Walk* from,
             Value byte) {
    if (c_.wants_notes())
      c_.done(f_.position(store), write_text(c_.module, f_, store),
              from ? "the loop's store became a copy in front of it"
                   : "the loop's store became a fill in front of it",
              "it goes over elements one behind the other, and how many there are is known before",
              {{"bytes of an element", fmt::to_string(to.stride < 0 ? -to.stride : to.stride)}});
    Block front = block_in_front(f_, loops_, loop.head);
    RecurrenceWriter writer(c_.module, f_, loops_, loop.head, front, f_.position(store));
    writer.count(rounds);
    Pen& pen = writer.pen();
    Value times = writer.times();
    // The last visit of the branch leaves: what stands in front of it was done once more.
    if (!behind_branch(rounds, f_.block(store))) times = pen.add(times, pen.i64(1));
    int64_t size = to.stride < 0 ? -to.stride : to.stride;
    Value bytes = size == 1 ? times : pen.mul(times, pen.i64(size));
    Value p = first_of(writer, to, times), q = from ? first_of(writer, *from, times) : Value();
    if (from)
      pen.copy(p, q, bytes);
    else
      pen.fill(writer.bring(byte), p, bytes);
    stores_.erase(std::find(stores_.begin(), stores_.end(), store));
    f_.erase(store);
  }
  bool behind_branch(const Rounds& rounds, Block b) const {
    Block branch = f_.from(rounds.stays);
    return branch != b && dominators_.dominates(branch, b);
  }
  // The lowest address: of the first element, or of the last one where the loop goes down.
  Value first_of(RecurrenceWriter& writer, const Walk& w, Value times) {
    Pen& pen = writer.pen();
    Value p = writer.bring(w.base);
    if (!w.index.empty() || w.offset)
      p = pen.at(p, w.index.empty() ? Value() : writer.sum(Type::integer(64), w.index[0]), w.scale, w.offset);
    if (w.stride > 0) return p;
    return pen.at(p, pen.sub(pen.i64(1), times), -w.stride, 0);
  }

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  const Loops& loops_;
  Alias alias_;
  std::vector<Instruction> stores_, loads_;  // of the loop that is looked at
};

}  // namespace

void bulk(FunctionContext& c) { Gatherer(c).run(); }

}  // namespace porphyry
