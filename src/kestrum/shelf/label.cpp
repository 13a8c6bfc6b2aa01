#include "kestrum/shelf/label.h"

#include "kestrum/base/error.h"
#include "kestrum/base/host_name.h"
#include "kestrum/base/json.h"
#include "kestrum/base/units.h"
#include "kestrum/base/uuid.h"
#include "kestrum/job/job_store.h"
#include "kestrum/shelf/document.h"

namespace kestrum {

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
  return label;
}

}  // namespace kestrum
