#include "kestrum/access/start_shelf.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "kestrum/access/open_place.h"
#include "kestrum/base/below.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/uuid.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/place/address.h"
#include "kestrum/place/local_place.h"
#include "kestrum/shelf/identity_file.h"

namespace kestrum {
namespace {

std::optional<dev_t> device_of(const std::string& path) {
  struct stat st {};
  if (!look_named(path, st)) return std::nullopt;
  return st.st_dev;
}

std::string job_copy_name(const ShelfLabel& label) {
  return label.recipient ? "job.toml.age" : "job.toml";
}

void remember_job_copy(const ShelfState& state, const std::string& job_text) {
  write_file(state.folder() + "/job.copy", to_hex(digest_of(as_bytes(job_text))) + "\n");
  write_file(state.folder() + "/job.toml", job_text);
}

void put_job_copy(Place& place, const ShelfLabel& label, const SigningKey& key,
                  const std::string& job_text) {
  std::string content = job_text;
  if (label.recipient) {
    Bytes sealed = age_encrypt(as_bytes(job_text), std::span(&*label.recipient, 1));
    content.assign(as_text(sealed));
  }
  write_signed(place, job_copy_name(label), content, key, "job copy of shelf " + label.shelf);
}

}  // namespace

void check_place(const Job& job, const std::string& place, bool same_disk) {
  if (is_remote(place)) {
    reach_place(place);
    return;
  }
  if (!is_named_folder(place)) {
    throw Error(ErrorKind::kPlace, "not plugged in: " + base_name(place) + " (never seen yet)",
                place + " is not there")
        .about_path(place);
  }
  if (same_disk) return;
  auto device = device_of(place);
  auto refuse = [&](const std::string& what) {
    return Error(ErrorKind::kUsage, place + " is on the same disk as " + what,
                 "a backup belongs on another disk; --same-disk takes it all the same")
        .about_path(place);
  };
  if (device == device_of("/")) throw refuse("the system (/)");
  for (const auto& folder : expand_patterns(job.folders)) {
    if (device == device_of(folder)) throw refuse(folder);
  }
}

namespace {

// The users of a PC have their shelves in one folder, like files in /tmp: anybody may add one, and
// each is its owner's alone. Where a filesystem has no such modes it stays as it is.
void share_between_users(const std::string& place, const std::string& host) {
  Fd root = open_named(place, O_PATH | O_DIRECTORY);
  Fd folder = root ? below::open(root.get(), host, O_RDONLY | O_DIRECTORY) : Fd();
  struct stat st {};
  if (!folder || ::fstat(folder.get(), &st) != 0 || st.st_uid != ::geteuid()) return;
  below::set_mode(folder.get(), 01777);
}

// Throws Error(kUsage) if a folder that is there already belongs to somebody else. A filesystem
// without owners says that of all files alike: what is made there now is asked for comparison.
void refuse_other_users(const std::string& place, const std::string& folder) {
  Fd root = open_named(place, O_PATH | O_DIRECTORY);
  struct stat st {
  }, made{};
  if (!root || !below::look(root.get(), folder, st) || st.st_uid == ::geteuid()) return;
  std::string probe = folder + "/.owner-" + make_uuid();
  bool theirs = true;
  if (below::make_folder(root.get(), probe)) {
    theirs = !below::look(root.get(), probe, made) || made.st_uid != st.st_uid;
    below::remove_folder(root.get(), probe);
  }
  if (!theirs) return;
  throw Error(ErrorKind::kUsage,
              printable(place + "/" + folder) + " belongs to another user of this PC",
              "give the job a name that nobody else here has: kestrum job rename " +
                  base_name(folder) + " NEW")
      .about_path(place + "/" + folder);
}

}  // namespace

void make_shelf_folder(const std::string& place, const std::string& folder) {
  if (is_remote(place)) return open_place(place)->make_folder(folder);
  LocalPlace disk(place);
  std::string host = parent_of(folder);
  disk.make_folder(host);
  share_between_users(place, host);
  refuse_other_users(place, folder);
  disk.make_folder(folder);
  disk.sync_folder(host);
  disk.sync_folder("");
}

OpenShelf start_shelf(const MachineState& machine, const Job& job, const std::string& job_text,
                      const StartOptions& options, const Clock& clock) {
  check_place(job, options.place, options.same_disk);
  ShelfLabel label;
  label.shelf = make_uuid();
  label.job = job.name;
  label.host = host_name();
  label.owner = machine.machine_id();
  label.created = clock.now();
  label.simulated = clock.simulated();

  ShelfRecord record;
  record.machine = label.owner;
  record.shelf = label.shelf;
  record.job = job.name;
  record.host = label.host;
  record.place = options.place;
  record.folder = label.host + "/" + job.name;
  record.last_seen = record.since = calendar_now();

  std::string folder = options.place + "/" + record.folder;
  SigningKey signing_key = SigningKey::generate();
  record.keys.signers = {signing_key.verify_key()};

  make_shelf_folder(options.place, record.folder);
  auto place = open_place(options.place, record.folder);
  if (place->exists(kLabelFile)) {
    throw Error(ErrorKind::kUsage, "there is a shelf already: " + folder).about_path(folder);
  }
  place->make_folder(kSetsFolder);
  std::string wrapped;
  if (job.encrypted) {
    IdentityFile identity;
    identity.shelf = label.shelf;
    identity.signers = {{signing_key.verify_key(), label.host}};
    identity.identities.push_back(Identity::generate());
    label.recipient = identity.identities[0].recipient();
    record.keys.recipient = label.recipient;
    Secret text = identity.to_text();
    wrapped = age_encrypt_armoured(text.view(), options.passphrase);
    // What a mistake here would cost is everything: it is opened again before it is relied on.
    if (age_decrypt(as_bytes(wrapped), options.passphrase, kIdentityFile) != text) {
      throw Error(ErrorKind::kFailed, "the wrapped identity does not open again");
    }
    place->make_folder(kKeysFolder);
    for (const char* name : {kIdentityFile, kIdentityCopyFile}) {
      write_small(*place, name, wrapped);
      if (read_small(*place, name) != wrapped) {
        throw Error(ErrorKind::kDamage, folder + "/" + name + ": does not read back as written");
      }
    }
    if (!job.also_for.empty()) {
      write_small(*place, kDeskIdentityFile, age_encrypt_armoured(text.view(), job.also_for));
    }
  }
  put_job_copy(*place, label, signing_key, job_text);

  machine.set_copied_aside(job.name);
  ShelfState state = machine.create(record);
  state.save_signing_key(signing_key);
  if (job.encrypted) write_file(state.identity_path(), wrapped);
  remember_job_copy(state, job_text);
  state.save_record();
  // The label comes last: without it the folder is no shelf.
  write_own_label(*place, state, label);
  return {place, Shelf(place, label, record.keys.signers), std::move(state), folder};
}

void update_job_copy(OpenShelf& open, const std::string& job_text) {
  std::string mark = open.state->folder() + "/job.copy";
  std::string digest = to_hex(digest_of(as_bytes(job_text))) + "\n";
  const SigningKey key = open.state->signing_key();
  std::string copy = job_copy_name(open.shelf.label());
  bool same = path_exists(mark) && read_file(mark) == digest;
  if (same) open.place->fetch_ahead({copy, copy + ".minisig"});
  // Whatever has become of the copy meanwhile, it is made good again.
  if (same && read_signed(*open.place, copy, {key.verify_key()})) return;
  put_job_copy(*open.place, open.shelf.label(), key, job_text);
  remember_job_copy(*open.state, job_text);
}

}  // namespace kestrum
