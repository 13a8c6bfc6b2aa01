#include <gtest/gtest.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/shelf/ledger.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {
namespace {

LedgerEntry file_line(const std::string& path, const std::string& content, std::uint64_t offset) {
  LedgerEntry line;
  line.entry.path = path;
  line.entry.size = content.size();
  line.entry.mtime = 1'772'485'200'123'456'789;
  line.entry.mode = 0644;
  line.digest = digest_of(as_bytes(content));
  line.tar_offset = offset;
  return line;
}

TEST(LedgerLines, ComeBackAsTheyWere) {
  LedgerEntry line = file_line("home/a\nb\x01\"\\\xff", "content", 512);
  line.entry.user = "presenter";
  line.entry.xattrs["user.note"] = std::string("\0raw", 4);
  line.entry.holes = true;
  line.in_set = SetId{1, 2};
  line.in_path = "home/\xfe";
  std::string text = ledger_line(line);
  EXPECT_TRUE(is_utf8(text));
  LedgerEntry found = parse_ledger_line(text, "ledger");
  EXPECT_EQ(found.entry.path, line.entry.path);
  EXPECT_EQ(found.entry.mtime, line.entry.mtime);
  EXPECT_EQ(found.entry.xattrs, line.entry.xattrs);
  EXPECT_EQ(found.entry.user, "presenter");
  EXPECT_EQ(found.digest, line.digest);
  EXPECT_EQ(found.in_set, line.in_set);
  EXPECT_EQ(found.in_path, line.in_path);
  EXPECT_TRUE(found.entry.holes);
}

TEST(LedgerLines, ThatLeadElsewhereAreRefused) {
  for (const std::string path :
       {"../etc/passwd", "/etc/passwd", "a/../../b", "a//b", "a/./b", "a/", "..", ""}) {
    std::string text = "{\"path\":" + Json(path).dump() + ",\"type\":\"gone\"}";
    EXPECT_THROW(parse_ledger_line(text, "ledger"), Error) << path;
  }
  EXPECT_NO_THROW(parse_ledger_line("{\"path\":\".\",\"type\":\"gone\"}", "ledger"));
  EXPECT_THROW(
      parse_ledger_line("{\"path\":\"a\",\"type\":\"hardlink\",\"target\":\"../b\",\"mtime\":0,"
                        "\"ctime\":0,\"mode\":0,\"uid\":0,\"gid\":0}",
                        "ledger"),
      Error);
}

TEST(LedgerLines, ClaimingTheImpossibleAreRefused) {
  std::string good = ledger_line(file_line("a", "content", 0));
  for (auto [from, to] : {std::pair{"\"size\":7", "\"size\":18446744073709551615"},
                          {"\"size\":7", "\"size\":-1"},
                          {"\"size\":7", "\"size\":\"7\""},
                          {"\"tar_offset\":0", "\"tar_offset\":null"},
                          {"\"type\":\"file\"", "\"type\":\"ghost\""},
                          {"\"mode\":420", "\"mode\":4294967296"},
                          {"\"digest\":\"", "\"digest\":\"x"}}) {
    std::string text = good;
    text.replace(text.find(from), std::string(from).size(), to);
    EXPECT_THROW(parse_ledger_line(text, "ledger"), Error) << to;
  }
  for (std::size_t cut = 0; cut + 2 < good.size(); ++cut) {
    EXPECT_THROW(parse_ledger_line(good.substr(0, cut), "ledger"), Error);
  }
}

TEST(Ledgers, OutOfOrderAreRefused) {
  std::string head =
      "{\"format\":\"kestrum-ledger\",\"version\":1,\"shelf\":\"x\",\"set\":\"c1-0\",\"kind\":"
      "\"full\","
      "\"based_on\":null,\"roots\":[\"/"
      "a\"],\"begun\":\"2026-03-02T21:00:00Z\",\"started\":\"2026-03-02T21:00:00Z\"}\n";
  auto read = [&](const std::string& body) {
    LedgerReader reader(std::make_unique<MemorySource>(std::string_view(head + body)), "ledger");
    LedgerEntry entry;
    int count = 0;
    while (reader.next(entry)) ++count;
    return count;
  };
  std::string a = ledger_line(file_line("a", "1", 0)), ax = ledger_line(file_line("a/x", "2", 0)),
              ab = ledger_line(file_line("a-b", "3", 0));
  EXPECT_EQ(read(a + ax + ab), 3);
  EXPECT_THROW(read(a + ab + ax), Error);
  EXPECT_THROW(read(a + a), Error);
  EXPECT_THROW(read(a + "{\"path\":"), Error);
  EXPECT_EQ(read(""), 0);
}

Seal sample_seal() {
  Seal seal;
  seal.shelf = "3f0c7a52-0000-4000-8000-000000000000";
  seal.set = {2, 3};
  seal.kind = SetKind::kIncremental;
  seal.based_on = SetId{2, 2};
  seal.outcome = "done";
  seal.verified = "parts";
  seal.parts = {{"part-000001.tar.zst.age", 100, 0, {}}, {"part-000002.tar.zst.age", 50, 4096, {}}};
  seal.ledger_name = "ledger.jsonl.zst.age";
  seal.base_seal = Digest{};
  return seal;
}

TEST(Seals, ComeBackAsTheyWere) {
  Seal seal = sample_seal();
  seal.files.copied = 12;
  Seal found = Seal::parse(seal.to_json(), "seal.json");
  EXPECT_EQ(found.to_json(), seal.to_json());
  EXPECT_EQ(found.files.copied, 12U);
}

TEST(Seals, ThatReachOutsideTheirSetOrContradictThemselvesAreRefused) {
  std::string good = sample_seal().to_json();
  for (auto [from, to] : {std::pair{"part-000001.tar.zst.age", "../../other/part"},
                          {"ledger.jsonl.zst.age", "/etc/passwd"},
                          {"ledger.jsonl.zst.age", ".."},
                          {"\"tar_offset\": 4096", "\"tar_offset\": 0"},
                          {"\"based_on\": \"c2-2\"", "\"based_on\": \"c2-3\""},
                          {"\"based_on\": \"c2-2\"", "\"based_on\": \"c1-0\""},
                          {"\"based_on\": \"c2-2\"", "\"based_on\": null"},
                          {"\"kind\": \"incremental\"", "\"kind\": \"full\""},
                          {"\"version\": 1", "\"version\": 2"},
                          {"\"format\": \"kestrum-seal\"", "\"format\": \"other\""}}) {
    std::string text = good;
    text.replace(text.find(from), std::string(from).size(), to);
    EXPECT_THROW(Seal::parse(text, "seal.json"), Error) << to;
  }
}

}  // namespace
}  // namespace kestrum
