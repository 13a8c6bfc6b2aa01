// Mail through a real server on loopback: encrypted, with a login, and certificates that are
// checked.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <csignal>
#include <filesystem>
#include <memory>

#include "kestrum/base/file.h"
#include "support/mail_parts.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class MailServer : public testing::Test {
 protected:
  void SetUp() override {
    if (::geteuid() != 0) GTEST_SKIP() << "starting a mail server needs root";
    if (!have_program("exim4")) GTEST_SKIP() << "no exim4 here";
    put_file(desk.source() + "/letter", "dear listener");
    desk.define({"--protection", "none"});
    ASSERT_EQ(desk.kestrum({"job", "set", "desk", "report.mail_to", "support@example.org"}).exit,
              0);
    make_certificate("cert", "localhost");
    start();
  }
  void TearDown() override {
    if (server) {
      server->signal(SIGTERM);
      server->wait();
    }
  }
  void make_certificate(const std::string& name, const std::string& host) {
    run_script("cd " + folder.path() + " && openssl req -x509 -newkey rsa:2048 -nodes -keyout " +
               name + ".key -out " + name + ".pem -days 30 -subj /CN=" + host +
               " -addext subjectAltName=DNS:" + host + " 2>&1 && chmod 644 " + name + ".key");
  }
  // On a port that is free now: the next if somebody else was faster.
  void start() {
    for (int attempt = 0; attempt < 5; ++attempt) {
      port = 20'000 + (::getpid() * 7 + attempt * 131) % 20'000;
      fs::create_directories(folder / "spool");
      run_script("chmod 777 " + folder.path() + " " + (folder / "spool"));
      put_file(folder / "conf", configuration());
      ::chmod((folder / "conf").c_str(), 0644);
      server = std::make_unique<Background>(
          std::vector<std::string>{"exim4", "-C", folder / "conf", "-bdf", "-v"}, Environment{});
      bool up = eventually([&] {
        return server->output().find("listening for SMTP") != std::string::npos ||
               server->output().find("failed") != std::string::npos;
      });
      if (up && server->output().find("failed") == std::string::npos) return;
      server->signal(SIGKILL);
      server->wait();
    }
    FAIL() << server->output();
  }
  std::string configuration() const {
    std::string here = folder.path();
    return "spool_directory = " + here + "/spool\nlog_file_path = " + here + "/log-%slog\n" +
           "pid_file_path = " + here + "/pid\nprimary_hostname = localhost\n" +
           "daemon_smtp_ports = " + std::to_string(port) + "\nlocal_interfaces = 127.0.0.1\n" +
           "keep_environment =\ntls_advertise_hosts = *\ntls_certificate = " + here +
           "/cert.pem\ntls_privatekey = " + here + R"(/cert.key
acl_smtp_rcpt = check
auth_advertise_hosts = *
never_users =
begin acl
check:
  accept encrypted = *
         authenticated = *
  deny message = log in over TLS
begin routers
all:
  driver = accept
  transport = keep
begin transports
keep:
  driver = appendfile
  file = )" +
           here + R"(/mbox
  user = Debian-exim
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = ${if and{{eq{$auth2}{backups}}{eq{$auth3}{tide and dune}}}{true}{false}}
)";
  }
  void settings(const std::string& password, const std::string& ca,
                const std::string& host = "localhost") {
    write_file(folder / "password", password + "\n");
    write_file(desk.folder / "home/mail.toml",
               "server = \"smtp://" + host + ":" + std::to_string(port) +
                   "\"\nfrom = \"backups@example.org\"\nuser = \"backups\"\npassword_from = \"" +
                   (folder / "password") + "\"\nca = \"" + ca + "\"\n");
  }
  Ran trial() { return desk.kestrum({"report", "--try-mail"}); }

  Desk desk;
  TempFolder folder;
  std::unique_ptr<Background> server;
  int port = 0;
};

TEST_F(MailServer, TakesItEncryptedAndAfterALogin) {
  settings("tide and dune", folder / "cert.pem");
  Ran ran = trial();
  ASSERT_EQ(ran.exit, 0) << ran.err << server->output();
  ASSERT_TRUE(eventually(
      [&] { return fs::exists(folder / "mbox") && fs::file_size(folder / "mbox") > 0; }));
  std::string mbox = read_file(folder / "mbox");
  Json mail = mail_parts(mbox.substr(mbox.find('\n') + 1));
  EXPECT_EQ(mail["subject"], "Kestrum: a trial from test-pc");
  EXPECT_EQ(mail["defects"], Json::array());
  EXPECT_NE(mbox.find("esmtpsa"), std::string::npos) << mbox;  // encrypted, and logged in
}

TEST_F(MailServer, WithACertificateThatNobodyVouchesForIsRefused) {
  settings("tide and dune", "");
  Ran ran = trial();
  EXPECT_EQ(ran.exit, 3);
  EXPECT_NE(ran.err.find("certificate"), std::string::npos) << ran.err;
  make_certificate("other", "localhost");
  settings("tide and dune", folder / "other.pem");
  EXPECT_EQ(trial().exit, 3);
  // Nothing was said to it, a password least of all.
  EXPECT_EQ(server->output().find("AUTH"), std::string::npos);
}

TEST_F(MailServer, OfAnotherNameThanItsCertificatesIsRefused) {
  settings("tide and dune", folder / "cert.pem", "127.0.0.1");
  Ran ran = trial();
  EXPECT_EQ(ran.exit, 3);
  EXPECT_NE(ran.err.find("127.0.0.1"), std::string::npos) << ran.err;
}

TEST_F(MailServer, ThatDoesNotLetUsInIsSaidAndNoSecretIsInIt) {
  settings("the wrong one", folder / "cert.pem");
  Ran ran = trial();
  EXPECT_EQ(ran.exit, 3);
  EXPECT_NE(ran.err.find("denied"), std::string::npos) << ran.err;
  EXPECT_EQ((ran.out + ran.err).find("the wrong one"), std::string::npos);
}

}  // namespace
}  // namespace kestrum::test
