#include "kestrum/restore/target_mapping.h"

#include <gtest/gtest.h>

#include <set>

#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

TEST(FlatNames, NeverMeetARealNameOfAnotherFile) {
  TempFolder folder;
  RestoreRequest request;
  request.to = folder.path();
  request.layout = Layout::kFlat;
  const std::vector<std::string> paths = {"x/a.ods",     "y/a.ods",     "z/a (2).ods", "w/a.ods",
                                          "v/a (2).ods", "u/a (3).ods", "t/a.ods"};
  // In whatever order the files come.
  for (std::size_t first = 0; first < paths.size(); ++first) {
    TargetMapping mapping(request, "", {}, "2026-03-02-2100");
    std::set<std::string> shown;
    for (std::size_t i = 0; i < paths.size(); ++i) {
      shown.insert(mapping.of(paths[(first + i) % paths.size()])->shown);
    }
    EXPECT_EQ(shown.size(), paths.size());
    EXPECT_TRUE(shown.contains(folder / "a.ods"));
    EXPECT_EQ(mapping.of(paths[0])->shown, mapping.of(paths[0])->shown) << "asked again";
  }
}

}  // namespace
}  // namespace kestrum::test
