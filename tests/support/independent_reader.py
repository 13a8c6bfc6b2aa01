#!/usr/bin/env python3
"""Reads a shelf by docs/format.md alone: none of the program's code, only Python, zstd, age and b3sum.

    independent_reader.py SHELF SET OUT [KEY]

Puts the restore point SET together below OUT, and checks on the way, for each set of its chain, that
plain tar and the ledger's dead lines tell the same as the ledger. What is wrong is said on standard
error, one line each; the exit status is then 1."""
import base64
import io
import json
import os
import stat
import subprocess
import sys
import tarfile
import tempfile

problems = []


def problem(text):
    problems.append(text)
    print(text, file=sys.stderr)


def unpacked(path, key):
    with open(path, "rb") as file:
        data = file.read()
    name = path
    if name.endswith(".age"):
        data = subprocess.run(["age", "-d", "-i", key], input=data, stdout=subprocess.PIPE, check=True).stdout
        name = name[:-4]
    if name.endswith(".zst"):
        data = subprocess.run(["zstd", "-dcq"], input=data, stdout=subprocess.PIPE, check=True).stdout
    return data


def no_duplicates(pairs):
    if len({key for key, _ in pairs}) != len(pairs):
        raise ValueError("a key stands twice")
    return dict(pairs)


def named(line, key):
    """The bytes of a name, which may not be UTF-8; None if there is none."""
    if key + "_b64" in line:
        if key in line:
            raise ValueError("a name stands twice")
        return base64.b64decode(line[key + "_b64"], validate=True)
    return line[key].encode("utf-8") if key in line else None


def path_of(line):
    path = named(line, "path")
    return b"" if path == b"." else path


def nanoseconds(text):
    sign = -1 if text.startswith("-") else 1
    whole, _, fraction = text.lstrip("-").partition(".")
    return sign * (int(whole) * 10**9 + int((fraction + "0" * 9)[:9]))


def digests(contents):
    """BLAKE3 of each, in hex."""
    result = []
    for content in contents:
        ran = subprocess.run(["b3sum", "--no-names"], input=content, stdout=subprocess.PIPE, check=True)
        result.append(ran.stdout.decode().strip())
    return result


def digests_of_many(contents):
    """The same of many small ones, by one call."""
    with tempfile.TemporaryDirectory() as folder:
        names = []
        for number, content in enumerate(contents):
            names.append(f"{folder}/{number}")
            with open(names[-1], "wb") as file:
                file.write(content)
        if not names:
            return []
        ran = subprocess.run(["xargs", "-0", "b3sum", "--no-names"], input="\0".join(names).encode(),
                             stdout=subprocess.PIPE, check=True)
        return ran.stdout.decode().split()


class Set:
    def __init__(self, folder, key):
        with open(folder + "/seal.json", "rb") as file:
            self.seal = json.loads(file.read(), object_pairs_hook=no_duplicates)
        self.name = self.seal["set"]
        with open(folder + "/seal.json", "rb") as file:
            self.seal_digest = digests([file.read()])[0]
        files = {role: [f for f in self.seal["files"] if f["role"] == role]
                 for role in ("part", "ledger", "blocks")}
        self.check_files(folder, files)
        self.tar = b"".join(unpacked(f"{folder}/{part['name']}", key) for part in files["part"])
        text = unpacked(f"{folder}/{files['ledger'][0]['name']}", key)
        lines = text.decode("utf-8").split("\n")
        if lines.pop() != "":
            raise ValueError("the ledger does not end with a line feed")
        lines = [json.loads(line, object_pairs_hook=no_duplicates) for line in lines]
        self.head, foot = lines[0], lines[-1]
        self.listed_contents = {}
        self.dead = [line for line in lines[1:-1] if line["type"] == "dead"]
        self.lists = [line for line in lines[1:-1] if line["type"] == "stretches"]
        self.lines = [line for line in lines[1:-1] if line["type"] not in ("dead", "stretches")]
        counted = (len(self.lines), len(self.lists), len(self.dead))
        if (foot["lines"], foot.get("lists", 0), foot["dead"]) != counted:
            raise ValueError("the foot counts other lines")
        order = [path_of(line).replace(b"/", b"\0") for line in self.lines]
        if order != sorted(set(order)):
            raise ValueError("the ledger is not in path order")

    def check_files(self, folder, files):
        """Each file against its digests of every MiB in `blocks`, and those against the seal."""
        with open(folder + "/blocks", "rb") as file:
            blocks = file.read()
        if len(files["ledger"]) != 2 or len(files["blocks"]) != 1:
            problem(f"{self.name}: the seal does not name two ledgers and one file of blocks")
        at = 0
        for file in files["part"] + files["ledger"] + files["blocks"]:
            path = f"{folder}/{file['name']}"
            if os.path.getsize(path) != file["bytes"]:
                problem(f"{path}: not as long as the seal says")
            each = subprocess.run(["split", "-b", "1M", "--filter=b3sum --raw", path],
                                  stdout=subprocess.PIPE, check=True).stdout
            if digests([each])[0] != file["digest"]:
                problem(f"{path}: not the digest that the seal says")
            if file["role"] == "part" or file is files["ledger"][0]:
                if blocks[at:at + len(each)] != each:
                    problem(f"{path}: not the digests that blocks has")
                at += len(each)
        if at != len(blocks):
            problem(f"{self.name}: blocks has more digests than there are files")

    def entry_at(self, offset):
        """The tar entry whose headers begin at `offset`, and its content."""
        archive = tarfile.open(fileobj=io.BytesIO(self.tar[offset:]), encoding="utf-8",
                               errors="surrogateescape")
        member = archive.next()
        file = archive.extractfile(member) if member.isreg() or member.issparse() else None
        return member, file.read() if file else b""

    def check_lists(self):
        """The stretches of large content, each against its digest, and that they leave no gap."""
        needs = ["ranges"] if self.lists or any("ranges" in line for line in self.lines) else []
        if self.head["needs"] != needs or self.seal["needs"] != needs:
            problem(f"{self.name}: needs other things than it says")
        pieces, expected, ends, last = [], [], {}, {}
        for line in self.lists:
            entry, content = self.entry_at(line["tar_offset"])
            if os.fsencode(entry.name) != path_of(line):
                problem(f"{self.name}: a list of stretches names another entry at {line['tar_offset']}")
            if ends.get(line["tar_offset"], 0) != line["from"]:
                problem(f"{self.name}: a gap before {line['from']} of {line['tar_offset']}")
            at = line.get("at", line["from"])
            for length, digest in zip(line["lengths"], self.halves(line), strict=True):
                pieces.append(content[at:at + length])
                expected.append(digest.hex())
                at += length
            ends[line["tar_offset"]] = line["from"] + sum(line["lengths"])
            last[line["tar_offset"]] = (at, len(content), line)
        for at, size, line in last.values():
            if line.get("at", line["from"]) == line["from"] and at != size:
                problem(f"{self.name}: the stretches of {line['tar_offset']} end at {at} of {size}")
        found = [digest[:32] for digest in digests_of_many(pieces)]
        if found != expected:
            problem(f"{self.name}: stretches with another content than their digests say")

    def halves(self, line):
        digests = base64.b64decode(line["digests"], validate=True)
        return [digests[i:i + 16] for i in range(0, len(digests), 16)]

    def piece(self, entry, offset, length):
        """What lies at `offset` of the stored content of a listed entry."""
        if entry not in self.listed_contents:
            self.listed_contents[entry] = self.entry_at(entry)[1]
        result = b""
        for line in self.lists:
            end = line["from"] + sum(line["lengths"])
            if line["tar_offset"] != entry or offset + length <= line["from"] or end <= offset:
                continue
            start = max(offset, line["from"])
            stop = min(offset + length, end)
            moved = line.get("at", line["from"]) - line["from"]
            result += self.listed_contents[entry][start + moved:stop + moved]
        return result

    def check_tar(self):
        """Plain tar, the last entry of a name counting, and the dead lines, against the ledger."""
        archive = tarfile.open(fileobj=io.BytesIO(self.tar), encoding="utf-8", errors="surrogateescape")
        last, contents = {}, {}
        for member in archive:
            name = os.fsencode(member.name).rstrip(b"/")
            name = b"" if name == b"." else name
            last[name] = (member.offset, member)
            file = archive.extractfile(member) if member.isreg() or member.issparse() else None
            if member.islnk():
                contents[name] = contents.get(os.fsencode(member.linkname))
            else:
                contents[name] = file.read() if file else b""
        if archive.offset < len(self.tar) - 2 * 512 and self.tar[archive.offset:].strip(b"\0"):
            problem(f"{self.name}: tar ends before its stream does")
        dead = {line["tar_offset"]: path_of(line) for line in self.dead}
        ledger = {path_of(line): line for line in self.lines}
        used = {range[1] for line in self.lines for range in line.get("ranges", []) if len(range) == 3}
        for offset in used:
            if offset in dead:
                problem(f"{self.name}: a range lies in the dead entry at {offset}")
        folder = os.fsencode(f".kestrum-{self.seal['shelf']}/")
        for name, (offset, member) in last.items():
            if name.startswith(folder):
                if (offset in used) == (offset in dead):
                    problem(f"{self.name}: {name!r} is neither used nor dead, or both")
                continue
            if offset in dead:
                if dead[offset] != name:
                    problem(f"{self.name}: the dead line at {offset} has another name")
                at = ledger.get(name, {}).get("at")
                if at is not None and "set" not in at and path_of_at(at, name) == name:
                    problem(f"{self.name}: {name!r} lies in a dead entry")
                continue
            line = ledger.get(name)
            if line is None or line["type"] in ("gone", "left_out"):
                problem(f"{self.name}: tar has {name!r}, and the ledger does not")
                continue
            if line["type"] != "file" or "ranges" in line:
                continue
            if digests([contents[name]])[0] != line["digest"]:
                problem(f"{self.name}: plain tar gives {name!r} another content")
        for name, line in ledger.items():
            at = line.get("at")
            if at is None or "set" in at:
                continue
            if name not in last:
                problem(f"{self.name}: the ledger has {name!r}, and tar does not")
            holder = path_of_at(at, name)
            if at["offset"] in dead or last.get(holder, (None,))[0] != at["offset"]:
                problem(f"{self.name}: {name!r} leads to an entry that tar hides")


def path_of_at(at, own):
    path = named(at, "path")
    return own if path is None else b"" if path == b"." else path


def restore(chain, out):
    state = {}
    for member in chain:
        for line in member.lines:
            path = path_of(line)
            state.pop(path, None)
            if line["type"] not in ("gone", "left_out"):
                state[path] = (line, member)
    sets = {member.name: member for member in chain}
    links, folders = {}, []
    base = os.fsencode(out)
    for path, (line, member) in sorted(state.items(), key=lambda item: item[0].replace(b"/", b"\0")):
        target = base + b"/" + path
        kind = line["type"]
        if kind == "folder":
            os.makedirs(target, exist_ok=True)
            folders.append((target, line))
            continue
        os.makedirs(os.path.dirname(target), exist_ok=True)
        if kind == "link":
            os.symlink(named(line, "target"), target)
        elif kind == "fifo":
            os.mkfifo(target)
        elif kind == "device":
            major, minor = line["device"]
            os.mknod(target, (stat.S_IFBLK if line.get("block") else stat.S_IFCHR) | 0o600,
                     os.makedev(major, minor))
        else:
            state_key = json.dumps([line.get("link_group"), line["digest"], line["mtime"], line["mode"],
                                    line["uid"], line["gid"], line.get("xattrs")])
            if line.get("link_group") and state_key in links:
                os.link(links[state_key], target)
                continue
            links[state_key] = target
            if "ranges" in line:
                content = b""
                for range in line["ranges"]:
                    if len(range) == 1:
                        content += bytes(range[0])
                        continue
                    holder = range[3] if len(range) == 4 else member.name
                    content += sets[holder].piece(range[1], range[2], range[0])
            else:
                at = line["at"]
                entry, content = sets[at.get("set", member.name)].entry_at(at["offset"])
                if os.fsencode(entry.name) != path_of_at(at, path):
                    problem(f"{path!r}: another tar entry than the ledger says")
            if len(content) != line["size"]:
                problem(f"{path!r}: not as long as the ledger says")
            if digests([content])[0] != line["digest"]:
                problem(f"{path!r}: not the content that its digest says")
            with open(target, "wb") as file:
                file.write(content)
        set_metadata(target, line)
    for target, line in reversed(folders):
        set_metadata(target, line)


def set_metadata(target, line):
    os.chown(target, line["uid"], line["gid"], follow_symlinks=False)
    for item in line.get("xattrs", []):
        os.setxattr(target, named(item, "name"), base64.b64decode(item["value"], validate=True),
                    follow_symlinks=False)
    if line["type"] != "link":
        os.chmod(target, line["mode"])
    when = nanoseconds(line["mtime"])
    os.utime(target, ns=(when, when), follow_symlinks=False)


def main():
    shelf, wanted, out = sys.argv[1:4]
    key = sys.argv[4] if len(sys.argv) > 4 else None
    folders = {}
    for name in sorted(os.listdir(shelf + "/sets")):
        if os.path.exists(f"{shelf}/sets/{name}/seal.json"):
            with open(f"{shelf}/sets/{name}/seal.json", "rb") as file:
                folders[json.loads(file.read())["set"]] = f"{shelf}/sets/{name}"
    chain = []
    while wanted is not None:
        chain.insert(0, Set(folders[wanted], key))
        wanted = chain[0].seal["based_on"]
    for base, member in zip(chain, chain[1:]):
        if member.seal["base_seal"] != base.seal_digest or member.seal["number"] <= base.seal["number"]:
            problem(f"{member.name}: based on another {base.name}")
    for member in chain:
        member.check_tar()
        member.check_lists()
        if member.head["number"] != member.seal["number"]:
            problem(f"{member.name}: ledger and seal have different numbers")
    os.makedirs(out, exist_ok=True)
    restore(chain, out)
    sys.exit(1 if problems else 0)


main()
