// Random WebAssembly modules: valid, they end, a few trap. What they give depends on no bits of NaNs.
#pragma once

#include <random>

#include "support/wasm_build.h"

namespace porphyry::testing {

class WasmSample {
 public:
  explicit WasmSample(uint64_t seed) : random_(seed) {}

  // Functions f0, f1, … of (i32, i64, f64) -> i64 or two results; memory and a global `g` are exported.
  std::string make() {
    using namespace wasm_text;
    m_.memory(1, 3);
    m_.data(static_cast<int32_t>(below(3000)), "frost watch in the orchard");
    m_.passive_data("degrees");
    for (char t : {'i', 'l', 'd', 'v'})
      m_.global(t, true, t == 'i' ? i32(7) : t == 'l' ? i64(-9) : t == 'd' ? f64(0.5) : zero_lanes());
    m_.exported("memory", 0, 2), m_.exported("g", 1, 3);
    type_ = m_.type("ild", "l"), pair_ = m_.type("ild", "ld");
    m_.table('r', 6, 9);
    size_t count = 2 + below(3);
    for (size_t k = 0; k < count; ++k) add_function(k);
    std::vector<uint32_t> all;
    for (uint32_t k = 0; k < count; ++k) all.push_back(k);
    m_.elements(1, all);
    return m_.bytes();
  }

 private:
  size_t below(size_t n) { return random_() % n; }
  bool one_in(size_t n) { return below(n) == 0; }
  static std::string zero_lanes() {
    return wasm_text::op(0xfd) + wasm_text::uleb(12) + std::string(16, '\3');
  }

  void add_function(size_t k) {
    using namespace wasm_text;
    locals_ = "ildiilldvf";
    std::string declared = locals_.substr(3) + std::string(8, 'i');  // the last ones count rounds
    fuel_ = static_cast<uint32_t>(locals_.size()), rounds_ = 0, depth_ = 0,
    functions_ = static_cast<uint32_t>(k);
    bool pair = one_in(3);
    code_budget_ = 60;
    std::string code;
    for (size_t n = 2 + below(5); n > 0; --n) code += statement();
    code += expression('l', 3);
    if (pair) code += expression('d', 2);
    pairs_.push_back(pair);
    uint32_t f = m_.function(pair ? pair_ : type_, declared, code);
    m_.exported(std::string("f") + std::to_string(k), f);
  }

  std::string number(char t) {
    using namespace wasm_text;
    static constexpr int64_t edges[] = {
        0,         1,        -1, 2, 7, 31, 63, 64, 255, 65535, 2147483647, -2147483648LL, 4294967295LL,
        INT64_MAX, INT64_MIN};
    int64_t n = one_in(2) ? edges[below(std::size(edges))] : static_cast<int64_t>(random_());
    switch (t) {
      case 'i': return i32(static_cast<int32_t>(n));
      case 'l': return i64(n);
      case 'f': return f32(static_cast<float>(static_cast<double>(n % 1000) / 8));
      case 'd': return f64(static_cast<double>(n % 100000) / 16);
      default: return op(0xfd) + uleb(12) + raw(n) + raw(static_cast<int64_t>(random_()));
    }
  }
  // An operand of lanes from a scalar.
  std::string splat(int depth) {
    using namespace wasm_text;
    unsigned which = static_cast<unsigned>(below(4));
    return expression(which == 3 ? 'l' : 'i', depth - 1) + op(0xfd) + uleb(15 + which);
  }
  std::string variable(char t) {
    using namespace wasm_text;
    std::vector<uint32_t> fit;
    for (uint32_t k = 0; k < locals_.size(); ++k)
      if (locals_[k] == t) fit.push_back(k);
    return get(fit[below(fit.size())]);
  }
  // An address that is most often inside of the memory.
  std::string address(int depth) {
    using namespace wasm_text;
    return one_in(12) ? expression('i', depth) : expression('i', depth) + i32(0xfff8) + op(0x71);
  }
  std::string access(unsigned code) {
    using namespace wasm_text;
    return op(code) + uleb(0) + uleb(one_in(4) ? below(40) : 0);
  }

  std::string expression(char t, int depth) {
    using namespace wasm_text;
    if (depth <= 0 || code_budget_-- < 0) return t == 'v' || one_in(2) ? variable(t) : number(t);
    switch (below(9)) {
      case 0: return variable(t);
      case 1:
        return expression(t, depth - 1) + expression(t, depth - 1) + expression('i', depth - 1) + op(0x1b);
      case 2:
        return expression('i', depth - 1) +
               if_(std::string(1, t), expression(t, depth - 1), expression(t, depth - 1));
      case 3:
        return block(std::string(1, t), expression(t, depth - 1) + expression('i', depth - 1) + branch_if(0) +
                                            op(0x1a) + statement() + expression(t, depth - 1));
      case 4:
        return op(0x23) +
               uleb(t == 'i'   ? 0
                    : t == 'l' ? 1
                    : t == 'd' ? 2
                    : t == 'v' ? 3
                               : 0) +
               (t == 'f' ? op(0xb2) : "");
      default: return operation(t, depth);
    }
  }

  std::string operation(char t, int depth) {
    using namespace wasm_text;
    auto two = [&](char of, unsigned code) {
      return expression(of, depth - 1) + expression(of, depth - 1) + op(code);
    };
    auto one = [&](char of, const std::string& code) { return expression(of, depth - 1) + code; };
    switch (t) {
      case 'i':
        switch (below(9)) {
          case 0: return two('l', 0x51 + static_cast<unsigned>(below(10)));
          case 1: return two('d', 0x61 + static_cast<unsigned>(below(6)));
          case 2: return one('l', op(one_in(2) ? 0x50 : 0xa7));
          case 3: return one('d', prefixed(2 + static_cast<unsigned>(below(2))));
          case 4: return address(depth - 1) + access(0x2c + static_cast<unsigned>(below(4)));
          case 5: return one('i', op(std::array<unsigned, 6>{0x45, 0x67, 0x68, 0x69, 0xc0, 0xc1}[below(6)]));
          case 6: return one('v', op(0xfd) + uleb(27) + op(static_cast<unsigned>(below(4))));
          case 7: return two('i', 0x46 + static_cast<unsigned>(below(10)));
          default:
            return two('i', one_in(10) ? 0x6d + static_cast<unsigned>(below(4))
                                       : std::array<unsigned, 11>{0x6a, 0x6b, 0x6c, 0x71, 0x72, 0x73, 0x74,
                                                                  0x75, 0x76, 0x77, 0x78}[below(11)]);
        }
      case 'l':
        switch (below(6)) {
          case 0: return one('i', op(one_in(2) ? 0xac : 0xad));
          case 1: return one('d', prefixed(6 + static_cast<unsigned>(below(2))));
          case 2: return address(depth - 1) + access(std::array<unsigned, 3>{0x29, 0x30, 0x35}[below(3)]);
          case 3: return one('v', op(0xfd) + uleb(29) + op(static_cast<unsigned>(below(2))));
          case 4:
            return functions_ && loops_ == 0 && one_in(3)
                       ? called()
                       : one('l', op(0x79 + static_cast<unsigned>(below(3))));
          default:
            return two('l', one_in(10) ? 0x7f + static_cast<unsigned>(below(4))
                                       : std::array<unsigned, 11>{0x7c, 0x7d, 0x7e, 0x83, 0x84, 0x85, 0x86,
                                                                  0x87, 0x88, 0x89, 0x8a}[below(11)]);
        }
      case 'd':
        switch (below(4)) {
          case 0: return one('l', op(one_in(2) ? 0xb9 : 0xba));
          case 1: return one('f', op(0xbb));
          case 2: return one('d', op(0x99 + static_cast<unsigned>(below(7))));
          default: return two('d', 0xa0 + static_cast<unsigned>(below(6)));
        }
      case 'f':
        switch (below(3)) {
          case 0: return one('i', op(one_in(2) ? 0xb2 : 0xb3));
          case 1: return one('d', op(0xb6));
          default: return two('f', 0x92 + static_cast<unsigned>(below(6)));
        }
      default: {
        static constexpr uint8_t codes[] = {78,  79,  80,      81,  14,  35,  38,  45,  57,  101, 102, 110,
                                            111, 113, 116 + 2, 121, 123, 130, 133, 142, 145, 149, 155, 156,
                                            174, 177, 181,     183, 186, 190, 206, 209, 213, 216, 223};
        switch (below(4)) {
          case 0: return splat(depth);
          case 1:
            return one('v', op(0xfd) + uleb(std::array<unsigned, 10>{77, 96, 97, 98, 128, 161, 124, 135, 170,
                                                                     199}[below(10)]));
          case 2:
            return expression('v', depth - 1) + expression('i', depth - 1) + op(0xfd) +
                   uleb(std::array<unsigned, 6>{107, 108, 141, 171, 172, 205}[below(6)]);
          default:
            return expression('v', depth - 1) + expression('v', depth - 1) + op(0xfd) +
                   uleb(codes[below(std::size(codes))]);
        }
      }
    }
  }

  // A function that was made before, directly or through the table, where a wrong one may be named.
  std::string called() {
    using namespace wasm_text;
    auto callee = static_cast<uint32_t>(below(functions_));
    std::string given = expression('i', 1) + expression('l', 1) + expression('d', 1);
    if (one_in(2)) return given + call(callee) + (pairs_[callee] ? op(0x1a) : "");
    bool as_pair = one_in(6) ? !pairs_[callee] : pairs_[callee];
    return given + i32(static_cast<int32_t>(one_in(12) ? 6 * below(2) : callee + 1)) + op(0x11) +
           uleb(as_pair ? pair_ : type_) + uleb(0) + (as_pair ? op(0x1a) : "");
  }

  std::string statement() {
    using namespace wasm_text;
    if (code_budget_-- < 0 || depth_ > 4) return op(1);
    ++depth_;
    std::string out = any_statement();
    --depth_;
    return out;
  }
  std::string any_statement() {
    using namespace wasm_text;
    switch (below(11)) {
      case 0:
      case 1:
      case 2: {
        auto k = static_cast<uint32_t>(below(locals_.size()));
        return expression(locals_[k], 3) + set(k);
      }
      case 3:
        return address(2) + expression('i', 2) + access(std::array<unsigned, 3>{0x36, 0x3a, 0x3b}[below(3)]);
      case 4: return address(2) + expression('l', 2) + access(std::array<unsigned, 2>{0x37, 0x3e}[below(2)]);
      case 5: {
        unsigned g = static_cast<unsigned>(below(4));
        return expression("ildv"[g], 2) + op(0x24) + uleb(g);
      }
      case 6: return expression('i', 2) + if_("", statement() + statement(), statement());
      case 7: {
        if (rounds_ == 8) return op(1);
        uint32_t fuel = fuel_ + rounds_++;
        ++loops_;
        std::string code =
            i32(1 + static_cast<int32_t>(below(5))) + set(fuel) +
            loop("", statement() + statement() +
                         (one_in(3) ? block("", expression('i', 2) + branch_if(0) + get(fuel) + i32(1) +
                                                    op(0x6b) + tee(fuel) + i32(0) + op(0x4a) + branch_if(1))
                                    : "") +
                         get(fuel) + i32(1) + op(0x6b) + tee(fuel) + i32(0) + op(0x4a) + branch_if(0));
        --loops_;
        return code;
      }
      case 8: {
        std::string table =
            op(0x0e) + uleb(3) + uleb(below(3)) + uleb(below(3)) + uleb(below(3)) + uleb(below(3));
        return block("", block("", block("", expression('i', 2) + i32(3) + op(0x71) + table) + statement() +
                                       branch(1)) +
                             statement());
      }
      case 9:
        switch (below(4)) {
          case 0: return i32(static_cast<int32_t>(below(2))) + op(0x40) + op(0) + set(3);
          case 1:
            return address(1) + address(1) + i32(static_cast<int32_t>(below(50))) + prefixed(10) + op(0) +
                   op(0);
          case 2:
            return address(1) + expression('i', 1) + i32(static_cast<int32_t>(below(50))) + prefixed(11) +
                   op(0);
          default:
            return address(1) + i32(static_cast<int32_t>(below(5))) + i32(static_cast<int32_t>(below(4))) +
                   prefixed(8) + uleb(1) + op(0);
        }
      default: return functions_ && loops_ == 0 ? called() + set(5) : expression('l', 2) + set(5);
    }
  }

  std::mt19937_64 random_;
  wasm_text::WasmModule m_;
  std::string locals_;
  std::vector<bool> pairs_;
  uint32_t type_ = 0, pair_ = 0, fuel_ = 0, rounds_ = 0, functions_ = 0;
  int code_budget_ = 0, depth_ = 0, loops_ = 0;
};

}  // namespace porphyry::testing
