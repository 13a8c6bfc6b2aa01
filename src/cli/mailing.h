// Telling by mail how jobs stand, after runs and where none took place.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "context.h"
#include "kestrum/job/job.h"
#include "kestrum/machine/run_report.h"
#include "kestrum/mail/message.h"

namespace kestrum::cli {

// Whoever wants to know of these runs, and of how `jobs` stand; nothing: all jobs of this PC. What
// waits from before goes out as well. Takes at most 15 seconds and never throws: what cannot be
// sent is told, kept, and tried again.
void mail_about(const Context& context, const std::vector<RunReport>& reports,
                const std::optional<std::vector<std::string>>& jobs);

// Why nobody will be told of a job that names addresses; nothing if they will, or it names none.
std::optional<std::string> why_no_mail(const Home& home, const Job& job);

// Sends one now, at somebody's wish. Throws Error(kUsage) without mail.toml, Error(kFailed) if it
// is refused.
void mail_now(const Context& context, MailMessage message);

}  // namespace kestrum::cli
