#include "man_page.h"

#include <fmt/format.h>

#include "command.h"
#include "kestrum/base/text.h"

namespace kestrum::cli {
namespace {

// Text between requests of man(7): no line begins with a dot or a quote, and a hyphen can be
// pasted.
std::string roff(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    bool line_begins = i == 0 || text[i - 1] == '\n';
    if (line_begins && (text[i] == '.' || text[i] == '\'')) out += "\\&";
    if (text[i] == '\\') {
      out += "\\e";
    } else if (text[i] == '-') {
      out += "\\-";
    } else {
      out += text[i];
    }
  }
  return out;
}

std::string option_entries(const std::vector<OptionSpec>& options) {
  std::string out;
  for (const OptionSpec& option : options) {
    out += fmt::format(".TP\n.B \\-\\-{}{}\n{}\n", roff(option.name),
                       option.value.empty() ? "" : "\\fR \\fI" + roff(option.value),
                       roff(option.help));
  }
  return out;
}

}  // namespace

std::string man_page() {
  std::string out =
      ".TH KESTRUM 1 \"\" \"Kestrum " KESTRUM_VERSION
      "\" \"User Commands\"\n"
      ".SH NAME\nkestrum \\- back up folders of this PC to a disk, in chains of encrypted sets\n"
      ".SH SYNOPSIS\n.B kestrum\n.I command\n[\\fINAME\\fR] [\\fIoptions\\fR]\n"
      ".SH DESCRIPTION\n"
      "A job says which folders go to which disk, when, and how long restore points are kept. Its "
      "runs write compressed, encrypted archive sets in full, incremental or differential chains; "
      "old sets are pruned to fit the disk, verified, and chosen files restored.\n"
      ".SH COMMANDS\n";
  for (const Command& command : commands()) {
    out += ".SS " + roff("kestrum " + command.name) + "\n.B " + roff("kestrum " + command.usage) +
           "\n.PP\n" + roff(command.about) + "\n" + option_entries(command.options);
    out += ".PP\nExamples:\n.nf\n";
    for (const auto& example : command.examples) out += ".RS\n" + roff(example) + "\n.RE\n";
    out += ".fi\n";
  }
  out += ".SH OPTIONS OF ALL COMMANDS\n" + option_entries(common_options());
  out +=
      ".SH EXIT STATUS\n"
      "0 done; 1 done with warnings, or differences found; 2 the command line or a job file is "
      "wrong; 3 failed; 4 damage found; 5 destination absent, or another disk; 6 not enough room; "
      "7 "
      "passphrase missing or wrong; 8 job busy; 9 nothing matched; 130 stopped by the user.\n"
      ".SH ENVIRONMENT\n"
      ".TP\n.B KESTRUM_HOME\nwhere jobs and state are\n"
      ".TP\n.B KESTRUM_PASSPHRASE\nthe passphrase, where no file gives it\n"
      ".TP\n.B KESTRUM_NEXT_PASSPHRASE\na new passphrase\n"
      ".TP\n.B NO_COLOR\nif set, no colours\n"
      ".SH FILES\n"
      ".TP\n.I /etc/kestrum/jobs, ~/.config/kestrum/jobs\njob files, of root and of other users\n"
      ".TP\n.I /var/lib/kestrum, ~/.local/state/kestrum\nwhat this PC remembers of its shelves\n"
      ".TP\n.I /usr/share/doc/kestrum\nthe manual, the format, and how to restore by hand\n";
  return out;
}

}  // namespace kestrum::cli
