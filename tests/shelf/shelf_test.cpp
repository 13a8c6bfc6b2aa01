#include <gtest/gtest.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/shelf/ledger.h"
#include "kestrum/shelf/seal.h"

namespace kestrum {
namespace {

LedgerEntry entry_of(std::string_view text) {
  LedgerLine line;
  parse_ledger_line(text, "ledger", line);
  EXPECT_EQ(line.kind, LedgerLine::Kind::kEntry);
  return line.entry;
}

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
  line.entry.xattrs["user.\xff"] = "one";
  line.entry.xattrs["user.\xfe"] = "another";
  line.entry.link_group = 4'503'599'627'370'495;
  line.entry.holes = true;
  line.in_set = SetId{1, 2};
  line.in_path = "home/\xfe";
  std::string text = ledger_line(line);
  EXPECT_TRUE(is_utf8(text));
  LedgerEntry found = entry_of(text);
  EXPECT_EQ(found.entry.link_group, line.entry.link_group);
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
    EXPECT_THROW(entry_of(text), Error) << path;
  }
  EXPECT_NO_THROW(entry_of("{\"path\":\".\",\"type\":\"gone\"}"));
}

TEST(LedgerLines, OfALaterVersionAreNewerAndNotDamaged) {
  for (const char* text : {R"({"path":"a","type":"hardlink","target":"b"})",
                           R"({"path":"a","type":"file","size":1,"ranges":[[1]]})"}) {
    try {
      entry_of(text);
      ADD_FAILURE() << text;
    } catch (const Error& error) {
      EXPECT_TRUE(error.newer()) << text;
      EXPECT_NE(error.kind(), ErrorKind::kDamage) << text;
    }
  }
}

TEST(LedgerLines, ThatSayAThingTwiceAreRefused) {
  for (const char* text : {R"({"path":"a","path":"b","type":"gone"})",
                           R"({"path":"a","path_b64":"YQ==","type":"gone"})",
                           R"({"path":"a","type":"gone","type":"file"})"}) {
    EXPECT_THROW(entry_of(text), Error) << text;
  }
}

TEST(LedgerLines, ClaimingTheImpossibleAreRefused) {
  std::string good = ledger_line(file_line("a", "content", 0));
  for (auto [from, to] : {std::pair{"\"size\":7", "\"size\":18446744073709551615"},
                          {"\"size\":7", "\"size\":-1"},
                          {"\"size\":7", "\"size\":\"7\""},
                          {"\"offset\":0", "\"offset\":null"},
                          {"\"at\":{", "\"as\":{"},
                          {"\"mtime\":\"", "\"mtime\":\"x"},
                          {"\"mode\":420", "\"mode\":4294967296"},
                          {"\"digest\":\"", "\"digest\":\"x"}}) {
    std::string text = good;
    text.replace(text.find(from), std::string(from).size(), to);
    EXPECT_THROW(entry_of(text), Error) << to;
  }
  for (std::size_t cut = 0; cut + 2 < good.size(); ++cut) {
    EXPECT_THROW(entry_of(good.substr(0, cut)), Error);
  }
}

LedgerHead sample_head() {
  LedgerHead head;
  head.shelf = "x";
  head.set = {2, 1};
  head.kind = SetKind::kIncremental;
  head.based_on = SetId{2, 0};
  head.roots = {{"/home/\xff", true}, {"/srv", false}};
  head.lacking = std::vector<Lacking>{{"home/presenter/\xfe", {1, 4}}, {"", {1, 0}}};
  head.begun = head.started = 1'772'485'200'000'000'000;
  return head;
}

TEST(Ledgers, OutOfOrderAreRefused) {
  std::string head = ledger_head_line(sample_head());
  auto read = [&](const std::string& body) {
    LedgerReader reader(std::make_unique<MemorySource>(std::string_view(head + body)), "ledger");
    LedgerEntry entry;
    int count = 0;
    while (reader.next(entry)) ++count;
    return count;
  };
  std::string a = ledger_line(file_line("a", "1", 0)), ax = ledger_line(file_line("a/x", "2", 0)),
              ab = ledger_line(file_line("a-b", "3", 0));
  std::string dead = dead_line({512, "a", DeadEntry::Why::kCut}),
              later = dead_line({1024, "a", DeadEntry::Why::kChanged});
  auto foot = [](std::uint64_t lines, std::uint64_t dead_lines) {
    return ledger_foot_line({lines, dead_lines, {}, {}, "because"});
  };
  EXPECT_EQ(read(a + ax + ab + foot(3, 0)), 3);
  EXPECT_EQ(read(a + dead + later + foot(1, 2)), 1);
  EXPECT_EQ(read(foot(0, 0)), 0);
  EXPECT_THROW(read(a + ab + ax + foot(3, 0)), Error);
  EXPECT_THROW(read(a + a + foot(2, 0)), Error);
  EXPECT_THROW(read(a + "{\"path\":"), Error);
  EXPECT_THROW(read(a), Error) << "no foot";
  EXPECT_THROW(read(a + foot(2, 0)), Error) << "a line went missing";
  EXPECT_THROW(read(a + dead + foot(1, 0)), Error);
  EXPECT_THROW(read(a + later + dead + foot(1, 2)), Error);
  EXPECT_THROW(read(a + dead + ax + foot(2, 1)), Error);
  EXPECT_THROW(read(a + foot(1, 0) + ab), Error) << "something behind the foot";
  EXPECT_THROW(read(a + "\n" + foot(1, 0)), Error) << "an empty line";
  std::string crlf = a;
  crlf.insert(crlf.size() - 1, "\r");
  EXPECT_THROW(read(crlf + foot(1, 0)), Error);
}

TEST(Ledgers, HeadsComeBackAsTheyWere) {
  LedgerHead head = sample_head();
  LedgerHead found = parse_ledger_head(ledger_head_line(head), "ledger");
  EXPECT_EQ(found.roots, head.roots);
  EXPECT_EQ(found.lacking, head.lacking);
  EXPECT_EQ(found.based_on, head.based_on);
  EXPECT_EQ(found.started, head.started);
  head.lacking.reset();
  EXPECT_FALSE(parse_ledger_head(ledger_head_line(head), "ledger").lacking) << "not known";
  std::string needy = ledger_head_line(head);
  needy.replace(needy.find("\"needs\":[]"), 10, "\"needs\":[\"ranges\"]");
  try {
    parse_ledger_head(needy, "ledger");
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_TRUE(error.newer());
  }
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
  seal.ledger_copy = "ledger-copy.jsonl.zst.age";
  seal.ledger_bytes = 3'000'000;
  seal.blocks_bytes = (1 + 1 + 3) * 32;
  seal.number = 17;
  seal.recipient = Identity::generate().recipient();
  seal.base_seal = Digest{};
  return seal;
}

TEST(Seals, ComeBackAsTheyWere) {
  Seal seal = sample_seal();
  seal.totals.copied = 12;
  Seal found = Seal::parse(seal.to_json(), "seal.json");
  EXPECT_EQ(found.to_json(), seal.to_json());
  EXPECT_EQ(found.totals.copied, 12U);
  EXPECT_EQ(found.recipient, seal.recipient);
  EXPECT_EQ(found.parts.size(), 2U);
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
                          {"\"number\": 17", "\"number\": 0"},
                          {"\"bytes\": 160", "\"bytes\": 128"},
                          {"\"role\": \"blocks\"", "\"role\": \"other\""},
                          {"\"role\": \"ledger\"", "\"role\": \"other\""},
                          {"\"name\": \"blocks\"", "\"name\": \"ledger.jsonl.zst.age\""},
                          {"\"recipient\": \"age1", "\"recipient\": \"bge1"},
                          {"\"version\": 2", "\"version\": 3"},
                          {"\"format\": \"kestrum-seal\"", "\"format\": \"other\""}}) {
    std::string text = good;
    text.replace(text.find(from), std::string(from).size(), to);
    EXPECT_THROW(Seal::parse(text, "seal.json"), Error) << to;
  }
}

}  // namespace
}  // namespace kestrum
