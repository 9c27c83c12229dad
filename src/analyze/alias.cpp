#include "porphyry/analyze/alias.h"

namespace porphyry {

MemoryAccess Alias::taken_apart(Value base, Value index, const Address& a, uint64_t size) const {
  MemoryAccess out{base, index, a.scale, a.offset, size, a.kind, a.as_unwritten};
  auto add = [&](int64_t n, int64_t times) {
    out.offset = static_cast<int64_t>(static_cast<uint64_t>(out.offset) +
                                      static_cast<uint64_t>(n) * static_cast<uint64_t>(times));
  };
  for (;;) {
    // A sum wraps as addresses do: what is added to an index is added to the offset.
    Instruction sum = out.index.exists() ? f_.definition(out.index) : Instruction();
    if (out.index.exists() && f_.is_constant(out.index)) {
      add(static_cast<int64_t>(f_.constant_bits(out.index)), out.scale);
      out.index = {}, out.scale = 1;
      continue;
    }
    if (sum.exists() && f_.op(sum) == Op::Add && f_.is_constant(f_.operand(sum, 1)) &&
        f_.type(out.index).bits() == 64) {
      add(static_cast<int64_t>(f_.constant_bits(f_.operand(sum, 1))), out.scale);
      out.index = f_.operand(sum, 0);
      continue;
    }
    Instruction d = f_.definition(out.base);
    if (!d.exists() || f_.op(d) != Op::At) return out;
    const Address& inner = f_.address(d);
    if (inner.indexed && out.index.exists()) return out;
    out.base = f_.operand(d, 0);
    if (inner.indexed) out.index = f_.operand(d, 1), out.scale = inner.scale;
    add(inner.offset, 1);
  }
}

MemoryAccess Alias::access(Instruction i) const {
  const Address& a = f_.op(i) == Op::Copy ? f_.copy_shape(i).to : f_.address(i);
  size_t first = 0;
  uint64_t size = MemoryAccess::unknown_size;
  Type t = f_.op(i) == Op::Load ? f_.type(f_.result(i)) : Type();
  if (f_.op(i) == Op::Store) t = f_.type(f_.operand(i, 0)), first = 1;
  if (f_.op(i) == Op::Fill) first = 1;
  if (t.exists()) size = t.bytes();
  if (f_.op(i) == Op::Copy || f_.op(i) == Op::Fill) {
    Value n = f_.operand(i, f_.operand_count(i) - 1);
    if (f_.is_constant(n)) size = f_.constant_bits(n);
  }
  return taken_apart(f_.operand(i, first), a.indexed ? f_.operand(i, first + 1) : Value(), a, size);
}

MemoryAccess Alias::access(Instruction load, std::span<const Value> operands) const {
  const Address& a = f_.address(load);
  return taken_apart(operands[0], a.indexed ? operands[1] : Value(), a, f_.type(f_.result(load)).bytes());
}

MemoryAccess Alias::read_by_copy(Instruction i) const {
  const CopyShape& shape = f_.copy_shape(i);
  size_t first = shape.to.operand_count();
  MemoryAccess written = access(i);
  return taken_apart(f_.operand(i, first), shape.from.indexed ? f_.operand(i, first + 1) : Value(),
                     shape.from, written.size);
}

MemoryAccess Alias::from(Value pointer, uint64_t size) const { return taken_apart(pointer, {}, {}, size); }

Alias::Root Alias::root(Value base) const {
  if (f_.kind(base) == ValueKind::Parameter) return Root::Parameter;
  Instruction d = f_.definition(base);
  if (!d.exists()) return Root::Unknown;
  if (f_.op(d) == Op::Reserve) return Root::Frame;
  if (f_.op(d) == Op::AddressOf) return Root::Data;
  if (f_.op(d) == Op::Call && module_[f_.symbol(d)].facts.outside & outside::allocates) return Root::Fresh;
  return Root::Unknown;
}

bool Alias::escapes(Value root) const {
  if (uint8_t known = escapes_.get(root)) return known == 2;
  bool out = false;
  std::vector<Value> work{root};
  while (!work.empty() && !out) {
    Value p = work.back();
    work.pop_back();
    for (Slot s : f_.uses(p)) {
      auto use = f_.use(s);
      Op op = f_.op(use.user);
      bool is_address = (op == Op::Load && f_.operand(use.user, 0) == p) ||
                        (op == Op::Store && f_.operand(use.user, 0) != p) || op == Op::Release ||
                        op == Op::Renew || op == Op::Copy || op == Op::Fill || op == Op::Watch;
      // Comparing shows nothing of where an object lies.
      bool compares = info(op).result == ResultRule::Truth;
      if (op == Op::At && !use.edge.exists())
        work.push_back(f_.result(use.user));
      else if (use.edge.exists() || !(is_address || compares))
        out = true;
    }
  }
  escapes_.set(root, out ? 2 : 1);
  return out;
}

AliasAnswer Alias::of(const MemoryAccess& a, const MemoryAccess& b) const {
  if (a.size == 0 || b.size == 0) return {Overlap::Never, "one of them touches no bytes"};
  if (a.kind.exists() && b.kind.exists() && !module_.kinds.may_overlap(a.kind, b.kind))
    return {Overlap::Never, "their kinds do not overlap"};
  if (a.base == b.base) {
    if (a.index != b.index || (a.index.exists() && a.scale != b.scale))
      return {Overlap::Maybe, "their indices differ by an unknown number"};
    if (a.offset == b.offset && a.size == b.size && a.size != MemoryAccess::unknown_size)
      return {Overlap::Same, "they have the same address and size"};
    const MemoryAccess &low = a.offset < b.offset ? a : b, &high = a.offset < b.offset ? b : a;
    if (low.size != MemoryAccess::unknown_size &&
        low.size <= static_cast<uint64_t>(high.offset) - static_cast<uint64_t>(low.offset))
      return {Overlap::Never, "their offsets are apart"};
    return {Overlap::Maybe, "they overlap in part"};
  }
  Root x = root(a.base), y = root(b.base);
  auto is_object = [](Root r) { return r == Root::Frame || r == Root::Data || r == Root::Fresh; };
  if (is_object(x) && is_object(y)) {
    if (x != Root::Data || y != Root::Data) return {Overlap::Never, "they lie in different objects"};
    Symbol s = f_.symbol(f_.definition(a.base)), t = f_.symbol(f_.definition(b.base));
    bool defined = module_[s].kind == SymbolKind::Data && module_[t].kind == SymbolKind::Data;
    if (s != t && defined) return {Overlap::Never, "they lie in different objects"};
    return {Overlap::Maybe, "both may be the same external object"};
  }
  auto private_object = [&](Root r, Value base) {
    return (r == Root::Frame || r == Root::Fresh) && !escapes(base);
  };
  if (private_object(x, a.base) || private_object(y, b.base))
    return {Overlap::Never, "nothing else knows the object's address"};
  // What came in was there before this call made anything.
  if ((x == Root::Parameter && (y == Root::Frame || y == Root::Fresh)) ||
      (y == Root::Parameter && (x == Root::Frame || x == Root::Fresh)))
    return {Overlap::Never, "one was made in this call, the other came in"};
  auto sole = [&](Root r, Value base) {
    return r == Root::Parameter && (facts_.marks_of(f_.result_index(base)) & mark::sole);
  };
  bool others = (x == Root::Parameter || x == Root::Data) && (y == Root::Parameter || y == Root::Data);
  if (others && (sole(x, a.base) || sole(y, b.base)))
    return {Overlap::Never, "one is reached through a 'sole' pointer alone"};
  return {Overlap::Maybe, "nothing tells their objects apart"};
}

bool Alias::may_write(Instruction i, const MemoryAccess& a, const CallEffects& effects) const {
  if (a.as_unwritten) return false;
  const OperationInfo& row = info(f_.op(i));
  if (row.calls()) {
    if (!effects.of(f_, i).writes.may(module_.kinds, a.kind)) return false;
    Root r = root(a.base);
    return !((r == Root::Frame || r == Root::Fresh) && !escapes(a.base)) || f_.definition(a.base) == i;
  }
  switch (f_.op(i)) {
    case Op::Load: return f_.address(i).is_volatile;
    case Op::Store:
    case Op::Fill:
    case Op::Copy: return of(access(i), a).relation != Overlap::Never;
    case Op::Reserve: return f_.result(i) == a.base;
    case Op::Release:
    case Op::Renew:
      return of(from(f_.operand(i, 0), MemoryAccess::unknown_size), a).relation != Overlap::Never;
    default: return row.writes_memory();
  }
}

bool Alias::may_read(Instruction i, const MemoryAccess& a, const CallEffects& effects) const {
  const OperationInfo& row = info(f_.op(i));
  Root r = root(a.base);
  bool hidden = (r == Root::Frame || r == Root::Fresh) && !escapes(a.base);
  if (row.calls()) return !hidden && effects.of(f_, i).reads.may(module_.kinds, a.kind);
  if (row.ends_block() && f_.edge_count(i) == 0) return r != Root::Frame;
  switch (f_.op(i)) {
    case Op::Load: return f_.address(i).is_volatile || of(access(i), a).relation != Overlap::Never;
    case Op::Copy: return of(read_by_copy(i), a).relation != Overlap::Never;
    default: return row.reads_memory();
  }
}

}  // namespace porphyry
