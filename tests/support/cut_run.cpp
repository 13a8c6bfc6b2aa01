#include "support/cut_run.h"

#include <gtest/gtest.h>

#include "kestrum/base/file.h"
#include "kestrum/job/edit_key.h"
#include "kestrum/machine/index.h"

namespace kestrum::test {

std::size_t parts_kept(Desk& desk) {
  std::string copy = desk.copy_index();
  if (!path_exists(copy)) return 0;
  try {
    auto set = Index(copy).begun();
    return set ? set->parts.size() : 0;
  } catch (const std::exception&) {  // copied while it was written
    return 0;
  }
}

Ran run_until(Desk& desk, const std::string& limit, const std::function<bool()>& condition,
              const std::function<void(const Background&)>& what,
              const std::vector<std::string>& options) {
  std::string path = desk.folder / "home/jobs/desk.toml";
  std::string job = read_file(path);
  write_file(path, edit_key(job, "effort.limit", limit));
  std::vector<std::string> words = desk.program;
  words.insert(words.end(), {"run", "desk"});
  words.insert(words.end(), options.begin(), options.end());
  Background run(words, desk.environment);
  EXPECT_TRUE(eventually([&] { return run.has_ended() || condition(); }, 60)) << run.output();
  EXPECT_FALSE(run.has_ended()) << run.output();
  what(run);
  Ran ran = run.wait();
  write_file(path, job);
  return ran;
}

Ran cut_run(Desk& desk, const std::string& limit, std::size_t parts, int signal,
            const std::vector<std::string>& options) {
  return run_until(
      desk, limit, [&] { return parts_kept(desk) >= parts; },
      [&](const Background& run) { run.signal(signal); }, options);
}

}  // namespace kestrum::test
