#include "kestrum/shelf/identity_file.h"

#include <algorithm>

#include "kestrum/base/text.h"

namespace kestrum {
namespace {

constexpr std::string_view kShelf = "# kestrum shelf ";
constexpr std::string_view kGeneration = "# generation ";
constexpr std::string_view kSigner = "# signing key ";

}  // namespace

Secret IdentityFile::to_text() const {
  Secret text;
  text.append(std::string(kShelf) + shelf + "\n");
  text.append(std::string(kGeneration) + std::to_string(generation) + "\n");
  for (const auto& [key, host] : signers) {
    text.append(std::string(kSigner) + key.to_string() + " of " + host + "\n");
  }
  for (const Identity& identity : identities) {
    text.append(identity.to_text().text());
    text.append("\n");
  }
  return text;
}

IdentityFile IdentityFile::parse(const Secret& text, const std::string& what) {
  IdentityFile file;
  file.identities = parse_identity_file(text.text(), what);
  std::string_view rest = text.text();
  while (!rest.empty()) {
    std::size_t end = std::min(rest.find('\n'), rest.size());
    std::string_view line = rest.substr(0, end);
    rest.remove_prefix(std::min(end + 1, rest.size()));
    if (line.starts_with(kShelf)) {
      file.shelf = std::string(trimmed(line.substr(kShelf.size())));
    } else if (line.starts_with(kGeneration)) {
      file.generation = parse_number(trimmed(line.substr(kGeneration.size()))).value_or(0);
    } else if (line.starts_with(kSigner)) {
      line.remove_prefix(kSigner.size());
      std::size_t space = std::min(line.find(' '), line.size());
      auto key = VerifyKey::parse(line.substr(0, space));
      std::size_t of = line.find(" of ");
      if (key) {
        file.signers.emplace_back(
            *key, of == std::string_view::npos ? "" : std::string(line.substr(of + 4)));
      }
    }
  }
  return file;
}

std::vector<VerifyKey> IdentityFile::keys() const {
  std::vector<VerifyKey> keys;
  for (const auto& [key, host] : signers) keys.push_back(key);
  return keys;
}

bool IdentityFile::opens(const Recipient& recipient) const {
  return std::any_of(identities.begin(), identities.end(),
                     [&](const Identity& identity) { return identity.recipient() == recipient; });
}

void IdentityFile::add(const IdentityFile& other) {
  for (const Identity& identity : other.identities) {
    if (!opens(identity.recipient())) identities.push_back(identity);
  }
  if (other.generation < generation) return;
  if (other.generation > generation) {
    signers = other.signers;
    generation = other.generation;
    return;
  }
  for (const auto& signer : other.signers) {
    bool known = std::any_of(signers.begin(), signers.end(),
                             [&](const auto& ours) { return ours.first == signer.first; });
    if (!known) signers.push_back(signer);
  }
}

}  // namespace kestrum
