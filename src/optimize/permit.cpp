#include "porphyry/optimize/permit.h"

#include "porphyry/ir/edit.h"
#include "porphyry/ir/words.h"

namespace porphyry {
void give_permits(Module& module, uint8_t permits, Notes* notes) {
  for (Symbol s : module.functions()) {
    Function& f = module.function(s);
    size_t given = 0;
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        uint8_t fitting = touches_floats(f, i)         ? permits & permit::of_floats
                          : info(f.op(i)).ends_block() ? permits & permit::ends
                                                       : 0;
        if (!(fitting & ~f.permits(i))) continue;
        f.set_permits(i, f.permits(i) | fitting);
        ++given;
      }
    if (given && notes)
      notes->push_back({.kind = Note::Kind::Seen,
                        .pass = "permits",
                        .function = std::string(module.symbol_name(s)),
                        .what = "permitted " + words_of(permits, permit_words()),
                        .why = "it was asked for the whole module",
                        .figures = {{"instructions", std::to_string(given)}}});
  }
}

}  // namespace porphyry
