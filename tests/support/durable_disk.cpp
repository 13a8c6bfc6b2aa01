#include "support/durable_disk.h"

#include <cerrno>
#include <filesystem>

#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "kestrum/place/local_place.h"

namespace kestrum::test {

namespace fs = std::filesystem;

class DurableFile : public PlaceFile {
 public:
  DurableFile(DurableDisk& disk, DurableDisk::NodePtr node, std::unique_ptr<PlaceFile> below,
              std::string path)
      : disk_(disk), node_(std::move(node)), below_(std::move(below)), path_(std::move(path)) {}

  void write(ByteView bytes) override {
    try {
      disk_.call("write " + path_);
    } catch (const Error&) {
      below_->write(bytes.first(bytes.size() / 2));  // a write may fail half-way
      throw;
    }
    below_->write(bytes);
    content_.append(as_text(bytes));
  }
  void sync() override {
    disk_.call("sync " + path_);
    below_->sync();
    node_->lasting = content_;
  }

 private:
  DurableDisk& disk_;
  DurableDisk::NodePtr node_;
  std::unique_ptr<PlaceFile> below_;
  std::string path_, content_;
};

class DurablePlace : public ForwardingPlace {
 public:
  DurablePlace(DurableDisk& disk, std::unique_ptr<LocalPlace> below)
      : ForwardingPlace(*below), disk_(disk), own_(std::move(below)) {}

  std::vector<PlaceEntry> list(const std::string& path) override {
    disk_.call("list " + path);
    return below_.list(path);
  }
  std::unique_ptr<ByteSource> open(const std::string& path, bool from_disk) override {
    try {
      disk_.call("open " + path);
    } catch (const Error& error) {
      // A file that cannot be opened is damage, as long as the rest of the disk answers.
      if (disk_.is_down()) throw;
      throw Error(ErrorKind::kDamage, error.message());
    }
    return below_.open(path, from_disk);
  }
  void make_folder(const std::string& path) override {
    if (path.empty() || path == "." || disk_.find(path)) return;
    make_folder(parent_of(path));
    disk_.call("make_folder " + path);
    below_.make_folder(path);
    std::string name;
    auto node = std::make_shared<DurableDisk::Node>();
    node->is_folder = true;
    disk_.folder_of(path, name).now[name] = node;
  }
  std::unique_ptr<PlaceFile> create(const std::string& path) override {
    disk_.call("create " + path);
    auto file = below_.create(path);
    std::string name;
    auto node = std::make_shared<DurableDisk::Node>();
    disk_.folder_of(path, name).now[name] = node;
    return std::make_unique<DurableFile>(disk_, node, std::move(file), path);
  }
  void rename(const std::string& from, const std::string& to) override {
    disk_.call("rename " + from);
    below_.rename(from, to);
    std::string old_name, new_name;
    DurableDisk::Node& old_folder = disk_.folder_of(from, old_name);
    DurableDisk::Node& new_folder = disk_.folder_of(to, new_name);
    auto node = old_folder.now[old_name];
    old_folder.now.erase(old_name);
    new_folder.now[new_name] = node;
  }
  void remove_file(const std::string& path) override {
    disk_.call("remove_file " + path);
    below_.remove_file(path);
    forget(path);
  }
  void remove_folder(const std::string& path) override {
    for (const PlaceEntry& entry : below_.list(path)) {  // a kill may come between any two
      std::string inside = path + "/" + entry.name;
      entry.is_folder ? remove_folder(inside) : remove_file(inside);
    }
    disk_.call("remove_folder " + path);
    below_.remove_folder(path);
    forget(path);
  }
  void sync_folder(const std::string& path) override {
    disk_.call("sync_folder " + path);
    below_.sync_folder(path);
    auto node = disk_.find(path);
    if (node) node->kept = node->now;
  }

 private:
  void forget(const std::string& path) {
    if (!disk_.find(path)) return;
    std::string name;
    disk_.folder_of(path, name).now.erase(name);
  }

  DurableDisk& disk_;
  std::unique_ptr<LocalPlace> own_;
};

DurableDisk::DurableDisk(std::string folder) : folder_(std::move(folder)), root_(read(folder_)) {}

std::shared_ptr<Place> DurableDisk::place() {
  return std::make_shared<DurablePlace>(*this, std::make_unique<LocalPlace>(folder_));
}

void DurableDisk::fail_at(int call, Fault fault) {
  calls_left_ = call;
  fault_ = fault;
  failed_ = false;
  cut_after_ = -1;
  called_.clear();
}

void DurableDisk::before_call(int call, std::function<void()> act) {
  act_in_ = call;
  act_ = std::move(act);
}

void DurableDisk::call(const std::string& what) {
  if (act_in_ >= 0 && act_in_-- == 0) act_();
  called_.push_back(what);
  if (failed_ && cut_after_ >= 0 && cut_after_-- == 0) fault_ = Fault::kPowerCut;
  if (!is_down() && calls_left_-- != 0) return;
  failed_ = true;
  throw system_error(EIO, what, ErrorKind::kPlace);
}

DurableDisk::NodePtr DurableDisk::read(const std::string& path) {
  auto node = std::make_shared<Node>();
  node->is_folder = fs::is_directory(path);
  if (!node->is_folder) {
    node->lasting = read_file(path);
    return node;
  }
  for (const auto& name : list_folder(path)) node->now[name] = read(path + "/" + name);
  node->kept = node->now;
  return node;
}

DurableDisk::NodePtr DurableDisk::find(const std::string& path) {
  NodePtr node = root_;
  for (std::size_t at = 0; node && at < path.size();) {
    std::size_t end = std::min(path.find('/', at), path.size());
    std::string name = path.substr(at, end - at);
    at = end + 1;
    if (name.empty() || name == ".") continue;
    auto it = node->now.find(name);
    node = it == node->now.end() ? nullptr : it->second;
  }
  return node;
}

DurableDisk::Node& DurableDisk::folder_of(const std::string& path, std::string& name) {
  std::size_t slash = path.rfind('/');
  name = slash == std::string::npos ? path : path.substr(slash + 1);
  auto folder = find(slash == std::string::npos ? "" : path.substr(0, slash));
  if (!folder) throw Error(ErrorKind::kFailed, "no folder for " + path);
  return *folder;
}

void DurableDisk::write(const Node& node, const std::string& path) {
  if (!node.is_folder) return write_file(path, node.lasting);
  fs::create_directories(path);
  for (const auto& [name, entry] : node.kept) write(*entry, path + "/" + name);
}

void DurableDisk::cut_power() {
  for (const auto& name : list_folder(folder_)) fs::remove_all(folder_ + "/" + name);
  write(*root_, folder_);
  root_ = read(folder_);
  calls_left_ = -1;
  failed_ = false;
  cut_after_ = -1;
}

}  // namespace kestrum::test
