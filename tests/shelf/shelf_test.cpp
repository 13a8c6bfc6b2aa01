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

LedgerEntry ranged_line() {
  LedgerEntry line = file_line("image", std::string(1000, 'x'), 0);
  line.tar_offset.reset();
  line.ranges = {{300, false, SetId{1, 0}, 512, 0},
                 {200, true, std::nullopt, 0, 0},
                 {500, false, std::nullopt, 4096, 100}};
  return line;
}

TEST(LedgerLines, SayWhereContentLiesPieceByPiece) {
  LedgerEntry line = ranged_line();
  std::string text = ledger_line(line);
  EXPECT_NE(text.find(R"("ranges":[[300,512,0,"c1-0"],[200],[500,4096,100]])"), std::string::npos)
      << text;
  EXPECT_EQ(entry_of(text).ranges, line.ranges);
  auto with = [&](const std::string& ranges) {
    std::string changed = text;
    std::size_t at = changed.find("\"ranges\":") + 9;
    return changed.replace(at, changed.size() - 2 - at, ranges);
  };
  EXPECT_NO_THROW(entry_of(with("[[1000]]")));
  for (const char* bad : {"[]", "[[999]]", "[[1001]]", "[[1000],[0]]", "[[1000,5]]",
                          "[[1000,5,6,7]]", "[[1000,5,6,\"c1-0\",7]]", "[[1000,-5,6]]",
                          "[[1000,1e3,6]]", "[1000]", "{}", "\"\"", "[[1000,5,6,\"elsewhere\"]]",
                          "[[18446744073709551615],[1001]]", "[[1000,9223372036854775808,0]]"}) {
    EXPECT_THROW(entry_of(with(bad)), Error) << bad;
  }
  EXPECT_THROW(entry_of(with("[[1000]],\"at\":{\"offset\":0}")), Error) << "both";
}

StretchList sample_list(std::uint64_t entry, std::uint64_t from, std::uint64_t at) {
  StretchList list{entry, from, at, {}, ".kestrum-x/000000001"};
  for (std::uint32_t length : {40'000U, 131'072U}) {
    list.stretches.push_back({length, stretch_digest(as_bytes(std::to_string(length + entry)))});
  }
  return list;
}

TEST(LedgerLines, ListStretches) {
  StretchList list = sample_list(512, 0, 90'000);
  LedgerLine line;
  parse_ledger_line(stretches_line(list), "ledger", line);
  EXPECT_EQ(line.kind, LedgerLine::Kind::kStretches);
  EXPECT_EQ(line.list, list);
  std::string text = stretches_line(list);
  for (auto [from, to] :
       {std::pair("[40000,", "[0,"), std::pair("131072", "131073"), std::pair("40000,", ""),
        std::pair("\"lengths\":[", "\"lengths\":[1,"), std::pair("\"from\":0", "\"from\":-1"),
        std::pair("\"digests\":\"", "\"digests\":\"A")}) {
    std::string bad = text;
    ASSERT_NE(bad.find(from), std::string::npos) << from;
    bad.replace(bad.find(from), std::string(from).size(), to);
    EXPECT_THROW(parse_ledger_line(bad, "ledger", line), Error) << bad;
  }
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
  const char* text = R"({"path":"a","type":"hardlink","target":"b"})";
  try {
    entry_of(text);
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_TRUE(error.newer());
    EXPECT_NE(error.kind(), ErrorKind::kDamage);
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

TEST(Ledgers, ListStretchesBehindTheLinesAndInOrder) {
  std::string head = ledger_head_line(sample_head());
  std::string line = ledger_line(ranged_line()), first = stretches_line(sample_list(512, 0, 0)),
              on = stretches_line(sample_list(512, 171'072, 200'000)),
              next = stretches_line(sample_list(4096, 0, 0)),
              dead = dead_line({512, "a", DeadEntry::Why::kCut});
  auto read = [&](const std::string& body, std::uint64_t lists, std::uint64_t dead_lines = 0) {
    LedgerFoot counts{1, dead_lines, {}, {}, ""};
    counts.lists = lists;
    LedgerReader reader(
        std::make_unique<MemorySource>(std::string_view(head + body + ledger_foot_line(counts))),
        "ledger");
    std::uint64_t found = 0;
    reader.on_list([&](const StretchList&) { ++found; });
    LedgerEntry entry;
    while (reader.next(entry)) continue;
    return found;
  };
  EXPECT_EQ(read(line + first + on + next + dead, 3, 1), 3U);
  EXPECT_THROW(read(line + first + on, 1), Error) << "the foot counts fewer";
  EXPECT_THROW(read(line + on, 1), Error) << "not from its beginning";
  EXPECT_THROW(read(line + first + next + on, 3), Error);
  EXPECT_THROW(read(line + first + first, 2), Error);
  EXPECT_THROW(read(line + dead + first, 1, 1), Error);
  EXPECT_THROW(read(first + line, 1), Error);
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
  needy.replace(needy.find("\"needs\":[]"), 10, "\"needs\":[\"ranges\",\"more\"]");
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

TEST(Seals, SayOnWhichDiskEachPartLies) {
  Seal seal = sample_seal();
  for (PartInfo& part : seal.parts) part.disk = 0;
  EXPECT_EQ(seal.to_json().find("\"disk\""), std::string::npos) << "all of them lie here";
  seal.disks = {{0, "blue-disk"}, {2, "green-disk"}};
  seal.parts.back().disk = 2;
  Seal found = Seal::parse(seal.to_json(), "seal.json");
  EXPECT_EQ(found.disks, seal.disks);
  EXPECT_EQ(found.parts.front().disk, seal.parts.front().disk);
  EXPECT_EQ(found.parts.back().disk, 2U);
  seal.parts.back().disk = 1;  // which it does not name
  EXPECT_THROW(Seal::parse(seal.to_json(), "seal.json"), Error);
  seal.parts.back().disk.reset();
  EXPECT_THROW(Seal::parse(seal.to_json(), "seal.json"), Error);
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
