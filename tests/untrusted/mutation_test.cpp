// Every parser of what comes from a disk or a person, on thousands of seeded mutations of good
// input and on garbage: each ends in a value or in an Error, never in anything else. Under the
// sanitizers this is where reads beyond the end show.
#include <gtest/gtest.h>

#include <functional>
#include <random>

#include "kestrum/archive/frames.h"
#include "kestrum/archive/tar_head.h"
#include "kestrum/archive/tar_reader.h"
#include "kestrum/base/error.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/base/uuid.h"
#include "kestrum/chain/moment.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/crypto/signature.h"
#include "kestrum/job/job_file.h"
#include "kestrum/machine/machine_state.h"
#include "kestrum/select/pattern.h"
#include "kestrum/shelf/identity_file.h"
#include "kestrum/shelf/label.h"
#include "kestrum/shelf/ledger.h"
#include "kestrum/shelf/seal.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

using Parser = std::function<void(const std::string&)>;

std::string mutated(const std::string& good, std::mt19937& random) {
  static const std::vector<std::string> kMorsels = {std::string("\0", 1),
                                                    "\xff",
                                                    "-1",
                                                    "99999999999999999999",
                                                    "..",
                                                    "/",
                                                    "\"",
                                                    "{",
                                                    "[",
                                                    "\n",
                                                    "null",
                                                    "1e999",
                                                    "="};
  std::string text = good;
  for (unsigned i = 0; i <= random() % 4; ++i) {
    std::size_t at = text.empty() ? 0 : random() % text.size();
    switch (random() % 6) {
      case 0:
        if (!text.empty()) text[at] = static_cast<char>(random());
        break;
      case 1:
        if (!text.empty()) text[at] = static_cast<char>(text[at] ^ (1 << random() % 8));
        break;
      case 2:
        text.insert(at, kMorsels[random() % kMorsels.size()]);
        break;
      case 3:
        text.erase(at, random() % 20);
        break;
      case 4:
        text.resize(at);
        break;
      case 5:
        text.insert(at, text.substr(text.size() / 2, random() % 64));
        break;
    }
  }
  return text;
}

// Returns how many inputs were refused.
int survive(const std::string& good, const Parser& parse, int rounds = 3000) {
  std::mt19937 random(static_cast<unsigned>(good.size()) + 17);
  int refused = 0;
  for (int i = 0; i < rounds; ++i) {
    std::string input = i % 10 == 9 ? test::noise(random() % 300, random()) : mutated(good, random);
    try {
      parse(input);
    } catch (const Error& error) {
      EXPECT_FALSE(error.message().empty());
      ++refused;
    }
  }
  return refused;
}

class Mutated : public testing::Test {
 protected:
  void SetUp() override { crypto_start(); }
};

TEST_F(Mutated, AgeFiles) {
  std::vector<Identity> identities = {Identity::generate()};
  Bytes sealed = age_encrypt(as_bytes("some text"), std::vector{identities[0].recipient()});
  std::string good(as_text(sealed));
  auto parse = [&](const std::string& input) {
    Secret plain = age_decrypt(as_bytes(input), identities, "file");
    EXPECT_EQ(plain.text(), "some text") << "something else was taken for authentic";
  };
  EXPECT_GT(survive(good, parse), 2500);
  EXPECT_GT(survive(age_armour(sealed), parse), 2000);
}

TEST_F(Mutated, TarEntries) {
  Entry entry;
  entry.path = "caf\xc3\xa9/" + std::string(150, 'n');
  entry.size = 3000;
  entry.holes = true;
  entry.mtime = 123'456'789;
  entry.xattrs["user.note"] = "value";
  std::string good = tar_entry_head(entry, {{0, 512}, {1024, 512}}) + std::string(2048, 'x');
  survive(good, [](const std::string& input) {
    MemorySource source{std::string_view(input)};
    bool end = false;
    TarEntry found = read_tar_entry(source, 0, "tar", end);
    EXPECT_LE(found.stored_size, input.size());
    std::uint64_t at = 0;
    for (const DataRun& run : found.runs) {
      EXPECT_LE(at, run.offset);
      at = run.offset + run.length;
      EXPECT_LE(at, found.entry.size);
    }
  });
}

TEST_F(Mutated, SeekTables) {
  SeekTable table;
  for (int i = 1; i < 6; ++i)
    table.add(static_cast<std::uint32_t>(i * 10), static_cast<std::uint32_t>(i * 100));
  survive(std::string(150, 'f') + table.encode(), [](const std::string& input) {
    MemorySource source{std::string_view(input)};
    SeekTable found = SeekTable::read(source, "part");
    EXPECT_LE(found.compressed_size(), input.size());
  });
}

TEST_F(Mutated, LedgerLinesAndLedgers) {
  LedgerEntry line;
  line.entry.path = "home/a";
  line.entry.size = 7;
  line.entry.xattrs["user.note"] = "value";
  line.digest = Digest{};
  line.tar_offset = 512;
  line.in_set = SetId{1, 0};
  line.in_path = "home/b";
  survive(ledger_line(line), [](const std::string& input) {
    LedgerLine found;
    parse_ledger_line(input, "ledger", found);
    EXPECT_TRUE(is_safe_path(found.entry.entry.path));
  });
  line.in_set.reset();
  line.in_path.reset();
  line.tar_offset.reset();
  line.ranges = {{3, false, SetId{1, 0}, 512, 0}, {4, true, std::nullopt, 0, 0}};
  StretchList list{512, 0, 9, {{3, {}}, {131'072, {}}}, ".kestrum-x/000000001"};
  for (const std::string& text : {ledger_line(line), stretches_line(list)}) {
    survive(text, [](const std::string& input) {
      LedgerLine found;
      parse_ledger_line(input, "ledger", found);
      std::uint64_t sum = 0;
      for (const ContentRange& range : found.entry.ranges) sum += range.length;
      if (!found.entry.ranges.empty()) {
        EXPECT_EQ(sum, found.entry.entry.size);
      }
      for (const Stretch& stretch : found.list.stretches) {
        EXPECT_LE(stretch.length, kLongestStretch);
      }
    });
  }
  LedgerHead sample;
  sample.shelf = "x";
  sample.set = {1, 0};
  sample.roots = {{"/a", false}};
  sample.lacking = std::vector<Lacking>{{"a/b", {1, 0}}};
  std::string head = ledger_head_line(sample);
  LedgerFoot foot{1, 1, {}, {}, ""};
  foot.lists = 1;
  std::string rest = stretches_line(list) + dead_line({1024, "home/c", DeadEntry::Why::kCut}) +
                     ledger_foot_line(foot);
  survive(head + ledger_line(line) + rest, [](const std::string& input) {
    LedgerReader reader(std::make_unique<MemorySource>(std::string_view(input)), "ledger");
    LedgerEntry entry;
    while (reader.next(entry)) {
    }
  });
}

TEST_F(Mutated, SealsLabelsPinsAndIdentities) {
  Seal seal;
  seal.shelf = make_uuid();
  seal.set = {1, 0};
  seal.parts = {{"part-000001.tar", 1, 0, {}}};
  seal.ledger_name = "ledger.jsonl";
  seal.ledger_copy = "ledger-copy.jsonl";
  seal.ledger_bytes = 1;
  seal.blocks_bytes = seal.blocks_bytes_needed();
  seal.number = 1;
  survive(seal.to_json(), [](const std::string& input) {
    for (const PartInfo& part : Seal::parse(input, "seal.json").parts) {
      EXPECT_EQ(part.name.find('/'), std::string::npos);
    }
  });
  ShelfLabel label;
  label.shelf = make_uuid();
  survive(label.to_json(),
          [](const std::string& input) { ShelfLabel::parse(input, "shelf.json"); });
  ShelfRecord record;
  record.shelf = label.shelf;
  survive(record.to_json(),
          [](const std::string& input) { ShelfRecord::parse(input, "pin.json"); });
  IdentityFile file;
  file.shelf = label.shelf;
  file.signers = {{SigningKey::generate().verify_key(), "pc"}};
  file.identities.push_back(Identity::generate());
  survive(std::string(file.to_text().text()), [](const std::string& input) {
    IdentityFile::parse(Secret{std::string_view(input)}, "identity");
  });
}

TEST_F(Mutated, Signatures) {
  SigningKey key = SigningKey::generate();
  std::vector<VerifyKey> keys = {key.verify_key()};
  std::string good = key.sign(as_bytes("message"), "comment");
  std::string trusted = good.substr(good.find('\n'));
  survive(good, [&](const std::string& input) {
    bool valid = signature_valid(as_bytes("message"), input, keys);
    std::size_t line = input.find('\n');
    bool untouched = line != std::string::npos && input.substr(line) == trusted;
    // A final newline more or less changes nothing that is signed.
    EXPECT_TRUE(!valid || untouched || trimmed(input.substr(line)) == trimmed(trusted));
  });
}

TEST_F(Mutated, JobFiles) {
  std::string good =
      "format = 1\n[source]\nfolders = [\"/home\"]\nleave_out = [\"*.tmp\"]\nbigger_than = \"5 "
      "MB\"\n"
      "[destination]\nplaces = [\"/media/disk\"]\n[chain]\nnew_full = \"every 4 "
      "weeks\"\n[keep]\nfor = \"3 days\"\n";
  survive(good, [](const std::string& input) {
    ParsedJob parsed = parse_job("desk", input);
    for (const JobProblem& problem : parsed.problems) EXPECT_FALSE(problem.text().empty());
  });
}

TEST_F(Mutated, WhatPeopleType) {
  for (const std::string good :
       {"650 MB", "14 days", "2026-03-14 21:00", "monday 17:00", "3 days ago", "c3-7",
        "2026-03-02T21:00:00.5+01:00", "after 13 incrementals", "every sunday"}) {
    survive(
        good,
        [](const std::string& input) {
          parse_size(input);
          parse_duration(input);
          parse_rfc3339(input);
          parse_moment(input, 1'773'144'000 * kSecond);
          NewFullRule::parse(input);
          SetId::parse(input);
          printable(input);
          shortened(input, 10);
          EXPECT_TRUE(is_utf8(printable(input)));
        },
        400);
  }
  survive("/home/*/Doc[a-z]?ments/**", [](const std::string& input) {
    PatternSet pattern({input});
    pattern.match("home/x/Documents/file");
  });
}

}  // namespace
}  // namespace kestrum
