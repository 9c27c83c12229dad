#include "porphyry/ir/body_text.h"

#include "porphyry/ir/order.h"

namespace porphyry {
namespace {

class BodyText {
 public:
  BodyText(const Function& f, const BodyTextOptions& options)
      : f_(f), options_(options), numbers_(f.value_limit()), blocks_(f.block_limit()) {
    out_ = f.signature().text();
    for (Value v : f.parameters()) numbers_[v] = ++count_;
    Blocks order = reverse_postorder(f);
    uint32_t n = 0;
    for (Block b : order) {
      blocks_[b] = ++n;
      for (Value v : f.parameters(b))
        if (b != f.entry()) numbers_[v] = ++count_;
      for (Instruction i : f.instructions(b))
        for (Value v : f.results(i)) numbers_[v] = ++count_;
    }
    for (Block b : order) {
      put(f.parameters(b).size());
      for (Value v : f.parameters(b)) type(f.type(v));
      for (Instruction i : f.instructions(b)) instruction(i);
    }
  }
  std::string take() { return std::move(out_); }

 private:
  void put(uint64_t n) { out_.append(reinterpret_cast<const char*>(&n), sizeof n); }
  void type(Type t) { put(static_cast<uint64_t>(t.shape()) << 32 | uint64_t(t.bits()) << 16 | t.lanes()); }
  void value(Value v) {
    if (!f_.is_constant(v)) return put(numbers_[v]);
    put(0);
    type(f_.type(v));
    for (uint64_t w : f_.constant_words(v)) put(w);
  }
  void address(const Address& a) {
    put(static_cast<uint64_t>(a.scale)), put(static_cast<uint64_t>(a.offset)), put(a.align),
        put(a.kind.index);
    put(a.indexed | a.masked << 1 | a.is_volatile << 2 | a.early << 3 | a.guarded << 4 | a.as_unwritten << 5);
  }
  void instruction(Instruction i) {
    put(static_cast<uint64_t>(f_.op(i)) << 32 | uint64_t(f_.promises(i)) << 16 |
        uint64_t(f_.permits(i)) << 8 | static_cast<uint64_t>(f_.hint(i)));
    put(f_.operand_count(i));
    for (Value v : f_.operands(i)) value(v);
    for (Value v : f_.results(i)) type(f_.type(v));
    switch (info(f_.op(i)).detail()) {
      case Detail::Address: address(f_.address(i)); break;
      case Detail::Copy: address(f_.copy_shape(i).to), address(f_.copy_shape(i).from); break;
      case Detail::Reserve: put(f_.reserve_shape(i).bytes), put(f_.reserve_shape(i).align); break;
      case Detail::Lanes:
        for (unsigned k = 0; k < f_.type(f_.result(i)).lanes(); ++k) put(f_.shuffle_lane(i, k));
        break;
      case Detail::Cases:
        for (size_t k = 0; k + 1 < f_.edge_count(i); ++k)
          put(static_cast<uint64_t>(f_.case_value(i, k))),
              put(static_cast<uint64_t>(f_.case_value(i, k) >> 64));
        break;
      case Detail::Symbol: put(options_.symbol ? options_.symbol(f_.symbol(i)) : f_.detail(i)); break;
      case Detail::Name: put(f_.detail(i)); break;
      case Detail::None: break;
    }
    for (Edge e : f_.edges(i)) {
      put(blocks_[f_.to(e)]), put(f_.argument_count(e));
      if (options_.weights) put(f_.weight(e));
      for (Value v : f_.arguments(e)) value(v);
    }
  }

  const Function& f_;
  const BodyTextOptions& options_;
  std::string out_;
  Table<Value, uint32_t> numbers_;  // from 1; 0 stands for constants
  Table<Block, uint32_t> blocks_;
  uint32_t count_ = 0;
};

}  // namespace

std::string body_text(const Function& f, const BodyTextOptions& options) {
  return BodyText(f, options).take();
}

}  // namespace porphyry
