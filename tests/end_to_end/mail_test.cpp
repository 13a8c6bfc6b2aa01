// Mail about runs: what it says, to whom, how often, and what a server that does not take it costs.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>

#include "demo/mail_catcher.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "support/mail_parts.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using demo::MailCatcher;

class Mail : public testing::Test {
 protected:
  void SetUp() override {
    desk.on_day(0);
    put_file(desk.source() + "/a letter.txt", "dear listener");
  }
  void define(const std::vector<std::string>& mail, const std::vector<std::string>& more = {}) {
    desk.define(more);
    ASSERT_EQ(desk.kestrum({"job", "set", "desk", "report.mail_to", "support@example.org"}).exit,
              0);
    for (const std::string& when : mail) {
      ASSERT_EQ(desk.kestrum({"job", "set", "desk", "report.mail_when", when}).exit, 0);
    }
  }
  std::string settings_path() const { return desk.folder / "home/mail.toml"; }
  void write_settings(const std::string& more = "") {
    write_file(settings_path(), "server = \"" + server.url() +
                                    "\"\nfrom = \"backups@example.org\"\ntls = \"off\"\n" + more);
  }
  std::vector<Json> parts() const {
    std::vector<Json> all;
    for (const MailCatcher::Mail& mail : server.mails()) all.push_back(mail_parts(mail.content));
    return all;
  }
  std::string subjects() const {
    std::string text;
    for (const Json& mail : parts()) text += mail["subject"].get<std::string>() + "\n";
    return text;
  }
  // So that a run has a warning: a folder of the job that is not there.
  void break_source() { fs::rename(desk.source(), desk.folder / "moved"); }
  void mend_source() { fs::rename(desk.folder / "moved", desk.source()); }

  Desk desk;
  MailCatcher server;
};

TEST_F(Mail, OfEachRunSaysItsOutcomeFirst) {
  define({"always"});
  write_settings();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  ASSERT_EQ(server.mails().size(), 1U);
  EXPECT_EQ(server.mails()[0].from, "backups@example.org");
  EXPECT_EQ(server.mails()[0].to, std::vector<std::string>{"support@example.org"});
  Json mail = parts()[0];
  EXPECT_EQ(mail["subject"], "Kestrum: desk done on test-pc");
  EXPECT_EQ(mail["defects"], Json::array());
  EXPECT_NE(mail["text"].get<std::string>().find("1 file copied, 13 bytes"), std::string::npos)
      << mail;
  EXPECT_NE(mail["html"].get<std::string>().find("desk: done"), std::string::npos) << mail;
  EXPECT_EQ(mail["to"], "support@example.org");
}

TEST_F(Mail, OfAProtectedJobNamesNoFile) {
  define({"heed"});
  write_settings();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(server.mails().size(), 0U);  // all is well
  break_source();
  desk.on_day(1);
  ASSERT_NE(desk.kestrum({"run", "desk"}).exit, 0);
  ASSERT_EQ(server.mails().size(), 1U);
  std::string all = parts()[0].dump();
  EXPECT_EQ(all.find("letter"), std::string::npos) << all;
  EXPECT_EQ(all.find(desk.source()), std::string::npos) << all;
}

TEST_F(Mail, OfAnUnprotectedJobNamesTheFilesThatFailed) {
  desk.become_nobody();
  define({"heed"}, {"--protection", "none"});
  write_settings();
  put_file(desk.source() + "/caf\xc3\xa9 <b>&.txt", "x");
  fs::permissions(desk.source() + "/caf\xc3\xa9 <b>&.txt", fs::perms::none);
  desk.give_to_nobody();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 1);
  ASSERT_EQ(server.mails().size(), 1U);
  Json mail = parts()[0];
  EXPECT_EQ(mail["subject"], "Kestrum: desk done with warnings (1 file) on test-pc");
  EXPECT_NE(mail["text"].get<std::string>().find("caf\xc3\xa9 <b>&.txt"), std::string::npos);
  EXPECT_NE(mail["html"].get<std::string>().find("caf\xc3\xa9 &lt;b&gt;&amp;.txt"),
            std::string::npos);
}

TEST_F(Mail, OfTheSameTroubleComesOnceThenDailyThenOneThatItIsFineAgain) {
  define({"heed"}, {"--when", "every day at 21:00"});
  write_settings();
  ASSERT_EQ(desk.kestrum({"run", "--due"}).exit, 0);
  fs::rename(desk.disk(), desk.folder / "drawer");
  Nanos start = *parse_rfc3339("2026-03-02T21:00:00Z");
  for (int hour = 0; hour < 49; ++hour) {  // the timer calls each hour
    desk.environment["KESTRUM_NOW"] = format_rfc3339(start + hour * kHour);
    ASSERT_EQ(desk.kestrum({"run", "--due"}).exit, 0);
  }
  // The two of the days after, and no other: how long it waits is nothing new.
  EXPECT_EQ(server.mails().size(), 3U) << subjects();
  fs::rename(desk.folder / "drawer", desk.disk());
  desk.environment["KESTRUM_NOW"] = format_rfc3339(start + 50 * kHour);
  ASSERT_EQ(desk.kestrum({"run", "--due"}).exit, 0);
  ASSERT_EQ(server.mails().size(), 4U) << subjects();
  EXPECT_EQ(parts()[3]["subject"], "Kestrum: desk fine again on test-pc");
  desk.environment["KESTRUM_NOW"] = format_rfc3339(start + 51 * kHour);
  ASSERT_EQ(desk.kestrum({"run", "--due"}).exit, 0);
  EXPECT_EQ(server.mails().size(), 4U) << subjects();
}

TEST_F(Mail, OfAllJobsOfOneCallIsOneMessageForEachWhoIsTold) {
  define({"always"}, {"--when", "every day at 21:00"});
  write_settings();
  ASSERT_EQ(desk.kestrum({"job", "copy", "desk", "second"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"shelf", "start", "second", "--same-disk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"job", "copy", "desk", "third"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"shelf", "start", "third", "--same-disk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"job", "set", "third", "report.mail_to", "else@example.org"}).exit, 0);
  desk.kestrum({"run", "--due"});  // from now on their times count
  std::size_t before = server.mails().size();
  desk.on_day(1);
  desk.kestrum({"run", "--due"});
  ASSERT_EQ(server.mails().size(), before + 2) << subjects();
  EXPECT_NE(subjects().find("Kestrum: desk done, second done on test-pc\n"), std::string::npos)
      << subjects();
  EXPECT_NE(subjects().find("Kestrum: third done on test-pc\n"), std::string::npos) << subjects();
}

// A server that is not there, and one that takes the connection and says nothing.
TEST_F(Mail, ThatCannotBeSentIsKeptAndDelaysARunByFifteenSecondsAtMost) {
  define({"always"});
  write_settings();
  server.behave(MailCatcher::Manner::kSilent);
  Nanos before = steady_now();
  Ran ran = desk.kestrum({"run", "desk"});
  Nanos took = steady_now() - before;
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_LT(took, 120 * kSecond);  // without a limit it would wait as long as the server does
  EXPECT_NE(ran.err.find("mail was not sent"), std::string::npos) << ran.err;
  EXPECT_EQ(server.mails().size(), 0U);

  write_settings();
  write_file(settings_path(),
             "server = \"smtp://127.0.0.1:1\"\nfrom = \"b@example.org\"\ntls = \"off\"\n");
  ran = desk.kestrum({"run", "desk"});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_NE(ran.err.find("2 mails are kept"), std::string::npos) << ran.err;

  write_settings();
  server.behave(MailCatcher::Manner::kTakes);
  ASSERT_EQ(desk.kestrum({"run", "--due"}).exit, 0);  // also where nothing runs
  EXPECT_EQ(server.mails().size(), 2U);
  EXPECT_NE(parts()[0]["id"], parts()[1]["id"]);
}

TEST_F(Mail, ThatIsRefusedDoesNotHoldUpTheOthers) {
  define({"always"});
  write_settings();
  server.behave(MailCatcher::Manner::kRefuses);
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  EXPECT_EQ(desk.kestrum({"report", "--try-mail"}).exit, 3);
  server.behave(MailCatcher::Manner::kTakes);
  ASSERT_EQ(desk.kestrum({"report", "--try-mail"}).exit, 0);
  ASSERT_EQ(server.mails().size(), 1U);
  EXPECT_EQ(parts()[0]["subject"], "Kestrum: a trial from test-pc");
}

TEST_F(Mail, GoesByALoginWhosePasswordNobodyElseCanRead) {
  define({"always"});
  std::string password = desk.folder / "password";
  write_settings("user = \"backups\"\npassword_from = \"" + password + "\"\n");
  write_file(password, "tide and dune\n", 0644);
  Ran ran = desk.kestrum({"report", "--try-mail"});
  EXPECT_EQ(ran.exit, 3) << ran.err;
  EXPECT_NE(ran.err.find("others can read this password"), std::string::npos) << ran.err;
  ::chmod(password.c_str(), 0600);
  ASSERT_EQ(desk.kestrum({"report", "--try-mail"}).exit, 0);
  EXPECT_EQ(server.mails()[0].login, std::string("backups\0tide and dune", 21));
}

TEST_F(Mail, WithoutSettingsIsAnErrorInACheckAndAWarningInARun) {
  define({"heed"});
  Ran ran = desk.kestrum({"job", "check", "desk"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_NE(ran.out.find("mail.toml is not there"), std::string::npos) << ran.out;
  Json run = desk.json({"run", "desk"}, 1)["runs"][0];
  EXPECT_EQ(run["outcome"], "done with warnings");
  write_settings();
  EXPECT_EQ(desk.kestrum({"job", "check", "desk"}).exit, 0);
}

TEST_F(Mail, SettingsThatAreWrongAreNamed) {
  define({"heed"});
  auto said = [&](const std::string& text, mode_t mode = 0600) {
    write_file(settings_path(), text, mode);
    Ran ran = desk.kestrum({"report", "--try-mail"});
    EXPECT_EQ(ran.exit, 2) << text;
    return ran.err;
  };
  const std::string good = "server = \"smtp://127.0.0.1:25\"\nfrom = \"b@example.org\"\n";
  EXPECT_NE(said(good, 0644).find("others can read it"), std::string::npos);
  EXPECT_NE(said("server = \"http://127.0.0.1\"\nfrom = \"b@example.org\"\n").find("server:"),
            std::string::npos);
  EXPECT_NE(
      said("server = \"smtp://127.0.0.1\"\nfrom = \"b\\r\\nBcc: x@example.org\"\n").find("from:"),
      std::string::npos);
  EXPECT_NE(said(good + "tsl = \"off\"\n").find("tsl"), std::string::npos);
  EXPECT_NE(
      said("server = \"smtp://mail.example.org:25\"\nfrom = \"b@example.org\"\ntls = \"off\"\n")
          .find("only for a server on this machine"),
      std::string::npos);
  EXPECT_NE(said("server = [\n").find("line"), std::string::npos);
  // Under a simulated clock nothing leaves this machine.
  EXPECT_NE(said("server = \"smtps://mail.example.org:465\"\nfrom = \"b@example.org\"\n")
                .find("servers on this machine only"),
            std::string::npos);
}

TEST_F(Mail, CarriesAReportWithoutNames) {
  define({"never"});
  write_settings();
  ASSERT_EQ(desk.kestrum({"run", "desk"}).exit, 0);
  ASSERT_EQ(desk.kestrum({"report", "--mail-to", "boss@example.org"}).exit, 0);
  ASSERT_EQ(server.mails().size(), 1U);
  Json mail = parts()[0];
  ASSERT_TRUE(mail["attachments"].contains("backups.html")) << mail;
  std::string page = mail["attachments"]["backups.html"];
  EXPECT_NE(page.find("<svg"), std::string::npos);
  EXPECT_EQ(page.find("a letter"), std::string::npos);
  EXPECT_EQ(mail["defects"], Json::array());
}

}  // namespace
}  // namespace kestrum::test
