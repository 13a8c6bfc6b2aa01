#include "kestrum/machine/pending_set.h"

#include <unistd.h>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/crypto/digest.h"

namespace kestrum {
namespace {

std::string to_text(const PendingSet& pending) {
  const IndexedSet& set = pending.set;
  Json json = {{"set", set.set.sequence()},
               {"kind", kind_name(set.kind)},
               {"base", set.based_on ? Json(set.based_on->sequence()) : Json(nullptr)},
               {"started", set.started},
               {"roots", roots_json(set.roots)},
               {"lacking", lacking_json(set.lacking)},
               {"ledger", to_hex(set.ledger_digest)},
               {"lines", set.lines},
               {"journal", pending.journal}};
  put_name(json, "suspect_why", set.suspect_why);
  return json.dump() + "\n";
}

PendingSet parse(std::string_view text, const std::string& what) {
  Json json = parse_json(text, what);
  PendingSet pending;
  IndexedSet& set = pending.set;
  auto kind = parse_kind(json_string(json, "kind", what));
  auto digest = parse_digest(json_string(json, "ledger", what));
  if (!kind || !digest) throw Error(ErrorKind::kDamage, what + ": not a pending set");
  set.set = SetId::from_sequence(json_int(json, "set", what));
  set.kind = *kind;
  if (!json_member(json, "base", what).is_null()) {
    set.based_on = SetId::from_sequence(json_int(json, "base", what));
  }
  set.started = json_int(json, "started", what);
  set.roots = parse_roots(json_member(json, "roots", what));
  set.lacking = parse_lacking(json_member(json, "lacking", what));
  set.ledger_digest = *digest;
  set.lines = static_cast<std::uint64_t>(json_int(json, "lines", what));
  get_name(json, "suspect_why", set.suspect_why, what);
  pending.journal = json_string(json, "journal", what);
  return pending;
}

}  // namespace

Json roots_json(const std::vector<KnownRoot>& roots) {
  Json list = Json::array();
  for (const KnownRoot& root : roots) {
    Json item;
    put_name(item, "path", root.path);
    item["absent"] = root.absent;
    list.push_back(std::move(item));
  }
  return list;
}

std::vector<KnownRoot> parse_roots(const Json& roots) {
  std::vector<KnownRoot> list;
  for (const Json& root : roots) {
    KnownRoot known;
    known.absent = root.value("absent", false);
    if (get_name(root, "path", known.path, "index")) list.push_back(std::move(known));
  }
  return list;
}

Json lacking_json(const std::optional<std::vector<Lacking>>& lacking) {
  if (!lacking) return nullptr;
  Json list = Json::array();
  for (const Lacking& lack : *lacking) {
    Json item = {{"set", lack.set.sequence()}};
    put_name(item, "path", lack.path);
    list.push_back(std::move(item));
  }
  return list;
}

std::optional<std::vector<Lacking>> parse_lacking(const Json& lacking) {
  if (lacking.is_null()) return std::nullopt;
  std::vector<Lacking> list;
  for (const Json& item : lacking) {
    Lacking lack;
    lack.set = SetId::from_sequence(item.value("set", std::int64_t{0}));
    if (get_name(item, "path", lack.path, "index")) list.push_back(std::move(lack));
  }
  return list;
}

std::optional<PendingSet> PendingFile::read() const {
  if (path_.empty()) return in_memory_;
  if (!path_exists(path_)) return std::nullopt;
  std::string text = read_file(path_);
  try {
    return parse(text, path_);
  } catch (const Error&) {
    return std::nullopt;
  } catch (const Json::exception&) {
    return std::nullopt;
  }
}

void PendingFile::write(const PendingSet& set) {
  if (path_.empty()) {
    in_memory_ = set;
    return;
  }
  try {
    write_file(path_, to_text(set));
  } catch (...) {
    drop();
    throw;
  }
}

void PendingFile::drop() {
  in_memory_.reset();
  if (!path_.empty()) ::unlink(path_.c_str());
}

}  // namespace kestrum
