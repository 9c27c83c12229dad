// The IR as text: whole modules in the text form, and what messages, notes and listings quote of them. The
// form is canonical: reading what was written and writing it again gives the same
// bytes. Values and blocks without a name are called v1, b2, … by their handle.
#pragma once

#include <string>

#include "porphyry/ir/module.h"

namespace porphyry {

std::string write_text(const Module& module);
// Aligned: results, and what stands behind lines, in columns, as in whole modules. None: one blank between
// words, so that a line of two texts differs only where the instruction does.
enum class Columns : uint8_t { Aligned, None };
std::string write_text(const Module& module, Symbol function, Columns columns = Columns::Aligned);
// One instruction on one line, for messages and listings.
std::string write_text(const Module& module, const Function& function, Instruction i);
// "such a string", with escapes.
std::string quoted(std::string_view plain);
// A name as it stands in the text: quoted unless it is a plain word that means nothing else.
std::string shown_name(std::string_view name);
// A value's name, or the constant it is.
std::string value_text(const Module& module, const Function& function, Value v);
std::string block_text(const Module& module, const Function& function, Block b);
// "1:14:17", with `in` and `and` as in the text form; empty when there is none.
std::string position_text(const Module& module, Position p);
// The same for people, by the sources' names: "night.fml:14:17".
std::string place_text(const Module& module, Position p);
// What an access touches: "orchard.Night.last.wet".
std::string path_text(const Module& module, KindPath p);

}  // namespace porphyry
