// Help on what several commands share: schedule phrases, patterns, times, the job file.
#include <fmt/format.h>

#include "command.h"
#include "kestrum/base/text.h"
#include "kestrum/job/job_keys.h"
#include "table.h"

namespace kestrum::cli {
namespace {

std::string prose(const std::string& text) {
  return wrapped(text, kPage.columns, 0) + "\n";
}

std::string pairs(const std::vector<std::pair<const char*, const char*>>& rows) {
  Table table("<w");
  for (const auto& [left, right] : rows) table.add({left, right});
  return table.text(2, kPage);
}

std::string phrases() {
  return prose(
             "When a job runs: schedule.when, --when. Local time. Several phrases may stand side "
             "by "
             "side; an empty list means by hand.\n") +
         pairs({{"every day at 21:00", ""},
                {"every weekday at 12:30", "Monday to Friday"},
                {"every mon, fri at 17:00", ""},
                {"every hour at :26", ""},
                {"every 2 hours", "from midnight on"},
                {"every 30 minutes", ""},
                {"monthly on day 1 at 06:00", ""},
                {"monthly on the last day at 23:00", ""},
                {"monthly on the third tuesday at 08:30", ""},
                {"yearly on 24 dec at 18:00", ""},
                {"once on 2026-12-24 at 18:00", ""},
                {"when files change, at most every 10 minutes", "needs kestrum run --stay"}}) +
         "\nWhen a new full set is due: chain.new_full, --new-full.\n\n" +
         pairs({{"after 13 sets", "of the chain, the full set not counted"},
                {"every sunday", "the first run from each Sunday on"},
                {"every 4 weeks", "also every 10 days, weekly"},
                {"monthly", "the first run of each month"},
                {"never", "one chain for ever"}}) +
         "\nExamples:\n"
         "  kestrum job set front-desk schedule.when 'every weekday at 12:30'\n"
         "  kestrum agenda front-desk --days 14\n";
}

std::string patterns() {
  return prose(
             "Patterns choose files: source.leave_out, --leave-out, PATH of restore, PATTERN of "
             "trace. A PATH that is there as it is typed is meant as it is typed.\n") +
         pairs({{"*.tmp", "without a slash: a name, at any depth"},
                {"*  ?", "any characters, one character; never a slash"},
                {"**", "crosses folders: Letters/**/draft.odt"},
                {"[a-z]  [!0-9]", "one of a class, or none of it"},
                {"/home/*/Mail", "with a leading slash: from the top"},
                {"Letters/*.odt", "any other slash: the tail of a path"},
                {"\\*", "a backslash takes the meaning of what follows"}}) +
         prose(
             "\nA folder that matches means all that is below it. In a shell, put patterns in "
             "quotes.") +
         "\nExamples:\n"
         "  kestrum forecast front-desk --why ~/Documents/draft.tmp\n"
         "  kestrum restore front-desk 'Letters/*.odt' --to ~/back\n";
}

std::string times() {
  return prose("TIME chooses a restore point: the last one not later than what is said.\n") +
         pairs({{"2026-03-14", "the last one of that day"},
                {"\"2026-03-14 21:00\"", "of that minute or before"},
                {"2026-03", "the last one of that month"},
                {"yesterday, today", "also \"yesterday 17:00\""},
                {"monday, tue", "the last such day, today counted"},
                {"\"last tuesday\"", "before today"},
                {"\"last week\", \"last month\"", "the last one in it; weeks end on Sunday"},
                {"\"3 days ago\"", "also hours, weeks, months, years"},
                {"c3-7", "that very set"},
                {"newest, oldest", ""},
                {"last-seen", "for each path the newest point that holds it"}}) +
         prose(
             "\nBehind --changed-after and --changed-before it means the beginning of that day or "
             "month. "
             "Behind --until it looks ahead: friday, tomorrow, \"in 2 weeks\".") +
         "\nExamples:\n"
         "  kestrum look front-desk ~/Documents --point 'last friday'\n"
         "  kestrum trace front-desk '*.odt' --changed-after 'last week'\n";
}

std::string job_file() {
  std::string out = prose(
      "<home>/jobs/NAME.toml; every key has the default shown. `job edit` opens it, `job set` "
      "changes "
      "one key; comments and order stay.");
  std::string section = "-";
  Table table("<w");
  auto flush = [&] {
    out += table.text(2, kPage);
    table = Table("<w");
  };
  for (const JobKey& key : job_keys()) {
    if (key.section != section) {
      flush();
      section = key.section;
      out += section.empty() ? "\n" : "\n[" + section + "]\n";
    }
    std::string value = printable(toml_text(key.default_value));
    table.add({key.name + " = " + value, key.comment});
  }
  flush();
  out += prose(
             "\nWhere mail_to names somebody, <home>/mail.toml (mode 0600) says how mail goes out, "
             "for "
             "all jobs:\n") +
         "\n  server = \"smtp://mail.example.org:587\"   # or \"smtps://mail.example.org:465\"\n"
         "  from = \"backups@example.org\"\n"
         "  user = \"backups\"\n"
         "  password_from = \"/etc/kestrum/mail.password\"\n";
  return out +
         "\nExamples:\n  kestrum job show front-desk\n  kestrum job check\n"
         "  kestrum report --try-mail\n";
}

std::string places() {
  return prose(
             "Where shelves are kept: destination.places, --to. Folders of disks and of shares "
             "that are mounted, and addresses of servers.\n") +
         pairs({{"/media/blue-disk", "a folder; mount shares of NFS and SMB, and name that"},
                {"sftp://user@host/path", "SSH; path from the server's root on; host:2222"},
                {"webdavs://user@host/path", "WebDAV over TLS"},
                {"ftps://user@host/path", "FTP over TLS; port 990: TLS from the first byte on"}}) +
         prose(
             "\nSFTP uses the keys in ~/.ssh (ed25519, ECDSA or RSA; one with a passphrase through "
             "an ssh agent) and ~/.ssh/known_hosts: shelf start shows the key of a host that is "
             "not known, and asks. All else stands in places.toml beside jobs/, readable by you "
             "alone (chmod 600), with a table for each host:\n") +
         "\n  [\"backup.example.org\"]\n"
         "  user = \"front-desk\"\n"
         "  key = \"/etc/kestrum/backup.key\"\n"
         "  password_from = \"/etc/kestrum/backup.password\"\n"
         "  known_hosts = \"/etc/kestrum/known_hosts\"\n"
         "  ca = \"/etc/kestrum/ca.pem\"\n" +
         prose(
             "\nOne PC at a time writes to a shelf there (exit 8). An account that may not delete "
             "will do, and is what malware cannot misuse: docs/manual.md, Places on servers.\n") +
         "\nExamples:\n"
         "  kestrum job new front-desk --from ~/Documents --to "
         "sftp://front-desk@backup.example.org/shelves\n"
         "  kestrum job set front-desk after_run.verify sizes\n";
}

}  // namespace

std::optional<std::string> help_on_topic(const std::string& topic) {
  if (topic == "phrases") return phrases();
  if (topic == "patterns") return patterns();
  if (topic == "times") return times();
  if (topic == "places") return places();
  if (topic == "job-file") return job_file();
  return std::nullopt;
}

}  // namespace kestrum::cli
