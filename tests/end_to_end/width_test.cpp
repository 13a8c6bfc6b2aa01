// Nothing that is printed is wider than the screen, but for commands to paste.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "support/program.h"

namespace kestrum::test {
namespace {

constexpr std::size_t kColumns = 80;

using PrintedCall = std::vector<std::string>;
using PrintedCalls = std::vector<PrintedCall>;

// Lines that are wider. One with a command in it may be: that has the line to itself then.
std::vector<std::string> wide_lines(const std::string& text) {
  std::vector<std::string> wide;
  for (const std::string& line : split(text, '\n')) {
    if (display_width(line) <= kColumns) continue;
    std::string trimmed_line(trimmed(line));
    if (trimmed_line.starts_with("kestrum ")) continue;
    if (line.find("/tmp/kestrum-test") != std::string::npos) continue;  // data: a file and why
    wide.push_back(line);
  }
  return wide;
}

class Width : public testing::Test {
 protected:
  void SetUp() override {
    // A short name, so that paths are not what is measured.
    desk.environment["COLUMNS"] = std::to_string(kColumns);
    put_file(desk.source() + "/notes.txt", "n\n");
    for (int i = 0; i < 30; ++i) {
      put_file(desk.source() + "/Rotas/rota-" + std::to_string(i) + ".csv",
               std::string(20'000, 'r'));
    }
    desk.on_day(0);
    desk.define({"--when", "every day at 21:00", "--leave-out", "*.iso"});
    run();
  }
  void run() { EXPECT_LE(desk.kestrum({"run", "desk"}).exit, 1); }
  void look(const std::vector<std::string>& words) {
    Ran ran = desk.kestrum(words);
    for (const std::string& text : {ran.out, ran.err}) {
      for (const std::string& line : wide_lines(text)) {
        ADD_FAILURE() << words[0] << ": " << display_width(line) << " columns: " << line;
      }
    }
    printed += ran.out.size() + ran.err.size();
  }
  Desk desk;
  std::size_t printed = 0;
};

// A place on a server has a long name, and what is said of it is not squeezed in beside that.
TEST_F(Width, ProseWithoutRoomBesideANameGoesBelowIt) {
  std::string place = desk.folder / std::string(60, 'p');
  std::filesystem::create_directories(place);
  ASSERT_EQ(desk.kestrum({"job", "new", "other", "--from", desk.source(), "--to", place,
                          "--same-disk", "--protection", "none"})
                .exit,
            0);
  EXPECT_EQ(desk.kestrum({"run", "other"}).exit, 0);
  desk.environment["COLUMNS"] = "100";
  std::string listed = desk.kestrum({"shelf", "list", "other"}).out;
  EXPECT_NE(listed.find("  " + place + "  1 set\n    newest c1-0 of "), std::string::npos)
      << listed;
}

TEST_F(Width, WhatCommandsPrintFits) {
  // Weeks with warnings, a suspect set, a disk that is away, damage.
  for (int day = 1; day < 4; ++day) {
    desk.on_day(day);
    put_file(desk.source() + "/day.txt", std::to_string(day));
    run();
  }
  std::filesystem::create_directories(desk.folder / "other");
  std::filesystem::create_symlink("/nowhere", desk.folder / "link");
  for (const PrintedCall& words :
       PrintedCalls{{"status"},
                    {"status", "desk"},
                    {"sets", "desk"},
                    {"look", "desk"},
                    {"look", "desk", "--long", "--depth", "2"},
                    {"trace", "desk", "day.txt"},
                    {"compare", "desk", "--point", "c1-0", "--with", "c1-2"},
                    {"forecast", "desk"},
                    {"forecast", "desk", "--files"},
                    {"forecast", "desk", "--why", desk.source() + "/day.txt"},
                    {"verify", "desk", "--contents"},
                    {"drill", "desk", "--files", "5"},
                    {"prune", "desk", "--rehearse"},
                    {"history", "desk"},
                    {"agenda", "--days", "9"},
                    {"job", "list"},
                    {"job", "show", "desk"},
                    {"job", "check", "desk"},
                    {"job", "categories"},
                    {"shelf", "list", "desk"},
                    {"restore", "desk", "day.txt", "--to", desk.folder / "out", "--point", "c1-1"},
                    {"passphrase", "desk", "--try"},
                    {"passphrase", "desk", "--card", desk.folder / "card.svg"}}) {
    look(words);
  }
  // Everything changes: suspect. Then the newest part is damaged.
  for (int i = 0; i < 30; ++i) {
    put_file(desk.source() + "/Rotas/rota-" + std::to_string(i) + ".csv", std::string(20'000, 'x'));
  }
  desk.on_day(4);
  look({"run", "desk"});
  std::string part = desk.set_folder("c1-0") + "/part-000001.tar.zst.age";
  put_file(part, read_file(part).substr(0, 1000));
  for (const std::vector<std::string>& words : PrintedCalls{
           PrintedCall{"status"}, PrintedCall{"status", "desk"}, PrintedCall{"sets", "desk"},
           PrintedCall{"prune", "desk"}, PrintedCall{"verify", "desk"},
           PrintedCall{"drill", "desk"}, PrintedCall{"forecast", "desk"},
           PrintedCall{"restore", "desk", "--to", desk.folder / "all"},
           PrintedCall{"history", "desk"}}) {
    look(words);
  }
  std::filesystem::rename(desk.disk(), desk.folder / "gone");
  for (const std::vector<std::string>& words :
       PrintedCalls{PrintedCall{"run", "desk"}, PrintedCall{"status"}, PrintedCall{"sets", "desk"},
                    PrintedCall{"look", "desk"}, PrintedCall{"forecast", "desk"},
                    PrintedCall{"shelf", "list", "desk"}, PrintedCall{"verify", "desk"},
                    PrintedCall{"restore", "desk", "--to", desk.folder / "none"}}) {
    look(words);
  }
  EXPECT_GT(printed, 10'000u);
}

TEST_F(Width, MistakesAreToldInLinesThatFit) {
  for (const PrintedCall& words :
       PrintedCalls{{"restore", "desk"},
                    {"restore", "desk", "nothing-like-it", "--to", "/tmp/x"},
                    {"restore", "desk", "--to", "/tmp/x", "--point", "soon"},
                    {"restore", "desk", "--to", "/tmp/x", "--point", "1999"},
                    {"look", "nobody"},
                    {"look", "desk", "--as-of", "monday"},
                    {"run", "desk", "--full"},
                    {"find", "desk"},
                    {"job", "new", "x", "--from", "/nowhere", "--to", "/nowhere"},
                    {"job", "new", "x", "--from", desk.source(), "--to", desk.disk()},
                    {"job", "set", "desk", "keep.fro", "3"},
                    {"job", "set", "desk", "keep.leave_free", "5"},
                    {"shelf", "claim", desk.folder.path()},
                    {"history", "desk", "--show", "99"},
                    {"verify", "desk", "--on", "nowhere"},
                    {"prune", "desk", "--to-free", "much"},
                    {"agenda", "--days", "0"},
                    {"schedule", "instal"}}) {
    look(words);
  }
}

TEST_F(Width, HelpFits) {
  look({"help"});
  for (const char* command :
       {"job",        "job new", "job set",  "shelf",    "shelf start", "shelf claim", "forecast",
        "run",        "stop",    "sets",     "trust",    "look",        "trace",       "compare",
        "restore",    "verify",  "drill",    "prune",    "agenda",      "schedule",    "status",
        "history",    "demo",    "job list", "job show", "job check",   "job edit",    "job take",
        "passphrase", "phrases", "patterns", "times",    "job-file"}) {
    std::vector<std::string> words = {"help"};
    for (const std::string& word : split(command, ' ')) words.push_back(word);
    look(words);
  }
}

}  // namespace
}  // namespace kestrum::test
