// Shelves that are not what they seem: forged for a key file, without the protection that was
// expected, with a label that was written to deceive. And what leaves the program in clear.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/crypto/age_stream.h"
#include "support/program.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Protection : public testing::Test {
 protected:
  void make(Desk& on, const std::vector<std::string>& more = {}) {
    put_file(on.source() + "/tool", "a program");
    ::chmod((on.source() + "/tool").c_str(), 04755);
    on.define(more);
    ASSERT_EQ(on.kestrum({"run", "desk"}).exit, 0);
  }
  bool setuid(const std::string& path) {
    struct stat st {};
    EXPECT_EQ(::stat(path.c_str(), &st), 0) << path;
    return (st.st_mode & S_ISUID) != 0;
  }
  std::string out(const std::string& name) { return desk.folder / name; }

  Desk desk{"help-desk"}, pc;
};

// Anybody can encrypt to the public key of the support desk.
TEST_F(Protection, WhoSignsAShelfOpenedByAKeyFileIsUnknownUntilItIsSaid) {
  crypto_start();
  Identity key = Identity::generate();
  std::string key_file = out("desk.key");
  put_file(key_file, std::string(key.to_text().text()) + "\n", 0600);
  make(pc, {"--also-for", key.recipient().to_string()});
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  auto restore = [&](const std::string& to, const std::vector<std::string>& more) {
    std::vector<std::string> words = {"restore", "--shelf", pc.shelf(),   "tool",
                                      "--to",    out(to),   "--key-file", key_file};
    words.insert(words.end(), more.begin(), more.end());
    return desk.kestrum(words);
  };
  Ran ran = restore("unknown", {});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_NE(ran.err.find("nobody vouches for this shelf"), std::string::npos) << ran.err;
  EXPECT_FALSE(setuid(out("unknown/tool")));
  std::size_t at = ran.err.find("fingerprint ");
  ASSERT_NE(at, std::string::npos) << ran.err;
  std::string fingerprint = ran.err.substr(at + 12, 39);
  Json own = pc.json({"shelf", "list", "desk"});
  EXPECT_EQ(own["shelves"][0]["signer"], fingerprint) << own.dump(1) << " told on the PC itself";

  ran = restore("known", {"--signer", fingerprint});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(ran.err.find("vouches"), std::string::npos) << ran.err;
  EXPECT_EQ(setuid(out("known/tool")), ::geteuid() == 0);
  ran = restore("another", {"--signer", "0000-1111-2222-3333-4444-5555-6666-7777"});
  EXPECT_EQ(ran.exit, 4) << ran.err;
  EXPECT_FALSE(path_exists(out("another/tool")));
  EXPECT_EQ(desk.kestrum({"look", "--shelf", pc.shelf(), "--signer", fingerprint}).exit, 2);
}

TEST_F(Protection, AnUnprotectedShelfInThePlaceOfAProtectedOneIsNotTakenForIt) {
  make(pc, {"--protection", "none"});
  Ran ran = desk.kestrum({"restore", "--shelf", pc.shelf(), "tool", "--to", out("one")});
  EXPECT_EQ(ran.exit, 7) << ran.err;
  EXPECT_NE(ran.err.find("--unprotected"), std::string::npos) << ran.err;
  EXPECT_EQ(desk.kestrum({"verify", "--shelf", pc.shelf()}).exit, 7);
  EXPECT_EQ(desk.kestrum({"shelf", "claim", pc.shelf()}).exit, 7);
  EXPECT_FALSE(path_exists(desk.folder / "home/jobs/desk.toml"));
  ran =
      desk.kestrum({"restore", "--shelf", pc.shelf(), "tool", "--to", out("two"), "--unprotected"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(desk.kestrum({"shelf", "claim", pc.shelf(), "--unprotected"}).exit, 0);
  Desk third{"third-pc"};
  third.environment["KESTRUM_PASSPHRASE"] = "";
  ran = third.kestrum({"restore", "--shelf", pc.shelf(), "tool", "--to", out("three")});
  EXPECT_EQ(ran.exit, 0) << ran.err << " without a secret nothing else was expected";
}

// On the PC that made it protected, by NAME and by folder.
TEST_F(Protection, AShelfThatLosesItsProtectionIsNotReadByThePcThatKnowsIt) {
  make(pc);
  std::string label = pc.shelf() + "/shelf.json";
  Json json = Json::parse(read_file(label));
  json["recipient"] = nullptr;
  write_file(label, json.dump());
  pc.environment["KESTRUM_PASSPHRASE"] = "";
  EXPECT_EQ(pc.kestrum({"restore", "desk", "tool", "--to", out("one")}).exit, 4);
  EXPECT_EQ(pc.kestrum({"look", "--shelf", pc.shelf()}).exit, 4);
  json["owner"] = "3a0f25bc-38a7-4b3b-9f3a-1a6dbd1de7f2";  // as if it were somebody else's now
  write_file(label, json.dump());
  EXPECT_EQ(pc.kestrum({"look", "--shelf", pc.shelf()}).exit, 7);
}

TEST_F(Protection, ALabelThatWouldRewriteTheTerminalIsRefused) {
  make(pc, {"--protection", "none"});
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  std::string label = pc.shelf() + "/shelf.json", sound = read_file(label);
  for (const char* key : {"job", "host"}) {
    for (const char* evil : {"a\x1b[2J\x1b[31mpc", "a\nb",
                             "\xe2\x80\xae"
                             "cp",
                             "../up", ""}) {
      Json json = Json::parse(sound);
      json[key] = evil;
      write_file(label, json.dump());
      for (const std::vector<std::string>& words :
           {std::vector<std::string>{"look", "--shelf", pc.shelf()},
            {"restore", "--shelf", pc.shelf(), "tool", "--to", out("x")},
            {"shelf", "claim", pc.shelf(), "--look-only"}}) {
        Ran ran = desk.kestrum(words);
        EXPECT_EQ(ran.exit, 4) << key << ": " << evil << ran.out << ran.err;
        EXPECT_EQ((ran.out + ran.err).find('\x1b'), std::string::npos);
      }
    }
  }
}

TEST_F(Protection, AttributesThatGiveRightsAreDroppedWhereNobodyVouches) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root, to set them";
  put_file(pc.source() + "/marked", "x");
  std::string marked = pc.source() + "/marked";
  if (::setxattr(marked.c_str(), "trusted.mark", "1", 1, 0) != 0)
    GTEST_SKIP() << "no attributes here";
  ::setxattr(marked.c_str(), "user.mark", "1", 1, 0);
  ::setxattr(pc.source().c_str(), "trusted.mark", "1", 1, 0);
  make(pc, {"--protection", "none"});
  desk.environment["KESTRUM_PASSPHRASE"] = "";
  Ran ran = desk.kestrum(
      {"restore", "--shelf", pc.shelf(), pc.source(), "--to", out("all"), "--layout", "full"});
  ASSERT_EQ(ran.exit, 0) << ran.err;
  std::string restored = out("all") + marked;
  char value[8];
  EXPECT_EQ(::getxattr(restored.c_str(), "user.mark", value, sizeof value), 1);
  EXPECT_LT(::getxattr(restored.c_str(), "trusted.mark", value, sizeof value), 0);
  EXPECT_LT(::getxattr(parent_of(restored).c_str(), "trusted.mark", value, sizeof value), 0);
}

// ---- What is handed on

TEST_F(Protection, ABundleIsForItsOwnerAndNeverLiesThereInClear) {
  if (!have_program("strace")) GTEST_SKIP() << "no strace here";
  make(pc);
  pc.environment["KESTRUM_NEXT_PASSPHRASE"] = "for this file alone";
  pc.environment["ASAN_OPTIONS"] = "detect_leaks=0";  // which does not work under strace
  for (const char* as : {"--as-zip", "--as-tar"}) {
    for (bool protect : {true, false}) {
      std::string folder = out(std::string("bundle") + as + (protect ? "1" : "0"));
      fs::create_directories(folder);
      put_file(folder + "/all.plain", "mine");
      put_file(folder + "/all.content", "mine");
      put_file(folder + "/all.unfinished", "mine");
      std::vector<std::string> words = {"strace",
                                        "-f",
                                        "-o",
                                        folder + ".trace",
                                        "-e",
                                        "trace=openat,openat2,creat,open",
                                        KESTRUM_PROGRAM,
                                        "restore",
                                        "desk",
                                        "tool",
                                        as,
                                        folder + "/all"};
      if (protect) words.push_back("--protect");
      Ran ran = run_program(words, pc.environment);
      ASSERT_EQ(ran.exit, 0) << ran.err;
      struct stat st {};
      ASSERT_EQ(::stat((folder + "/all").c_str(), &st), 0);
      EXPECT_EQ(st.st_mode & 0777, 0600U);
      EXPECT_EQ(read_file(folder + "/all").starts_with("age-encryption.org/v1"), protect);
      // One file is made there, and it is the one that is encrypted on the way.
      Ran made = run_script("grep -c 'O_CREAT.*O_EXCL' " + shell_quoted(folder + ".trace") +
                            " || true; grep -E 'all\\.(plain|content|unfinished)' " +
                            shell_quoted(folder + ".trace") + " || true");
      EXPECT_EQ(made.out.find("all."), std::string::npos) << made.out;
      EXPECT_EQ(list_folder(folder),
                (std::vector<std::string>{"all", "all.content", "all.plain", "all.unfinished"}));
      for (const char* name : {"/all.plain", "/all.content", "/all.unfinished"}) {
        EXPECT_EQ(read_file(folder + name), "mine");
      }
    }
  }
}

// ---- Keys

TEST_F(Protection, ANewKeyWithANewPassphraseIsBoth) {
  make(pc);
  pc.environment["KESTRUM_NEXT_PASSPHRASE"] = "sand and salt";
  Json told = pc.json({"passphrase", "desk", "--new-key"});
  EXPECT_EQ(told["new_key"], true);
  EXPECT_EQ(told["new_passphrase"], true);
  pc.environment["KESTRUM_NEXT_PASSPHRASE"] = "";
  EXPECT_EQ(pc.kestrum({"passphrase", "desk", "--try"}).exit, 7) << "the old one";
  pc.environment["KESTRUM_PASSPHRASE"] = "sand and salt";
  EXPECT_EQ(pc.kestrum({"passphrase", "desk", "--try"}).exit, 0);
  EXPECT_EQ(pc.json({"run", "desk"})["runs"][0]["kind"], "full");
  EXPECT_EQ(pc.kestrum({"verify", "desk", "--contents"}).exit, 0);
  told = pc.json({"passphrase", "desk", "--new-key"});
  EXPECT_EQ(told["new_passphrase"], false);
  EXPECT_EQ(pc.kestrum({"passphrase", "desk", "--try"}).exit, 0);
}

// Whoever takes the shelf over goes by it.
TEST_F(Protection, TheCopyOfTheJobIsMadeGoodByTheNextRun) {
  for (const char* protection : {"passphrase", "none"}) {
    Desk owner;
    make(owner, {"--protection", protection});
    std::string copy = owner.shelf() + "/job.toml", signature;
    if (!path_exists(copy)) copy += ".age";
    signature = copy + ".minisig";
    for (const std::string& damaged : {copy, signature}) {
      for (bool gone : {true, false}) {
        gone ? (void)fs::remove(damaged) : put_file(damaged, "nonsense");
        EXPECT_EQ(owner.json({"verify", "desk"}, 4)["damage"][0]["file"], base_name(copy));
        EXPECT_EQ(owner.kestrum({"run", "desk"}).exit, 0);
        EXPECT_EQ(owner.kestrum({"verify", "desk"}).exit, 0) << damaged << gone;
      }
    }
  }
}

TEST_F(Protection, NoDescriptorIsLeftOpenForAJobsCommand) {
  std::string seen = out("descriptors");
  put_file(pc.source() + "/file", "x");
  pc.define();
  std::string path = pc.folder / "home/jobs/desk.toml";
  write_file(path,
             read_file(path) + "\n[before_run]\ncommand = \"ls -l /proc/$$/fd >" + seen + "\"\n");
  Ran ran = pc.kestrum({"run", "desk"});
  ASSERT_EQ(ran.exit, 0) << ran.err;
  std::string text = read_file(seen);
  EXPECT_NE(text.find("/dev/null"), std::string::npos) << text;
  EXPECT_EQ(text.find(pc.folder / "home"), std::string::npos) << text;
  EXPECT_EQ(text.find(pc.disk()), std::string::npos) << text;
}

}  // namespace
}  // namespace kestrum::test
