#include <fmt/format.h>
#include <unistd.h>

#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <map>

#include "command.h"
#include "demo/desk_data.h"
#include "demo/mail_catcher.h"
#include "demo/sftp_server.h"
#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "kestrum/system/process.h"
#include "table.h"

namespace kestrum::cli {
namespace {

namespace fs = std::filesystem;

std::string in_quotes(const std::string& word) {
  bool plain = !word.empty() && word.find_first_of(" '\"*?$\\[]()") == std::string::npos;
  return plain ? word : "'" + word + "'";
}

// Runs this program again as a technician would, and shows the command and its answer.
class Stage {
 public:
  explicit Stage(std::string folder) : folder_(std::move(folder)) {}

  void tell(const std::string& text) const {
    fmt::print("\n{}\n", coloured(wrapped("# " + text, output_screen().columns), kBold));
    std::fflush(stdout);
  }

  // From now on, in the environment of what runs.
  std::map<std::string, std::string> environment;

  // At a simulated time; returns the exit code. `typed` is what the technician answers.
  int run(const std::string& now, const std::vector<std::string>& words,
          const std::string& typed = "") {
    std::string line = "kestrum";
    for (const auto& word : words) line += " " + in_quotes(word);
    fmt::print("\n$ {}\n", line);
    std::fflush(stdout);
    TerminalProgram program{"/proc/self/exe", {"kestrum"}, environment, folder_};
    program.environment.insert({{"KESTRUM_HOME", folder_ + "/kestrum-home"},
                                {"KESTRUM_HOST", "front-desk-pc"},
                                {"KESTRUM_NOW", now},
                                {"TZ", "UTC"}});
    if (!typed.empty()) {
      program.file = "/bin/sh";
      program.arguments = {"sh", "-c", "echo " + in_quotes(typed) + R"( | "$0" "$@")",
                           fs::read_symlink("/proc/self/exe").string()};
    }
    program.arguments.insert(program.arguments.end(), words.begin(), words.end());
    int exit = run_in_terminal(program);
    if (exit != 0) fmt::print("(exit code {})\n", exit);
    worst_ = worse_exit(worst_, exit);
    return exit;
  }
  // One of another PC, of which nothing is shown.
  void run_elsewhere(const std::string& host, const std::string& now,
                     const std::vector<std::string>& words) {
    TerminalProgram program{"/bin/sh",
                            {"sh", "-c", "exec \"$0\" \"$@\" >/dev/null 2>&1",
                             fs::read_symlink("/proc/self/exe").string()},
                            {{"KESTRUM_HOME", folder_ + "/pcs/" + host + "/kestrum-home"},
                             {"KESTRUM_HOST", host},
                             {"KESTRUM_NOW", now},
                             {"TZ", "UTC"}},
                            folder_};
    program.arguments.insert(program.arguments.end(), words.begin(), words.end());
    run_in_terminal(program);
  }
  // A command that is to end with this exit code.
  void run_expecting(int exit, const std::string& now, const std::vector<std::string>& words) {
    int before = worst_;
    if (run(now, words) == exit) worst_ = before;
  }
  // What a technician does in between, without this program.
  void shell(const std::string& line) const {
    fmt::print("\n$ {}\n", line);
    std::fflush(stdout);
    if (run_in_terminal({"/bin/sh", {"sh", "-c", line}, {}, folder_}) != 0) {
      throw Error(ErrorKind::kFailed, "the demo's own step failed: " + line);
    }
  }
  // What nobody is shown; whether it succeeded.
  bool quietly(const std::string& line) const {
    return run_in_terminal({"/bin/sh", {"sh", "-c", "exec 2>/dev/null; " + line}, {}, folder_}) ==
           0;
  }
  int worst() const { return worst_; }

 private:
  std::string folder_;
  int worst_ = 0;
};

// Two filesystems of two megabytes, which go with it.
class SmallDisks {
 public:
  explicit SmallDisks(const Stage& stage) : stage_(stage) {
    for (const char* disk : {"media/small-1", "media/small-2"}) {
      there_ &= stage.quietly(fmt::format("mount -t tmpfs -o size=2m,mode=0700 small {}", disk));
    }
  }
  ~SmallDisks() {
    for (const char* disk : {"media/small-1", "media/small-2"}) {
      stage_.quietly(fmt::format("umount {}", disk));
    }
  }
  bool there() const { return there_; }

 private:
  const Stage& stage_;
  bool there_ = true;
};

std::string demo_folder(const Args& args) {
  if (auto into = args.get("into")) {
    std::string folder = absolute_path(*into);
    if (is_folder(folder) && !list_folder(folder).empty()) {
      throw Error(ErrorKind::kUsage, folder + " is not empty", "name a new folder")
          .about_path(folder);
    }
    make_folders(folder);
    return folder;
  }
  std::string pattern = (fs::temp_directory_path() / "kestrum-demo-XXXXXX").string();
  if (::mkdtemp(pattern.data()) == nullptr) throw system_error(errno, pattern);
  return pattern;
}

void run_for_three_days(Stage& stage, demo::FrontDesk& front_desk) {
  stage.tell("Monday, 2 March. The technician defines a job for the front desk.");
  stage.run("2026-03-02T09:00:00Z",
            {"job", "new", "front-desk", "--from", "home/frontdesk/Documents", "--from",
             "home/frontdesk/Mail", "--from", "home/frontdesk/Posters", "--to", "media/blue-disk",
             "--leave-out", "*.tmp", "--when", "daily at 9pm", "--same-disk",
             "--next-passphrase-from", "passphrase"});
  stage.tell("What would it copy, how large is it, and why is that draft not in it?");
  stage.run("2026-03-02T09:01:00Z", {"forecast", "front-desk"});
  stage.run("2026-03-02T09:02:00Z",
            {"forecast", "front-desk", "--why", "home/frontdesk/Documents/draft.tmp"});
  stage.run("2026-03-02T09:03:00Z", {"agenda", "front-desk", "--days", "4"});
  stage.tell("At nine in the evening the timer calls run --due. The first run makes a full set.");
  stage.run("2026-03-02T21:00:00Z", {"run", "--due"});

  demo::set_today(*parse_rfc3339("2026-03-03T17:00:00Z") / kSecond);
  front_desk.work_a_day(1);
  stage.tell(
      "Tuesday: the rota was edited, a letter was written and one filed away. Mail came in: of the "
      "large mailbox the set holds what is new.");
  stage.run("2026-03-03T21:00:00Z", {"run", "--due"});

  demo::set_today(*parse_rfc3339("2026-03-04T17:00:00Z") / kSecond);
  front_desk.work_a_day(2);
  front_desk.lose_the_letters();
  stage.tell(
      "Wednesday: the same again, and a presenter deletes a folder by mistake. Nobody notices.");
  stage.run("2026-03-04T21:00:00Z", {"run", "--due"});
}

void look_and_restore(Stage& stage, const std::string& folder) {
  stage.tell("Thursday. Are the files really there? What does each set depend on?");
  stage.shell("ls -gG media/blue-disk/front-desk-pc/front-desk/sets/c0001-000*");
  stage.run("2026-03-05T10:00:00Z", {"sets", "front-desk"});
  stage.run("2026-03-05T10:01:00Z", {"verify", "front-desk"});
  stage.run("2026-03-05T10:02:00Z",
            {"verify", "front-desk", "--contents", "--passphrase-from", "passphrase"});

  stage.tell("The phone rings: \"The signed agreements are gone. They were there on Tuesday.\"");
  stage.run("2026-03-05T10:03:00Z", {"trace", "front-desk", "agreement-0[1-3].odt"});
  stage.run("2026-03-05T10:04:00Z", {"look", "front-desk", "Letters/Signed", "--point", "tuesday"});
  stage.run("2026-03-05T10:05:00Z", {"restore", "front-desk", "Letters/Signed", "--point",
                                     "tuesday", "--in-place", "--passphrase-from", "passphrase"});
  stage.tell("And the rota of week 9 as it was on Monday, next to the new one and not over it.");
  stage.run("2026-03-05T10:06:00Z",
            {"restore", "front-desk", "rota-week-09.csv", "--point", "monday", "--in-place",
             "--clash", "both", "--passphrase-from", "passphrase"});
  stage.shell("ls home/frontdesk/Documents/Rotas | grep week-09");
  stage.run(
      "2026-03-05T10:07:00Z",
      {"compare", "front-desk", folder + "/home/frontdesk/Documents/Rotas", "--point", "monday"});
}

void copy_the_newsroom(Stage& stage) {
  stage.tell(
      "The newsroom: names in several scripts, links, a file with holes. No passphrase this time.");
  stage.run("2026-03-05T10:10:00Z",
            {"job", "new", "newsroom", "--from", "home/newsroom", "--to", "media/blue-disk",
             "--same-disk", "--protection", "none", "--kind", "differential"});
  stage.run("2026-03-05T10:11:00Z", {"run", "newsroom"});
  stage.run("2026-03-05T10:12:00Z", {"look", "newsroom", "Interviews"});
  stage.run("2026-03-05T10:13:00Z", {"restore", "newsroom", "--to", "restored-newsroom"});
  stage.shell(
      "diff -r --no-dereference home/newsroom restored-newsroom && echo the same, file by file");
}

void miss_the_disk(Stage& stage) {
  stage.tell("Thursday evening the disk lies in a drawer. The job waits for it, and says so.");
  stage.shell("mv media/blue-disk media/drawer");
  stage.run("2026-03-05T21:00:00Z", {"run", "--due"});
  stage.run("2026-03-07T08:00:00Z", {"run", "--due"});
  stage.run("2026-03-07T08:01:00Z", {"status"});
  stage.tell("Saturday morning it is plugged in again; the missed times are made up for once.");
  stage.shell("mv media/drawer media/blue-disk");
  stage.run("2026-03-07T08:05:00Z", {"run", "--due"});
  stage.run("2026-03-07T08:06:00Z", {"history", "front-desk"});
  stage.run("2026-03-07T08:07:00Z", {"status", "front-desk"});
  stage.tell("What would pruning do? It says for every set why it stays or goes.");
  stage.run("2026-03-07T08:08:00Z", {"prune", "front-desk", "--rehearse"});
}

void undo_the_noise(Stage& stage, demo::FrontDesk& front_desk, const std::string& folder) {
  demo::set_today(*parse_rfc3339("2026-03-08T17:00:00Z") / kSecond);
  front_desk.scramble_the_letters();
  stage.tell(
      "Sunday: something has overwritten half of the letters with noise. The set is suspect.");
  stage.run("2026-03-08T21:00:00Z", {"run", "--due"});
  stage.run("2026-03-09T09:00:00Z", {"status", "front-desk"});
  stage.tell("Back to how it was. What differs is set aside, nothing is deleted.");
  stage.run("2026-03-09T09:01:00Z",
            {"restore", "front-desk", folder + "/home/frontdesk/Documents/Letters", "--in-place",
             "--mirror", "--passphrase-from", "passphrase"});
  stage.run("2026-03-09T09:02:00Z",
            {"compare", "front-desk", folder + "/home/frontdesk/Documents/Letters"});
  stage.run("2026-03-09T09:03:00Z", {"trust", "front-desk", "c1-4", "--because",
                                     "the letters were scrambled, and are restored"});
  stage.run("2026-03-09T21:00:00Z", {"run", "--due"});
}

void test_and_lose(Stage& stage) {
  stage.tell("Do restores work? Random files of all restore points, compared and thrown away.");
  stage.run("2026-03-10T08:00:00Z",
            {"drill", "front-desk", "--files", "40", "--passphrase-from", "passphrase"});
  stage.tell(
      "One disk is one disk. The sets on a second one too, which malware on this PC does not see "
      "once "
      "it is in the drawer.");
  stage.shell("mkdir media/red-disk");
  stage.run("2026-03-10T08:05:00Z",
            {"shelf", "copy", "front-desk", "--to", "media/red-disk", "--same-disk"});
  stage.run("2026-03-10T08:06:00Z", {"shelf", "list", "front-desk"});
  stage.shell("mv media/red-disk media/drawer-red");
  stage.tell(
      "The disk is not the youngest: a part of the newsroom's full set has gone bad. Which files, "
      "when?");
  stage.shell(
      "printf noise | dd of=$(ls "
      "media/blue-disk/front-desk-pc/newsroom/sets/c0001-000*/part-000001*) "
      "bs=1 seek=60000 conv=notrunc status=none");
  stage.run_expecting(4, "2026-03-10T08:10:00Z", {"verify", "newsroom"});
  stage.tell(
      "What is still on the PC is stored anew by the next run, and from there on all is whole.");
  stage.run("2026-03-10T08:11:00Z", {"run", "newsroom"});
  stage.run_expecting(4, "2026-03-10T08:12:00Z", {"verify", "newsroom", "--contents"});
  stage.tell(
      "From the support desk, where the disks or the server of many PCs are: no secret is needed.");
  stage.run("2026-03-10T08:30:00Z", {"status", "--shelves", "media/blue-disk"});
  stage.tell("Should this PC be lost: the disk and the passphrase are enough for a new one.");
  stage.run("2026-03-10T09:00:00Z", {"shelf", "claim", "media/blue-disk/front-desk-pc/front-desk",
                                     "--look-only", "--passphrase-from", "passphrase"});
}

// Mail goes to a server that takes it and delivers none.
void tell_by_mail(Stage& stage, const std::string& folder) {
  demo::MailCatcher server;
  stage.tell("Nobody looks every day. Who is told, and by which server?");
  write_file(
      folder + "/kestrum-home/mail.toml",
      "server = \"" + server.url() + "\"\nfrom = \"backups@saltmarsh.example\"\ntls = \"off\"\n");
  stage.run("2026-03-10T10:00:00Z",
            {"job", "set", "front-desk", "report.mail_to", "support@saltmarsh.example"});
  stage.run("2026-03-10T10:01:00Z", {"report", "--try-mail"});
  stage.tell("Tuesday evening the disk is in the drawer again. The mail that comes of it:");
  stage.shell("mv media/blue-disk media/drawer");
  stage.run("2026-03-10T21:00:00Z", {"run", "--due"});
  stage.shell("mv media/drawer media/blue-disk");
  fmt::print("\n{}", server.mails().back().headers_and_text());
  stage.run("2026-03-11T08:00:00Z", {"run", "--due"});
  fmt::print("\n{}", server.mails().back().headers_and_text());
  stage.tell("The server of this demo ends here, so nobody is told any more.");
  stage.run("2026-03-11T08:01:00Z",
            {"job", "set", "front-desk", "report.mail_to", "support@saltmarsh.example", "--drop"});
}

constexpr int kPcs = 12;

// PCs that back up to one server; some of them do not, any more.
void report_on_all(Stage& stage, const std::string& folder) {
  stage.tell("How do things stand? A page with figures, to look at and to show.");
  stage.run("2026-03-11T08:10:00Z", {"report", "--out", "report"});
  stage.tell("And a dozen PCs that back up to one server: a page for all of them.");
  std::string names;
  for (int pc = 1; pc <= kPcs; ++pc) {
    std::string host = fmt::format("pc-{:02}", pc), files = folder + "/pcs/" + host + "/files";
    names += host + "\n";
    if (pc == 9) continue;  // nobody has set it up yet
    make_folders(files);
    make_folders(folder + "/server");
    int last = pc == 4 ? 2 : pc == 7 ? 5 : 10, first = last - 2;  // days of March
    if (pc == 4) first = 1;
    for (int day = first; day <= last; ++day) {
      std::string now = fmt::format("2026-03-{:02}T21:{:02}:00Z", day, pc);
      write_file(files + "/day-" + std::to_string(day), std::string(1000 * pc * day, 'a' + pc));
      if (day == first) {
        stage.run_elsewhere(
            host, now,
            {"job", "new", "files", "--from", "pcs/" + host + "/files", "--to", "server",
             "--same-disk", "--protection", "none", "--when", "every day at 21:00"});
      }
      if (pc == 6 && day == last) fs::rename(files, files + "-moved");
      stage.run_elsewhere(host, now, {"run", "files"});
    }
  }
  write_file(folder + "/pcs.txt", names);
  stage.run("2026-03-11T08:20:00Z", {"status", "--shelves", "server", "--expect", "pcs.txt"});
  stage.run("2026-03-11T08:21:00Z",
            {"report", "--shelves", "server", "--expect", "pcs.txt", "--out", "fleet"});
}

void change_disks(Stage& stage) {
  stage.tell(
      "The letters on two disks, one at the PC and one in the cupboard. Each has chains of its "
      "own, "
      "and is expected every seven days.");
  stage.shell("mkdir media/green-disk");
  stage.run("2026-03-11T09:00:00Z",
            {"job", "new", "letters", "--from", "home/frontdesk/Documents/Letters", "--to",
             "media/blue-disk", "--to", "media/green-disk", "--same-disk", "--next-passphrase-from",
             "passphrase"});
  stage.run("2026-03-11T09:01:00Z", {"job", "set", "letters", "rotation.expect", "every 7 days"});
  stage.run("2026-03-11T09:02:00Z", {"run", "letters", "--on", "blue-disk"});
  stage.run("2026-03-11T09:03:00Z", {"run", "letters", "--on", "green-disk", "--quiet"});
  stage.run("2026-03-11T09:04:00Z", {"shelf", "list", "letters"});
  stage.run("2026-03-11T09:05:00Z", {"agenda", "letters", "--days", "8"});
  stage.tell("The first disk is getting old: the chain goes on on a new one.");
  stage.shell("mkdir media/white-disk");
  stage.run("2026-03-11T10:00:00Z", {"shelf", "copy", "letters", "--to", "media/white-disk",
                                     "--move-here", "--on", "blue-disk", "--same-disk"});
  stage.run("2026-03-11T10:01:00Z", {"run", "letters", "--on", "white-disk"});
  stage.tell("The old one is given away, and must not be read by anybody.");
  stage.run("2026-03-11T10:02:00Z", {"shelf", "erase", "letters", "--on", "media/blue-disk"},
            "letters");
  stage.tell("The green one was left on a train.");
  stage.shell("mv media/green-disk media/on-the-train");
  stage.run("2026-03-11T10:03:00Z", {"shelf", "drop", "letters", "green-disk"});
  stage.run("2026-03-11T10:04:00Z", {"status", "letters"});
}

// On filesystems of their own, so small that one is really full.
void fill_two_disks(Stage& stage) {
  stage.tell(
      "What no disk holds alone goes on from one to the next. Two of two megabytes, for the "
      "posters:");
  stage.shell("mkdir media/small-1 media/small-2");
  SmallDisks disks(stage);
  if (!disks.there()) {
    fmt::print("\n(left out: only root can mount disks of that size here)\n");
    return;
  }
  stage.run("2026-03-11T10:20:00Z",
            {"job", "new", "walls", "--from", "home/frontdesk/Posters", "--to", "media/small-1",
             "--to", "media/small-2", "--when-full", "ask", "--part-size", "300 kB", "--protection",
             "none", "--same-disk"});
  stage.run("2026-03-11T10:21:00Z", {"forecast", "walls"});
  stage.run("2026-03-11T10:22:00Z", {"run", "walls"});
  stage.run("2026-03-11T10:23:00Z", {"shelf", "list", "walls"});
  stage.tell(
      "The first one goes into the cupboard. What lies on it is missed only by who needs it.");
  stage.quietly("mount -t tmpfs -o size=64k empty media/small-1");
  stage.run_expecting(1, "2026-03-11T10:24:00Z", {"verify", "walls"});
  stage.run_expecting(5, "2026-03-11T10:25:00Z", {"restore", "walls", "--to", "some-posters"});
  stage.quietly("umount media/small-1");
  stage.run("2026-03-11T10:26:00Z", {"restore", "walls", "--to", "all-posters"});
  stage.shell("diff -rq some-posters all-posters | wc -l");
  stage.run("2026-03-11T10:27:00Z", {"job", "remove", "walls", "--yes", "--quiet"});
}

// By an account that may add files, and not remove any.
void use_a_server(Stage& stage, const std::string& folder) {
  stage.tell("The studio has a server, too. It is asked for its key first.");
  if (auto why = demo::SftpServer::why_not(); !why.empty()) {
    fmt::print("\n(left out: {})\n", why);
    return;
  }
  demo::SftpServer server(folder + "/sshd");
  stage.environment = {{"HOME", server.home()}, {"SSH_AUTH_SOCK", ""}};
  std::string place = server.address(folder + "/server");
  stage.run_expecting(5, "2026-03-11T11:00:00Z",
                      {"job", "new", "posters", "--from", "home/frontdesk/Posters", "--to", place,
                       "--protection", "none"});
  stage.tell("The fingerprint is the server's. Known from now on:");
  stage.shell(server.make_known());
  stage.run("2026-03-11T11:02:00Z", {"job", "new", "posters", "--from", "home/frontdesk/Posters",
                                     "--to", place, "--protection", "none"});
  stage.run("2026-03-11T11:03:00Z", {"run", "posters"});
  stage.run("2026-03-11T11:04:00Z", {"shelf", "list", "posters"});
  stage.run("2026-03-11T11:05:00Z", {"restore", "posters", "--to", "restored-posters"});
  stage.shell(
      "diff -r --exclude '*.tmp' home/frontdesk/Posters restored-posters && echo the same, file by "
      "file");
  stage.environment.clear();
}

}  // namespace

int run_demo(const Context& context, const Args& args) {
  args.expect(0, 0, "kestrum demo [--into DIR]");
  if (context.json) throw Error(ErrorKind::kUsage, "the demo is for people: it has no JSON");
  std::string folder = demo_folder(args);
  demo::FrontDesk front_desk(folder + "/home/frontdesk");
  demo::Newsroom newsroom(folder + "/home/newsroom");
  demo::set_today(*parse_rfc3339("2026-02-27T17:00:00Z") / kSecond);
  front_desk.fill();
  newsroom.fill();
  make_folders(folder + "/media/blue-disk");
  write_file(folder + "/passphrase", "salt and sand\n");

  Stage stage(folder);
  fmt::print(
      "Saltmarsh Radio, a made-up station. Its files, its disk and all that follows are in\n{}\n",
      folder);

  run_for_three_days(stage, front_desk);
  look_and_restore(stage, folder);
  copy_the_newsroom(stage);
  miss_the_disk(stage);
  undo_the_noise(stage, front_desk, folder);
  test_and_lose(stage);
  tell_by_mail(stage, folder);
  report_on_all(stage, folder);
  change_disks(stage);
  fill_two_disks(stage);
  use_a_server(stage, folder);

  fmt::print("\nAll of it is in {}. To try your own commands there:\n", folder);
  fmt::print(
      "  export KESTRUM_HOME={0}/kestrum-home KESTRUM_HOST=front-desk-pc\n"
      "  export KESTRUM_NOW=2026-03-11T12:00:00Z; cd {0}\n",
      folder);
  // A comparison that finds differences and a suspect set answer with 1, as they should.
  return stage.worst() == 1 ? 0 : stage.worst();
}

}  // namespace kestrum::cli
