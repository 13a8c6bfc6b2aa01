#!/usr/bin/env python3
"""Measures the program against standard tools that do the same work on the same data, in alternating
runs, and writes docs/performance.md from the medians.

A: the system's files (with F: restore, G: one file, H: verify, D: nothing changed), B: one large
file, C: noise, E: a few of many files changed, L: many small files (with D, J: listings, and with
--full K: the index), P: how kind a run is to what else runs, R: a server
that is far away, S: large files that change a little."""

import argparse
import fcntl
import json
import os
import pathlib
import shutil
import sys

import cases
import data
import large_files
import page
import served

PREPARE = cases.PREPARE | {"R": served.prepare_r}


def alone_in(folder):
    """A lock on `folder` that lasts as long as what it returns: two measurements would disturb each other."""
    folder.mkdir(parents=True, exist_ok=True)
    lock = open(folder / "lock", "w", encoding="ascii")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        sys.exit(f"{folder}: something is being measured there; wait for it, or give another --folder")
    return lock


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("program")
    parser.add_argument("--folder", default="build/bench", help="for what it makes, on a real disk")
    parser.add_argument("--only", default="", help="cases, such as A,L")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--full", action="store_true", help="L and J with a million files, and K")
    parser.add_argument("--page", default="docs/performance.md", help="the page to write; empty: none")
    options = parser.parse_args()
    folder = pathlib.Path(options.folder).resolve()
    lock = alone_in(folder)
    bench = cases.Bench(os.path.abspath(options.program), folder / "work", options.rounds,
                        options.full)
    known = folder / "rows.json"
    rows = json.loads(known.read_text()) if known.exists() else {}
    known_cases = cases.CASES | {"R": served.case_r, "S": large_files.case_s}
    chosen = [name for name in options.only.split(",") if name] or list(known_cases)
    if "I" in rows and set(chosen) != set(known_cases):
        bench.rows["I"] = rows["I"]  # some cases alone do not tell the largest of all
    prepared = [PREPARE[name] for name in chosen if name in PREPARE]
    for prepare in prepared:
        prepare(bench)
    if prepared:
        data.settle()
    for name in chosen:
        known_cases[name](bench)
        rows.update(bench.rows)
        known.write_text(json.dumps(rows, indent=1))
    shutil.rmtree(folder / "work")
    if options.page:
        page.write(rows, pathlib.Path(options.page))
    lock.close()


if __name__ == "__main__":
    main()
