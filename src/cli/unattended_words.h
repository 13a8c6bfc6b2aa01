// What will not work when nobody types: tried, and told.
#pragma once

#include <string>
#include <vector>

#include "context.h"
#include "kestrum/system/unattended.h"

namespace kestrum::cli {

// Of one job, by the environment that a timer or cron gives it here.
std::vector<UnattendedProblem> unattended_problems(const Context& context, const Job& job);

// Of all jobs, and of what they share: that the program finds them, and that the mail server lets
// us in. A line each.
std::vector<std::string> all_unattended_problems(const Context& context);

// Why the server of mail.toml cannot be had; empty if it can, or none is named.
std::string why_no_mail_server(const Context& context);

}  // namespace kestrum::cli
