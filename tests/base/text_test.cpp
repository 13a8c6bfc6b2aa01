#include "kestrum/base/text.h"

#include <gtest/gtest.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/units.h"

namespace kestrum {
namespace {

TEST(Sizes, AreReadInDecimalAndBinaryUnits) {
  const std::vector<std::pair<const char*, std::optional<std::uint64_t>>> cases = {
      {"0", 0},
      {"1200", 1200},
      {"650 MB", 650'000'000},
      {"4 GiB", 4ULL << 30},
      {"1.5TB", 1'500'000'000'000},
      {" 7 kb ", 7000},
      {"9223372036854775807", INT64_MAX},
      {"", std::nullopt},
      {"MB", std::nullopt},
      {"-1", std::nullopt},
      {"1.5", std::nullopt},
      {"1..5 MB", std::nullopt},
      {"5 apples", std::nullopt},
      {"9223372036854775808", std::nullopt},
      {"99999999 TB", std::nullopt}};
  for (const auto& [text, bytes] : cases) EXPECT_EQ(parse_size(text), bytes) << text;
}

TEST(Sizes, ArePrintedInThreeDigits) {
  EXPECT_EQ(format_size(0), "0 bytes");
  EXPECT_EQ(format_size(1), "1 byte");
  EXPECT_EQ(format_size(999), "999 bytes");
  EXPECT_EQ(format_size(1000), "1.00 kB");
  EXPECT_EQ(format_size(999'999), "1.00 MB");
  EXPECT_EQ(format_size(12'400'000'000), "12.4 GB");
}

TEST(Durations, AreReadWithTheirUnit) {
  EXPECT_EQ(parse_duration("14 days"), 14 * kDay);
  EXPECT_EQ(parse_duration("10 minutes"), 10 * kMinute);
  EXPECT_EQ(parse_duration("2 years"), 730 * kDay);
  EXPECT_FALSE(parse_duration("14"));
  EXPECT_FALSE(parse_duration("-3 days"));
  EXPECT_FALSE(parse_duration("soon"));
}

TEST(Times, OfRfc3339AreReadAndWritten) {
  EXPECT_EQ(parse_rfc3339("1970-01-01T00:00:00Z"), 0);
  EXPECT_EQ(parse_rfc3339("2026-03-02T22:00:00.5+01:00"),
            *parse_rfc3339("2026-03-02T21:00:00Z") + kSecond / 2);
  EXPECT_EQ(format_rfc3339(*parse_rfc3339("2028-02-29T23:59:59Z")), "2028-02-29T23:59:59Z");
  for (const char* wrong :
       {"", "2026-03-02", "2026-02-30T00:00:00Z", "2026-03-02T24:00:00Z", "2026-03-02T21:00:00",
        "2026-03-02T21:00:00.Z", "2026-03-02T21:00:00Zx"}) {
    EXPECT_FALSE(parse_rfc3339(wrong)) << wrong;
  }
}

TEST(Names, LoseTheirControlCharactersOnATerminal) {
  EXPECT_EQ(printable("rota.ods"), "rota.ods");
  EXPECT_EQ(printable("a\nb\x1b[31m"), "a\\nb\\x1b[31m");
  EXPECT_EQ(printable("\xff\xfe"), "\\xff\\xfe");
  EXPECT_EQ(printable("caf\xc3\xa9"), "caf\xc3\xa9");
  EXPECT_EQ(printable("\xe2\x80\xae"
                      "gpj.exe"),
            "\\xe2\\x80\\xaegpj.exe");  // right-to-left override
}

TEST(Names, AreShortenedInTheMiddle) {
  EXPECT_EQ(shortened("short", 10), "short");
  EXPECT_EQ(display_width(shortened("a very long name of a file.ods", 20)), 20U);
  EXPECT_TRUE(shortened("a very long name of a file.ods", 20).ends_with("file.ods"));
}

TEST(Words, NearEnoughAreSuggested) {
  const std::vector<std::string> words = {"restore", "verify", "run"};
  EXPECT_EQ(nearest_word("resotre", words), "restore");
  EXPECT_EQ(nearest_word("verfy", words), "verify");
  EXPECT_FALSE(nearest_word("xylophone", words));
}

TEST(ExitCodes, TheWorseOfTwoIsTheFirstInOrder) {
  EXPECT_EQ(worse_exit(0, 1), 1);
  EXPECT_EQ(worse_exit(1, 5), 5);
  EXPECT_EQ(worse_exit(6, 5), 6);
  EXPECT_EQ(worse_exit(4, 130), 130);
  EXPECT_EQ(worse_exit(2, 9), 2);
}

TEST(Paths, AreMadeAbsoluteAndComparedByFolder) {
  EXPECT_EQ(absolute_path("/a/./b//c/../d/"), "/a/b/d");
  EXPECT_EQ(absolute_path("/../.."), "/");
  EXPECT_TRUE(is_within("/a/b", "/a"));
  EXPECT_TRUE(is_within("/a", "/a"));
  EXPECT_FALSE(is_within("/ab", "/a"));
  EXPECT_EQ(parent_of("/a"), "/");
  EXPECT_EQ(base_name("/a/b"), "b");
}

}  // namespace
}  // namespace kestrum
