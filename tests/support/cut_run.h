// A run that something happens to in its middle, by what it has taken note of and not by the clock.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "support/program.h"

namespace kestrum::test {

// How many parts of the set under way the desk's PC has taken note of: those that a run after it
// can go on with. That the file of a part is there says less.
std::size_t parts_kept(Desk& desk);

// Starts a run of the job with an effort.limit that makes it last, does something once a condition
// comes true, and gives its end. The job is as before then. Fails the test if the run ends before.
Ran run_until(Desk& desk, const std::string& limit, const std::function<bool()>& condition,
              const std::function<void(const Background&)>& what,
              const std::vector<std::string>& options = {});
// Sends it a signal once so many parts are kept.
Ran cut_run(Desk& desk, const std::string& limit, std::size_t parts, int signal,
            const std::vector<std::string>& options = {});

}  // namespace kestrum::test
