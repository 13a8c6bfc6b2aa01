// The table of commands.
#include <algorithm>

#include "command.h"
#include "file_filter.h"

namespace kestrum::cli {

namespace {

std::vector<OptionSpec> with_filters(std::vector<OptionSpec> options) {
  const auto& filters = filter_options();
  options.insert(options.end(), filters.begin(), filters.end());
  return options;
}

std::vector<Command> commands_on_jobs() {
  return {
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
        {"only", "CATEGORY", "file categories (kestrum job categories)", true},
        {"when", "PHRASE", "when to run, such as 'every day at 21:00'", true},
        {"if-missed", "WHAT", "'next chance' or skip"},
        {"kind", "KIND", "what follows a full set: incremental, differential or full"},
        {"new-full", "RULE", "when a new full set is due: 'after 13 sets', 'every sunday'"},
        {"keep-for", "TIME", "restore points younger than this stay: '14 days'"},
        {"keep-chains", "N", "so many complete chains stay"},
        {"at-most", "SIZE", "size of the shelf"},
        {"leave-free", "SHARE", "room that stays free on the disk: 5%"},
        {"level", "LEVEL", "compression: fast, normal, small or off"},
        {"part-size", "SIZE", "largest file of a set: 1 GB"},
        {"protection", "MODE", "passphrase (encrypted) or none"},
        {"when-full", "WHAT", "prune, stop, ask or 'prune deeper'"},
        {"also-for", "RECIPIENT", "age recipient that can open the shelf too", true},
        {"title", "TEXT", "words for people"},
        {"same-disk", "", "take a place on the system's or a source's own disk"},
        {"next-passphrase-from", "FILE", "read the new passphrase from FILE"}},
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
      {"job set",
       "job set NAME SECTION.KEY VALUE... [--add|--drop]",
       "change one key of a job",
       "Changes the text of one key; comments and order stay. A list takes several values, which "
       "replace it, or are added or dropped.",
       {{"add", "", "add the values to the list"}, {"drop", "", "take the values out of it"}},
       {"kestrum job set front-desk keep.for '30 days'",
        "kestrum job set front-desk source.leave_out '*.iso' --add"},
       job_set},
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
        {"next-passphrase-from", "FILE", "read the new passphrase from FILE"}},
       {"kestrum job take /mnt/share/front-desk.toml",
        "kestrum job take front-desk.toml --next-passphrase-from key.txt"},
       job_take},
  };
}

std::vector<Command> other_commands() {
  return {
      {"forecast",
       "forecast NAME [--files] [--why PATH]",
       "what the next run would copy",
       "Compares the folders with the newest set by names, sizes and times and writes nothing. "
       "Says\n"
       "what would be copied, how large it is, and whether there is room.",
       {{"files", "", "every file, with what would happen to it"},
        {"choose", "", "take out of the job what need not be copied, in your editor"},
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
        {"on", "PLACE", "this disk, of several; again: that one too", true},
        {"reread", "", "read every file, whatever its times say"},
        {"no-verify", "", "do not read back what was written"},
        {"accept-empty", "", "a folder that is empty now is meant to be"},
        {"rehearse", "", "only say what it would do"}},
       {"kestrum run front-desk", "kestrum run front-desk studio --kind full",
        "kestrum run --due --quiet"},
       run_jobs},
      {"stop",
       "stop NAME [--pause]",
       "end a run in order, or pause it",
       "Asks the run of a job to end and waits until it has. What it wrote is kept: the next run "
       "goes\n"
       "on with it. --pause makes it wait where it is, with its disk in use, until `run NAME`.",
       {{"pause", "", "wait where it is; `run NAME` lets it go on"}},
       {"kestrum stop front-desk", "kestrum stop front-desk --pause"},
       stop_run},
      {"status",
       "status [NAME] | --shelves DIR [--expect FILE]",
       "how the jobs stand, worst first",
       "Last run and its outcome, next run, room left, what a job waits for; of one job "
       "everything.\n"
       "With --shelves those of many PCs, by what lies on their shelves below a folder: no secret\n"
       "is needed.",
       {{"probe", "", "one line and exit code 0, 1, 2 or 3, for monitoring"},
        {"shelves", "DIR", "the shelves below this folder, of whichever PCs"},
        {"expect", "FILE", "PCs that should be among them, a name a line"}},
       {"kestrum status", "kestrum status front-desk", "kestrum status --probe",
        "kestrum status --shelves /srv/backups --expect pcs.txt"},
       show_status},
      {"history",
       "history NAME [--show RUN]",
       "the record of past runs",
       "Every run: done, failed, stopped, skipped and missed. --show prints the log of one.",
       {{"show", "RUN", "the log of this run, by its number, or newest"}},
       {"kestrum history front-desk", "kestrum history front-desk --show 12"},
       show_history},
      {"report",
       "report [NAME...] --out DIR | --shelves DIR --out DIR | --try-mail",
       "a page with figures, of this PC or of many",
       "Writes DIR/index.html, which needs nothing else and opens in any browser: the state of "
       "each\n"
       "job in a sentence, its restore points, what is stored, how long there is room, runs and\n"
       "warnings, what grew. Beside it each figure as SVG and PNG, and its data as CSV.\n"
       "With --shelves one page for the shelves of many PCs below a folder; no secret is needed.",
       {{"out", "DIR", "where to; made if it is not there"},
        {"mail-to", "ADDRESS", "send the page there, by mail.toml; with or without --out"},
        {"try-mail", "", "send a trial to the addresses of the jobs, or to --mail-to's"},
        {"shelves", "DIR", "the shelves below this folder, of whichever PCs"},
        {"expect", "FILE", "PCs that should be among them, a name a line"}},
       {"kestrum report --out /tmp/backups", "kestrum report front-desk --out report",
        "kestrum report --shelves /srv/backups --expect pcs.txt --out fleet"},
       write_report},
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
       "Shows the chains on the job's disks: each set's kind, size and what it depends on.\n"
       "--calendar draws them: one cell a day, what was pruned, which days can be restored.",
       {{"calendar", "FILE.svg", "write a calendar of the sets"},
        {"on", "PLACE", "on this disk, of several"}},
       {"kestrum sets front-desk",
        "kestrum sets --shelf /media/blue-disk/front-desk-pc/front-desk"},
       list_sets},
      {"trust",
       "trust NAME SET | --gone-for-good PATH --because TEXT",
       "a suspect set is all right; a folder stays away",
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
       "look NAME [PATH] [--point TIME]",
       "what a folder held at a restore point",
       "Lists a folder as it was: without --point at the newest restore point. TIME is a date, a "
       "date\n"
       "and time, 'yesterday', '3 days ago', 'monday 17:00', newest, oldest, or a set such as "
       "c3-7.",
       with_filters({{"point", "TIME", "the restore point"},
                     {"long", "", "owner and mode as well"},
                     {"depth", "N", "so many levels of folders"},
                     {"on", "PLACE", "on this disk, of several"}}),
       {"kestrum look front-desk", "kestrum look front-desk ~/Documents --point yesterday",
        "kestrum look front-desk Documents --point 2026-03-14 --depth 2",
        "kestrum look front-desk --point monday --gone"},
       look},
      {"trace",
       "trace NAME PATTERN | --all PATTERN",
       "every version of a file, and in which sets",
       "Looks through every restore point for files that match, newest version first; what was\n"
       "deleted, moved or left out since is there too. A part of a name will do.",
       with_filters({{"all", "", "in every job"},
                     {"ignore-case", "", "rota.ods finds Rota.ODS"},
                     {"on", "PLACE", "on this disk, of several"}}),
       {"kestrum trace front-desk rota.ods", "kestrum trace front-desk 'Letters/*.odt'",
        "kestrum trace front-desk '*.odt' --gone --changed-after 'last week'",
        "kestrum trace --all sponsor"},
       trace_files},
      {"compare",
       "compare NAME [PATH] [--point TIME] [--with TIME|now]",
       "what is new, changed, moved or gone",
       "From one restore point (the newest) to another moment (now). Compares content, not times.\n"
       "Exit 1 if there is a difference.",
       {{"point", "TIME", "from this restore point"},
        {"with", "TIME", "to this one, or now"},
        {"on", "PLACE", "on this disk, of several"}},
       {"kestrum compare front-desk", "kestrum compare front-desk Documents --point monday",
        "kestrum compare front-desk --point c1-0 --with newest"},
       compare_moments},
      {"restore",
       "restore NAME [PATH...] --to DIR | --in-place [--point TIME]",
       "get files back",
       "Restores files, folders or patterns (everything, without PATH) from a restore point. The\n"
       "folders that all chosen files share are dropped, so that one file lands as one file. A "
       "file\n"
       "that exists is asked about on a terminal and skipped elsewhere; --clash both puts the old\n"
       "version beside it.",
       {{"to", "DIR", "folder to restore to; -: one file to standard output"},
        {"in-place", "", "where it was"},
        {"everything", "", "the whole source, with --in-place"},
        {"point", "TIME", "the restore point; last-seen: the newest that holds each path"},
        {"on", "PLACE", "from this disk, of several"},
        {"clash", "WHAT", "ask, skip, replace, both or replace-older"},
        {"layout", "LAYOUT",
         "trimmed (default), full (all folders from / on) or flat (files only)"},
        {"as-tar", "FILE", "into one tar file"},
        {"as-zip", "FILE", "into one zip file"},
        {"protect", "", "encrypt that file (age) with a passphrase of its own"},
        {"next-passphrase-from", "FILE", "read that passphrase from FILE"},
        {"choose", "", "mark what is wanted in a list, in your editor"},
        {"names-in", "FILE", "more PATHs, a line or a NUL each; -: standard input"},
        {"missing", "", "what is not on this PC now, each from the newest set that holds it"},
        {"mirror", "", "a folder exactly as it was; what came later is set aside, with --in-place"},
        {"map", "OLD=NEW", "what lay in OLD goes to NEW", true},
        {"owner", "WHOSE", "names (default), numbers or me"},
        {"receipt", "FILE", "write what was done, for the ticket"},
        {"rehearse", "", "only say what it would do, and the room it needs"}},
       {"kestrum restore front-desk rota.ods --to ~/back --point yesterday",
        "kestrum restore front-desk ~/Documents/Letters --in-place --missing",
        "kestrum restore --shelf /media/blue-disk/front-desk-pc/front-desk --to /tmp/all"},
       restore_files},
      {"verify",
       "verify NAME | --all [--contents | --sample PERCENT | --against-source]",
       "check that the sets are sound",
       "Compares every part, ledger and signature with its seal; needs no passphrase. --contents "
       "also\n"
       "opens the sets and compares each file's digest, and names the files that damage hurts.",
       {{"all", "", "every job of this PC"},
        {"contents", "", "decrypt and check every file"},
        {"sample", "PERCENT", "only so much of the shelf, chosen at random"},
        {"against-source", "", "the newest set against the files on this PC, by content"},
        {"point", "TIME", "only this restore point's set and those it is based on"},
        {"on", "PLACE", "on this disk alone, of several"}},
       {"kestrum verify front-desk",
        "kestrum verify front-desk --contents --passphrase-from key.txt",
        "kestrum verify front-desk --against-source"},
       verify_sets},
      {"drill",
       "drill NAME | --all [--files N]",
       "restore random files, compare, throw away",
       "The proof that restores work: files chosen at random from all restore points are restored\n"
       "into a scratch folder, compared by digest and thrown away. `status` remembers it.",
       {{"all", "", "every job of this PC"},
        {"files", "N", "so many files of each disk, 20 if not told"},
        {"on", "PLACE", "on this disk, of several"}},
       {"kestrum drill front-desk", "kestrum drill front-desk --files 200"},
       drill_files},
      {"prune",
       "prune NAME [--rehearse]",
       "remove the sets that no promise holds",
       "Says for every set why it stays or goes. A run does the same at its end. --break-promises "
       "goes\n"
       "further than the job promises, until there is the room that is wanted or wished for.",
       {{"rehearse", "", "only say what would go"},
        {"damaged", "", "remove damaged chains that a newer, whole one has followed; asks"},
        {"to-free", "SIZE", "so much room is wanted"},
        {"break-promises", "", "give up thin, then for, then chains, as far as it takes"},
        {"clock-is-right", "", "the times of the sets and of this PC are right"},
        {"on", "PLACE", "on this disk, of several"}},
       {"kestrum prune front-desk --rehearse", "kestrum prune front-desk --to-free '20 GB'"},
       prune_sets},
      {"passphrase",
       "passphrase NAME [--try | --card FILE | --new-key]",
       "change it, test it, print the recovery card",
       "Changes the passphrase: the key is wrapped anew, no set is rewritten. --try says whether "
       "a\n"
       "passphrase is right (exit 0) or wrong (7). --card writes a page to print: the wrapped\n"
       "identity as text and QR code. --new-key encrypts sets to come to a new key.",
       {{"try", "", "is it the right one?"},
        {"card", "FILE", "write the recovery card, .pdf or .svg"},
        {"new-key", "", "a new key from the next set on, which is full"},
        {"next-passphrase-from", "FILE", "read the new passphrase from FILE"}},
       {"kestrum passphrase front-desk", "kestrum passphrase front-desk --try",
        "kestrum passphrase front-desk --card front-desk.pdf"},
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
}

}  // namespace

const std::vector<Command>& commands() {
  static const std::vector<Command> kCommands = [] {
    std::vector<Command> all = commands_on_jobs();
    for (auto&& more : {commands_on_shelves(), other_commands()}) {
      all.insert(all.end(), more.begin(), more.end());
    }
    return all;
  }();
  return kCommands;
}

const Command* find_command(const std::string& name) {
  const auto& all = commands();
  auto it = std::find_if(all.begin(), all.end(), [&](const Command& c) { return c.name == name; });
  return it == all.end() ? nullptr : &*it;
}

}  // namespace kestrum::cli
