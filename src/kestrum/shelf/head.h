// heads/NUMBER.json: the newest seal of a shelf and its number, signed, beside the sets. A shelf
// that was cut back, or exchanged for an older copy of itself, so shows to whoever never saw it
// before (docs/format.md, "heads").
#pragma once

#include <cstdint>
#include <exception>
#include <optional>
#include <string>
#include <vector>

#include "kestrum/base/json.h"
#include "kestrum/base/nanos.h"
#include "kestrum/chain/set_id.h"
#include "kestrum/crypto/digest.h"
#include "kestrum/crypto/signature.h"
#include "kestrum/place/place.h"
#include "kestrum/shelf/signed_file.h"

namespace kestrum {

inline constexpr const char* kHeadsFolder = "heads";  // relative to the shelf

// The newest seal that is known of another disk of the job.
struct OtherHead {
  std::string shelf;  // UUID
  std::uint64_t number = 0;
  Digest seal{};
};

// As documents have them. Parsing throws Error(kDamage) naming `what`.
Json others_json(const std::vector<OtherHead>& others);
std::vector<OtherHead> parse_others(const Json& list, const std::string& what);

struct Head {
  std::string shelf;
  std::uint64_t number = 0;
  SetId set;
  Digest seal{};
  Nanos when = 0;
  std::vector<OtherHead> others;

  std::string to_json() const;
  // Throws Error(kDamage) naming `what`.
  static Head parse(std::string_view text, const std::string& what);
};

// The one with the highest number of those whose signature is by one of `keys` (any, without keys)
// and that are of this shelf. Throws Error(kPlace).
std::optional<Head> newest_head(Place& place, const std::string& shelf,
                                const std::vector<VerifyKey>& keys);
// The same in two steps: the files of heads, the newest first; none where they cannot be listed.
std::vector<std::string> head_files(Place& place);
std::optional<Head> newest_head_of(const std::vector<std::string>& files, Place& place,
                                   const std::string& shelf, const std::vector<VerifyKey>& keys);

// One that is begun, and counts from put() on.
class HeadWriter {
 public:
  // What goes wrong is thrown by put(). `place` outlives it.
  HeadWriter(Place& place, const Head& head, const SigningKey& key);
  // Puts it beside those that are there, and removes all but the two newest after that.
  void put();

 private:
  Place& place_;
  std::string name_;
  std::optional<std::vector<PlaceEntry>> before_;  // what lay there, if that could be told
  std::optional<SignedFile> file_;
  std::exception_ptr failure_;
};
// The same at once.
void write_head(Place& place, const Head& head, const SigningKey& key);

}  // namespace kestrum
