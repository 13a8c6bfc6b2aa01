#include "kestrum/machine/machine_state.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cstdlib>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr const char* kPinFormat = "kestrum-pin";

}  // namespace

std::string Pin::to_json() const {
  Json json = new_document(kPinFormat);
  json["shelf"] = shelf;
  json["job"] = job;
  json["host"] = host;
  put_name(json, "place", place);
  json["folder"] = folder;
  json["recipient"] = recipient ? Json(recipient->to_string()) : Json(nullptr);
  json["next_recipient"] = next_recipient ? Json(next_recipient->to_string()) : Json(nullptr);
  json["keys"] = Json::array();
  for (const VerifyKey& key : keys) json["keys"].push_back(key.to_string());
  json["highest_chain"] = highest_chain;
  json["newest_set"] = newest_set ? Json(newest_set->to_string()) : Json(nullptr);
  json["newest_seal"] = newest_seal ? Json(to_hex(*newest_seal)) : Json(nullptr);
  json["held_full"] = held_full ? Json(held_full->to_string()) : Json(nullptr);
  json["held_files"] = held_files;
  json["clock_confirmed"] = clock_confirmed ? Json(clock_confirmed->to_string()) : Json(nullptr);
  json["full_because"] = full_because;
  json["suspect_since"] = suspect_since ? Json(suspect_since->to_string()) : Json(nullptr);
  json["last_seen"] = last_seen;
  json["last_unlocked"] = last_unlocked;
  json["since"] = since;
  json["drill"] = {{"when", drill.when}, {"files", drill.files}, {"mismatches", drill.mismatches}};
  json["damage"] = Json::array();
  for (const KnownDamage& known : damage) {
    json["damage"].push_back(
        {{"set", known.set.to_string()},
         {"file", known.file},
         {"reason", printable(known.reason)},
         {"found", known.found},
         {"mended_by", known.mended_by ? Json(known.mended_by->to_string()) : Json(nullptr)}});
  }
  return json.dump(2) + "\n";
}

Pin Pin::parse(std::string_view text, const std::string& what) {
  Json json = parse_document(text, kPinFormat, what);
  Pin pin;
  pin.shelf = json_string(json, "shelf", what);
  pin.job = json_string(json, "job", what);
  pin.host = json_string(json, "host", what);
  get_name(json, "place", pin.place, what);
  pin.folder = json_string(json, "folder", what);
  if (!json_member(json, "recipient", what).is_null()) {
    pin.recipient = Recipient::parse(json_string(json, "recipient", what));
    if (!pin.recipient) throw Error(ErrorKind::kDamage, what + ": malformed recipient");
  }
  if (json.contains("next_recipient") && json["next_recipient"].is_string()) {
    pin.next_recipient = Recipient::parse(json["next_recipient"].get<std::string>());
  }
  for (const Json& item : json_member(json, "keys", what)) {
    auto key = item.is_string() ? VerifyKey::parse(item.get<std::string>()) : std::nullopt;
    if (!key) throw Error(ErrorKind::kDamage, what + ": malformed key");
    pin.keys.push_back(*key);
  }
  pin.highest_chain = static_cast<std::uint32_t>(json_uint(json, "highest_chain", what));
  pin.newest_set = document_optional_set(json, "newest_set", what);
  pin.newest_seal = document_optional_digest(json, "newest_seal", what);
  if (json.contains("held_full")) {
    pin.held_full = document_optional_set(json, "held_full", what);
    pin.held_files = json_uint(json, "held_files", what);
  }
  if (json.contains("clock_confirmed")) {
    pin.clock_confirmed = document_optional_set(json, "clock_confirmed", what);
  }
  if (json.contains("full_because")) {
    pin.full_because = json_string(json, "full_because", what);
  }
  if (json.contains("suspect_since")) {
    pin.suspect_since = document_optional_set(json, "suspect_since", what);
  }
  pin.last_seen = json_int(json, "last_seen", what);
  pin.last_unlocked = json_int(json, "last_unlocked", what);
  if (json.contains("since")) pin.since = json_int(json, "since", what);
  if (json.contains("drill")) {
    const Json& drill = json["drill"];
    pin.drill = {json_int(drill, "when", what), json_uint(drill, "files", what),
                 json_uint(drill, "mismatches", what)};
  }
  if (json.contains("damage")) {
    for (const Json& item : json_member(json, "damage", what)) {
      pin.damage.push_back({document_set(item, "set", what), json_string(item, "file", what),
                            json_string(item, "reason", what), json_int(item, "found", what),
                            document_optional_set(item, "mended_by", what)});
    }
  }
  return pin;
}

void ShelfState::save_pin() const {
  write_file(folder_ + "/pin.json", pin.to_json());
}

void ShelfState::update_pin(const std::function<void(Pin&)>& change) {
  std::string path = folder_ + "/pin.json", lock_path = folder_ + "/pin.lock";
  Fd lock(::open(lock_path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
  if (!lock || ::flock(lock.get(), LOCK_EX) != 0) throw system_error(errno, lock_path);
  pin = Pin::parse(read_file(path), path);
  change(pin);
  save_pin();
}

SigningKey ShelfState::signing_key() const {
  std::string text = read_file(folder_ + "/signing.key");
  SigningKey key = SigningKey::load(text);
  wipe(text.data(), text.size());
  return key;
}

void ShelfState::save_signing_key(const SigningKey& key) const {
  write_file(folder_ + "/signing.key", key.save().text());
}

std::string MachineState::machine_id() const {
  std::string path = home_.state + "/machine";
  if (path_exists(path)) {
    std::string id(trimmed(read_file(path)));
    if (is_uuid(id)) return id;
  }
  make_folders(home_.state);
  std::string id = make_uuid();
  write_file(path, id + "\n");
  return id;
}

std::vector<ShelfState> MachineState::shelves(const std::optional<std::string>& job) const {
  std::vector<ShelfState> shelves;
  if (!is_folder(home_.state)) return shelves;
  for (const auto& name : list_folder(home_.state)) {
    std::string folder = home_.state + "/" + name;
    if (!is_uuid(name) || !path_exists(folder + "/pin.json")) continue;
    try {
      Pin pin = Pin::parse(read_file(folder + "/pin.json"), folder + "/pin.json");
      if (!job || pin.job == *job) shelves.emplace_back(folder, std::move(pin));
    } catch (const Error&) {
      continue;
    }
  }
  return shelves;
}

ShelfState MachineState::create(const Pin& pin) const {
  std::string folder = home_.state + "/" + pin.shelf;
  make_folders(folder);
  return ShelfState(folder, pin);
}

}  // namespace kestrum
