#include "kestrum/base/shell_word.h"

#include <gtest/gtest.h>

#include "support/program.h"

namespace kestrum::test {
namespace {

TEST(ShellWord, IsReadBackAsItWas) {
  for (const std::string& text :
       {std::string("plain-name_1.ods"), std::string("two words"), std::string("it's"),
        std::string("$HOME `id` \"x\" \\"), std::string("line\nbreak\ttab"),
        std::string("esc\x1b[2J"), std::string("not utf-8 \xe9 \xff"),
        std::string("back\\slash \x1b'quote'"), std::string("\xc3\xbc umlaut"),
        std::string("-option"), std::string("*?[a]"), std::string("")}) {
    std::string word = shell_word(text);
    EXPECT_EQ(word.find('\x1b'), std::string::npos);
    EXPECT_EQ(word.find('\n'), std::string::npos);
    Ran ran = run_script("printf %s " + word + "; printf .");
    EXPECT_EQ(ran.exit, 0) << word << ran.err;
    EXPECT_EQ(ran.out, text + ".") << word;
  }
  EXPECT_EQ(shell_word("668 MB"), "'668 MB'");
  EXPECT_EQ(shell_word("/media/blue-disk"), "/media/blue-disk");
}

}  // namespace
}  // namespace kestrum::test
