#include <gtest/gtest.h>
#include <sys/stat.h>

#include <algorithm>
#include <filesystem>

#include "kestrum/base/error.h"
#include "kestrum/select/path_order.h"
#include "kestrum/select/pattern.h"
#include "kestrum/select/walk.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

TEST(PathOrder, AFolderIsFollowedByWhatIsInIt) {
  const std::vector<std::string> ordered = {"",    "a",   "a/b", "a/b/c", "a/z", "a\x01",
                                            "a b", "a-b", "a.b", "a0",    "b"};
  for (std::size_t i = 0; i < ordered.size(); ++i) {
    for (std::size_t j = 0; j < ordered.size(); ++j) {
      int expected = i < j ? -1 : i > j ? 1 : 0;
      auto sign = [](int v) { return v < 0 ? -1 : v > 0 ? 1 : 0; };
      EXPECT_EQ(sign(compare_paths(ordered[i], ordered[j])), expected)
          << ordered[i] << " " << ordered[j];
      EXPECT_EQ(sign(path_key(ordered[i]).compare(path_key(ordered[j]))), expected);
    }
    EXPECT_EQ(path_from_key(path_key(ordered[i])), ordered[i]);
  }
}

TEST(Patterns, StandForAPathAsItIsWithItsOwnWildcards) {
  for (const char* path : {"/home/photos [2019]", "/a*b", "/what?", "/back\\slash", "/plain"}) {
    std::string pattern = pattern_of_path(path);
    EXPECT_FALSE(has_wildcard(pattern)) << pattern;
    EXPECT_EQ(path_of_pattern(pattern), path);
    EXPECT_EQ(expand_pattern(pattern), std::vector<std::string>{path});
  }
  EXPECT_TRUE(has_wildcard("/a\\[b]*"));
}

TEST(Patterns, MeanWhatTheManualSays) {
  struct PatternCase {
    const char* pattern;
    const char* path;
    bool matches;
  };
  const std::vector<PatternCase> cases = {{"*.tmp", "home/a.tmp", true},
                                          {"*.tmp", "home/a.tmp.txt", false},
                                          {"*.tmp", "home/x.tmp/inside", true},
                                          {"rota", "home/rota", true},
                                          {"rota", "home/rota.ods", false},
                                          {"/home/*", "home/a", true},
                                          {"/home/*", "srv/home/a", false},
                                          {"/home/*", "home/a/b", true},
                                          {"Mail/inbox", "home/Mail/inbox", true},
                                          {"Mail/inbox", "home/eMail/inbox", false},
                                          {"a?c", "abc", true},
                                          {"a?c", "a/c", false},
                                          {"a?c",
                                           "a\xc3\xa9"
                                           "c",
                                           true},
                                          {"a*c", "a/c", false},
                                          {"a**c", "a/b/c", true},
                                          {"/a/**/z", "a/z", true},
                                          {"/a/**/z", "a/b/c/z", true},
                                          {"/a/**", "a/b", true},
                                          {"[a-c]x", "bx", true},
                                          {"[!a-c]x", "bx", false},
                                          {"[!a-c]x", "dx", true},
                                          {"[\xc3\xa9z]x", "\xc3\xa9x", true},
                                          {"[x", "[x", true},
                                          {"\\*", "*", true},
                                          {"\\*", "a", false},
                                          {"a,b", "a,b", true},
                                          {"new\nline", "new\nline", true},
                                          {"Documents/", "home/Documents/a", true},
                                          {"$(x)", "$(x)", true},
                                          {"\xff", "\xff", true}};
  for (const PatternCase& c : cases) {
    PatternSet set({c.pattern});
    EXPECT_EQ(set.match(c.path).has_value(), c.matches) << c.pattern << " and " << c.path;
  }
  PatternSet several({"*.tmp", "*.bak"});
  EXPECT_EQ(several.match("a.bak"), 1U);
  EXPECT_THROW(PatternSet({""}), Error);
  EXPECT_THROW(PatternSet({"/"}), Error);
}

TEST(Folders, AreToldOnceAndInPathOrder) {
  EXPECT_EQ(in_path_order({"/b", "/a/x", "/a", "/a-b", "/a"}),
            (std::vector<std::string>{"/a", "/a/x", "/a-b", "/b"}));
}

class Walks : public testing::Test {
 protected:
  std::vector<WalkEvent> walk(SelectionRules rules, std::vector<std::string> roots) {
    Selection selection(std::move(rules), {});
    Walk walk(std::move(roots), selection);
    std::vector<WalkEvent> events;
    WalkEvent event;
    while (walk.next(event)) {
      if (event.kind == WalkEvent::Kind::kPassage) ++passages;
      // Those above the folder of the test are no concern of it.
      if (is_within(event.path, folder.path().substr(1))) events.push_back(event);
    }
    return events;
  }
  // "name", with the kind before it where it is not simply taken.
  std::vector<std::string> names(SelectionRules rules, std::vector<std::string> roots) {
    std::vector<std::string> names;
    for (const WalkEvent& event : walk(std::move(rules), std::move(roots))) {
      std::string name = event.path.substr(std::min(event.path.size(), folder.path().size()));
      names.push_back((event.kind == WalkEvent::Kind::kPassage   ? "through "
                       : event.kind == WalkEvent::Kind::kLeftOut ? "not "
                       : event.kind == WalkEvent::Kind::kUnknown ? "unknown "
                                                                 : "") +
                      name + (event.is_root ? "!" : ""));
    }
    return names;
  }

  test::TempFolder folder;
  std::size_t passages = 0;
};

using Names = std::vector<std::string>;

TEST_F(Walks, ARootWithinAnotherIsTakenWhateverTheRulesSay) {
  test::put_file(folder / "a/skip/keep/x", "1");
  test::put_file(folder / "a/skip/other", "1");
  test::put_file(folder / "a/.cache/tool/y", "1");
  test::put_file(folder / "a/z", "1");
  SelectionRules rules;
  rules.leave_out = {"skip"};
  EXPECT_EQ(names(rules, {folder / "a", folder / "a/skip/keep", folder / "a/.cache/tool"}),
            (Names{"through ", "a!", "through a/.cache", "a/.cache/tool!", "a/.cache/tool/y",
                   "through a/skip", "a/skip/keep!", "a/skip/keep/x", "a/z"}));
  EXPECT_EQ(names(rules, {folder / "a/skip/keep"}),
            (Names{"through ", "through a", "through a/skip", "a/skip/keep!", "a/skip/keep/x"}));
  rules.leave_out = {"skip", "x"};
  EXPECT_EQ(names(rules, {folder / "a/skip/keep"}).back(), "not a/skip/keep/x");
}

TEST_F(Walks, ARootWithinAnotherThatIsNotThereIsUnknown) {
  test::put_file(folder / "a/b", "1");
  test::put_file(folder / "a/z", "1");
  EXPECT_EQ(names({}, {folder / "a", folder / "a/m/n", folder / "a/b/c"}),
            (Names{"through ", "a!", "a/b", "unknown a/b/c!", "unknown a/m/n!", "a/z"}));
}

TEST_F(Walks, GoInPathOrderAndSayWhatIsLeftOut) {
  test::put_file(folder / "a/x", "1");
  test::put_file(folder / "a-b", "22");
  test::put_file(folder / "a/skip.tmp", "333");
  std::filesystem::create_directory(folder / "empty");
  auto events = walk({}, {folder.path()});
  ASSERT_EQ(events.size(), 6U);
  for (std::size_t i = 1; i < events.size(); ++i) {
    EXPECT_LT(compare_paths(events[i - 1].path, events[i].path), 0);
  }
  EXPECT_EQ(events[2].kind, WalkEvent::Kind::kLeftOut);
  EXPECT_EQ(events[2].rule, Rule::kLitter);
  EXPECT_TRUE(events[5].empty);
  EXPECT_TRUE(events[0].is_root);
}

TEST_F(Walks, AMissingRootIsUnknownNotEmpty) {
  auto events = walk({}, {folder / "nowhere"});
  ASSERT_EQ(events.size(), 2U);
  EXPECT_EQ(events[0].kind, WalkEvent::Kind::kPassage);
  EXPECT_EQ(events[1].kind, WalkEvent::Kind::kUnknown);
  EXPECT_EQ(events[1].error, ENOENT);
  EXPECT_GT(passages, 0U);
}

TEST_F(Walks, FiltersTakeWhatFulfilsThem) {
  test::put_file(folder / "song.flac", std::string(5000, 'x'));
  test::put_file(folder / "letter.odt", std::string(5000, 'x'));
  test::put_file(folder / "short.odt", "x");
  SelectionRules rules;
  rules.only = {"documents"};
  rules.bigger_than = 100;
  std::map<std::string, Rule> found;
  for (const auto& event : walk(rules, {folder.path()}))
    found[event.path.substr(event.path.rfind('/') + 1)] = event.rule;
  EXPECT_EQ(found["song.flac"], Rule::kOnly);
  EXPECT_EQ(found["short.odt"], Rule::kBiggerThan);
  EXPECT_EQ(found["letter.odt"], Rule::kTaken);
  rules.only = {"docments"};
  EXPECT_THROW(walk(rules, {folder.path()}), Error);
}

}  // namespace
}  // namespace kestrum
