#include "kestrum/machine/shelf_record.h"

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr const char* kRecordFormat = "kestrum-pin";

}  // namespace

std::vector<EarlierDisk> ShelfRecord::earlier_disks() const {
  std::vector<EarlierDisk> disks;
  for (const FormerDisk& former : earlier) disks.push_back(former.disk);
  return disks;
}

std::string ShelfRecord::to_json() const {
  Json json = new_document(kRecordFormat);
  json["shelf"] = shelf;
  json["job"] = job;
  json["host"] = host;
  put_name(json, "place", place);
  json["folder"] = folder;
  json["recipient"] = keys.recipient ? Json(keys.recipient->to_string()) : Json(nullptr);
  json["next_recipient"] =
      keys.next_recipient ? Json(keys.next_recipient->to_string()) : Json(nullptr);
  json["still_to_do"] = keys.still_to_do;
  json["keys"] = Json::array();
  for (const VerifyKey& key : keys.signers) json["keys"].push_back(key.to_string());
  json["highest_chain"] = newest.highest_chain;
  json["newest_set"] = newest.set ? Json(newest.set->to_string()) : Json(nullptr);
  json["newest_seal"] = newest.seal ? Json(to_hex(*newest.seal)) : Json(nullptr);
  json["newest_number"] = newest.number;
  json["others"] = others_json(others);
  json["released"] = Json::array();
  for (const ReleasedFolder& lost : released) {
    Json item;
    put_name(item, "path", lost.path);
    item["because"] = printable(lost.because);
    json["released"].push_back(std::move(item));
  }
  json["folders_here"] = Json::array();
  for (const FolderHere& moved : folders_here) {
    Json item = {{"up_to", moved.up_to.to_string()}};
    put_name(item, "there", moved.there);
    put_name(item, "here", moved.here);
    json["folders_here"].push_back(std::move(item));
  }
  json["copies"] = Json::array();
  for (const CopyRecord& copy : copies) {
    Json item = {{"when", copy.when},
                 {"newest", copy.newest ? Json(copy.newest->to_string()) : Json(nullptr)},
                 {"sets", copy.sets},
                 {"problems", copy.problems}};
    put_name(item, "place", copy.place);
    json["copies"].push_back(std::move(item));
  }
  json["clock_confirmed"] = clock_confirmed ? Json(clock_confirmed->to_string()) : Json(nullptr);
  json["full_because"] = full_because;
  json["suspect_since"] = suspect_since ? Json(suspect_since->to_string()) : Json(nullptr);
  json["last_seen"] = last_seen;
  json["last_unlocked"] = last_unlocked;
  json["since"] = since;
  json["moves"] = moves;
  put_name(json, "moving_to", moving_to);
  for (const FormerDisk& former : earlier) {
    Json item = former.disk.to_json();
    put_name(item, "place", former.place);
    json["earlier"].push_back(std::move(item));
  }
  if (!label_due.empty()) json["label_due"] = label_due;
  if (full.since != 0) json["full"] = {{"since", full.since}, {"free", full.free}};
  json["machine"] = machine;
  json["verified"] = {{"when", verified.when},
                      {"parts", verified.parts},
                      {"damaged", verified.damaged},
                      {"contents", verified.contents}};
  json["verify_round"] = nullptr;
  if (verify_round.began != 0) {
    const auto& set = verify_round.set;
    json["verify_round"] = {
        {"began", verify_round.began},     {"set", set ? Json(set->to_string()) : Json(nullptr)},
        {"file", verify_round.file},       {"parts", verify_round.parts},
        {"damaged", verify_round.damaged}, {"lacks_disk", verify_round.lacks_disk ? 1 : 0}};
  }
  json["drill"] = {{"when", drill.when}, {"files", drill.files}, {"mismatches", drill.mismatches}};
  json["card_made"] = card_made;
  json["card_outdated"] = card_outdated ? 1 : 0;
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

ShelfRecord ShelfRecord::parse(std::string_view text, const std::string& what) {
  Json json = parse_document(text, kRecordFormat, what);
  ShelfRecord record;
  record.shelf = json_string(json, "shelf", what);
  record.job = json_string(json, "job", what);
  record.host = json_string(json, "host", what);
  get_name(json, "place", record.place, what);
  record.folder = json_string(json, "folder", what);
  if (!json_member(json, "recipient", what).is_null()) {
    record.keys.recipient = Recipient::parse(json_string(json, "recipient", what));
    if (!record.keys.recipient) throw Error(ErrorKind::kDamage, what + ": malformed recipient");
  }
  if (json.contains("next_recipient") && json["next_recipient"].is_string()) {
    record.keys.next_recipient = Recipient::parse(json["next_recipient"].get<std::string>());
  }
  record.keys.still_to_do = json_string(json, "still_to_do", what);
  for (const Json& item : json_member(json, "keys", what)) {
    auto key = item.is_string() ? VerifyKey::parse(item.get<std::string>()) : std::nullopt;
    if (!key) throw Error(ErrorKind::kDamage, what + ": malformed key");
    record.keys.signers.push_back(*key);
  }
  record.newest.highest_chain = static_cast<std::uint32_t>(json_uint(json, "highest_chain", what));
  record.newest.set = document_optional_set(json, "newest_set", what);
  record.newest.seal = document_optional_digest(json, "newest_seal", what);
  record.newest.number = json_uint(json, "newest_number", what);
  record.others = parse_others(json_member(json, "others", what), what);
  for (const Json& item : json_member(json, "released", what)) {
    ReleasedFolder folder;
    if (!item.is_object() || !get_name(item, "path", folder.path, what)) {
      throw Error(ErrorKind::kDamage, what + ": malformed \"released\"");
    }
    folder.because = json_string(item, "because", what);
    record.released.push_back(std::move(folder));
  }
  if (json.contains("folders_here")) {
    for (const Json& item : json_member(json, "folders_here", what)) {
      FolderHere moved;
      if (!item.is_object() || !get_name(item, "there", moved.there, what) ||
          !get_name(item, "here", moved.here, what)) {
        throw Error(ErrorKind::kDamage, what + ": malformed \"folders_here\"");
      }
      moved.up_to = document_set(item, "up_to", what);
      record.folders_here.push_back(std::move(moved));
    }
  }
  if (json.contains("copies")) {
    for (const Json& item : json["copies"]) {
      CopyRecord copy;
      if (!item.is_object() || !get_name(item, "place", copy.place, what)) {
        throw Error(ErrorKind::kDamage, what + ": malformed \"copies\"");
      }
      copy.when = json_int(item, "when", what);
      copy.newest = document_optional_set(item, "newest", what);
      copy.sets = json_uint(item, "sets", what);
      copy.problems = json_uint(item, "problems", what);
      record.copies.push_back(std::move(copy));
    }
  }
  if (json.contains("clock_confirmed")) {
    record.clock_confirmed = document_optional_set(json, "clock_confirmed", what);
  }
  if (json.contains("full_because")) {
    record.full_because = json_string(json, "full_because", what);
  }
  if (json.contains("suspect_since")) {
    record.suspect_since = document_optional_set(json, "suspect_since", what);
  }
  record.last_seen = json_int(json, "last_seen", what);
  record.last_unlocked = json_int(json, "last_unlocked", what);
  if (json.contains("machine")) record.machine = json_string(json, "machine", what);
  if (json.contains("since")) record.since = json_int(json, "since", what);
  if (json.contains("moves")) record.moves = json_uint(json, "moves", what);
  get_name(json, "moving_to", record.moving_to, what);
  if (json.contains("earlier")) {
    for (const Json& item : json["earlier"]) {
      FormerDisk former;
      if (!item.is_object() || !get_name(item, "place", former.place, what)) {
        throw Error(ErrorKind::kDamage, what + ": malformed \"earlier\"");
      }
      former.disk = EarlierDisk::parse(item, what);
      record.earlier.push_back(std::move(former));
    }
  }
  if (json.contains("label_due")) record.label_due = json_string(json, "label_due", what);
  if (json.contains("full")) {
    record.full = {json_int(json["full"], "since", what), json_uint(json["full"], "free", what)};
  }
  if (json.contains("card_made")) {
    record.card_made = json_int(json, "card_made", what);
    record.card_outdated = json_int(json, "card_outdated", what) != 0;
  }
  if (json.contains("verified")) {
    const Json& verified = json["verified"];
    const Json& contents = json_member(verified, "contents", what);
    record.verified = {json_int(verified, "when", what), json_uint(verified, "parts", what),
                       json_uint(verified, "damaged", what),
                       contents.is_boolean() && contents.get<bool>()};
  }
  if (json.contains("verify_round") && !json["verify_round"].is_null()) {
    const Json& round = json["verify_round"];
    std::optional<SetId> set;
    if (!json_member(round, "set", what).is_null()) set = document_set(round, "set", what);
    record.verify_round = {json_int(round, "began", what),
                           set,
                           json_string(round, "file", what),
                           json_uint(round, "parts", what),
                           json_uint(round, "damaged", what),
                           round.contains("lacks_disk") && round["lacks_disk"] == 1};
  }
  if (json.contains("drill")) {
    const Json& drill = json["drill"];
    record.drill = {json_int(drill, "when", what), json_uint(drill, "files", what),
                    json_uint(drill, "mismatches", what)};
  }
  if (json.contains("damage")) {
    for (const Json& item : json_member(json, "damage", what)) {
      record.damage.push_back({document_set(item, "set", what), json_string(item, "file", what),
                               json_string(item, "reason", what), json_int(item, "found", what),
                               document_optional_set(item, "mended_by", what)});
    }
  }
  return record;
}

}  // namespace kestrum
