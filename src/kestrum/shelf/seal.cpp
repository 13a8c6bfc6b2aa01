#include "kestrum/shelf/seal.h"

#include <algorithm>
#include <array>
#include <set>
#include <utility>

#include "kestrum/archive/block_digests.h"
#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/shelf/document.h"

namespace kestrum {
namespace {

constexpr const char* kSealFormat = "kestrum-seal";

constexpr const char* kPart = "part";
constexpr const char* kLedger = "ledger";
constexpr const char* kBlocks = "blocks";

template <typename Totals>
auto total_fields(Totals& t) {
  return std::array<std::pair<const char*, decltype(&t.files)>, 4>{
      {{"files", &t.files}, {"bytes", &t.bytes}, {"copied", &t.copied}, {"stored", &t.stored}}};
}

Json file_line(const char* role, const std::string& name, std::uint64_t bytes,
               const Digest& digest) {
  return {{"role", role}, {"name", name}, {"bytes", bytes}, {"digest", to_hex(digest)}};
}

// File names in a seal are ours; anything else would reach outside the set's folder.
std::string plain_name(const Json& json, const char* key, const std::string& what) {
  std::string name = json_string(json, key, what);
  bool plain = !name.empty() && name[0] != '.' && std::all_of(name.begin(), name.end(), [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-' || c == '.';
  });
  if (!plain) throw Error(ErrorKind::kDamage, what + ": a file name that is not one of ours");
  return name;
}

}  // namespace

std::vector<Seal::File> Seal::files() const {
  std::vector<File> files;
  files.reserve(parts.size() + 3);
  for (const PartInfo& part : parts) files.push_back({part.name, part.bytes, part.digest, true});
  files.push_back({ledger_name, ledger_bytes, ledger_digest, false});
  files.push_back({ledger_copy, ledger_bytes, ledger_digest, false});
  files.push_back({kBlocksFile, blocks_bytes, blocks_digest, false});
  return files;
}

std::uint64_t Seal::blocks_bytes_needed() const {
  std::uint64_t bytes = size_of_blocks(ledger_bytes);
  for (const PartInfo& part : parts) bytes += size_of_blocks(part.bytes);
  return bytes;
}

SetFacts Seal::facts() const {
  return {set, kind, based_on, started, true};
}

std::string Seal::to_json() const {
  Json json = new_document(kSealFormat);
  json["shelf"] = shelf;
  json["set"] = set.to_string();
  json["kind"] = kind_name(kind);
  json["based_on"] = based_on ? Json(based_on->to_string()) : Json(nullptr);
  if (ranges) json["needs"].push_back(kNeedsRanges);
  if (!disks.empty()) json["needs"].push_back(kNeedsDisks);
  json["number"] = number;
  json["recipient"] = recipient ? Json(recipient->to_string()) : Json(nullptr);
  json["begun"] = format_rfc3339(begun);
  json["started"] = format_rfc3339(started);
  json["finished"] = format_rfc3339(finished);
  json["outcome"] = outcome;
  json["verified"] = verified;
  json["suspect"] = suspect;
  json["lacking"] = lacking;
  json["compressed"] = compressed;
  for (auto [key, value] : total_fields(totals)) json["totals"][key] = *value;
  for (const auto& [disk, name] : disks) {
    json["disks"].push_back({{"disk", disk}, {"name", printable(name)}});
  }
  json["files"] = Json::array();
  for (const PartInfo& part : parts) {
    Json line = file_line(kPart, part.name, part.bytes, part.digest);
    line["tar_offset"] = part.tar_offset;
    if (!disks.empty() && part.disk) line["disk"] = *part.disk;
    json["files"].push_back(std::move(line));
  }
  for (const std::string& name : {ledger_name, ledger_copy}) {
    json["files"].push_back(file_line(kLedger, name, ledger_bytes, ledger_digest));
  }
  json["files"].push_back(file_line(kBlocks, kBlocksFile, blocks_bytes, blocks_digest));
  json["base_seal"] = base_seal ? Json(to_hex(*base_seal)) : Json(nullptr);
  json["previous_seal"] = previous_seal ? Json(to_hex(*previous_seal)) : Json(nullptr);
  return json.dump(2) + "\n";
}

namespace {

void parse_disks(const Json& json, const std::string& what, Seal& seal) {
  const Json& disks = json_member(json, "disks", what);
  if (!disks.is_array() || disks.empty()) {
    throw Error(ErrorKind::kDamage, what + ": \"disks\" is not a list");
  }
  for (const Json& disk : disks) {
    seal.disks[json_uint(disk, "disk", what)] = json_string(disk, "name", what);
  }
}

// The list "files". Throws Error(kDamage) unless it has parts in order, two names of the ledger and
// one file of blocks.
void parse_files(const Json& json, const std::string& what, Seal& seal) {
  auto bad = [&](const char* why) { return Error(ErrorKind::kDamage, what + ": " + why); };
  const Json& files = json_member(json, "files", what);
  if (!files.is_array()) throw bad("\"files\" is not a list");
  std::set<std::string> names;
  std::vector<PartInfo> ledgers, blocks;
  for (const Json& file : files) {
    std::string role = json_string(file, "role", what);
    PartInfo info{plain_name(file, "name", what), json_uint(file, "bytes", what), 0,
                  document_digest(file, "digest", what)};
    if (!names.insert(info.name).second) throw bad("a file stands twice in it");
    if (role == kLedger)
      ledgers.push_back(std::move(info));
    else if (role == kBlocks)
      blocks.push_back(std::move(info));
    else if (role == kPart) {
      info.tar_offset = json_uint(file, "tar_offset", what);
      bool in_order = seal.parts.empty() ? info.tar_offset == 0
                                         : info.tar_offset > seal.parts.back().tar_offset;
      if (!in_order) throw bad("its parts are not in order");
      if (!seal.disks.empty()) {
        info.disk = json_uint(file, "disk", what);
        if (!seal.disks.contains(*info.disk))
          throw bad("a part lies on a disk that it does not name");
      }
      seal.parts.push_back(std::move(info));
    }
  }
  if (seal.parts.empty()) throw bad("it names no part");
  if (ledgers.size() != 2 || ledgers[0].bytes != ledgers[1].bytes ||
      ledgers[0].digest != ledgers[1].digest) {
    throw bad("it does not name a ledger and its copy");
  }
  if (blocks.size() != 1 || blocks[0].name != kBlocksFile) throw bad("it names no \"blocks\"");
  seal.ledger_name = ledgers[0].name;
  seal.ledger_copy = ledgers[1].name;
  seal.ledger_bytes = ledgers[0].bytes;
  seal.ledger_digest = ledgers[0].digest;
  seal.blocks_bytes = blocks[0].bytes;
  seal.blocks_digest = blocks[0].digest;
  if (seal.blocks_bytes != seal.blocks_bytes_needed()) {
    throw bad("\"blocks\" is not as long as its files ask for");
  }
}

}  // namespace

Seal Seal::parse(std::string_view text, const std::string& what) {
  auto bad = [&](const char* why) { return Error(ErrorKind::kDamage, what + ": " + why); };
  Json json = parse_document(text, kSealFormat, what);
  Seal seal;
  seal.shelf = json_string(json, "shelf", what);
  seal.set = document_set(json, "set", what);
  seal.kind = document_kind(json, "kind", what);
  seal.based_on = document_optional_set(json, "based_on", what);
  seal.number = json_uint(json, "number", what);
  if (seal.number == 0) throw bad("its number is 0");
  if (!json_member(json, "recipient", what).is_null()) {
    seal.recipient = Recipient::parse(json_string(json, "recipient", what));
    if (!seal.recipient) throw bad("\"recipient\" is not what it should be");
  }
  seal.begun = document_time(json, "begun", what);
  seal.started = document_time(json, "started", what);
  seal.finished = document_time(json, "finished", what);
  seal.outcome = json_string(json, "outcome", what);
  seal.verified = json_string(json, "verified", what);
  seal.suspect = json_member(json, "suspect", what) == true;
  seal.lacking = json_member(json, "lacking", what) != false;
  seal.compressed = json_member(json, "compressed", what) != false;
  const Json& totals = json_member(json, "totals", what);
  for (auto [key, value] : total_fields(seal.totals)) *value = json_uint(totals, key, what);
  seal.ranges = document_needs(json, kNeedsRanges);
  if (document_needs(json, kNeedsDisks)) parse_disks(json, what, seal);
  parse_files(json, what, seal);
  seal.base_seal = document_optional_digest(json, "base_seal", what);
  seal.previous_seal = document_optional_digest(json, "previous_seal", what);
  bool full = seal.kind == SetKind::kFull;
  if (full != !seal.based_on || full != (seal.set.link == 0)) throw bad("kind and base disagree");
  if (seal.based_on && (seal.based_on->chain != seal.set.chain || !(*seal.based_on < seal.set))) {
    throw bad("it is based on a set that cannot be its base");
  }
  return seal;
}

}  // namespace kestrum
