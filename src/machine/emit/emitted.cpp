// Emitted code read back: its constants where they come to lie, its instructions from their bytes, and their
// text.
#include "porphyry/base/rounding.h"
#include "porphyry/machine/emit.h"

namespace porphyry::machine {
namespace {

std::string operand_text(const Target& target, const FormOperand& shape, const PlainOperand& o,
                         const std::string& name) {
  switch (shape.kind) {
    case OperandKind::Register: return std::string(target.register_name(o.physical, shape.type.total_bits()));
    case OperandKind::Literal: return name.empty() ? std::to_string(o.literal) : name;
    case OperandKind::Label:
    case OperandKind::Symbol: return name;
    case OperandKind::Address: return target.spell_address(target, o.address, 0, name);
    case OperandKind::Memory: return target.spell_address(target, o.address, shape.type.total_bits(), name);
  }
  return "";
}

}  // namespace

std::vector<size_t> constant_places(const CompiledFunction& f) {
  std::vector<size_t> out;
  size_t at = 0;
  for (const PoolEntry& e : f.pool) {
    out.push_back(at = round_up<size_t>(at, e.bytes));
    at += e.bytes;
  }
  at = round_up<size_t>(at, table_entry_bytes);
  for (const std::vector<uint32_t>& t : f.tables) {
    out.push_back(at);
    at += table_entry_bytes * t.size();
  }
  out.push_back(at);
  return out;
}

void put_constants(const CompiledFunction& f, std::span<const size_t> places, ByteOrder order,
                   const uint8_t* code, uint8_t* memory) {
  for (size_t k = 0; k < f.pool.size(); ++k) put_entry(f.pool[k], order, memory + places[k]);
  for (size_t k = 0; k < f.tables.size(); ++k) {
    uint8_t* const table = memory + places[f.pool.size() + k];
    uint8_t* at = table;
    for (uint32_t block : f.tables[k]) {
      const uint64_t distance =
          reinterpret_cast<uint64_t>(code) + f.blocks[block].offset - reinterpret_cast<uint64_t>(table);
      put_value(Type::integer(8 * table_entry_bytes), {&distance, 1}, order, at);
      at += table_entry_bytes;
    }
  }
}

PlainInstruction instruction_at(const Target& target, const CompiledFunction& f, const EmittedLine& line) {
  PlainInstruction out;
  target.decode(target, {f.bytes.data() + line.offset, line.size}, out);
  return out;
}

std::string spell(const Target& target, const PlainInstruction& i, const OperandNames& names) {
  const Form& form = target.form(i.form);
  std::string out;
  for (char c : form.spelling) {
    size_t k = static_cast<size_t>(c) - 1;
    if (c > 0 && k < form.operands.size())
      out += operand_text(target, form.operands[k], i.operands[k], names[k]);
    else
      out += c;
  }
  return out;
}

std::string spell(const Target& target, const PlainInstruction& i, const std::string& name) {
  OperandNames names;
  const Form& form = target.form(i.form);
  for (size_t k = 0; k < form.operands.size(); ++k) {
    OperandKind kind = form.operands[k].kind;
    bool address = kind == OperandKind::Memory || kind == OperandKind::Address;
    if (kind == OperandKind::Label || kind == OperandKind::Symbol ||
        (address && i.operands[k].address.relative))
      names[k] = name;
  }
  return spell(target, i, names);
}

}  // namespace porphyry::machine
