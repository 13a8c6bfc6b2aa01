#include "kestrum/restore/bundle.h"

#include <sys/stat.h>
#include <unistd.h>

#include "kestrum/archive/frames.h"
#include "kestrum/archive/tar_format.h"
#include "kestrum/archive/tar_head.h"
#include "kestrum/base/file.h"
#include "kestrum/base/followed.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/restore/content_reader.h"
#include "kestrum/restore/linked_names.h"
#include "kestrum/restore/target_folder.h"
#include "kestrum/restore/target_mapping.h"
#include "kestrum/restore/zip_writer.h"

namespace kestrum {
namespace {

constexpr std::size_t kHeldInMemory = 8 << 20;

// Writes to an open file, encrypted on the way if there is a passphrase: nothing else ever lies on
// that disk.
class Outlet : public ByteSink {
 public:
  Outlet(int fd, const std::string& path, const std::optional<Secret>& passphrase)
      : file_(fd, path) {
    if (passphrase) age_.emplace(file_, *passphrase);
  }
  void write(ByteView bytes) override {
    if (age_) {
      age_->write(bytes);
    } else {
      file_.write(bytes);
    }
  }
  void finish() {
    if (age_) age_->finish();
    file_.sync();
  }

 private:
  class FileSink : public ByteSink {
   public:
    FileSink(int fd, const std::string& path) : fd_(fd), path_(path) {}
    void write(ByteView bytes) override { write_all(fd_, bytes, path_); }
    void sync() {
      if (::fsync(fd_) != 0) throw system_error(errno, path_);
    }

   private:
    int fd_;
    std::string path_;
  };

  FileSink file_;
  std::optional<AgeWriter> age_;
};

Error exists_already(const std::string& file) {
  return Error(ErrorKind::kUsage, file + " exists already", "name a new file").about_path(file);
}

// The folder that a new file is to lie in, which is not made for it.
std::string folder_for(const std::string& file) {
  std::string folder = parent_of(file);
  if (!is_named_folder(folder)) throw system_error(errno, folder).about_path(folder);
  return folder;
}

class BundleWriter {
 public:
  BundleWriter(ReadSession& session, RestoreSelection& selection, const BundleRequest& request,
               RestoreObserver& observer)
      : session_(session),
        selection_(selection),
        request_(request),
        observer_(observer),
        ancestors_(session.ancestors(selection.set())),
        reader_(session.shelf()->shelf, session.identities(), request.stop),
        folder_(folder_for(request.file), OwnerRule::kMe) {
    if (folder_.exists(base_name(request.file))) throw exists_already(request.file);
    file_.emplace(folder_, base_name(request.file));
    outlet_.emplace(file_->fd(), request.file, request.passphrase);
    if (request.kind == BundleKind::kZip) zip_.emplace(*outlet_, request.file);
    mapping_.to = "/";
    mapping_.layout = request.layout;
    mapping_.rehearse = true;  // only the names are asked for
    targets_.emplace(mapping_, request.layout == Layout::kTrimmed ? selection.shared_folder() : "",
                     std::vector<std::string>{}, "");
  }

  RestoreResult run() {
    session_.hold(selection_.set());
    selection_.entries().locate(ancestors_);
    progress_.files_total = selection_.entries().totals().files;
    using Type = EntryType;
    if (request_.layout != Layout::kFlat) each({Type::kFolder}, Order::kByPath);
    each({Type::kFile}, Order::kByContent);
    each({Type::kLink, Type::kFifo, Type::kDevice}, Order::kByPath);
    finish();
    return result_;
  }

 private:
  using Order = ChosenEntries::Order;

  void each(std::initializer_list<EntryType> types, Order order) {
    selection_.entries().each(types, order, [&](const IndexEntry& entry) {
      if (request_.stop && request_.stop()) throw Error(ErrorKind::kStopped, "stopped");
      progress_.files_done = result_.files + result_.failed;
      progress_.current = "/" + entry.line.entry.path;
      observer_.progress(progress_);
      try {
        add(entry);
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::kDamage) throw;
        ++result_.failed;
        ++result_.damaged;
        observer_.failed("/" + entry.line.entry.path, error.message(), true);
      }
    });
  }

  void add(const IndexEntry& given) {
    Entry e = given.line.entry;
    std::string name = targets_->of(e.path)->rel;
    if (name.empty()) return;  // the folder that all share
    bool linkable = request_.kind == BundleKind::kTar && request_.layout != Layout::kFlat;
    if (const std::string* first = linkable ? names_.find(given) : nullptr) {
      e.type = EntryType::kHardlink;
      e.target = *first;
    }
    e.path = name;
    e.holes = false;
    bool other = e.type == EntryType::kFifo || e.type == EntryType::kDevice;
    if (request_.kind == BundleKind::kZip && other) {
      ++result_.skipped;
      return observer_.skipped("/" + given.line.entry.path, request_.file,
                               "a zip cannot hold a FIFO or a device", false);
    }
    if (e.type == EntryType::kFile) {
      put_file(given, e);
      names_.put(given, name);
    } else if (zip_) {
      zip_->begin(name, e);
    } else {
      outlet_->write(as_bytes(tar_entry_head(e)));
    }
    if (e.type == EntryType::kFolder) {
      ++result_.folders;
    } else {
      ++result_.files;
      result_.bytes += e.type == EntryType::kFile ? e.size : 0;
    }
    observer_.restored("/" + given.line.entry.path, request_.file + ":" + name, e.type, false);
  }

  // What is given out is known to be right: a small file is held until its digest is, a large one
  // is read twice.
  void put_file(const IndexEntry& entry, const Entry& e) {
    auto location = session_.index().location_of(entry.version, ancestors_);
    if (!location) {
      throw Error(ErrorKind::kDamage, "the index does not know where its content lies");
    }
    if (!zip_ && entry.line.entry.holes) return put_with_holes(entry, e, *location);
    bool small = e.size <= kHeldInMemory;
    held_.clear();
    auto read = [&](const std::function<void(ByteView)>& out) {
      read_content(reader_, *location, e.size, *entry.line.digest, out);
    };
    read([&](ByteView bytes) {
      if (small) held_.insert(held_.end(), bytes.begin(), bytes.end());
    });
    auto put = [&](ByteView bytes) {
      if (zip_) {
        zip_->write(bytes);
      } else {
        outlet_->write(bytes);
      }
    };
    if (zip_) {
      zip_->begin(e.path, e);
    } else {
      outlet_->write(as_bytes(tar_entry_head(e)));
    }
    if (small) {
      put(held_);
    } else {
      try {
        read(put);
      } catch (const Error& error) {  // half of it stands in the file
        throw Error(error.kind() == ErrorKind::kDamage ? ErrorKind::kFailed : error.kind(),
                    error.message(), error.hint());
      }
    }
    if (!zip_) outlet_->write(Bytes(tar_padding(e.size)));
  }

  // Into a tar alone: a zip has no holes.
  void put_with_holes(const IndexEntry& entry, Entry e, const ContentLocation& location) {
    auto read = [&](const ContentSink& sink) {
      reader_.read(location, e.size, *entry.line.digest,
                   [&](std::uint64_t offset, ByteView data) { without_holes(offset, data, sink); });
    };
    std::vector<DataRun> runs;
    std::uint64_t stored = 0;
    held_.clear();
    read([&](std::uint64_t offset, ByteView data) {
      if (runs.empty() || runs.back().offset + runs.back().length != offset) {
        runs.push_back({offset, 0});
      }
      runs.back().length += data.size();
      stored += data.size();
      if (stored <= kHeldInMemory) held_.insert(held_.end(), data.begin(), data.end());
    });
    bool ends_in_hole = runs.empty() || runs.back().offset + runs.back().length < e.size;
    if (ends_in_hole) runs.push_back({e.size, 0});
    e.holes = true;
    outlet_->write(as_bytes(tar_entry_head(e, runs)));
    if (stored <= kHeldInMemory) {
      outlet_->write(held_);
    } else {
      read([&](std::uint64_t, ByteView data) { outlet_->write(data); });
    }
    outlet_->write(Bytes(tar_padding(stored)));
  }

  void finish() {
    if (zip_) {
      zip_->finish();
    } else {
      outlet_->write(Bytes(2 * kTarBlock));
    }
    outlet_->finish();
    if (!file_->keep()) throw exists_already(request_.file);
  }

  ReadSession& session_;
  RestoreSelection& selection_;
  const BundleRequest& request_;
  RestoreObserver& observer_;
  std::vector<std::int64_t> ancestors_;
  ContentReader reader_;
  TargetFolder folder_;
  std::optional<TargetFolder::NewFile> file_;
  RestoreRequest mapping_;
  std::optional<TargetMapping> targets_;
  std::optional<Outlet> outlet_;
  std::optional<ZipWriter> zip_;
  Bytes held_;
  LinkedNames<std::string> names_;
  Progress progress_{"writing"};
  RestoreResult result_;
};

}  // namespace

RestoreResult write_bundle(ReadSession& session, RestoreSelection& selection,
                           const BundleRequest& request, RestoreObserver& observer) {
  return BundleWriter(session, selection, request, observer).run();
}

}  // namespace kestrum
