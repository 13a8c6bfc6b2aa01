// When a mail is sent, and what its subject says: by tables.
#include "kestrum/report/run_mail.h"

#include <gtest/gtest.h>

#include <random>

namespace kestrum {
namespace {

constexpr Nanos kFirst = 1'000 * kDay;

class MailDecisions : public testing::Test {
 protected:
  MailedJob job(StatusLevel level, const std::string& reason = "") {
    MailedJob mailed;
    mailed.status.job = "studio";
    mailed.status.level = level;
    mailed.status.last_run = kFirst;
    if (!reason.empty()) mailed.status.kinds = {reason.substr(0, reason.find(" for "))};
    if (level == StatusLevel::kCritical) mailed.status.discreet_problems = {reason};
    if (level == StatusLevel::kWarning) mailed.status.discreet_heeds = {reason};
    mailed.when = "heed";
    mailed.to = {"a@example.org"};
    return mailed;
  }
  bool sent(const MailedJob& mailed, Nanos now) {
    MailDecision decision = decide_mail(mailed, told, now);
    told = decision.told;
    fine_again = decision.fine_again;
    return decision.send;
  }
  MailTold told;
  bool fine_again = false;
};

TEST_F(MailDecisions, TheSameTroubleIsToldOnceAndThenDaily) {
  MailedJob late = job(StatusLevel::kCritical, "overdue for 3 days");
  EXPECT_TRUE(sent(late, kFirst));
  EXPECT_FALSE(sent(late, kFirst + kHour));
  late.status.discreet_problems = {"overdue for 4 days"};  // only the number is another
  EXPECT_FALSE(sent(late, kFirst + 23 * kHour));
  EXPECT_TRUE(sent(late, kFirst + 24 * kHour));
  EXPECT_FALSE(sent(late, kFirst + 30 * kHour));
}

TEST_F(MailDecisions, AnotherTroubleIsToldAtOnce) {
  EXPECT_TRUE(sent(job(StatusLevel::kCritical, "overdue"), kFirst));
  EXPECT_TRUE(sent(job(StatusLevel::kCritical, "c1-2 is damaged"), kFirst + kMinute));
  EXPECT_TRUE(sent(job(StatusLevel::kWarning, "overdue"), kFirst + 2 * kMinute));
}

TEST_F(MailDecisions, WhatIsFineAgainIsToldOnce) {
  EXPECT_FALSE(sent(job(StatusLevel::kFine), kFirst));
  EXPECT_TRUE(sent(job(StatusLevel::kWarning, "waits"), kFirst));
  EXPECT_TRUE(sent(job(StatusLevel::kFine), kFirst + kHour));
  EXPECT_TRUE(fine_again);
  EXPECT_FALSE(sent(job(StatusLevel::kFine), kFirst + 2 * kHour));
  EXPECT_TRUE(sent(job(StatusLevel::kWarning, "waits"), kFirst + 3 * kHour));
}

TEST_F(MailDecisions, WhoWantsTroubleAloneIsToldOfThatAndOfItsEnd) {
  MailedJob heed = job(StatusLevel::kWarning, "waits"),
            trouble = job(StatusLevel::kCritical, "late"), fine = job(StatusLevel::kFine);
  for (MailedJob* each : {&heed, &trouble, &fine}) each->when = "trouble";
  EXPECT_FALSE(sent(heed, kFirst));
  EXPECT_TRUE(sent(trouble, kFirst));
  EXPECT_FALSE(sent(heed, kFirst + kHour));
  EXPECT_TRUE(sent(fine, kFirst + 2 * kHour));
}

TEST_F(MailDecisions, NobodyIsToldWhoDoesNotWantIt) {
  MailedJob never = job(StatusLevel::kCritical, "late");
  never.when = "never";
  EXPECT_FALSE(sent(never, kFirst));
  MailedJob nobody = job(StatusLevel::kCritical, "late");
  nobody.to.clear();
  EXPECT_FALSE(sent(nobody, kFirst));
}

TEST_F(MailDecisions, OfRunsOnChangeIsOneAnHourAtMost) {
  RunReport run;
  run.job = "studio";
  run.outcome = Outcome::kDone;
  MailedJob changed = job(StatusLevel::kFine);
  changed.when = "always";
  changed.run = &run;
  EXPECT_TRUE(sent(changed, kFirst));
  changed.on_change = true;
  EXPECT_FALSE(sent(changed, kFirst + 10 * kMinute));
  EXPECT_TRUE(sent(changed, kFirst + kHour));
}

TEST_F(MailDecisions, AClockThatWasSetBackHoldsNothingUp) {
  EXPECT_TRUE(sent(job(StatusLevel::kCritical, "late"), kFirst + 400 * kDay));
  EXPECT_TRUE(sent(job(StatusLevel::kCritical, "late"), kFirst));
}

// Whatever happens to a job, and whenever somebody looks.
TEST_F(MailDecisions, HoldTheirPromisesOverAnyHistory) {
  std::mt19937_64 random(7);
  auto below = [&](std::uint64_t limit) { return random() % limit; };
  const char* troubles[] = {"", "late", "c1-2 is damaged", "waits", "late for 3 days"};
  for (int history = 0; history < 200; ++history) {
    told = {};
    Nanos now = kFirst, last_sent = 0;
    std::string last_what;
    bool told_of_trouble = false;
    for (int look = 0; look < 200; ++look) {
      now += static_cast<Nanos>(below(3 * kHour));
      std::string reason = troubles[below(5)];
      MailedJob mailed = job(reason.empty()  ? StatusLevel::kFine
                             : below(2) == 0 ? StatusLevel::kWarning
                                             : StatusLevel::kCritical,
                             reason);
      bool send = sent(mailed, now);
      if (reason.empty()) {
        ASSERT_EQ(send, told_of_trouble) << "fine again is told once, and only after trouble";
        ASSERT_EQ(send, fine_again);
        told_of_trouble = false;
        if (send) last_what.clear();
        continue;
      }
      std::string what = state_name(mailed.status.level) + mailed.status.kinds[0];
      bool due = what != last_what || now - last_sent >= kDay;
      ASSERT_EQ(send, due) << what << " after " << last_what;
      if (!send) continue;
      last_what = what;
      last_sent = now;
      told_of_trouble = true;
    }
  }
}

TEST(MailSubject, HasTheOutcomeFirstAndTheWorstJobFirst) {
  RunReport done, warned, failed;
  done.job = warned.job = failed.job = "x";
  done.outcome = Outcome::kDone;
  warned.outcome = Outcome::kDoneWithWarnings;
  warned.warning_count = warned.files.failed = 3;
  failed.outcome = Outcome::kFailed;
  std::vector<MailedJob> jobs(4);
  const RunReport* runs[] = {&done, &warned, &failed, nullptr};
  const StatusLevel levels[] = {StatusLevel::kFine, StatusLevel::kWarning, StatusLevel::kCritical,
                                StatusLevel::kCritical};
  const char* names[] = {"front-desk", "studio", "newsroom", "archive"};
  std::vector<std::pair<const MailedJob*, MailDecision>> all;
  for (int i = 0; i < 4; ++i) {
    jobs[i].status.job = names[i];
    jobs[i].status.level = levels[i];
    jobs[i].run = runs[i];
    jobs[i].to = {"a@example.org"};
    all.emplace_back(&jobs[i], MailDecision{true, false, {}});
  }
  jobs[3].status.discreet_problems = {"overdue: kestrum run archive"};
  EXPECT_EQ(mail_of({all[1]}, "studio-pc", kFirst).subject,
            "Kestrum: studio done with warnings (3 files) on studio-pc");
  EXPECT_EQ(mail_of({all[3]}, "studio-pc", kFirst).subject,
            "Kestrum: archive in trouble: overdue on studio-pc");
  EXPECT_EQ(mail_of(all, "studio-pc", kFirst).subject,
            "Kestrum: newsroom failed, archive in trouble: overdue, studio done with warnings (3 "
            "files), 1 more on studio-pc");
}

}  // namespace
}  // namespace kestrum
