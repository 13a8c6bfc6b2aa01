// A shelf doctored by someone else: refused or contained, and nothing written outside the target.
#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zstd.h>

#include <algorithm>
#include <filesystem>
#include <memory>
#include <optional>

#include "kestrum/archive/frames.h"
#include "kestrum/archive/set_writer.h"
#include "kestrum/archive/tar_format.h"
#include "kestrum/archive/tar_head.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/file.h"
#include "kestrum/base/uuid.h"
#include "kestrum/place/local_place.h"
#include "kestrum/shelf/label.h"
#include "kestrum/shelf/ledger.h"
#include "kestrum/shelf/seal.h"
#include "support/program.h"
#include "support/stored_digest.h"
#include "support/tree.h"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// What is put in the place of what an honest program would have written.
struct Doctored {
  std::optional<std::string> part, ledger;
  bool compressed = false;
};

// Builds an unprotected shelf by hand, line by line, as somebody with a grudge would: everything is
// consistent and only the ledger's claims are evil.
class HostileShelf : public testing::Test {
 protected:
  void SetUp() override {
    crypto_start();
    desk.environment["KESTRUM_PASSPHRASE"] = "";
    fs::create_directories(desk.folder / "shelf/sets/c0001-000_2026-03-02_2100Z");
    label.shelf = make_uuid();
    label.job = "desk";
    label.host = "evil-pc";
    label.owner = make_uuid();
    write_file(desk.folder / "shelf/shelf.json", label.to_json());
  }

  LedgerEntry file(const std::string& path, const std::string& content) {
    LedgerEntry line;
    line.entry.path = path;
    line.entry.size = content.size();
    line.entry.mode = 0644;
    line.digest = digest_of(as_bytes(content));
    line.tar_offset = tar.size();
    tar += tar_entry_head(line.entry) + content + std::string(tar_padding(content.size()), '\0');
    return line;
  }
  LedgerEntry link(const std::string& path, const std::string& target) {
    LedgerEntry line;
    line.entry.path = path;
    line.entry.type = EntryType::kLink;
    line.entry.target = target;
    return line;
  }

  LedgerEntry device(const std::string& path) {
    LedgerEntry line;
    line.entry.path = path;
    line.entry.type = EntryType::kDevice;
    line.entry.device_major = 1;
    line.entry.device_minor = 3;
    line.entry.mode = 0666;
    return line;
  }

  // Seals what `tar` holds with these lines, and restores everything.
  Ran restore(const std::vector<std::string>& lines, const Doctored& doctored = {}) {
    LocalPlace place(desk.folder / "shelf");
    std::string folder = "sets/c0001-000_2026-03-02_2100Z";
    Packing packing{doctored.compressed ? CompressionLevel::kFast : CompressionLevel::kOff,
                    std::nullopt};
    SetWriter writer(place, folder, {packing, 1'000'000'000, ReadBack::kOff, 1});
    writer.append(as_bytes(tar));
    Seal seal;
    seal.shelf = label.shelf;
    seal.set = {1, 0};
    seal.outcome = "done";
    seal.verified = "no";
    seal.number = 1;
    seal.compressed = doctored.compressed;
    seal.parts = writer.finish();
    if (doctored.part) {
      write_file(desk.folder / ("shelf/" + folder + "/" + seal.parts[0].name), *doctored.part);
      seal.parts[0].bytes = doctored.part->size();
      seal.parts[0].digest = test::stored_digest(*doctored.part);
    }
    std::string text = header();
    for (const auto& line : lines) text += line;
    text += ledger_foot_line({lines.size(), 0, {}, {}, ""});
    if (doctored.ledger) text = *doctored.ledger;
    seal.ledger_name = "ledger.jsonl" + packing.suffix();
    seal.ledger_copy = "ledger-copy.jsonl" + packing.suffix();
    if (doctored.compressed && !doctored.ledger) text = seekable(text);
    seal.ledger_bytes = text.size();
    seal.ledger_digest = test::stored_digest(text);
    seal.blocks_bytes = seal.blocks_bytes_needed();
    write_file(desk.folder / ("shelf/" + folder + "/" + seal.ledger_name), text);
    write_file(desk.folder / ("shelf/" + folder + "/" + seal.ledger_copy), text);
    BlocksWriter blocks(place, folder + "/" + kBlocksFile);
    for (const PartInfo& part : seal.parts)
      blocks.add(block_digests_of(*place.open(folder + "/" + part.name, false)));
    blocks.add(block_digests_of(*place.open(folder + "/" + seal.ledger_name, false)));
    blocks.close();
    seal.blocks_digest = blocks.digest();
    write_file(desk.folder / ("shelf/" + folder + "/seal.json"), seal.to_json());
    return desk.kestrum({"restore", "--shelf", desk.folder / "shelf", "--to",
                         desk.folder / "out/target", "--layout", "full"});
  }
  std::string header() const {
    LedgerHead head;
    head.shelf = label.shelf;
    head.set = {1, 0};
    head.number = 1;
    head.roots = {{"/home", false}};
    head.lacking.emplace();
    head.begun = head.started = 1'772'485'200'000'000'000;
    return ledger_head_line(head);
  }
  // A frame and its seek table.
  static std::string seekable(const std::string& content) {
    std::string frame(ZSTD_compressBound(content.size()), '\0');
    frame.resize(ZSTD_compress(frame.data(), frame.size(), content.data(), content.size(), 1));
    SeekTable table;
    table.add(static_cast<std::uint32_t>(frame.size()), static_cast<std::uint32_t>(content.size()));
    return frame + table.encode();
  }
  // A small frame with so many MiB of "x".
  static std::string bomb(unsigned megabytes) {
    std::string piece(1 << 20, 'x'), frame(1 << 20, '\0');
    std::unique_ptr<ZSTD_CCtx, decltype(&ZSTD_freeCCtx)> context(ZSTD_createCCtx(), ZSTD_freeCCtx);
    ZSTD_CCtx_setPledgedSrcSize(context.get(), std::uint64_t{megabytes} << 20);
    ZSTD_outBuffer out{frame.data(), frame.size(), 0};
    for (unsigned i = 1; i <= megabytes; ++i) {
      ZSTD_inBuffer in{piece.data(), piece.size(), 0};
      ZSTD_compressStream2(context.get(), &out, &in, i == megabytes ? ZSTD_e_end : ZSTD_e_continue);
    }
    frame.resize(out.pos);
    return frame;
  }
  // Nothing but the target may have changed.
  void expect_contained() {
    for (const auto& name : list_folder(desk.folder.path())) {
      EXPECT_TRUE(name == "shelf" || name == "out" || name == "source" || name == "disk" ||
                  name == "home")
          << name;
    }
    for (const auto& name : list_folder(desk.folder / "out")) EXPECT_EQ(name, "target");
  }

  Desk desk;
  ShelfLabel label;
  std::string tar;
};

TEST_F(HostileShelf, AnHonestOneIsRestored) {
  std::string a = ledger_line(file("home/a", "content a")),
              b = ledger_line(file("home/b", "content b"));
  Ran ran = restore({a, b});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "out/target/home/b"), "content b");
}

TEST_F(HostileShelf, PathsThatClimbOutAreRefused) {
  for (const std::string path :
       {"../escaped", "home/../../escaped", "/tmp/escaped", "home//x", "home/./x"}) {
    tar.clear();
    std::string line = ledger_line(file("home/a", "x"));
    line.replace(line.find("home/a"), 6, path);
    Ran ran = restore({line});
    EXPECT_NE(ran.exit, 0) << path;
    EXPECT_FALSE(path_exists(desk.folder / "out/escaped")) << path;
    EXPECT_FALSE(path_exists("/tmp/escaped")) << path;
  }
}

TEST_F(HostileShelf, ALinkPlantedToRedirectLaterEntriesIsNotFollowed) {
  fs::create_directory(desk.folder / "out");
  fs::create_directory(desk.folder / "home2");
  // "home/d" is a link to the outside, and "home/d/file" comes behind it.
  std::string planted = ledger_line(link("home/d", desk.folder / "home2"));
  std::string through = ledger_line(file("home/d/file", "redirected"));
  restore({planted, through});
  EXPECT_TRUE(fs::is_empty(desk.folder / "home2"));
  fs::remove(desk.folder / "home2");
  expect_contained();
}

TEST_F(HostileShelf, ContentThatDoesNotMatchIsNotWrittenUnderItsName) {
  std::string good = ledger_line(file("home/good", "good"));
  LedgerEntry bad = file("home/wrong", "wrong");
  bad.digest = digest_of(as_bytes("something else"));
  Ran ran = restore({good, ledger_line(bad)});
  EXPECT_EQ(ran.exit, 4);
  EXPECT_TRUE(path_exists(desk.folder / "out/target/home/good"));
  EXPECT_EQ(list_folder(desk.folder / "out/target/home").size(), 1U) << "not even a temporary file";
}

TEST_F(HostileShelf, SizesAndOffsetsThatAreLiesAreRefused) {
  std::string line = ledger_line(file("home/a", "x"));
  auto with = [&](const std::string& from, const std::string& to) {
    std::string text = line;
    text.replace(text.find(from), from.size(), to);
    return restore({text}).exit;
  };
  EXPECT_EQ(with("\"size\":1", "\"size\":9000000000000000"), 4);
  EXPECT_EQ(with("\"offset\":0", "\"offset\":9000000000000000"), 4);
  EXPECT_EQ(with("\"offset\":0", "\"offset\":7"), 4);
  EXPECT_NE(with("\"size\":1", "\"size\":-1"), 0);
}

TEST_F(HostileShelf, ASealThatNamesFilesElsewhereIsRefused) {
  std::string line = ledger_line(file("home/a", "x"));
  ASSERT_EQ(restore({line}).exit, 0);
  std::string seal = desk.folder / "shelf/sets/c0001-000_2026-03-02_2100Z/seal.json";
  std::string text = read_file(seal);
  text.replace(text.find("ledger.jsonl"), 12, "../../../../etc/passwd");
  write_file(seal, text);
  Ran ran =
      desk.kestrum({"restore", "--shelf", desk.folder / "shelf", "--to", desk.folder / "out2"});
  EXPECT_NE(ran.exit, 0);
  EXPECT_FALSE(path_exists(desk.folder / "out2"));
}

TEST_F(HostileShelf, AnythingAtAllInItsFilesEndsInAnErrorNotACrash) {
  std::string line = ledger_line(file("home/a", "content"));
  ASSERT_EQ(restore({line}).exit, 0);
  std::string folder = desk.folder / "shelf/sets/c0001-000_2026-03-02_2100Z/";
  for (const std::string name : {"seal.json", "ledger.jsonl", "part-000001.tar"}) {
    std::string good = read_file(folder + name);
    for (const std::string& bad :
         {std::string(), std::string("\0\0\0\0", 4), std::string("{"), std::string("[]"),
          std::string("null"), good.substr(0, good.size() / 2), good + good,
          std::string(100'000, '['), noise(5000, 1)}) {
      write_file(folder + name, bad);
      for (const std::string command : {"verify", "sets", "restore"}) {
        std::vector<std::string> words = {command, "--shelf", desk.folder / "shelf"};
        if (command == "restore") words.insert(words.end(), {"--to", desk.folder / "out3"});
        Ran ran = desk.kestrum(words);
        EXPECT_LT(ran.exit, 128) << command << " of " << name << ": " << ran.err;
      }
    }
    write_file(folder + name, good);
  }
  EXPECT_EQ(desk.kestrum({"verify", "--shelf", desk.folder / "shelf"}).exit, 0);
}

// Nobody vouches for a shelf without signatures that this PC knows.
TEST_F(HostileShelf, DeviceNodesAndSetuidBitsAreNotMade) {
  LedgerEntry shell = file("home/shell", "#!/bin/sh\n");
  shell.entry.mode = 06755;
  Ran ran = restore({ledger_line(device("home/null")), ledger_line(shell)});
  EXPECT_EQ(ran.exit, 3) << ran.out;
  EXPECT_NE(ran.err.find("device node"), std::string::npos) << ran.err;
  EXPECT_NE(ran.out.find("without their setuid bits"), std::string::npos) << ran.out;
  EXPECT_EQ(list_folder(desk.folder / "out/target/home"), std::vector<std::string>{"shell"});
  struct stat st {};
  ASSERT_EQ(::stat((desk.folder / "out/target/home/shell").c_str(), &st), 0);
  EXPECT_EQ(st.st_mode & 07777, 0755U);
}

TEST_F(HostileShelf, PetabytesOfHolesAreNotBelieved) {
  LedgerEntry line;
  line.entry.path = "home/vast";
  line.entry.size = std::uint64_t{1} << 50;
  line.entry.mode = 0644;
  line.entry.holes = true;
  line.digest = digest_of(as_bytes("x"));
  line.tar_offset = 0;
  tar = tar_entry_head(line.entry, {{0, 1}}) + "x" + std::string(tar_padding(1), '\0');
  Nanos begun = steady_now();
  Ran ran = restore({ledger_line(line)});
  EXPECT_EQ(ran.exit, 4) << ran.out;
  EXPECT_NE(ran.err.find("more holes"), std::string::npos) << ran.err;
  ran = desk.kestrum({"verify", "--shelf", desk.folder / "shelf", "--contents"});
  EXPECT_EQ(ran.exit, 4) << ran.out << ran.err;
  EXPECT_LT(steady_now() - begun, 30 * kSecond);
  EXPECT_FALSE(path_exists(desk.folder / "out/target/home/vast"));
}

TEST_F(HostileShelf, BombsAreNotUnpacked) {
  std::string line = ledger_line(file("home/a", "x"));
  ASSERT_EQ(restore({line}, {{}, {}, true}).exit, 0) << "as it should be";
  for (auto claimed : {std::uint32_t{2} << 30, std::uint32_t{16} << 20, std::uint32_t{512}}) {
    SeekTable table;
    std::string frame = bomb(2048);
    table.add(static_cast<std::uint32_t>(frame.size()), claimed);
    fs::remove_all(desk.folder / "out");
    EXPECT_EQ(restore({line}, {frame + table.encode(), {}, true}).exit, 4) << claimed;
    EXPECT_NE(restore({}, {{}, frame + table.encode(), true}).exit, 0) << claimed;
  }
  // A line without end, from frames that are right in themselves.
  std::string endless, frame = bomb(16);
  SeekTable table;
  for (int i = 0; i < 64; ++i) {
    endless += frame;
    table.add(static_cast<std::uint32_t>(frame.size()), 16 << 20);
  }
  Ran ran = restore({}, {{}, endless + table.encode(), true});
  EXPECT_NE(ran.exit, 0);
  EXPECT_NE((ran.out + ran.err).find("a line too long"), std::string::npos) << ran.out << ran.err;
  rusage most{};
  ::getrusage(RUSAGE_CHILDREN, &most);
  EXPECT_LT(most.ru_maxrss, 900'000) << "kB; the bombs are of 2 and 1 GB";
}

TEST_F(HostileShelf, WhatIsNoFileOrFolderIsNotOpened) {
  std::string line = ledger_line(file("home/a", "content"));
  ASSERT_EQ(restore({line}).exit, 0);
  std::string set = desk.folder / "shelf/sets/c0001-000_2026-03-02_2100Z";
  fs::rename(set, desk.folder / "aside");
  auto outcome = [&](const std::string& what) {
    for (const std::string command : {"verify", "sets", "restore"}) {
      std::vector<std::string> words = {command, "--shelf", desk.folder / "shelf"};
      if (command == "restore") words.insert(words.end(), {"--to", desk.folder / "out4"});
      Ran ran = desk.kestrum(words);
      EXPECT_LT(ran.exit, 128) << command << " " << what << ran.err;
      if (command != "sets") {
        EXPECT_NE(ran.exit, 0) << command << " " << what << ran.out;
      }
    }
  };
  fs::create_directory_symlink(desk.folder / "aside", set);
  outcome("set is a link");
  for (const std::string name : {"seal.json", "ledger.jsonl", "part-000001.tar"}) {
    for (const std::string kind : {"pipe", "endless", "itself", "folder"}) {
      fs::remove_all(set);
      fs::copy(desk.folder / "aside", set);
      std::string path = set + "/" + name;
      fs::remove(path);
      if (name == "ledger.jsonl") fs::remove(set + "/ledger-copy.jsonl");
      fs::remove_all(desk.folder / "out4");
      if (kind == "pipe") {
        ASSERT_EQ(::mkfifo(path.c_str(), 0600), 0);
      }
      if (kind == "endless") fs::create_symlink("/dev/zero", path);
      if (kind == "itself") fs::create_symlink(desk.folder / ("aside/" + name), path);
      if (kind == "folder") fs::create_directory(path);
      outcome(name + " is " + kind);
    }
  }
}

}  // namespace
}  // namespace kestrum::test
