// Values with lanes as the machine can hold them. A value is first found in one of three forms and is brought
// into the others where they are wanted, right behind its definition:
//
//   chunks    registers full of its element; the last one is padded with lanes of any value
//   scalars   one value a lane
//   masks     of bools: integers of some width in chunks, all bits set where the lane is true
//
// Which elements fill registers the book says (Coverage::whole).
#pragma once

#include <map>

#include "porphyry/machine/legalize.h"
#include "splitter.h"

namespace porphyry::machine {

class LaneViews {
 public:
  LaneViews(Module& module, Function& f, const Coverage& coverage);

  // As many lanes of the type's element as a register holds; no type where the element does not fill any.
  Type whole(Type t) const;
  // The integers that masks for this element are; the masks that a bool of so many lanes is passed as.
  Type mask_type(Type element) const { return whole(Type::integer(element.bits())); }
  unsigned usual_width(Type bools) const;
  static unsigned count(Type t, Type whole) { return (t.lanes() + whole.lanes() - 1) / whole.lanes(); }

  // Until told otherwise, what is found stands before `here`, an instruction that stays until the end.
  void at(Instruction here) { here_ = here; }
  void are_chunks(Value v, Parts chunks) { row(v).chunks = std::move(chunks); }
  void are_scalars(Value v, Parts scalars) { row(v).scalars = std::move(scalars); }
  void are_masks(Value v, unsigned width, Parts masks) { row(v).masks[width] = std::move(masks); }

  Parts chunks(Value v);
  Parts scalars(Value v);
  Parts masks(Value v, unsigned width);
  // Whether only lanes are at hand, or a constant, which is anything.
  bool is_scalar(Value v) const;
  bool has_masks(Value v) const;
  unsigned mask_width(Value v) const;  // one at hand, else the usual one

  // Plain building blocks, written where `pen` stands.
  Value put_together(FoldingPen& pen, Type whole, const Parts& scalars) const;
  Value lane(FoldingPen& pen, Value chunk, unsigned k) const;
  Value put(FoldingPen& pen, Value chunk, unsigned k, Value scalar) const;
  Value flag(FoldingPen& pen, Value b, Type lane) const;  // all bits of an integer
  Value bits(FoldingPen& pen, Value v, Type to) const;    // of at most 128
  // Twice or half as wide masks; for any integers, widened with zeros (`upper`: zeros) or signs (`upper`:
  // what lies above each lane) and narrowed to the low bits.
  Parts doubled(FoldingPen& pen, const Parts& chunks, const Parts& upper, unsigned lanes) const;
  Parts halved(FoldingPen& pen, const Parts& chunks, unsigned lanes) const;
  bool may_double(Type whole) const;
  bool may_halve(Type whole) const;

 private:
  struct Row {
    Instruction anchor;  // views are written before it
    Parts chunks, scalars;
    std::map<unsigned, Parts> masks;
  };
  Row& row(Value v);
  const Row* known(Value v) const;
  Row& row_of_kept(Value v);
  template <class Lane>
  Parts constant_chunks(Type t, Type whole, Lane lane) const;
  Parts made_of_scalars(Type whole, const Parts& scalars);
  Parts resized_masks(Row& r, unsigned lanes, unsigned width);

  const Coverage& coverage_;
  Function& f_;
  FoldingPen pen_;
  Instruction here_;
  SideTable<Value, uint32_t> numbers_;  // of rows_, plus one
  std::vector<std::unique_ptr<Row>> rows_;
};

}  // namespace porphyry::machine
