#include "kestrum/schedule/phrase.h"

#include <gtest/gtest.h>

#include "kestrum/schedule/phrase_parser.h"

namespace kestrum {
namespace {

std::string standard(const std::string& typed) {
  auto phrase = parse_phrase(typed);
  return phrase ? phrase->text() : "unclear";
}

struct SaidPhrase {
  const char* typed;
  const char* meant;
};

class StandardForm : public testing::TestWithParam<const char*> {};
TEST_P(StandardForm, IsUnderstoodAsItself) {
  EXPECT_EQ(standard(GetParam()), GetParam());
}
INSTANTIATE_TEST_SUITE_P(
    Phrases, StandardForm,
    testing::Values("every day at 21:00", "every weekday at 12:30", "every mon, fri at 17:00",
                    "every hour at :26", "every 2 hours", "every 30 minutes",
                    "monthly on day 1 at 06:00", "monthly on the last day at 23:00",
                    "monthly on the third tuesday at 08:30", "monthly on the last friday at 18:00",
                    "yearly on 24 dec at 18:00", "once on 2026-12-24 at 18:00",
                    "when files change, at most every 10 minutes",
                    "when files change, at most every 2 hours", "every day at 09:00, 13:00, 21:00",
                    "every 2 weeks on fri at 17:00", "every 3 days at 06:00",
                    "every 3 months on day 15 at 07:00", "every 2 hours at :15",
                    "every sat, sun at 10:00"));

class Variation : public testing::TestWithParam<SaidPhrase> {};
TEST_P(Variation, MeansWhatItSays) {
  EXPECT_EQ(standard(GetParam().typed), GetParam().meant) << GetParam().typed;
}
INSTANTIATE_TEST_SUITE_P(
    Phrases, Variation,
    testing::Values(
        SaidPhrase{"daily at 9pm", "every day at 21:00"},
        SaidPhrase{"every Monday at 9", "every mon at 09:00"},
        SaidPhrase{"weekly on fri 17:00", "every fri at 17:00"},
        SaidPhrase{"21:00 daily", "every day at 21:00"},
        SaidPhrase{"at 21:00 every day", "every day at 21:00"},
        SaidPhrase{"Every Day At 9 PM", "every day at 21:00"},
        SaidPhrase{"every night at 23:30", "every day at 23:30"},
        SaidPhrase{"weekdays 12:30", "every weekday at 12:30"},
        SaidPhrase{"mon-fri at 8", "every weekday at 08:00"},
        SaidPhrase{"Mondays and Fridays at 17:00", "every mon, fri at 17:00"},
        SaidPhrase{"friday, monday 17:00", "every mon, fri at 17:00"},
        SaidPhrase{"weekends at noon", "every sat, sun at 12:00"},
        SaidPhrase{"tues, thurs at 7:05am", "every tue, thu at 07:05"},
        SaidPhrase{"every day at midnight", "every day at 00:00"},
        SaidPhrase{"every day at 9:00 and 21:00", "every day at 09:00, 21:00"},
        SaidPhrase{"hourly", "every hour at :00"}, SaidPhrase{"every hour", "every hour at :00"},
        SaidPhrase{"hourly at :26", "every hour at :26"}, SaidPhrase{"every 2h", "every 2 hours"},
        SaidPhrase{"every 90 min", "every 90 minutes"},
        SaidPhrase{"every 60 minutes", "every hour at :00"},
        SaidPhrase{"monthly on the 1st at 6:00", "monthly on day 1 at 06:00"},
        SaidPhrase{"on the last day of the month at 23:00", "monthly on the last day at 23:00"},
        SaidPhrase{"every month on day 15 at 6am", "monthly on day 15 at 06:00"},
        SaidPhrase{"third tuesday of every month at 8:30", "monthly on the third tuesday at 08:30"},
        SaidPhrase{"the 3rd tuesday at 8:30", "monthly on the third tuesday at 08:30"},
        SaidPhrase{"last Friday monthly 18:00", "monthly on the last friday at 18:00"},
        SaidPhrase{"every year on 24 December at 18:00", "yearly on 24 dec at 18:00"},
        SaidPhrase{"yearly dec 24 6pm", "yearly on 24 dec at 18:00"},
        SaidPhrase{"2026-12-24 18:00", "once on 2026-12-24 at 18:00"},
        SaidPhrase{"once on 24 dec 2026 at 6pm", "once on 2026-12-24 at 18:00"},
        SaidPhrase{"when files change", "when files change, at most every 10 minutes"},
        SaidPhrase{"on change, at most once an hour", "when files change, at most every hour"},
        SaidPhrase{"every other friday at 17:00", "every 2 weeks on fri at 17:00"},
        SaidPhrase{"quarterly on day 1 at 6:00", "every 3 months on day 1 at 06:00"},
        SaidPhrase{"sunday to tuesday at 4:00", "every mon, tue, sun at 04:00"}));

class Unclear : public testing::TestWithParam<SaidPhrase> {};
TEST_P(Unclear, IsRefusedWithAPhraseThatWorks) {
  EXPECT_FALSE(parse_phrase(GetParam().typed)) << GetParam().typed;
  EXPECT_EQ(nearest_phrase(GetParam().typed), GetParam().meant) << GetParam().typed;
}
INSTANTIATE_TEST_SUITE_P(Phrases, Unclear,
                         testing::Values(SaidPhrase{"", "every day at 21:00"},
                                         SaidPhrase{"every day", "every day at 21:00"},
                                         SaidPhrase{"every dya at 9:00", "every day at 09:00"},
                                         SaidPhrase{"weekly", "every mon at 21:00"},
                                         SaidPhrase{"every munday at 9", "every mon at 09:00"},
                                         SaidPhrase{"at 25:00 daily", "every day at 21:00"},
                                         SaidPhrase{"18:30", "every day at 18:30"},
                                         SaidPhrase{"every 0 minutes", "every day at 21:00"},
                                         SaidPhrase{"every 2000 minutes", "every day at 21:00"},
                                         SaidPhrase{"30 feb yearly at 6:00", "every day at 06:00"},
                                         SaidPhrase{"monthly at 6:00", "monthly on day 1 at 06:00"},
                                         SaidPhrase{"now and then", "every day at 21:00"},
                                         SaidPhrase{"every day at 13pm", "every day at 21:00"},
                                         SaidPhrase{"once on friday at 9:00", "every day at 09:00"},
                                         SaidPhrase{"every fri of 2026 at 17:00",
                                                    "every day at 17:00"}));

TEST(Phrase, SuggestionsAlwaysParse) {
  for (const char* text :
       {"x", "every every", "at at at", "99:99", "tomorrow", "mon tue wed", "24 dec",
        "every 5 fortnights on blursday at 31 o'clock", "\x01\xff", "- - -"}) {
    EXPECT_TRUE(parse_phrase(nearest_phrase(text))) << text << " -> " << nearest_phrase(text);
  }
}

}  // namespace
}  // namespace kestrum
