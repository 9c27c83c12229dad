// The larger and the smaller of a float and a constant, for which targets have shorter ways.
#include <gtest/gtest.h>

#include <bit>
#include <cmath>
#include <cstring>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/pen.h"
#include "porphyry/jit/jit.h"
#include "support/targets.h"

namespace porphyry {
namespace {

bool is_nan(Type t, uint64_t bits) {
  return t.bits() == 32 ? std::isnan(std::bit_cast<float>(static_cast<uint32_t>(bits)))
                        : std::isnan(std::bit_cast<double>(bits));
}

// Each constant with each number, as a scalar and in lanes; with -0 and NaN, for which there is no shorter
// way, too.
TEST(Extremes, WithConstantsAreThoseOfAnyTwo) {
  struct Kind {
    Type t;
    std::vector<uint64_t> bits;
  };
  const Kind kinds[] = {{Type::f32(),
                         {0, 0x80000000, 1, 0x80000001, 0x3f800000, 0xbf800000, 0x40200000, 0x7f7fffff,
                          0x7f800000, 0xff800000, 0x7fc00000, 0x7f800001, 0xffc12345}},
                        {Type::f64(),
                         {0, 0x8000000000000000, 1, 0x8000000000000001, 0x3ff0000000000000,
                          0xbff0000000000000, 0x7fefffffffffffff, 0x7ff0000000000000, 0xfff0000000000000,
                          0x7ff8000000000000, 0x7ff0000000000001, 0xfff8123456789abc}}};
  for (const auto& [t, all] : kinds)
    for (Op op : {Op::Min, Op::Max})
      for (uint64_t constant : all) {
        Realm realm;
        Module module(realm, "m");
        const Type lanes = t.with_lanes(128 / t.bits());
        Symbol s = module.add_function("f", Signature{{Type::pointer(), Type::pointer()}, {}});
        Function& f = module.function(s);
        Pen pen(module, f);
        pen.at_end(f.add_block());
        const Value from = f.parameters()[0], to = f.parameters()[1];
        pen.store(pen.write(op, {pen.load(t, from), f.constant(t, constant)}), to);
        const std::vector<uint64_t> same(lanes.words(), constant);
        pen.store(pen.write(op, {f.constant_lanes(lanes, same), pen.load(lanes, from)}), to, {}, 1, 16);
        pen.return_values({});
        auto jit = Jit::compile(module, testing::target(), {.check_allocation = true});
        ASSERT_TRUE(jit.good()) << render(jit.why());
        auto run = *(*jit)->function<void(const void*, void*)>("f");
        for (size_t k = 0; k < all.size(); ++k) {
          const unsigned bytes = t.bits() / 8, count = lanes.lanes();
          uint8_t in[16], out[32];
          for (unsigned j = 0; j < count; ++j) std::memcpy(in + j * bytes, &all[(k + j) % all.size()], bytes);
          run(in, out);
          for (unsigned j = 0; j <= count; ++j) {
            uint64_t is = 0;
            std::memcpy(&is, j == count ? out : out + 16 + j * bytes, bytes);
            const Bits both[] = {all[(k + (j == count ? 0 : j)) % all.size()], constant};
            const auto meant = static_cast<uint64_t>(compute(op, t, t, both).bits);
            const uint64_t quiet = t.bits() == 32 ? 0x7fc00000 : 0x7ff8000000000000;
            if (is_nan(t, meant)) {
              ASSERT_EQ(is & quiet, quiet) << std::hex << is;
              continue;
            }
            ASSERT_EQ(is, meant) << info(op).name << std::hex << ' ' << static_cast<uint64_t>(both[0]) << ' '
                                 << constant;
          }
        }
      }
}

}  // namespace
}  // namespace porphyry
