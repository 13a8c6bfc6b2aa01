#include <fmt/format.h>

#include "command.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/engine/open_shelf.h"
#include "kestrum/report/recovery_page.h"

namespace kestrum::cli {
namespace {

// The wrapped identity of a shelf: this PC's copy, or the disk's.
std::string wrapped_identity(const Context& context, const Job& job, RecoveryPage& page) {
  std::string text;
  for (const ShelfState& state : context.machine().shelves(job.name)) {
    if (!path_exists(state.identity_path())) continue;
    page.shelf = state.pin.shelf;
    page.host = state.pin.host;
    page.place = state.pin.place + "/" + state.pin.folder;
    return read_file(state.identity_path(), 1 << 20);
  }
  OpenShelf open = find_shelf(context.machine(), job);
  page.shelf = open.shelf.label().shelf;
  page.host = open.shelf.label().host;
  page.place = open.path;
  return read_small(*open.place, kIdentityFile, 1 << 20);
}

int write_sheet(const Context& context, const Job& job, const std::string& typed) {
  std::string file = absolute_path(typed);
  if (!file.ends_with(".svg")) {
    throw Error(ErrorKind::kUsage, "--sheet: the page is an SVG file; its name ends with .svg");
  }
  if (path_exists(file)) {
    throw Error(ErrorKind::kUsage, printable(file) + " exists already", "name a new file");
  }
  RecoveryPage page;
  page.job = job.name;
  page.identity = wrapped_identity(context, job, page);
  page.date = format_local(context.clock.now()).substr(0, 10);
  write_file(file, recovery_page_svg(page));
  if (context.json) {
    context.print_json({{"job", job.name}, {"sheet", file}, {"shelf", page.shelf}});
    return 0;
  }
  context.say("the recovery page of " + job.name + " is in " + printable(file));
  context.say(
      "Print it, put it away, delete the file. It opens the backups only with the passphrase.");
  return 0;
}

}  // namespace

int passphrase(const Context& context, const Args& args) {
  const std::string usage = "kestrum passphrase NAME --try | --sheet FILE";
  args.expect(1, 1, usage);
  const std::string& name = args.positional()[0];
  if (!args.has("try") && !args.has("sheet")) {
    throw Error(ErrorKind::kUsage, "what about the passphrase? " + usage);
  }
  Job job = context.jobs().load(name);
  if (!job.encrypted) {
    throw Error(ErrorKind::kUsage, name + " is not protected by a passphrase").about_job(name);
  }
  if (auto file = args.get("sheet")) return write_sheet(context, job, *file);
  auto typed = find_passphrase(args, name, job.passphrase_file, true);
  if (!typed) {
    throw Error(ErrorKind::kPassphrase, "no passphrase to try",
                "give it by --passphrase-file FILE or KESTRUM_PASSPHRASE, or on a terminal")
        .about_job(name);
  }
  OpenShelf open = find_shelf(context.machine(), job);
  unlock_shelf(open, *typed);
  if (context.json) context.print_json({{"job", name}, {"right", true}});
  context.say("the passphrase of " + name + " is right");
  return 0;
}

}  // namespace kestrum::cli
