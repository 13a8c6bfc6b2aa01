// What SFTP and FTP have in common: commands that are done or refused, and files that are gone on
// with.
#pragma once

#include "kestrum/remote/store.h"

namespace kestrum {

class CommandStore : public Store {
 public:
  using Store::Store;

  bool make_folder(const std::string& path) override;
  void remove_file(const std::string& path) override;
  void remove_folder(const std::string& path) override;
  void rename(const std::string& from, const std::string& to) override;
  bool goes_on() const override { return true; }

 protected:
  enum class Verb { kMakeFolder, kRemoveFile, kRemoveFolder, kRename };
  // Why the server refuses it; nothing if it was done. `to` is for renames.
  virtual std::optional<Error> command(Verb verb, const std::string& path,
                                       const std::string& to = "") = 0;
};

}  // namespace kestrum
