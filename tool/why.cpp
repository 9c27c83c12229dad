// Reasons: notes of passes, what is left over, and why an instruction of the code is what it is.
#include <filesystem>
#include <set>

#include "common.h"
#include "page.h"
#include "porphyry/ask/code.h"
#include "porphyry/ask/why.h"
#include "porphyry/base/files.h"
#include "porphyry/ir/clone.h"
#include "porphyry/render/notes.h"
#include "verbs.h"

namespace porphyry::tool {
namespace {

NoteQuestion question_of(const Options& o, const Module& module, const Pipeline& pipeline) {
  NoteQuestion out{.function = o.function, .value = o.value, .pass = o.pass, .line = o.line, .text = o.text};
  if (!o.function.empty()) function_of(module, o.function);
  std::vector<std::string> kinds;
  for (auto kind : {Note::Kind::Done, Note::Kind::Declined, Note::Kind::Seen, Note::Kind::Left}) {
    kinds.emplace_back(kind_name(kind));
    if (o.kind == kinds.back()) out.kind = kind;
  }
  if (!o.kind.empty() && !out.kind)
    fail({complaint("there is no kind of notes '" + o.kind + "'", listed(kinds))}, call_at_fault);
  auto names = pipeline.names();
  const bool known =
      standard_passes().find(o.pass) || std::find(names.begin(), names.end(), o.pass) != names.end();
  if (!o.pass.empty() && !known)
    fail({complaint("no pass is called '" + o.pass + "'", some_of(o.pass, names))}, call_at_fault);
  return out;
}

// The source that most notes are about, where it lies beside the module.
std::optional<std::pair<std::string, std::string>> source_beside(const Options& o, const Module& module) {
  for (const SourceFile& s : module.sources)
    for (const std::filesystem::path& folder :
         {std::filesystem::path(o.file).parent_path(), std::filesystem::path()}) {
      const std::string file = (folder / s.name).string();
      if (!std::filesystem::exists(file)) continue;
      if (auto text = read_file(file)) return std::pair(file, std::move(*text));
    }
  return std::nullopt;
}

std::string beside(const Options& o, const Module& before, const Notes& notes) {
  if (auto source = source_beside(o, before))
    return render(annotate_source(source->first, source->second, notes), notes, in_colour(o));
  Annotated text = annotate_text(o.file == "-" ? "standard input" : o.file, before, notes, o.function);
  return render(text, notes, in_colour(o));
}

std::string of_code(const Options& o) {
  if (o.function.empty())
    fail({complaint("--code asks about a function", "--function with --code")}, call_at_fault);
  const machine::Target& target = target_of(o);
  machine::LowerOptions options = lower_options(o, target);
  options.explain = true;
  auto loaded = load_optimized(o, "-O1");
  function_of(*loaded->module, o.function);
  auto lowered = machine::lower(*loaded->module, target, options);
  if (!lowered) fail(lowered.why(), input_at_fault);
  auto answer =
      why_code(*lowered, target, options.features.value_or(target.usual_features), o.function, o.code);
  if (!answer) fail(answer.why(), call_at_fault);
  return o.json ? render_json(*answer) : render(*answer, in_colour(o));
}

}  // namespace

int verb_why(const Options& o) {
  return guarded([&] {
    if (wants_page(o)) return put_out(o, page_of(o, usual_sides(o, {"-O1"}), "notes", "-O1"));
    check_ending(o, {o.json ? ".json" : o.sarif ? ".sarif" : ".txt", ".html"});
    const bool notes_only = o.code.empty();
    refuse_idle(
        o, {{"--beside", "--beside without --json, --sarif or --code", notes_only && !o.json && !o.sarif},
            {"--sarif", "--sarif without --json or --code", notes_only && !o.json},
            {"--line", "--line without --code", notes_only},
            {"--value", "--value without --code", notes_only},
            {"--pass", "--pass without --code", notes_only},
            {"--kind", "--kind without --code", notes_only},
            {"--text", "--text without --code", notes_only}});
    if (!notes_only) return put_out(o, of_code(o));
    const Pipeline pipeline = pipeline_of(o, "-O1");
    Notes notes;
    auto loaded = load(o);
    auto before = clone(*loaded->module);
    const NoteQuestion question = question_of(o, *before, pipeline);
    loaded = optimized(o, std::move(loaded), pipeline, &notes);
    Notes left = leftovers(*loaded->module, notes, pipeline.names());
    notes.insert(notes.end(), std::make_move_iterator(left.begin()), std::make_move_iterator(left.end()));
    notes = about(notes, question);
    put_out(o, o.json     ? render_json(notes)
               : o.sarif  ? render_sarif(notes, o.file, PORPHYRY_VERSION)
               : o.beside ? beside(o, *before, notes)
                          : render(notes, in_colour(o)));
  });
}

}  // namespace porphyry::tool
