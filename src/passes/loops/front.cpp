#include "front.h"

namespace porphyry {

LoopBody body_of(const Function& f, const LoopShape& loop) {
  LoopBody out;
  for (Block b : loop.blocks)
    for (Instruction i : f.instructions(b)) {
      ++out.instructions;
      out.reserves |= f.op(i) == Op::Reserve;
      out.calls |= info(f.op(i)).calls();
    }
  return out;
}

Block block_in_front(Function& f, const Loops& loops, Block head) {
  std::vector<Edge> in;
  for (Edge e : f.edges_into(head))
    if (!loops.contains(head, f.from(e))) in.push_back(e);
  if (in.size() == 1 && f.edges(f.from(in[0])).size() == 1) return f.from(in[0]);
  Block made = f.add_block_after(f.previous(head));
  // Where there is one way in, what it brings goes on as it is: a start that is a number stays one to see.
  const bool one_way = in.size() == 1;
  std::vector<Value> arguments;
  for (size_t k = 0; k < f.parameters(head).size(); ++k)  // a span would move with each that is added
    arguments.push_back(one_way ? f.argument(in[0], k)
                                : f.add_parameter(made, f.type(f.parameters(head)[k])));
  Function::Draft::Destination target{head, arguments};
  f.append(made, {.op = Op::Go, .targets = {&target, 1}});
  for (Edge e : in)
    if (one_way)
      f.redirect(e, made);
    else
      lead_to(f, e, made);
  return made;
}

void lead_to(Function& f, Edge e, Block to) {
  std::vector<Value> given;
  for (Value v : f.arguments(e)) given.push_back(v);
  f.redirect(e, to);
  for (Value v : given) f.add_argument(e, v);
}

}  // namespace porphyry
