"""The measurements, one function a case. Each gets a Bench and adds its rows."""

import pathlib
import shutil
import statistics
import subprocess
import time

import data
import measure
from desk import Desk, FreshDisk, age_key

MEGA = 10**6


class Bench:
    """What the cases share: the program, a folder for what they make, how often they repeat."""

    def __init__(self, program, folder, rounds, full):
        self.program, self.folder = program, pathlib.Path(folder)
        self.rounds, self.full = rounds, full
        self.rows = {}  # by key
        self.folder.mkdir(parents=True, exist_ok=True)

    def desk(self, name, sources, **options):
        return Desk(self.program, self.folder / name, sources, **options)

    def add(self, key, what, goal, value, unit="x", limit=None, told="", at_least=False):
        """One row: `value` in `unit` ("x": the ratio to the standard tools), which meets its goal
        up to (or, with `at_least`, from) `limit`."""
        met = None if limit is None else (value >= limit if at_least else value <= limit)
        self.rows[key] = {"key": key, "what": what, "goal": goal, "value": value, "unit": unit,
                          "limit": limit, "met": met, "told": told}
        mark = {True: "met", False: "MISSED", None: ""}[met]
        print(f"{key:4} {what}: {value:.3g} {unit} (goal {goal}) {mark}  {told}", flush=True)

    def note_peak(self, name, sample, key="I"):
        row = self.rows.get(key)
        if row is None or sample.peak / 2**20 > row["value"]:
            self.add(key, "largest memory of A to L, without scrypt", "<= 128 MiB",
                     sample.peak / 2**20, "MiB", 128, f"reached in {name}")

    def compare(self, key, what, ours, peer, wall=None, cpu=None, told=""):
        both = f"{ours.describe()}; standard tools {peer.describe()}{told}"
        if wall:
            self.add(key + "w", what + ", wall", f"<= {wall} x", ours.wall / peer.wall, "x", wall, both)
        if cpu:
            self.add(key + "c", what + ", CPU", f"<= {cpu} x", ours.cpu / peer.cpu, "x", cpu)


def pipeline(bench, sources, out):
    _, recipient = age_key(bench.folder)
    names = " ".join(str(s) for s in sources)
    return (f"tar -cf - {names} 2>/dev/null | zstd -3 -T2 -q -c | age -r {recipient} > {out};"
            f" sync {out}")


def case_a(bench):
    """A, F, G, H and the first part of D: the system's own files."""
    measure.warm(data.SYSTEM_FOLDERS)
    desk = bench.desk("a", data.SYSTEM_FOLDERS)
    archive = bench.folder / "a.tar.zst.age"
    line = pipeline(bench, data.SYSTEM_FOLDERS, archive)
    peer = lambda _: measure.run(line, (0, 1, 2))

    ours_new = measure.median([fresh_run(desk) for _ in range(bench.rounds)])
    desk.run()
    for _ in range(11):
        desk.run("full", "--no-verify")
    ours, theirs = measure.alternate(bench.rounds, lambda _: desk.run(), peer)
    bench.compare("A", "full run, 1 GB of small files, 12 sets there", ours,
                  theirs, 0.75, 0.85, f"; on a new shelf {ours_new.describe()}")
    bench.add("Ab", "the same, bytes stored", "<= 1.02 x",
              desk.stored() / archive.stat().st_size, "x", 1.02)
    bench.note_peak("A", ours)

    nothing_changed(bench, desk, data.SYSTEM_FOLDERS, "D1", "nothing changed, the same files")
    desk.remove()

    desk = bench.desk("f", data.SYSTEM_FOLDERS)
    plain = bench.desk("g", data.SYSTEM_FOLDERS, protection="none")
    desk.run()
    plain.run()
    restore_all(bench, desk, plain, archive)
    restore_one(bench, plain)
    verify(bench, desk)
    desk.remove()
    plain.remove()
    archive.unlink()


def fresh_run(desk):
    """The first run on a shelf that is started for it."""
    desk.start()
    return desk.run()


def nothing_changed(bench, desk, sources, key, what):
    desk.run("incremental")
    names = " ".join(str(s) for s in sources)
    find = f"find {names} -printf '%s %T@ %C@\\n' > /dev/null"
    ours, theirs = measure.alternate(bench.rounds + 2, lambda _: desk.run("incremental"),
                                     lambda _: measure.run(find))
    bench.compare(key, what, ours, theirs, wall=1.5)
    bench.note_peak(key, ours)


def restore_all(bench, desk, plain, archive):
    key, _ = age_key(bench.folder)
    unpacked = bench.folder / "plain.tar.zst"
    measure.run(f"age -d -i {key} {archive} > {unpacked}")

    def ours(which):
        def restore(_):
            with FreshDisk(bench.folder / "back") as folder:
                return which.call("restore", "bench", "--to", str(folder / "all"))
        return restore

    def peer(source):
        def restore(_):
            with FreshDisk(bench.folder / "back") as folder:
                return measure.run(f"{source} | zstd -dc | tar -xf - -C {folder}; sync -f {folder}")
        return restore

    open_ours, open_peer = measure.alternate(bench.rounds, ours(plain), peer(f"cat {unpacked}"))
    unlock = measure.median([desk.call("passphrase", "bench", "--try") for _ in range(3)])
    sealed, theirs = measure.alternate(bench.rounds, ours(desk), peer(f"age -d -i {key} {archive}"))
    sealed.wall -= unlock.wall
    sealed.cpu -= unlock.cpu
    bench.compare("F", "restore of all of A, both synced", sealed, theirs, 0.9, 0.9,
                  f"; unlocking ({unlock.describe()}) taken off")
    bench.add("Fp", "the same from an unprotected shelf, wall", "<= 0.9 x",
              open_ours.wall / open_peer.wall, "x", 0.9,
              f"{open_ours.describe()}; standard tools {open_peer.describe()}")
    bench.note_peak("F", open_ours)
    unpacked.unlink()


def restore_one(bench, plain):
    """Cold: what comes from the disk, the program itself included, is what is read."""
    folder = bench.folder / "one"
    samples = []
    for number in range(bench.rounds + 2):
        samples.append(plain.call("restore", "bench", "/usr/include/stdio.h",
                                  "--to", str(folder / f"warm-{number}")))
    one = measure.median(samples)
    bench.add("G", "one file out of A's set, after unlocking", "<= 0.1 s", one.wall, "s", 0.1,
              one.describe())
    measure.drop_caches()
    plain.call("help")  # so that the program itself is not counted
    cold = plain.call("restore", "bench", "/usr/include/stdlib.h", "--to", str(folder / "cold"))
    bench.add("Gb", "the same, bytes read", "<= 12 MiB", cold.disk_read / 2**20, "MiB", 12, f"cold: {cold.wall:.2f} s")
    shutil.rmtree(folder)


def verify(bench, desk):
    """Enough that it is the rate that is measured; the programs themselves are not counted."""
    for _ in range(3):
        desk.run("full", "--no-verify")
    parts = " ".join(str(p) for s in desk.sets() for p in s.iterdir())

    def cold(run):
        measure.drop_caches()
        desk.call("help")
        measure.run("b3sum --version")
        return run()

    ours, theirs = measure.alternate(
        bench.rounds, lambda _: cold(lambda: desk.call("verify", "bench")),
        lambda _: cold(lambda: measure.run(f"b3sum {parts} > /dev/null")))
    bench.add("H", "verify of four sets, rate beside b3sum, from the disk", ">= 0.8 x",
              theirs.wall / ours.wall, "x", 0.8,
              f"{ours.describe()}; b3sum {theirs.describe()}", at_least=True)
    bench.note_peak("H", ours)


def one_file(bench, key, what, source, tools, wall):
    """A run over the folder of one large file, beside `tools` that write to their output."""
    folder, out = source.parent, bench.folder / "one-file.age"
    _, recipient = age_key(bench.folder)
    line = tools.format(source=source, recipient=recipient) + f" > {out}; sync {out}"
    measure.warm([folder])
    desk = bench.desk("one-file-desk", [folder])
    ours, theirs = measure.alternate(bench.rounds, lambda _: desk.run(),
                                     lambda _: measure.run(line))
    bench.compare(key, what, ours, theirs, wall=wall)
    bench.note_peak(key, ours)
    desk.remove()
    out.unlink()
    shutil.rmtree(folder.parent)


def prepare_b(bench):
    make_file(bench.folder / "b/one/mixed.bin", "mixed_file", 1000 * MEGA)


def make_file(path, kind, size):
    path.parent.mkdir(parents=True, exist_ok=True)
    data.make(kind, path, size)


def case_b(bench):
    one_file(bench, "B", "one file of 1 GB, mixed content", bench.folder / "b/one/mixed.bin",
             "zstd -3 -T2 -q -c {source} | age -r {recipient}", 0.9)


def prepare_c(bench):
    make_file(bench.folder / "c/one/noise.bin", "noise_file", 1000 * MEGA)


def case_c(bench):
    one_file(bench, "C", "1 GB that will not shrink", bench.folder / "c/one/noise.bin",
             "age -r {recipient} {source}", 1.0)


def prepare_e(bench):
    data.make("tree", bench.folder / "e/tree", 200_000, 4_000, 3000)


def case_e(bench):
    root = bench.folder / "e/tree"
    desk = bench.desk("e-desk", [root])
    desk.run()
    ours, theirs = [], []
    for number in range(bench.rounds):
        data.make("change", root, 100, number, 3000)
        theirs.append(measure.run(f"find {root} -printf '%s %T@ %C@\\n' > /dev/null;"
                                  f" xargs -a {root}.changed cat > /dev/null"))
        ours.append(desk.run("incremental"))
    a, b = measure.median(ours), measure.median(theirs)
    bench.compare("E", "1 % of 200,000 files changed", a, b, wall=3)
    bench.note_peak("E", a)
    desk.remove()
    shutil.rmtree(bench.folder / "e")


def small_files(bench):
    return 1_000_000 if bench.full else 100_000


def prepare_l(bench):
    files = small_files(bench)
    data.make("tree", bench.folder / "l/tree", files, files // 50, 160)


def case_l(bench):
    """L, the second part of D, and J; with a million files K."""
    files = small_files(bench)
    root = bench.folder / "l/tree"
    measure.warm([root])
    desk = bench.desk("l-desk", [root])
    archive = bench.folder / "l.age"
    line = pipeline(bench, [root], archive)
    ours, theirs = measure.alternate(max(1, bench.rounds - 2), lambda _: fresh_run(desk),
                                     lambda _: measure.run(line))
    bench.compare("L", f"{files:,} files of 160 bytes, full", ours, theirs, wall=2.5)
    bench.add("Lb", "the same, bytes stored", "told", desk.stored() / archive.stat().st_size, "x",
              None, f"{desk.stored() / MEGA:.1f} MB beside {archive.stat().st_size / MEGA:.1f} MB")
    bench.note_peak("L", ours)
    nothing_changed(bench, desk, [root], "D2", f"nothing changed, {files:,} files")
    sizes = f"{files:,} files"
    for key, limit, arguments in [("J1", 0.2, ["look", "bench"]), ("J2", 2, ["trace", "bench", "note-007.txt"]),
                                  ("J3", 0.2, ["sets", "bench"])]:
        first = statistics.median(first_output(desk, arguments) for _ in range(3))
        whole = desk.call(*arguments)
        bench.add(key, f"first output of `{arguments[0]} NAME`, {sizes}", f"<= {limit} s", first, "s",
                  limit, f"whole: {whole.describe()}")
        bench.note_peak(key, whole)
    if bench.full:
        while len(desk.sets()) < 30:
            data.make("change", root, 100, len(desk.sets()), 160)
            desk.run("incremental", "--no-verify")
        bench.add("K", "index, 1,000,000 files, 30 sets, 1 % changes", "<= 600 MB",
                  desk.index_bytes() / MEGA, "MB", 600)
    desk.remove()
    archive.unlink()
    shutil.rmtree(bench.folder / "l")


def first_output(desk, arguments):
    """Seconds until the first byte of its output."""
    start = time.monotonic()
    with subprocess.Popen([desk.program, *arguments], env=desk.env, stdin=subprocess.DEVNULL,
                          stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as process:
        process.stdout.read(1)
        took = time.monotonic() - start
        process.stdout.read()
    return took


def case_p(bench):
    """Kind to the PC: a low-priority run beside a compile, and the limit of a run."""
    source = bench.folder / "compiled.cpp"
    source.write_text("#include <regex>\n#include <map>\n#include <string>\n#include <iostream>\n"
                      "int main(int n, char** v) { std::map<std::string, std::regex> m;\n"
                      "  for (int i = 0; i < n; ++i) m[v[i]] = std::regex(v[i]);\n"
                      "  for (auto& [k, r] : m) std::cout << std::regex_search(k, r); }\n")
    line = " & ".join([f"for i in 1 2; do g++ -O2 -c {source} -o /dev/null; done"] * 2) + " & wait"
    desk = bench.desk("p-desk", data.SYSTEM_FOLDERS, priority="low")
    desk.run()
    alone, beside = [], []
    for _ in range(bench.rounds):
        alone.append(measure.run(line))
        background = subprocess.Popen(
            ["bash", "-c", f"while :; do {desk.program} run bench --kind full; done"], env=desk.env,
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            start_new_session=True)
        time.sleep(2)
        beside.append(measure.run(line))
        subprocess.run(["kill", "--", f"-{background.pid}"])
        background.wait()
        time.sleep(1)
    a, b = measure.median(beside), measure.median(alone)
    bench.add("P", "a compile beside a low-priority run, wall", "<= 1.1 x",
              a.wall / b.wall, "x", 1.1, f"{a.wall:.2f} s beside one, {b.wall:.2f} s alone")
    desk.remove()

    folder = bench.folder / "p/noise"
    folder.mkdir(parents=True, exist_ok=True)
    data.make("noise_file", folder / "noise.bin", 200 * MEGA)
    desk = bench.desk("p-desk", [folder], limit="20 MB/s")
    took = desk.run("full", "--no-verify")
    rate = desk.stored() / MEGA / took.wall
    bench.add("Pl", 'a run with limit = "20 MB/s", off by', "20 MB/s, within 10 %", abs(rate / 20 - 1),
              "x", 0.1, f"{rate:.1f} MB/s")
    desk.remove()
    shutil.rmtree(folder.parent)


PREPARE = {"B": prepare_b, "C": prepare_c, "E": prepare_e, "L": prepare_l}
CASES = {"A": case_a, "B": case_b, "C": case_c, "E": case_e, "L": case_l, "P": case_p}
