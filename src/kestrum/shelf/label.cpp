#include "kestrum/shelf/label.h"

#include <algorithm>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/base/uuid.h"
#include "kestrum/job/job_store.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

void parse_earlier(const Json& list, const std::string& what, ShelfLabel& label) {
  if (!list.is_array()) throw Error(ErrorKind::kDamage, what + ": \"earlier\" is not a list");
  for (const Json& item : list) {
    EarlierDisk disk = EarlierDisk::parse(item, what);
    bool in_order = label.earlier.empty() || (label.earlier.back().number < disk.number &&
                                              label.earlier.back().seals <= disk.seals);
    if (!in_order || disk.number >= label.moves) {
      throw Error(ErrorKind::kDamage, what + ": \"earlier\" is not in order");
    }
    label.earlier.push_back(std::move(disk));
  }
}

}  // namespace

Json EarlierDisk::to_json() const {
  return {{"disk", number}, {"name", printable(name)}, {"seals", seals}};
}

EarlierDisk EarlierDisk::parse(const Json& json, const std::string& what) {
  return {json_uint(json, "disk", what), json_string(json, "name", what),
          json_uint(json, "seals", what)};
}

std::string disk_name(const std::string& place, std::uint64_t number,
                      const std::vector<EarlierDisk>& earlier) {
  std::string name = base_name(place);
  bool taken = std::any_of(earlier.begin(), earlier.end(),
                           [&](const EarlierDisk& disk) { return disk.name == name; });
  return taken ? name + "#" + std::to_string(number + 1) : name;
}

const EarlierDisk* ShelfLabel::lies_on(std::uint64_t seal, std::optional<std::uint64_t> on) const {
  // All of what lay on disks that the label does not name any more was copied to the next.
  if (on) {
    if (const EarlierDisk* disk = earlier_disk(*on)) return disk;
    if (*on == moves) return nullptr;
  }
  for (const EarlierDisk& disk : earlier) {
    if (seal <= disk.seals) return &disk;
  }
  return nullptr;
}

const EarlierDisk* ShelfLabel::earlier_disk(std::uint64_t number) const {
  auto found = std::find_if(earlier.begin(), earlier.end(),
                            [&](const EarlierDisk& disk) { return disk.number == number; });
  return found == earlier.end() ? nullptr : &*found;
}

std::string ShelfLabel::to_json() const {
  Json json = new_document("kestrum-shelf");
  json["shelf"] = shelf;
  json["job"] = job;
  json["host"] = host;
  json["owner"] = owner;
  json["created"] = format_rfc3339(created);
  json["simulated"] = simulated;
  json["recipient"] = recipient ? Json(recipient->to_string()) : Json(nullptr);
  if (copy_of) json["copy_of"] = *copy_of;
  if (moves != 0) json["moves"] = moves;
  if (moved_to) json["moved_to"] = *moved_to;
  if (waits || !earlier.empty()) json["needs"].push_back(kNeedsDisks);
  if (filled) json["filled"] = true;
  if (waits) json["waits"] = *waits;
  for (const EarlierDisk& disk : earlier) json["earlier"].push_back(disk.to_json());
  return json.dump(2) + "\n";
}

ShelfLabel ShelfLabel::parse(std::string_view text, const std::string& what) {
  Json json = parse_document(text, "kestrum-shelf", what);
  ShelfLabel label;
  label.shelf = json_string(json, "shelf", what);
  label.job = json_string(json, "job", what);
  label.host = json_string(json, "host", what);
  label.owner = json_string(json, "owner", what);
  label.created = document_time(json, "created", what);
  if (!is_uuid(label.shelf)) throw Error(ErrorKind::kDamage, what + ": \"shelf\" is not a UUID");
  // They are printed, and become names of files, before anything could vouch for them.
  if (bad_job_name(label.job)) throw Error(ErrorKind::kDamage, what + ": \"job\" is no job's name");
  if (!is_host_name(label.host))
    throw Error(ErrorKind::kDamage, what + ": \"host\" is no PC's name");
  label.simulated = json_member(json, "simulated", what) == true;
  const Json& recipient = json_member(json, "recipient", what);
  if (!recipient.is_null()) {
    label.recipient = Recipient::parse(json_string(json, "recipient", what));
    if (!label.recipient) {
      throw Error(ErrorKind::kDamage, what + ": \"recipient\" is not an age recipient");
    }
  }
  if (json.contains("copy_of")) label.copy_of = json_string(json, "copy_of", what);
  if (json.contains("moves")) label.moves = json_uint(json, "moves", what);
  if (json.contains("moved_to")) label.moved_to = json_string(json, "moved_to", what);
  if (json.contains("filled")) label.filled = json_member(json, "filled", what) == true;
  if (json.contains("waits")) label.waits = json_string(json, "waits", what);
  if (label.waits && !is_uuid(*label.waits)) {
    throw Error(ErrorKind::kDamage, what + ": \"waits\" is not a UUID");
  }
  if (json.contains("earlier")) parse_earlier(json["earlier"], what, label);
  return label;
}

}  // namespace kestrum
