// The table of commands, and the help that is made from it.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "command.h"
#include "table.h"

namespace kestrum::cli {

const std::vector<Command>& commands() {
  static const std::vector<Command> kCommands = {
      {"job new",
       "job new NAME --from PATH [--from PATH]... --to PLACE [options]",
       "define a job; asks for what is missing on a terminal",
       "Defines a job: which folders, where to, when, what kind of chain. On a terminal it asks "
       "for\n"
       "what is missing. If the disk is there, its shelf is started; a protected job asks for a "
       "new\n"
       "passphrase, twice.",
       {{"from", "PATH", "folder to copy, may be a pattern such as /home/*/Documents", true},
        {"to", "PLACE", "folder on the backup disk; several for disks in rotation", true},
        {"leave-out", "PATTERN", "what not to copy, such as '*.tmp'", true},
        {"only", "CATEGORY", "file categories; kestrum job categories lists them", true},
        {"when", "PHRASE", "when to run, such as 'every day at 21:00'", true},
        {"if-missed", "WHAT", "'next chance' or skip"},
        {"kind", "KIND", "what follows a full set: incremental, differential or full"},
        {"new-full", "RULE", "when a new full set is due: 'after 13 incrementals', 'every sunday'"},
        {"keep-for", "TIME", "restore points younger than this stay: '14 days'"},
        {"keep-chains", "N", "so many complete chains stay"},
        {"at-most", "SIZE", "size of the shelf"},
        {"leave-free", "SHARE", "room that stays free on the disk: 5%"},
        {"level", "LEVEL", "compression: fast, normal, small or off"},
        {"part-size", "SIZE", "largest file of a set: 1 GB"},
        {"protection", "MODE", "passphrase (encrypted) or none"},
        {"when-full", "WHAT", "prune, stop or 'prune deeper'"},
        {"also-for", "RECIPIENT", "age recipient that can open the shelf too", true},
        {"title", "TEXT", "words for people"},
        {"same-disk", "", "take a place on the system's or a source's own disk"},
        {"new-passphrase-file", "FILE", "read the new passphrase from FILE"}},
       {"kestrum job new front-desk --from ~/Documents --from ~/Mail --to /media/blue-disk",
        "kestrum job new studio --from /srv/studio --to /media/red-disk --leave-out '*.tmp'",
        "kestrum job new pictures --from ~/Pictures --to /mnt/nas --protection none"},
       job_new},
      {"job list",
       "job list",
       "the jobs of this PC",
       "Lists the jobs with what they copy and where to.",
       {},
       {"kestrum job list"},
       job_list},
      {"job show",
       "job show NAME",
       "a job, every key of it",
       "Prints every key of the job's file; those that differ from the default are marked with "
       "'*'.",
       {},
       {"kestrum job show front-desk"},
       job_show},
      {"job check",
       "job check [NAME]",
       "whether job files are right",
       "Reads the job's file (all of them without NAME) and names every key that is wrong or "
       "unwise,\n"
       "and looks whether the folders and the disk are there.",
       {},
       {"kestrum job check", "kestrum job check front-desk"},
       job_check},
      {"job categories",
       "job categories",
       "the file categories of `only`",
       "Lists the categories and the file name extensions that belong to them.",
       {},
       {"kestrum job categories"},
       job_categories},
      {"job edit",
       "job edit NAME",
       "change a job in your editor",
       "Opens the job's file in $VISUAL or $EDITOR and saves it only if it is right.",
       {},
       {"kestrum job edit front-desk", "EDITOR=nano kestrum job edit front-desk"},
       job_edit},
      {"job copy",
       "job copy NAME NEW",
       "a new job like another",
       "Copies the definition; the new job has no shelf and no runs yet.",
       {},
       {"kestrum job copy front-desk mail"},
       job_copy},
      {"job rename",
       "job rename NAME NEW",
       "another name for a job",
       "Its sets, its shelf's folder on the disk and its history stay.",
       {},
       {"kestrum job rename front-desk reception"},
       job_rename},
      {"job pause",
       "job pause NAME [--until DATE]",
       "do not run it by its schedule",
       "Times that fall into the pause are let go. By hand the job still runs.",
       {{"until", "DATE", "go on by itself from then on"}},
       {"kestrum job pause studio", "kestrum job pause studio --until 2026-04-01"},
       job_pause},
      {"job resume",
       "job resume NAME",
       "end a pause",
       "The job runs by its schedule again, from the next time on.",
       {},
       {"kestrum job resume studio"},
       job_resume},
      {"job remove",
       "job remove NAME [--with-sets]",
       "forget a job; its sets stay",
       "Removes the job, its history and what this PC knows of its shelf. The sets stay on the "
       "disk\n"
       "and open with the passphrase. --with-sets deletes them too and asks for the job's name.",
       {{"with-sets", "", "delete the backups as well"}},
       {"kestrum job remove studio", "kestrum job remove studio --with-sets"},
       job_remove},
      {"job take",
       "job take FILE.toml",
       "define a job from a file",
       "Checks a job file, makes it this PC's job of that name and starts its shelf if the disk "
       "is\n"
       "there. Safe to repeat: how one job is rolled out to many PCs.",
       {{"same-disk", "", "take a place on the system's or a source's own disk"},
        {"new-passphrase-file", "FILE", "read the new passphrase from FILE"}},
       {"kestrum job take /mnt/share/front-desk.toml",
        "kestrum job take front-desk.toml --new-passphrase-file key.txt"},
       job_take},
      {"shelf start",
       "shelf start NAME [--at PLACE]",
       "put a job's shelf on a (new) disk",
       "Makes the folder <place>/<host>/<job> that the job's sets go to. Without --at: at the "
       "first\n"
       "of the job's places that is there and has none yet.",
       {{"at", "PLACE", "one of the job's places"},
        {"same-disk", "", "take a place on the system's or a source's own disk"},
        {"new-passphrase-file", "FILE", "read the new passphrase from FILE"}},
       {"kestrum shelf start front-desk", "kestrum shelf start front-desk --at /media/green-disk"},
       shelf_start},
      {"shelf list",
       "shelf list NAME",
       "the job's disks and what is on each",
       "Lists the places of the job, whether each is plugged in, and the newest set on it.",
       {},
       {"kestrum shelf list front-desk"},
       shelf_list},
      {"forecast",
       "forecast NAME [--files] [--why PATH]",
       "what the next run would copy",
       "Compares the folders with the newest set by names, sizes and times and writes nothing. "
       "Says\n"
       "what would be copied, how large it is, and whether there is room.",
       {{"files", "", "every file, with what would happen to it"},
        {"why", "PATH", "why this path is in or out"},
        {"kind", "KIND", "as if the next set were full, incremental or differential"},
        {"on", "PLACE", "on this disk, of several"}},
       {"kestrum forecast front-desk", "kestrum forecast front-desk --files | grep changed",
        "kestrum forecast front-desk --why ~/Documents/draft.tmp"},
       show_forecast},
      {"run",
       "run NAME... | --all | --due | --stay",
       "back up now, or what is due",
       "Makes the next set of each job: full the first time, then what the job says. A run that "
       "ends\n"
       "with warnings (files that could not be read) exits with 1 and has still made a set.",
       {{"all", "", "every job"},
        {"due", "", "what is due by the schedule, then end: for timers and cron"},
        {"stay", "", "stay, follow the schedule and jobs that run when files change"},
        {"kind", "KIND", "full, incremental or differential, this time"},
        {"on", "PLACE", "this disk, of several"},
        {"reread", "", "read every file, whatever its times say"},
        {"no-verify", "", "do not read back what was written"},
        {"accept-empty", "", "a folder that is empty now is meant to be"},
        {"rehearse", "", "only say what it would do"}},
       {"kestrum run front-desk", "kestrum run front-desk studio --kind full",
        "kestrum run --due --quiet"},
       run_jobs},
      {"stop",
       "stop NAME",
       "end a run in order",
       "Asks the run of a job to end and waits until it has. What it wrote is kept: the next run "
       "goes\n"
       "on with it.",
       {},
       {"kestrum stop front-desk"},
       stop_run},
      {"status",
       "status [NAME]",
       "how the jobs stand, worst first",
       "Last run and its outcome, next run, room left, what a job waits for; of one job "
       "everything.",
       {{"probe", "", "one line and exit code 0, 1, 2 or 3, for monitoring"}},
       {"kestrum status", "kestrum status front-desk", "kestrum status --probe"},
       show_status},
      {"history",
       "history NAME [--show RUN]",
       "the record of past runs",
       "Every run: done, failed, stopped, skipped and missed. --show prints the log of one.",
       {{"show", "RUN", "the log of this run, by its number, or newest"}},
       {"kestrum history front-desk", "kestrum history front-desk --show 12"},
       show_history},
      {"agenda",
       "agenda [NAME] [--days N]",
       "what will run when",
       "The runs of the next days (7 if not told) with the kind of set each will make.",
       {{"days", "N", "so many days"}, {"ics", "FILE", "write a calendar file"}},
       {"kestrum agenda", "kestrum agenda front-desk --days 30 --ics backups.ics"},
       show_agenda},
      {"schedule install",
       "schedule install",
       "let jobs run by themselves",
       "Writes a systemd timer, or a line in your crontab where there is no systemd, that calls\n"
       "kestrum run --due every few minutes. Safe to repeat.",
       {{"every", "MINUTES", "how often to look, 5 if not told"},
        {"user", "", "your own timer, not the system's (for root)"},
        {"with", "SYSTEM", "systemd or cron"}},
       {"kestrum schedule install", "kestrum schedule install --with cron --every 10"},
       schedule_install},
      {"schedule show",
       "schedule show",
       "whether jobs run by themselves",
       "Says what calls kestrum run --due on this PC.",
       {{"user", "", "your own timer, not the system's (for root)"},
        {"with", "SYSTEM", "systemd or cron"}},
       {"kestrum schedule show"},
       schedule_show},
      {"schedule remove",
       "schedule remove",
       "jobs run only by hand again",
       "Takes away what schedule install wrote.",
       {{"user", "", "your own timer, not the system's (for root)"},
        {"with", "SYSTEM", "systemd or cron"}},
       {"kestrum schedule remove"},
       schedule_remove},
      {"sets",
       "sets NAME",
       "chains and their sets",
       "Shows the chains on the job's shelf: each set's kind, size and what it depends on.\n"
       "--calendar draws them: one cell a day, what was pruned, which days can be restored.",
       {{"calendar", "FILE.svg", "write a calendar of the sets"}},
       {"kestrum sets front-desk",
        "kestrum sets --shelf /media/blue-disk/front-desk-pc/front-desk"},
       list_sets},
      {"trust",
       "trust NAME SET | --gone-for-good PATH --because TEXT",
       "a suspect set is all right; a folder will not come back",
       "A set is suspect when an unusual share of the files changed, turned into noise or\n"
       "vanished. It is kept, nothing is pruned, and restores take the newest set before it,\n"
       "until somebody has looked and says why it is all right.\n"
       "A folder that is away, or a disk that is not mounted, is waited for: what it held stays\n"
       "restorable, and full sets wait. --gone-for-good says that it will not come back; what was\n"
       "known there counts as deleted from the next run on.",
       {{"gone-for-good", "PATH", "this folder, or the disk that was mounted there"},
        {"because", "TEXT", "why, for whoever reads it next year"},
        {"on", "PLACE", "on this disk, of several"}},
       {"kestrum trust studio c2-4 --because 'last year moved to the archive'",
        "kestrum trust studio --gone-for-good /home/designer --because 'has left'"},
       trust_set},
      {"look",
       "look NAME [PATH] [--as-of TIME]",
       "what a folder held at a restore point",
       "Lists a folder as it was: without --as-of at the newest restore point. TIME is a date, a "
       "date\n"
       "and time, 'yesterday', '3 days ago', 'monday 17:00', newest, oldest, or a set such as "
       "c3-7.",
       {{"as-of", "TIME", "the restore point"},
        {"long", "", "owner and mode as well"},
        {"depth", "N", "so many levels of folders"}},
       {"kestrum look front-desk", "kestrum look front-desk ~/Documents --as-of yesterday",
        "kestrum look front-desk Documents --as-of 2026-03-14 --depth 2"},
       look},
      {"trace",
       "trace NAME PATTERN | --all PATTERN",
       "every version of a file, and in which sets",
       "Looks through every restore point for files that match, newest version first; what was\n"
       "deleted, moved or left out since is there too. A part of a name will do.",
       {{"all", "", "in every job"}, {"ignore-case", "", "rota.ods finds Rota.ODS"}},
       {"kestrum trace front-desk rota.ods", "kestrum trace front-desk 'Letters/*.odt'",
        "kestrum trace --all sponsor"},
       trace_files},
      {"compare",
       "compare NAME [PATH] [--as-of TIME] [--with TIME|now]",
       "what is new, changed, moved or gone",
       "From one restore point (the newest) to another moment (now). Compares content, not times.\n"
       "Exit 1 if there is a difference.",
       {{"as-of", "TIME", "from this restore point"}, {"with", "TIME", "to this one, or now"}},
       {"kestrum compare front-desk", "kestrum compare front-desk Documents --as-of monday",
        "kestrum compare front-desk --as-of c1-0 --with newest"},
       compare_moments},
      {"restore",
       "restore NAME [PATH...] --to DIR | --in-place [--as-of TIME]",
       "get files back",
       "Restores files, folders or patterns (everything, without PATH) from a restore point. The\n"
       "folders that all chosen files share are dropped, so that one file lands as one file. A "
       "file\n"
       "that exists is asked about on a terminal and skipped elsewhere; --clash both puts the old\n"
       "version beside it.",
       {{"to", "DIR", "folder to restore to; -: one file to standard output"},
        {"in-place", "", "where it was"},
        {"everything", "", "the whole source, with --in-place"},
        {"as-of", "TIME", "the restore point; last-seen: the newest that holds each path"},
        {"clash", "WHAT", "ask, skip, replace, both or replace-older"},
        {"layout", "LAYOUT",
         "trimmed (default), full (all folders from / on) or flat (files only)"},
        {"as-tar", "FILE", "into one tar file"},
        {"as-zip", "FILE", "into one zip file"},
        {"protect", "", "encrypt that file (age) with a passphrase of its own"},
        {"new-passphrase-file", "FILE", "read that passphrase from FILE"},
        {"names-in", "FILE", "more PATHs, a line or a NUL each; -: standard input"},
        {"missing", "", "what is not on this PC now, each from the newest set that holds it"},
        {"mirror", "", "a folder exactly as it was; what came later is set aside, with --in-place"},
        {"map", "OLD=NEW", "what lay in OLD goes to NEW", true},
        {"owner", "WHOSE", "names (default), numbers or me"},
        {"receipt", "FILE", "write what was done, for the ticket"},
        {"rehearse", "", "only say what it would do, and the room it needs"}},
       {"kestrum restore front-desk rota.ods --to ~/back --as-of yesterday",
        "kestrum restore front-desk ~/Documents/Letters --in-place --missing",
        "kestrum restore --shelf /media/blue-disk/front-desk-pc/front-desk --to /tmp/all"},
       restore_files},
      {"verify",
       "verify NAME [--contents]",
       "check that the sets are sound",
       "Compares every part, ledger and signature with its seal; needs no passphrase. --contents "
       "also\n"
       "opens the sets and compares each file's digest, and names the files that damage hurts.",
       {{"contents", "", "decrypt and check every file"},
        {"as-of", "TIME", "only this restore point's set and those it is based on"}},
       {"kestrum verify front-desk",
        "kestrum verify front-desk --contents --passphrase-file key.txt"},
       verify_sets},
      {"drill",
       "drill NAME [--files N]",
       "restore random files, compare, throw away",
       "The proof that restores work: files chosen at random from all restore points are restored\n"
       "into a scratch folder, compared by digest and thrown away. `status` remembers it.",
       {{"files", "N", "so many files, 20 if not told"}},
       {"kestrum drill front-desk", "kestrum drill front-desk --files 200"},
       drill_files},
      {"prune",
       "prune NAME [--rehearse]",
       "remove the sets that no promise holds",
       "Says for every set why it stays or goes. A run does the same at its end. --break-promises "
       "goes\n"
       "further than the job promises, until there is the room that is wanted or wished for.",
       {{"rehearse", "", "only say what would go"},
        {"to-free", "SIZE", "so much room is wanted"},
        {"break-promises", "", "give up thin, then for, then chains, as far as it takes"},
        {"clock-is-right", "", "the times of the sets and of this PC are right"},
        {"on", "PLACE", "on this disk, of several"}},
       {"kestrum prune front-desk --rehearse", "kestrum prune front-desk --to-free '20 GB'"},
       prune_sets},
      {"adopt",
       "adopt SHELF [--as NAME] [--look-only] [--map OLD=NEW]...",
       "take over a shelf found on a disk",
       "For a new PC: needs only the disk and the passphrase. Brings in the job (paused, its\n"
       "commands off), becomes the shelf's owner and reads its ledgers; restores work at once and\n"
       "the next run goes on with the chain. --look-only changes nothing.",
       {{"as", "NAME", "the job's name here, if not as it was"},
        {"look-only", "", "say what is there and change nothing"},
        {"map", "OLD=NEW", "the job's folders in OLD are in NEW here", true}},
       {"kestrum adopt /media/blue-disk/old-pc/front-desk --look-only",
        "kestrum adopt /media/blue-disk/old-pc/front-desk --map /home/old=/home/new"},
       adopt},
      {"passphrase",
       "passphrase NAME [--try | --sheet FILE | --new-key]",
       "change it, test it, print the recovery page",
       "Changes the passphrase: the key is wrapped anew, no set is rewritten. --try says whether "
       "a\n"
       "passphrase is right (exit 0) or wrong (7). --sheet writes a page to print: the wrapped\n"
       "identity as text and QR code. --new-key encrypts sets to come to a new key.",
       {{"try", "", "is it the right one?"},
        {"sheet", "FILE.svg", "write the recovery page"},
        {"new-key", "", "a new key from the next set on, which is full"},
        {"new-passphrase-file", "FILE", "read the new passphrase from FILE"}},
       {"kestrum passphrase front-desk", "kestrum passphrase front-desk --try",
        "kestrum passphrase front-desk --sheet front-desk.svg"},
       passphrase},
      {"demo",
       "demo [--into DIR]",
       "the whole story on made-up data",
       "Makes up the desk of a small radio station and goes through a few days with it: define, "
       "run,\n"
       "look, verify, restore. Without --into: in a new folder below /tmp.",
       {{"into", "DIR", "an empty or new folder"}},
       {"kestrum demo", "kestrum demo --into /tmp/kestrum-demo"},
       run_demo},
  };
  return kCommands;
}

const Command* find_command(const std::string& name) {
  const auto& all = commands();
  auto it = std::find_if(all.begin(), all.end(), [&](const Command& c) { return c.name == name; });
  return it == all.end() ? nullptr : &*it;
}

std::string overview() {
  std::string out =
      "Kestrum backs up folders of this PC to a disk: compressed, encrypted, in chains of "
      "sets.\n\n";
  Table table("<<");
  std::string group;
  for (const Command& command : commands()) {
    std::size_t space = command.name.find(' ');
    if (space == std::string::npos) {
      table.add({"kestrum " + command.name, command.summary});
      continue;
    }
    // A group's words share a line or two.
    if (command.name.substr(0, space) == group) continue;
    group = command.name.substr(0, space);
    std::string words, first = "kestrum " + group;
    for (const Command& other : commands()) {
      if (!other.name.starts_with(group + " ")) continue;
      std::string word = other.name.substr(space + 1);
      if (words.size() + word.size() > 64) {
        table.add({first, words + ","});
        first = words = "";
      }
      words += (words.empty() ? "" : ", ") + word;
    }
    table.add({first, words});
  }
  table.add({"kestrum help COMMAND", "help on a command, with examples"});
  out += table.text();
  out +=
      "\nEverywhere: --home DIR, --json, --quiet, --verbose, --yes, --passphrase-file FILE, "
      "--help\n\n"
      "Examples:\n"
      "  kestrum job new front-desk --from ~/Documents --to /media/blue-disk\n"
      "  kestrum run front-desk\n"
      "  kestrum restore front-desk rota.ods --to ~/back --as-of yesterday\n";
  return out;
}

std::string help_on(const Command& command) {
  std::string out = "kestrum " + command.usage + "\n\n" + command.about + "\n";
  auto options = [&](const std::vector<OptionSpec>& list) {
    Table table("<<");
    for (const OptionSpec& option : list) {
      table.add(
          {"--" + option.name + (option.value.empty() ? "" : " " + option.value), option.help});
    }
    return table.text();
  };
  if (!command.options.empty()) out += "\n" + options(command.options);
  out += "\nEverywhere: --home DIR, --json, --quiet, --verbose, --yes, --passphrase-file FILE\n";
  out += "\nExamples:\n";
  for (const auto& example : command.examples) out += "  " + example + "\n";
  return out;
}

std::string other_word(const std::string& word) {
  static const std::map<std::string, std::string> kWords = {{"find", "trace"},
                                                            {"search", "trace"},
                                                            {"versions", "trace"},
                                                            {"diff", "compare"},
                                                            {"ls", "look"},
                                                            {"browse", "look"},
                                                            {"list", "job list"},
                                                            {"backup", "run"},
                                                            {"check", "verify"},
                                                            {"test", "verify"},
                                                            {"start", "run"},
                                                            {"import", "job take"},
                                                            {"new", "job new"},
                                                            {"create", "job new"},
                                                            {"log", "history"},
                                                            {"logs", "history"},
                                                            {"preview", "forecast"},
                                                            {"estimate", "forecast"},
                                                            {"cancel", "stop"},
                                                            {"delete", "job remove"},
                                                            {"edit", "job edit"},
                                                            {"pause", "job pause"},
                                                            {"resume", "job resume"},
                                                            {"rename", "job rename"},
                                                            {"calendar", "agenda"},
                                                            {"cron", "schedule install"},
                                                            {"timer", "schedule install"},
                                                            {"add", "job new"},
                                                            {"jobs", "job list"},
                                                            {"get", "restore"},
                                                            {"recover", "restore"},
                                                            {"extract", "restore"},
                                                            {"snapshots", "sets"},
                                                            {"chains", "sets"},
                                                            {"init", "shelf start"}};
  auto it = kWords.find(word);
  return it == kWords.end() ? "" : it->second;
}

}  // namespace kestrum::cli
