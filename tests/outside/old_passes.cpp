// A library of passes that says it was compiled against an earlier version.
#include "porphyry/optimize/user_passes.h"

extern "C" porphyry::MadeFor porphyry_made_for() { return {"0.0.1", porphyry::layout_stamp()}; }
extern "C" void porphyry_add_passes(porphyry::PassTable&) {}
