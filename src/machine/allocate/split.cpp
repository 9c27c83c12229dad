// Idea: a value that found no register for all of its range gets one for each loop or run of uses in it (a
// piece), and lies in its frame slot between them; a constant is rematerialized instead. A run of uses is
// parted where the scan found no more room for it, as long as uses are on both sides. Pieces are reloaded
// where they begin to be read and spilled where they were written. Invariant: where no piece is at hand the
// slot holds the value, and a piece is only split further, never joined, so rounds end. Cost: O(n log n) in
// the code.
#include "split.h"

#include <algorithm>

#include "split_uses.h"

namespace porphyry::machine {
namespace {

constexpr uint32_t run_gap = 16;  // instructions between uses that still belong to one run

class RangeSplitter {
 public:
  RangeSplitter(Allocation& out, const Target& target, const Scan& scan, Pieces& pieces,
                std::pmr::memory_resource* work)
      : out_(out),
        work_(work),
        f_(out.code),
        target_(target),
        scan_(scan),
        pieces_(pieces),
        uses_(out.code, scan, work),
        runs_(f_.virtuals.size(), work),
        loop_pieces_(work),
        edges_(work),
        moves_(work) {}

  LineMoves run() {
    find_constants();
    if (!f_.loops.empty()) {
      find_loop_pieces();
      bound_loop_pieces();
    }
    const std::pmr::vector<CodeLine> old(f_.code.begin(), f_.code.end(), work_);
    f_.code.clear();
    moves_.to.resize(old.size());
    moves_.begins.resize(old.size(), none);
    moves_.ends.resize(old.size(), none);
    size_t edge = 0;
    auto named = uses_.lines().begin();
    for (at_hand_.block = 0; at_hand_.block < f_.blocks.size(); ++at_hand_.block) {
      CodeBlock& b = f_.blocks[at_hand_.block];
      uint32_t from = b.first, end = b.first + b.count;
      b.first = static_cast<uint32_t>(f_.code.size());
      if (from < end) moves_.begins[from] = b.first;
      for (; edge < edges_.size() && edges_[edge].block == at_hand_.block && edges_[edge].at_start; ++edge)
        spill(edges_[edge].piece, old[from].origin);
      for (at_hand_.at = from; at_hand_.at < end; ++at_hand_.at) {
        if (at_hand_.at + 1 == end)  // before the jump to the loop's head
          for (; edge < edges_.size() && edges_[edge].block == at_hand_.block; ++edge)
            reload(edges_[edge].piece, old[at_hand_.at].origin);
        if (named == uses_.lines().end() || named->line != at_hand_.at) {
          keep(old[at_hand_.at]);
        } else {
          instruction(old[at_hand_.at]);
          ++named;
        }
      }
      b.count = static_cast<uint32_t>(f_.code.size()) - b.first;
      if (from < end) moves_.ends[end - 1] = b.first + b.count;
    }
    return std::move(moves_);
  }

 private:
  // A piece of a register, by the loop it is for.
  struct LoopPiece {
    uint32_t root, loop;
    bool written;
    Register reg;
    bool operator<(const LoopPiece& o) const { return root != o.root ? root < o.root : loop < o.loop; }
  };
  // What passes over a loop's boundary.
  struct EdgeMove {
    uint32_t block;
    bool at_start;
    Register piece;
    bool operator<(const EdgeMove& o) const {
      if (block != o.block) return block < o.block;
      return at_start != o.at_start ? at_start : piece < o.piece;
    }
  };
  struct Run {  // of uses close together, of one root
    uint32_t block = none, stretch = 0, last = 0;
    Register reg = no_register;
  };

  bool splits(Register r) const { return uses_.splits(r); }
  uint32_t root(Register r) const { return scan_.root(r - first_virtual); }
  const Piece& piece(Register r) const { return pieces_.of[r - first_virtual]; }

  // Values whose one write is an instruction that reads no register are rematerialized instead of reloaded.
  void find_constants() {
    const size_t count = f_.virtuals.size();
    std::pmr::vector<uint8_t> writes(count, work_);
    std::pmr::vector<uint32_t> line(count, work_);
    uses_.each([&](const SplitUses::Line& n, Register r, bool, bool written) {
      if (!written || piece(r).scope != Scope::Whole) return;
      uint32_t v = root(r);
      writes[v] = static_cast<uint8_t>(writes[v] ? 2 : 1);
      line[v] = n.line;
    });
    for (uint32_t v = 0; v < count; ++v) {
      if (writes[v] != 1 || !is_constant(f_.code[line[v]])) continue;
      pieces_.of[v].constant = static_cast<uint32_t>(pieces_.constants.size());
      pieces_.constants.push_back(f_.code[line[v]]);
    }
  }
  bool is_constant(const CodeLine& i) const {
    if (i.form < first_real_form || i.role == Role::Reload || target_.form(i.form).touches_more())
      return false;
    bool registers = false;
    each_register(f_, i, [&](Register, bool read, bool) { registers |= read; });
    return !registers && i.operand_count > 0 && f_.of(i)[0].written &&
           f_.of(i)[0].kind == OperandKind::Register &&
           (i.operand_count == 1 || f_.of(i)[1].kind == OperandKind::Literal || reads_pool(f_.of(i)[1]));
  }
  bool reads_pool(const CodeOperand& o) const {
    return o.kind == OperandKind::Memory && f_.addresses[static_cast<size_t>(o.value)].anchor == Anchor::Pool;
  }
  bool is_remade(Register r) const { return pieces_.of[root(r)].constant != none; }

  // How many loops a piece goes inside. One at a time at first; in deep nests it would take a round for each
  // of them.
  static uint32_t levels(const Piece& p) {
    constexpr uint8_t slow = 4, most = 20;
    return 1u << std::min<uint8_t>(p.generation < slow ? 0 : p.generation - slow + 1, most);
  }
  // The outermost loop around this block that lies so far inside the register's own scope. A constant is made
  // again before a loop only if the loop would have found it there.
  uint32_t next_loop(Register r, uint32_t block) const {
    const Piece& p = piece(r);
    if (p.scope > Scope::Loop || f_.loops.empty()) return no_loop;
    bool remade = is_remade(r);
    uint32_t within = uses_.home(root(r));
    if (depth_of(f_, p.loop) > depth_of(f_, within)) within = p.loop;
    const uint32_t least = depth_of(f_, within) + levels(pieces_.of[root(r)]);
    uint32_t next = no_loop, l = f_.blocks[block].loop;
    for (; depth_of(f_, l) > depth_of(f_, within); l = f_.loops[l].outer)
      if (depth_of(f_, l) >= least && (!remade || uses_.is_live_into(root(r), f_.loops[l].header))) next = l;
    return l == within ? next : no_loop;
  }
  bool inside(uint32_t block, uint32_t loop) const {
    uint32_t l = f_.blocks[block].loop;
    while (depth_of(f_, l) > depth_of(f_, loop)) l = f_.loops[l].outer;
    return l == loop;
  }

  void find_loop_pieces() {
    uses_.each([&](const SplitUses::Line& n, Register r, bool, bool written) {
      if (f_.blocks[n.block].loop == no_loop || moves_own_slot(f_.code[n.line])) return;
      uint32_t loop = next_loop(r, n.block);
      if (loop != no_loop) loop_pieces_.push_back({root(r), loop, written, no_register});
    });
    std::sort(loop_pieces_.begin(), loop_pieces_.end());
    size_t kept = 0;
    for (const LoopPiece& p : loop_pieces_)
      if (kept && loop_pieces_[kept - 1].root == p.root && loop_pieces_[kept - 1].loop == p.loop)
        loop_pieces_[kept - 1].written |= p.written;
      else
        loop_pieces_[kept++] = p;
    loop_pieces_.resize(kept);
    for (LoopPiece& p : loop_pieces_) p.reg = make(p.root, Scope::Loop, p.loop);
  }
  Register loop_piece(Register r, uint32_t block) const {
    uint32_t loop = next_loop(r, block);
    if (loop == no_loop) return no_register;
    auto p = std::lower_bound(loop_pieces_.begin(), loop_pieces_.end(), LoopPiece{root(r), loop, false, 0});
    return p->reg;
  }

  // A loop's piece is reloaded where the loop is entered, and spilled where it is left if it was written.
  // Edges with a branch at one end and a join at the other have been split, so that there is a place for
  // both.
  void bound_loop_pieces() {
    const auto& predecessors = scan_.ranges().predecessors;
    std::pmr::vector<std::pair<uint32_t, uint32_t>> exits(work_);  // (loop, block that control leaves to)
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      for (uint32_t s : f_.successors(f_.blocks[b]))
        for (uint32_t l = f_.blocks[b].loop; l != no_loop && !inside(s, l); l = f_.loops[l].outer)
          exits.push_back({l, s});
    std::sort(exits.begin(), exits.end());
    for (const LoopPiece& p : loop_pieces_) {
      uint32_t header = f_.loops[p.loop].header;
      if (uses_.is_live_into(p.root, header))
        for (uint32_t from : predecessors.of(header))
          if (!inside(from, p.loop)) edges_.push_back({from, false, p.reg});
      if (!p.written || is_remade(p.root + first_virtual)) continue;
      for (auto e = std::lower_bound(exits.begin(), exits.end(), std::pair(p.loop, 0u));
           e != exits.end() && e->first == p.loop; ++e)
        if (uses_.is_live_into(p.root, e->second)) edges_.push_back({e->second, true, p.reg});
    }
    std::sort(edges_.begin(), edges_.end());
  }

  // A new register that stands for a part of `v`'s range.
  Register make(uint32_t v, Scope scope, uint32_t loop = no_loop) {
    make_sure_of_slot(v);
    VirtualRegister shape = f_.virtuals[v];
    shape.brief = scope == Scope::Brief;
    f_.virtuals.push_back(shape);
    const Piece& of = pieces_.of[v];
    const auto generation = static_cast<uint8_t>(std::min(of.generation + 1, 255));
    pieces_.of.push_back(Piece{scope, loop, of.slot, of.constant, generation});
    return static_cast<Register>(first_virtual + f_.virtuals.size() - 1);
  }

  // ---- what is inserted. `named` and `other` are the program's registers for the two operands where the
  // instruction stands for a copy of the program; else the piece's own, twice.
  void put(FormIndex form, Role role, Instruction origin, Register r, Register named, uint32_t slot,
           Register other) {
    append({.form = form,
            .operand_count = 2,
            .role = role,
            .first_operand = static_cast<uint32_t>(f_.operands.size()),
            .origin = origin});
    bool spills = form == spill_form;
    f_.operands.push_back({OperandKind::Register, spills, !spills, Part::Whole, r, 0});
    f_.operands.push_back({OperandKind::Literal, false, false, Part::Whole, no_register, slot});
    out_.virtual_of.push_back(named);
    out_.virtual_of.push_back(other);
  }
  void make_again(uint32_t constant, Register into, Register named, Instruction origin) {
    CodeLine i = pieces_.constants[constant];
    auto first = static_cast<uint32_t>(f_.operands.size());
    for (uint8_t k = 0; k < i.operand_count; ++k) {
      f_.operands.push_back(CodeOperand(f_.operands[i.first_operand + k]));
      out_.virtual_of.push_back(k == 0 ? named : no_register);
    }
    f_.operands[first].reg = into;
    out_.remade.push_back({first, into});
    i.first_operand = first;
    i.role = Role::Reload;
    i.origin = origin;
    append(i);
  }
  void reload(Register into, Instruction origin) {
    const Piece& p = piece(into);
    if (p.constant != none) return make_again(p.constant, into, no_register, origin);
    put(reload_form, Role::Reload, origin, into, into, p.slot, into);
  }
  void spill(Register from, Instruction origin) {
    put(spill_form, Role::Spill, origin, from, from, piece(from).slot, from);
  }

  // Whether this moves a piece that is split again from or into the slot where its parts lie anyway.
  bool moves_own_slot(const CodeLine& i) const {
    if (i.role != Role::Spill && i.role != Role::Reload) return false;
    Register r = f_.of(i)[0].reg;
    if (!splits(r) || piece(r).scope == Scope::Whole) return false;
    if (i.form >= first_real_form) return piece(r).constant != none;
    return f_.of(i)[1].value == static_cast<int64_t>(piece(r).slot);
  }

  // The run of uses that this instruction belongs to; nothing when it is the first.
  Register run_at(Register r) const {
    const Run& run = runs_[root(r)];
    bool goes_on = run.block == at_hand_.block && run.stretch == at_hand_.stretch &&
                   at_hand_.at - run.last <= run_gap && !uses_.is_between(root(r), run.last, at_hand_.at);
    return goes_on ? run.reg : no_register;
  }
  void end_run(Register r) { runs_[root(r)].block = none; }

  // The register that stands for `r` in this instruction, reloaded when it is read and not there yet.
  Register here(Register r, bool read, Instruction origin) {
    if (Register p = loop_piece(r, at_hand_.block); p != no_register) return p;
    Register p = run_at(r);
    if (p == no_register) {
      p = make(root(r),
               piece(r).scope == Scope::Run && !uses_.is_parted(root(r)) ? Scope::Brief : Scope::Run);
      if (read) reload(p, origin);
    }
    // A brief one serves this instruction only.
    runs_[root(r)] = {at_hand_.block, at_hand_.stretch,
                      piece(p).scope == Scope::Brief ? at_hand_.at - run_gap : at_hand_.at, p};
    return p;
  }
  bool in_loop_piece(Register r) const { return loop_piece(r, at_hand_.block) != no_register; }

  // Puts a line that names a piece, or stands in the place of one that did. The old line at hand is then the
  // last one that was put for it; what is reloaded in front of it comes earlier, and so do spills where a
  // block begins.
  void append(const CodeLine& i) {
    moves_.to[at_hand_.at] = static_cast<uint32_t>(f_.code.size());
    moves_.fresh.push_back(static_cast<uint32_t>(f_.code.size()));
    f_.code.push_back(i);
  }
  void keep(const CodeLine& i) {
    moves_.to[at_hand_.at] = static_cast<uint32_t>(f_.code.size());
    f_.code.push_back(i);
    if (i.call != none) ++at_hand_.stretch;
  }
  void instruction(const CodeLine& i) {
    if (moves_own_slot(i) || makes_a_constant(i)) return;
    if (i.form == copy_form && copy(i)) return;
    rename(i);
    if (i.call != none) ++at_hand_.stretch;
  }
  bool makes_a_constant(const CodeLine& i) const {
    if (i.operand_count == 0 || i.role == Role::Reload) return false;
    const CodeOperand& o = f_.of(i)[0];
    return o.kind == OperandKind::Register && o.written && !o.read && splits(o.reg) &&
           piece(o.reg).scope == Scope::Whole && is_remade(o.reg) && i.form >= first_real_form;
  }

  // Copies become reloads, spills or nothing, where no piece is at hand. Whether that is done.
  bool copy(const CodeLine& i) {
    CodeOperand to = f_.of(i)[0], from = f_.of(i)[1];
    Register named_to = out_.virtual_of[i.first_operand], named_from = out_.virtual_of[i.first_operand + 1];
    bool to_splits = splits(to.reg), from_splits = splits(from.reg);
    if (!to_splits && !from_splits) return false;
    if (to_splits && from_splits && root(to.reg) == root(from.reg)) return true;
    bool from_lies = from_splits && !in_loop_piece(from.reg) && run_at(from.reg) == no_register;
    bool to_lies = to_splits && !in_loop_piece(to.reg);
    if (from_lies && !to_splits) {
      const Piece& p = pieces_.of[root(from.reg)];
      make_sure_of_slot(root(from.reg));
      if (p.constant != none)
        make_again(p.constant, to.reg, named_to, i.origin);
      else
        put(reload_form, Role::Reload, i.origin, to.reg, named_to, p.slot, named_from);
      return true;
    }
    if (!to_lies) return false;
    Register source = from_splits ? here(from.reg, true, i.origin) : from.reg;
    make_sure_of_slot(root(to.reg));
    put(spill_form, Role::Spill, i.origin, source, named_from, pieces_.of[root(to.reg)].slot, named_to);
    end_run(to.reg);
    return true;
  }
  void make_sure_of_slot(uint32_t v) {
    if (pieces_.of[v].slot != none || pieces_.of[v].constant != none) return;
    pieces_.of[v].slot = static_cast<uint32_t>(f_.slots.size());
    unsigned bytes = target_.spill_form(f_.virtuals[v].register_class, f_.virtuals[v].bits).bits / 8u;
    f_.slots.push_back({bytes, bytes});
  }

  void rename(const CodeLine& i) {
    for (uint8_t k = 0; k < i.operand_count; ++k) {  // reads first: they may want a reload
      CodeOperand o = f_.operands[i.first_operand + k];
      if (o.kind == OperandKind::Register && o.read && splits(o.reg)) {
        Register now = here(o.reg, true, i.origin);
        f_.operands[i.first_operand + k].reg = now;
        if (o.written) note_write(o.reg, now);
      } else if (o.kind == OperandKind::Memory || o.kind == OperandKind::Address) {
        CodeAddress a = f_.addresses[static_cast<size_t>(o.value)];
        if (splits(a.base)) a.base = here(a.base, true, i.origin);
        if (splits(a.index)) a.index = here(a.index, true, i.origin);
        f_.addresses[static_cast<size_t>(o.value)] = a;
      }
    }
    for (uint8_t k = 0; k < i.operand_count; ++k) {
      CodeOperand o = f_.operands[i.first_operand + k];
      if (o.kind != OperandKind::Register || o.read || !o.written || !splits(o.reg)) continue;
      Register now = here(o.reg, false, i.origin);
      f_.operands[i.first_operand + k].reg = now;
      note_write(o.reg, now);
    }
    append(i);
    const uint32_t now = moves_.to[at_hand_.at];
    for (size_t k = 0; k < written_.count; ++k) spill(written_.of[k], i.origin);
    moves_.to[at_hand_.at] = now;
    written_.count = 0;
  }
  void note_write(Register r, Register now) {
    if (!in_loop_piece(r)) written_.of[written_.count++] = now;
  }

  Allocation& out_;
  std::pmr::memory_resource* work_;
  Code& f_;
  const Target& target_;
  const Scan& scan_;
  Pieces& pieces_;
  const SplitUses uses_;
  std::pmr::vector<Run> runs_;  // by root
  std::pmr::vector<LoopPiece> loop_pieces_;
  std::pmr::vector<EdgeMove> edges_;
  LineMoves moves_;
  struct AtHand {
    uint32_t block = 0, at = 0;
    uint32_t stretch = 0;  // of instructions without a call between
  } at_hand_;
  struct Written {  // by the current instruction
    Register of[4] = {};
    size_t count = 0;
  } written_;
};

}  // namespace

LineMoves split_ranges(Allocation& out, const Target& target, const Scan& scan, Pieces& pieces,
                       std::pmr::memory_resource* work) {
  return RangeSplitter(out, target, scan, pieces, work).run();
}

}  // namespace porphyry::machine
