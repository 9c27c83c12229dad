// Builds `add two integers` with a pen, prints it and saves it to a file.
//
//   example_add_two_integers [PATH]      PATH is add.por unless given
#include <fmt/format.h>

#include "porphyry/analyze/verify.h"
#include "porphyry/base/files.h"
#include "porphyry/ir/pen.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"

int main(int count, char** arguments) {
  using namespace porphyry;
  std::string path = count > 1 ? arguments[1] : "add.por";

  Realm realm;  // owns names; nothing is shared with other realms
  Module module(realm, "orchard");
  Type i32 = Type::integer(32);
  Symbol add = module.add_function("add", {{i32, i32}, {i32}});
  Function& f = module.function(add);
  f.set_name(f.parameters()[0], realm.name("apples"));
  f.set_name(f.parameters()[1], realm.name("pears"));

  Pen pen(module, f);
  pen.at_end(f.add_block(realm.name("enter")));
  Value sum = pen.add(f.parameters()[0], f.parameters()[1]);
  f.set_name(sum, realm.name("sum"));
  pen.return_values({sum});

  Diagnostics wrong = verify(module);  // says what is wrong with a module that was built
  if (wrong.empty()) {
    std::string text = write_text(module);
    fmt::print("{}", text);
    wrong = write_file(path, text);  // whole or not at all
  }
  fmt::print(stderr, "{}", render(wrong));
  return wrong.empty() ? 0 : 1;
}
