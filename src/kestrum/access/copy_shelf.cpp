#include "kestrum/access/copy_shelf.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "kestrum/access/open_place.h"
#include "kestrum/access/start_shelf.h"
#include "kestrum/archive/block_digests.h"
#include "kestrum/archive/packed_file.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/place/throttled_place.h"
#include "kestrum/shelf/trust.h"

namespace kestrum {
namespace {

constexpr const char* kNotAsWritten = "is not what was written";

std::uint64_t bytes_of(const Seal& seal) {
  std::uint64_t bytes = 0;
  for (const Seal::File& file : seal.files()) bytes += file.bytes;
  return bytes;
}

std::optional<std::string> text_of(Place& place, const std::string& path) {
  if (!place.exists(path)) return std::nullopt;
  return read_small(place, path);
}

// The folder that a set has once it is finished.
std::string final_folder(const ShelfSet& set) {
  std::string folder = set.folder;
  if (folder.ends_with(kUnfinishedSuffix)) folder.resize(folder.size() - kUnfinishedSuffix.size());
  return folder;
}

std::string work_folder(const ShelfSet& set) {
  return final_folder(set).append(kUnfinishedSuffix);
}

class ShelfCopying {
 public:
  ShelfCopying(OpenShelf& from, const CopyRequest& request, Observer& observer)
      : from_(from), source_(*from.place), request_(request), observer_(observer) {}

  CopyResult run() {
    check_source();
    prepare();
    copy_documents();
    copy_sets();
    copy_head();
    if (auto text = text_of(source_, kLastRunFile)) write_small(*to_, kLastRunFile, *text);
    return std::move(result_);
  }

 private:
  void check_source() const {
    if (from_.shelf.label().copy_of) {
      throw Error(ErrorKind::kUsage, printable(from_.path) + " is itself a copy")
          .about_path(from_.path);
    }
    auto why = from_.shelf.set_back();
    if (!why) return;
    throw Error(ErrorKind::kDamage, *why + "; nothing was copied",
                "kestrum verify " + from_.shelf.label().job)
        .about_path(from_.path);
  }

  // The folder, with our own label or none in it.
  void prepare() {
    const std::string& folder = from_.state->record.folder;
    result_.folder = request_.place + "/" + folder;
    if (result_.folder == from_.path) {
      throw Error(ErrorKind::kUsage,
                  "that is where the shelf itself lies: " + printable(from_.path));
    }
    make_shelf_folder(request_.place, folder);
    std::shared_ptr<Place> disk = open_place(request_.place, folder);
    label_ = from_.shelf.label();
    label_.copy_of = printable(from_.path);
    label_.earlier.clear();  // a copy has all of it in one place
    if (disk->exists(kLabelFile)) {
      ShelfLabel there = Shelf::read_label(*disk);
      if (there.shelf != label_.shelf || !there.copy_of) {
        throw Error(ErrorKind::kUsage,
                    fmt::format("{}: {} of {} of {} lies there already", printable(result_.folder),
                                there.copy_of ? "a copy" : "the shelf", printable(there.job),
                                printable(there.host)),
                    "nothing was changed there; take another place")
            .about_path(result_.folder);
      }
      label_is_there_ = there.to_json() == label_.to_json();
    }
    to_ = disk;
    if (request_.rate_limit) {
      disk_ = disk;
      to_ = std::make_shared<ThrottledPlace>(*disk_, *request_.rate_limit, request_.stop);
    }
    to_->make_folder(kSetsFolder);
  }

  // ---- Keys, lists, the label

  void copy_documents() {
    if (label_.recipient) copy_keys();
    copy_signed_files("retired", ".json");
    for (const char* name : {"job.toml", "job.toml.age"}) copy_signed(name);
    SigningKey key = from_.state->signing_key();
    std::string comment = "label of a copy of shelf " + label_.shelf;
    bool same = label_is_there_ && read_signed(*to_, kLabelFile, {key.verify_key()});
    if (!same) write_signed(*to_, kLabelFile, label_.to_json(), key, comment);
    to_->sync_folder("");
  }

  // The copy's keys are all that opens it once this disk is lost: they are replaced only by what
  // this PC and both copies on the shelf agree upon.
  void copy_keys() {
    const ShelfState& state = *from_.state;
    std::string own = path_exists(state.identity_path()) ? read_file(state.identity_path()) : "";
    std::string first = text_of(source_, kIdentityFile).value_or("");
    std::string second = text_of(source_, kIdentityCopyFile).value_or("");
    bool agree = !own.empty() && first == own && second == own;
    bool has_keys = to_->exists(kIdentityFile) || to_->exists(kIdentityCopyFile);
    if (!agree && has_keys) {
      result_.problems.push_back(
          "the shelf's copies of the keys are not all the same, so the copy keeps its own");
      return;
    }
    if (first.empty() && second.empty() && own.empty()) {
      throw Error(ErrorKind::kDamage, printable(from_.path) + ": its keys are missing")
          .about_path(from_.path);
    }
    const std::string& known = !own.empty() ? own : !first.empty() ? first : second;
    to_->make_folder(kKeysFolder);
    put_key(kIdentityFile, first.empty() ? known : first);
    put_key(kIdentityCopyFile, second.empty() ? known : second);
    if (auto desk = text_of(source_, kDeskIdentityFile)) put_key(kDeskIdentityFile, *desk);
  }

  void put_key(const std::string& name, const std::string& text) {
    if (text_of(*to_, name) == text) return;
    write_small(*to_, name, text);
    if (read_small(*to_, name) == text) return;
    throw Error(ErrorKind::kDamage,
                printable(result_.folder) + "/" + name + ": does not read back as written")
        .about_path(result_.folder);
  }

  // As they are signed; what is not signed right is nothing to keep.
  void copy_signed(const std::string& path) {
    const std::vector<VerifyKey>& keys = from_.shelf.keys();
    if (!source_.exists(path)) return;
    auto text = read_signed(source_, path, keys);
    if (!text) {
      result_.problems.push_back(path + " is not signed as it must be");
      return;
    }
    if (read_signed(*to_, path, keys) == text) return;
    write_signed(*to_, path, *text, from_.state->signing_key(), "of shelf " + label_.shelf);
  }

  void copy_signed_files(const std::string& folder, const std::string& ending) {
    bool made = false;
    for (const PlaceEntry& entry : source_.list(folder)) {
      if (entry.is_folder || !entry.name.ends_with(ending)) continue;
      if (!made) to_->make_folder(folder);
      made = true;
      copy_signed(folder + "/" + entry.name);
    }
  }

  // The head is told of once the set that it names is there.
  void copy_head() {
    const std::optional<Head>& head = from_.shelf.head();
    if (!head || !has_.contains(head->set)) return;
    auto there = newest_head(*to_, label_.shelf, from_.shelf.keys());
    if (there && there->number >= head->number) return;
    to_->make_folder(kHeadsFolder);
    write_head(*to_, *head, from_.state->signing_key());
  }

  // ---- Sets

  void copy_sets() {
    Shelf copy(to_, label_, from_.shelf.keys());
    copy.finish_renames();
    const ShelfSet* newest = from_.shelf.newest();
    std::vector<const ShelfSet*> wanted;
    std::set<std::string> going_on;  // folders
    for (const ShelfSet& set : from_.shelf.sets()) {
      if (request_.newest_chain && newest != nullptr && set.id.chain != newest->id.chain) continue;
      if (is_there(copy, set) || request_.leave.contains(set.id)) continue;
      if (!set.sealed() || set.exchanged || !set.vouched) {
        not_copied(set, set.problem.empty() ? "it was exchanged for another" : set.problem);
        continue;
      }
      wanted.push_back(&set);
      all_bytes_ += bytes_of(set.seal);
      going_on.insert(work_folder(set));
    }
    // Of sets that went meanwhile: nobody else leaves such folders in a copy.
    for (const std::string& folder : copy.leftovers()) {
      if (folder.ends_with(kUnfinishedSuffix) && !going_on.contains(folder)) copy.discard(folder);
    }
    for (const ShelfSet* set : wanted) copy_set(*set);
  }

  bool is_there(const Shelf& copy, const ShelfSet& set) {
    const ShelfSet* there = copy.find(set.id);
    if (there == nullptr) return false;
    if (there->sealed() && set.sealed() && there->seal_digest == set.seal_digest) {
      ++result_.there;
      has_.insert(set.id);
      copy_trust(set);
    } else if (!there->sealed()) {
      not_copied(set, "the copy has it, damaged (" + there->problem_file + ": " + there->problem +
                          "); remove its folder there to have it copied again");
    } else if (set.sealed()) {
      not_copied(set, "the copy has another set of that number, which stays");
    }
    return true;
  }

  void not_copied(const ShelfSet& set, const std::string& why) {
    result_.problems.push_back(set.id.to_string() + ": " + why);
  }

  void copy_trust(const ShelfSet& set) {
    // Where nothing can be renamed the copy's folder has another name, and goes without.
    if (set.trusted.empty() || !to_->exists(set.folder)) return;
    copy_signed(set.folder + "/" + kTrustedFile);
  }

  void copy_set(const ShelfSet& set) {
    std::unique_ptr<PlaceHold> held;
    try {
      held = from_.shelf.hold(set.id);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::kNoMatch) throw;
      return;  // pruned meanwhile, and before it what is based on it
    }
    if (set.seal.based_on && !has_.contains(*set.seal.based_on)) {
      return not_copied(set, "it is based on " + set.seal.based_on->to_string() +
                                 ", which the copy does not have");
    }
    std::string folder = final_folder(set), work = work_folder(set);
    to_->make_folder(work);
    for (const Seal::File& file : set.seal.files()) {
      std::string why = copy_file(set, file, work + "/" + file.name);
      if (!why.empty()) return not_copied(set, file.name + " " + why);
    }
    // The seal comes last: without it the folder is no set.
    for (const std::string& name : {std::string(kSealFile) + ".minisig", std::string(kSealFile)}) {
      write_small(*to_, work + "/" + name, read_small(source_, set.folder + "/" + name));
    }
    Digest seal = digest_of(as_bytes(read_small(*to_, work + "/" + kSealFile)));
    if (seal != set.seal_digest) return not_copied(set, "its seal changed meanwhile");
    renamed_if_offered(*to_, work, folder);
    has_.insert(set.id);
    result_.copied.push_back(set.id);
    copy_trust(set);
  }

  // Why the source cannot be copied; empty if it was. Throws what the copy's disk says.
  std::string copy_file(const ShelfSet& set, const Seal::File& file, const std::string& to) {
    const std::function<bool()> stop = [this] { return request_.stop && request_.stop(); };
    Progress progress{"copying"};
    progress.bytes_done = passed_;
    progress.bytes_total = all_bytes_;
    progress.current = set.id.to_string() + " " + file.name;
    progress.current_total = file.bytes;
    passed_ += file.bytes;
    if (was_copied(file, to, stop)) return "";
    std::unique_ptr<ByteSource> from;
    std::string why = of_source([&] { from = source_.open(set.folder + "/" + file.name); });
    if (!why.empty()) return why;
    if (from->size() != file.bytes) return kNotAsWritten;
    BlockDigester digester;
    {
      auto target = to_->create(to);
      Bytes buffer(1 << 20);
      for (std::uint64_t at = 0; at < file.bytes;) {
        if (stop()) throw Error(ErrorKind::kStopped, "stopped");
        auto portion =
            std::span(buffer).first(std::min<std::uint64_t>(buffer.size(), file.bytes - at));
        why = of_source([&] { from->read_at(at, portion); });
        if (!why.empty()) return why;
        digester.update(portion);
        target->write(portion);
        at += portion.size();
        result_.bytes += portion.size();
        progress.bytes_done += portion.size();
        progress.current_done = at;
        observer_.progress(progress);
      }
      target->sync();
    }
    if (digest_of_blocks(digester.finish()) != file.digest) return kNotAsWritten;
    read_back(*to_, to, file.bytes, file.digest, stop);
    return "";
  }

  // Why it failed, if it is this file of the shelf alone that did.
  static std::string of_source(const std::function<void()>& read) {
    try {
      read();
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kPlace || error.kind() == ErrorKind::kStopped) throw;
      return "cannot be read: " + error.message();
    }
    return "";
  }

  // Whether a copy that was cut off had come this far.
  bool was_copied(const Seal::File& file, const std::string& to,
                  const std::function<bool()>& stop) const {
    if (!to_->exists(to)) return false;
    auto there = to_->open(to, true);
    return there->size() == file.bytes && stored_digest_of(*there, stop) == file.digest;
  }

  OpenShelf& from_;
  Place& source_;
  const CopyRequest& request_;
  Observer& observer_;
  std::shared_ptr<Place> disk_, to_;
  ShelfLabel label_;
  bool label_is_there_ = false;
  std::set<SetId> has_;  // that lie in the copy
  std::uint64_t all_bytes_ = 0, passed_ = 0;
  CopyResult result_;
};

}  // namespace

CopyResult copy_shelf(OpenShelf& from, const CopyRequest& request, Observer& observer) {
  try {
    return ShelfCopying(from, request, observer).run();
  } catch (const Error& error) {
    throw named_if_lost(from, error);
  }
}

std::optional<OpenShelf> find_copy(const ShelfState& of, const std::string& place) {
  const ShelfRecord& record = of.record;
  if (!seems_shelf(place, record.folder)) return std::nullopt;
  std::shared_ptr<Place> disk = open_place(place, record.folder);
  ShelfLabel label = Shelf::read_label(*disk);
  if (label.shelf != record.shelf || !label.copy_of) return std::nullopt;
  OpenShelf open{disk, Shelf(disk, std::move(label), record.keys.signers), of,
                 place + "/" + record.folder};
  if (!open.shelf.label_signed()) return std::nullopt;
  return open;
}

}  // namespace kestrum
