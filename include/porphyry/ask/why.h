// Reasons: notes of passes picked by a question, what is left over in a program and why, and notes at the
// lines they are about.
//
//   Notes notes;
//   run_pipeline(*module, pipeline, {.notes = &notes});
//   Notes left = leftovers(*module, notes);
//   notes.insert(notes.end(), left.begin(), left.end());
//   for (const Note& n : about(notes, {.function = "chill", .kind = Note::Kind::Left})) …
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "porphyry/ir/module.h"
#include "porphyry/optimize/note.h"

namespace porphyry {

// What stands in a program that a reader would not expect there: a branch on a known constant, a call whose
// body is known, a store that is never read, a division or an invariant in a loop, a counter kept twice, a
// check that a fact would remove. Each is a note of the kind Left; its figures say how deep in loops it
// stands and how often it runs in one run of the function, by weights or guesses. `notes` are those of the
// passes that ran: what they say of the same value becomes the reason. O(instructions + notes).
Notes leftovers(const Module& module, const Notes& notes = {}, const std::vector<std::string>& ran = {});

// Which notes are wanted; what is empty does not matter.
struct NoteQuestion {
  std::string function, value, pass;
  std::string line;  // "24", or "frost.fml:24"
  std::string text;  // somewhere in it
  std::optional<Note::Kind> kind = {};
};
Notes about(const Notes& notes, const NoteQuestion& question);

// A text with the notes that belong to its lines.
struct Annotated {
  struct Line {
    size_t number;  // from 1
    std::string text;
    std::vector<size_t> notes;  // by number
  };
  std::string file;
  std::vector<Line> lines;
  std::vector<size_t> elsewhere;  // notes that belong to none
};
// Of a source: by the positions of notes.
Annotated annotate_source(const std::string& file, std::string_view text, const Notes& notes);
// Of the program's own text, as it was before passes: by function and value. What was made later belongs to
// its function's first line.
// With a name, only of that function.
Annotated annotate_text(const std::string& file, const Module& module, const Notes& notes,
                        std::string_view function = {});

}  // namespace porphyry
