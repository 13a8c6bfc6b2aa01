#include "kestrum/archive/acl_text.h"

#include <acl/libacl.h>
#include <sys/acl.h>

#include <cstdint>
#include <memory>

#include "kestrum/base/bytes.h"

namespace kestrum {
namespace {

struct FreeAcl {
  void operator()(void* object) const { ::acl_free(object); }
};

// Adds { le16 tag, le16 permissions, le32 id } to the list; false if it is malformed.
bool add_entry(acl_t& acl, const std::uint8_t* bytes) {
  auto tag = static_cast<acl_tag_t>(bytes[0] | bytes[1] << 8);
  unsigned permissions = bytes[2] | static_cast<unsigned>(bytes[3]) << 8;
  std::uint32_t id = get_le32(bytes + 4);
  acl_entry_t entry;
  acl_permset_t set;
  if (::acl_create_entry(&acl, &entry) != 0 || ::acl_set_tag_type(entry, tag) != 0 ||
      ::acl_get_permset(entry, &set) != 0 || ::acl_clear_perms(set) != 0) {
    return false;
  }
  for (acl_perm_t permission : {ACL_READ, ACL_WRITE, ACL_EXECUTE}) {
    if ((permissions & permission) != 0) ::acl_add_perm(set, permission);
  }
  bool has_id = tag == ACL_USER || tag == ACL_GROUP;
  return !has_id || ::acl_set_qualifier(entry, &id) == 0;
}

}  // namespace

std::string acl_text(const std::string& raw) {
  const auto* bytes = reinterpret_cast<const std::uint8_t*>(raw.data());
  if (raw.size() < 4 || (raw.size() - 4) % 8 != 0 || get_le32(bytes) != 2) return {};
  acl_t acl = ::acl_init(static_cast<int>((raw.size() - 4) / 8));
  bool sound = acl != nullptr;
  for (std::size_t i = 4; i < raw.size() && sound; i += 8) sound = add_entry(acl, bytes + i);
  std::unique_ptr<void, FreeAcl> owner(acl);
  if (!sound) return {};
  std::unique_ptr<char, FreeAcl> text(::acl_to_any_text(acl, nullptr, ',', TEXT_NUMERIC_IDS));
  return text ? text.get() : "";
}

}  // namespace kestrum
