#include <fmt/format.h>

#include <algorithm>

#include "command.h"
#include "kestrum/access/change_keys.h"
#include "kestrum/access/find_shelf.h"
#include "kestrum/access/next_disk.h"
#include "kestrum/access/unlock.h"
#include "kestrum/base/clock.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/named_file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/machine/job_lock.h"
#include "kestrum/report/recovery_card.h"

namespace kestrum::cli {
namespace {

// The wrapped identity of a shelf: this PC's copy, or the disk's.
std::string wrapped_identity(const Context& context, const Job& job, RecoveryCard& card) {
  std::string text;
  for (const ShelfState& state : context.machine().shelves(job.name)) {
    if (!path_exists(state.identity_path())) continue;
    card.shelf = state.record.shelf;
    card.host = state.record.host;
    card.place = state.record.place + "/" + state.record.folder;
    if (state.record.keys.recipient) card.recipient = state.record.keys.recipient->to_string();
    return read_file(state.identity_path(), 1 << 20);
  }
  OpenShelf open = find_shelf(context.machine(), job);
  card.shelf = open.shelf.label().shelf;
  card.host = open.shelf.label().host;
  card.place = open.path;
  if (open.shelf.label().recipient) card.recipient = open.shelf.label().recipient->to_string();
  return read_small(*open.place, kIdentityFile, 1 << 20);
}

int write_card(const Context& context, const Job& job, const std::string& typed) {
  std::string file = absolute_path(typed);
  bool pdf = file.ends_with(".pdf");
  if (!pdf && !file.ends_with(".svg")) {
    throw Error(ErrorKind::kUsage,
                "--card: " + printable(typed) + ": the card's name ends with .svg or .pdf");
  }
  if (is_named(file)) {
    throw Error(ErrorKind::kUsage, printable(file) + " exists already", "name a new file");
  }
  RecoveryCard card;
  card.job = job.name;
  card.identity = wrapped_identity(context, job, card);
  card.date = format_day(context.clock.now());
  Sheet sheet = recovery_card(card);
  write_named_file(file, pdf ? sheet_pdf(sheet) : sheet_svg(sheet));
  for (ShelfState& state : context.machine().shelves(job.name)) {
    if (state.record.shelf != card.shelf) continue;
    state.update_record([](ShelfRecord& record) {
      record.card_made = calendar_now();
      record.card_outdated = false;
    });
  }
  if (context.json) {
    context.print_json({{"job", job.name}, {"card", file}, {"shelf", card.shelf}});
    return 0;
  }
  context.say("the recovery card of " + job.name + " is in " + printable(file));
  context.say(
      "Print it, put it away, delete the file. It opens the backups only with the passphrase.");
  return 0;
}

// Changes the passphrase, or with --new-key starts a new key, wherever the job's shelves are now.
int change(const Context& context, const Args& args, const Job& job) {
  bool new_key = args.has("new-key");
  // With a new key the passphrase stays, unless another one is given.
  bool other_passphrase = !new_key || new_passphrase_given(args);
  std::vector<std::string> changed, away, done_on;
  std::optional<Secret> old_one, new_one;
  auto another_try = ask_again(args, job.name, job.passphrase_from);
  JobLock lock(context.machine(), job.name, "changing the passphrase");
  auto spanning = spanning_shelf(context.machine(), job);
  bool alone = context.machine().shelves(job.name).size() == 1;
  // Of a shelf that goes over several disks only the one that it is on now has keys of its own.
  auto is_another_disk_of_it = [&](const std::string& place) {
    if (!spanning || place == spanning->record.place) return false;
    return alone || was_on(spanning->record, place) || waiting_disk(job, spanning->record, place);
  };
  for (const auto& place : job.places) {
    if (is_another_disk_of_it(place)) continue;
    try {
      OpenShelf open = find_shelf_to_write(context.machine(), job, place);
      if (new_key) check_clock(open.shelf.label(), context.clock);
      if (!old_one) old_one = find_passphrase(args, job.name, job.passphrase_from, true);
      if (!old_one) {
        throw Error(ErrorKind::kPassphrase, "the old passphrase is needed",
                    "give it by --passphrase-from FILE or KESTRUM_PASSPHRASE, or on a terminal");
      }
      IdentityFile identity = unlock_with_tries(open, *old_one, another_try);
      if (!new_one && other_passphrase) new_one = another_passphrase(args, job.name);
      const Secret& wrapped_by = other_passphrase ? *new_one : *old_one;
      if (new_key) {
        start_new_key(open, std::move(identity), wrapped_by, job.also_for, context.clock.now());
      } else {
        rewrap_identity(open, identity, wrapped_by, job.also_for);
      }
      changed.push_back(open.path);
      done_on.push_back(open.state->record.shelf);
    } catch (const Error& error) {
      if (!error.worth_waiting()) throw;
      away.push_back(error.message());
    }
  }
  if (spanning && !changed.empty()) {
    const ShelfState state = spanning_shelf(context.machine(), job).value();
    if (new_key) sign_waiting_disks(job, state, context.clock);
    OpenShelf open = find_shelf(context.machine(), job, state.record.place);
    if (std::string out = open.earlier ? open.earlier->away() : ""; !out.empty()) {
      away.push_back("not plugged in: " + out);
    }
  }
  if (changed.empty()) {
    throw Error(ErrorKind::kPlace, away.empty() ? "no disk of this job" : away[0],
                "nothing was changed")
        .about_job(job.name);
  }
  std::string again = "kestrum passphrase " + job.name + (new_key ? " --new-key" : "");
  for (ShelfState& state : context.machine().shelves(job.name)) {
    bool done = std::find(done_on.begin(), done_on.end(), state.record.shelf) != done_on.end();
    bool more_is_due = !new_key && state.record.keys.still_to_do.ends_with("--new-key");
    if (more_is_due) continue;
    state.update_record(
        [&](ShelfRecord& record) { record.keys.still_to_do = done ? std::string() : again; });
  }
  int exit = away.empty() ? 0 : 1;
  if (context.json) {
    context.print_json({{"job", job.name},
                        {"changed", changed},
                        {"away", away},
                        {"new_key", new_key},
                        {"new_passphrase", other_passphrase}});
    return exit;
  }
  context.say(new_key ? job.name + ": the next set is full, and encrypted to a new key"
                      : job.name + ": the passphrase is changed; no set was touched");
  for (const auto& shelf : changed) context.say("  on " + printable(shelf));
  for (const auto& text : away) {
    context.say("  not on this one, where the old one holds until it is repeated: " +
                printable(text));
  }
  if (new_key) {
    context.say("Sets made so far still open with the old key. " +
                std::string(other_passphrase ? "The passphrase is the new one."
                                             : "The passphrase stays the same."));
  } else {
    context.say(
        "Whoever has a copy of the old identity file and knows the old passphrase can still "
        "read, sets to come as well. To shut them out: kestrum passphrase " +
        job.name + " --new-key");
  }
  context.say(
      "An earlier recovery card still opens with " +
      std::string(new_key ? "the sets made so far only" : "the old passphrase: print a new one") +
      " (--card).");
  return exit;
}

}  // namespace

int passphrase(const Context& context, const Args& args) {
  const std::string usage = "kestrum passphrase NAME [--try | --card FILE | --new-key]";
  args.expect(1, 1, usage);
  const std::string& name = args.positional()[0];
  if (args.has("try") + args.has("card") + args.has("new-key") > 1) {
    throw Error(ErrorKind::kUsage, "only one of --try, --card and --new-key", usage);
  }
  Job job = context.jobs().load(name);
  if (!job.encrypted) {
    throw Error(ErrorKind::kUsage, name + " is not protected by a passphrase").about_job(name);
  }
  if (auto file = args.get("card")) return write_card(context, job, *file);
  if (!args.has("try")) return change(context, args, job);
  auto typed = find_passphrase(args, name, job.passphrase_from, true);
  if (!typed) {
    throw Error(ErrorKind::kPassphrase, "no passphrase to try",
                "give it by --passphrase-from FILE or KESTRUM_PASSPHRASE, or on a terminal")
        .about_job(name);
  }
  OpenShelf open = find_shelf(context.machine(), job);
  require_current_key(open,
                      unlock_with_tries(open, *typed, ask_again(args, name, job.passphrase_from)));
  if (context.json) context.print_json({{"job", name}, {"right", true}});
  context.say("the passphrase of " + name + " is right");
  return 0;
}

}  // namespace kestrum::cli
