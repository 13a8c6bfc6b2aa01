#include "targets.h"

#include <algorithm>
#include <cstdlib>
#include <memory>

#include "kestrum/archive/frames.h"
#include "kestrum/archive/tar_reader.h"
#include "kestrum/base/error.h"
#include "kestrum/base/json.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/chain/moment.h"
#include "kestrum/chain/next_kind.h"
#include "kestrum/crypto/age_stream.h"
#include "kestrum/crypto/signature.h"
#include "kestrum/job/edit_key.h"
#include "kestrum/job/job_file.h"
#include "kestrum/place/address.h"
#include "kestrum/remote/host_key.h"
#include "kestrum/remote/sftp_wire.h"
#include "kestrum/remote/webdav_store.h"
#include "kestrum/schedule/phrase.h"
#include "kestrum/schedule/phrase_parser.h"
#include "kestrum/shelf/head.h"
#include "kestrum/shelf/identity_file.h"
#include "kestrum/shelf/label.h"
#include "kestrum/shelf/ledger.h"
#include "kestrum/shelf/seal.h"

namespace kestrum::fuzz {
namespace {

void check(bool right) {
  if (!right) std::abort();
}

// An Error is a good end; anything else is for the fuzzer to see.
MemorySource source_of(ByteView bytes) {
  return MemorySource(Bytes(bytes.begin(), bytes.end()));
}

template <typename Body>
bool ends_well(Body body) {
  try {
    body();
    return true;
  } catch (const Error&) {
    return false;
  }
}

void age_header(ByteView input) {
  ends_well([&] {
    Bytes file = age_dearmour(input, "input");
    MemorySource source = source_of(file);
    AgeHeader header = AgeHeader::read(source, "input");
    static const Identity kIdentity = Identity::generate();
    header.unwrap(std::span(&kIdentity, 1));
  });
}

// The first bytes say how the rest is written, read and damaged: what was written comes back, and
// nothing else ever does.
void age_stream(ByteView input) {
  if (input.size() < 8) return;
  static const Identity kIdentity = Identity::generate();
  static const Recipient kRecipient = kIdentity.recipient();
  std::size_t repeat = 1 + input[0] % 4, step = 1 + input[1] * 37;
  std::uint64_t hit = get_le32(input.data() + 2);
  std::uint8_t flip = input[6], cut = input[7];
  Bytes plain;
  for (std::size_t i = 0; i < repeat * (1 + input[0] / 4); ++i) {
    plain.insert(plain.end(), input.begin() + 8, input.end());
  }
  MemorySink file;
  AgeWriter writer(file, std::span(&kRecipient, 1));
  for (std::size_t at = 0; at < plain.size(); at += step) {
    writer.write(ByteView(plain).subspan(at, std::min(step, plain.size() - at)));
  }
  writer.finish();
  auto read = [&](ByteView bytes) {
    MemorySource source = source_of(bytes);
    AgeReader reader(source, std::span(&kIdentity, 1), "input");
    Bytes back(reader.size());
    reader.read_at(0, back);
    return back;
  };
  check(read(file.data) == plain);
  if (flip != 0) {
    Bytes damaged = file.data;
    damaged[hit % damaged.size()] ^= flip;
    check(!ends_well([&] { check(read(damaged) != plain); }));
  }
  if (cut != 0 && cut < file.data.size()) {
    check(!ends_well([&] { read(ByteView(file.data).first(file.data.size() - cut)); }));
  }
}

void tar(ByteView input) {
  MemorySource source = source_of(input);
  ends_well([&] {
    bool end = false;
    for (std::uint64_t at = 0; !end && at < input.size();) {
      TarEntry entry = read_tar_entry(source, at, "input", end);
      if (end) return;
      check(entry.next_offset > at);
      std::uint64_t covered = 0;
      for (const DataRun& run : entry.runs) {
        check(run.offset >= covered && run.length <= entry.entry.size - run.offset);
        covered = run.offset + run.length;
      }
      at = entry.next_offset;
    }
  });
}

void seek_table(ByteView input) {
  MemorySource source = source_of(input);
  ends_well([&] {
    SeekTable table = SeekTable::read(source, "input");
    check(table.frames() <= input.size());
    FrameDecompressor decompressor;
    Bytes content;
    for (std::size_t i = 0; i < std::min<std::size_t>(table.frames(), 4); ++i) {
      const SeekTable::Frame& frame = table.frame(i);
      if (frame.content_size > 0) check(table.frame_at(frame.content_offset) <= i);
      content.resize(frame.content_size);
      decompressor.decompress(input.subspan(frame.compressed_offset, frame.compressed_size),
                              content, "input");
    }
  });
}

void ledger(ByteView input) {
  ends_well([&] {
    LedgerReader reader(std::make_unique<MemorySource>(Bytes(input.begin(), input.end())), "input");
    reader.on_list([](const StretchList& list) {
      std::string line = stretches_line(list);
      LedgerLine again;
      parse_ledger_line(std::string_view(line).substr(0, line.size() - 1), "it", again);
      check(again.list == list);
    });
    LedgerEntry entry;
    while (reader.next(entry)) {
      check(entry.entry.path.empty() || is_safe_path(entry.entry.path));
      std::uint64_t pieces = 0;
      for (const ContentRange& range : entry.ranges) pieces += range.length;
      check(entry.ranges.empty() || pieces == entry.entry.size);
      std::string line = ledger_line(entry);
      LedgerLine again;
      parse_ledger_line(std::string_view(line).substr(0, line.size() - 1), "it", again);
      check(ledger_line(again.entry) == line);
    }
  });
}

// A seal; behind a zero byte its signature.
void seal(ByteView input) {
  std::string_view text = as_text(input);
  std::size_t split = std::min(text.find('\0'), text.size());
  std::string_view document = text.substr(0, split);
  ends_well([&] {
    Seal read = Seal::parse(document, "input");
    check(Seal::parse(read.to_json(), "again").to_json() == read.to_json());
    read.facts();
  });
  if (split == text.size()) return;
  static const SigningKey kKey = SigningKey::generate();
  const std::vector<VerifyKey> keys = {kKey.verify_key()};
  check(!signature_valid(as_bytes(document), text.substr(split + 1), keys));
}

// What stands on a disk beside the sets: a label, a head, the keys.
void label(ByteView input) {
  std::string_view text = as_text(input);
  ends_well([&] {
    ShelfLabel read = ShelfLabel::parse(text, "input");
    check(ShelfLabel::parse(read.to_json(), "again").to_json() == read.to_json());
    check(printable(read.job) == read.job && printable(read.host) == read.host);
    check(read.host.find('/') == std::string::npos && read.job.find('/') == std::string::npos);
  });
  ends_well([&] { Head::parse(text, "input"); });
  ends_well([&] { IdentityFile::parse(Secret(text), "input"); });
}

// The copy of a job on a disk: nothing it holds reaches a terminal as it is, and one key of it can
// be changed.
void job_copy(ByteView input) {
  std::string text(as_text(input));
  ends_well([&] {
    ParsedJob parsed = parse_job("copy", text);
    for (const JobProblem& problem : parsed.problems) {
      std::string told = printable(problem.text());
      check(told.find('\x1b') == std::string::npos && told.find('\n') == std::string::npos);
    }
    if (!parsed.usable()) return;
    std::string off = edit_key(text, "before_run.command", std::string());
    check(parse_job("copy", off).job.before_run.text.empty());
  });
}

void job(ByteView input) {
  std::string text(as_text(input));
  ends_well([&] {
    ParsedJob parsed = parse_job("fuzz", text);
    if (!parsed.usable()) return;
    check(parsed.job.name == "fuzz");
  });
}

void phrases(ByteView input) {
  std::string text(as_text(input));
  if (auto phrase = parse_phrase(text)) {
    auto again = parse_phrase(phrase->text());
    check(again && again->text() == phrase->text());
  }
  check(text.size() > 200 || parse_phrase(nearest_phrase(text)).has_value());
  if (auto size = parse_size(text)) format_size(*size);
  if (auto time = parse_duration(text)) format_duration(*time);
  ends_well([&] { parse_moment(text, 1'775'000'000 * kSecond); });
  SetId::parse(text);
}

// What a server answers, and addresses, which come from people and from copies of jobs.
void remote(ByteView input) {
  std::string text(as_text(input));
  for (bool itself : {false, true}) {
    ends_well([&] { parse_multistatus(text, "/place", itself, "input"); });
  }
  sftp::disk_of(input);
  sftp::extensions_of(sftp::kVersionSpoken, input);
  constexpr std::size_t kLeastOfName = 12;  // bytes
  if (auto names = sftp::names_of(input)) check(names->size() <= input.size() / kLeastOfName);
  for (const std::string& line : split(text, '\n')) {
    ends_well([&] { check(host_key(parse_address("sftp://host/place"), line).host == "host"); });
    ends_well([&] {
      RemoteAddress address = parse_address(line);
      check(parse_address(address.text()).text() == address.text());
      check(printable(address.text()) == address.text());
      check(address.path.starts_with('/'));
    });
    ends_well([&] { check(percent_decoded(percent_encoded(line)) == line); });
  }
}

}  // namespace

const std::vector<Target>& targets() {
  static const std::vector<Target> kTargets = {
      {"age_header", age_header}, {"age_stream", age_stream}, {"tar", tar},
      {"seek_table", seek_table}, {"ledger", ledger},         {"seal", seal},
      {"label", label},           {"job_copy", job_copy},     {"job", job},
      {"phrases", phrases},       {"remote", remote},
  };
  return kTargets;
}

}  // namespace kestrum::fuzz
