"""docs/performance.md and its figure, from the rows that were measured."""

import datetime
import html
import os
import subprocess

NOTES_BEGIN = "<!-- notes: kept as they are when the page is written -->"
ORDER = ["Aw", "Ac", "Ab", "Bw", "Cw", "D1w", "D2w", "Ew", "Fw", "Fc", "Fp", "G", "Gb", "H", "I",
         "Lw", "Lb", "J1", "J2", "J3", "K", "P", "Pl", "R1", "R2", "R3",
         "S1", "S1w", "S1c", "S2", "S3", "S4", "S5", "S6", "S7"]


def processor():
    with open("/proc/cpuinfo") as file:
        names = [line.split(":", 1)[1].strip() for line in file if line.startswith("model name")]
    return f"{os.cpu_count()} processors, {names[0] if names else 'unknown'}"


def shown(row):
    if row["unit"] == "x":
        return f"{row['value']:.2f} x"
    digits = 2 if row["value"] < 1 else 3
    return f"{row['value']:.{digits}g} {row['unit']}"


def share(row):
    """How much of its goal a row takes: up to 1 it meets it."""
    if not row["limit"]:
        return None
    at_least = row["goal"].startswith(">=")
    return row["limit"] / row["value"] if at_least else row["value"] / row["limit"]


def figure(rows):
    bars = [(row, share(row)) for row in rows if share(row) is not None]
    left, right, height, scale = 700, 1180, 26, 2.0
    unit = (right - left) / scale
    out = [f'<svg xmlns="http://www.w3.org/2000/svg" width="1280" height="{90 + height * len(bars)}"'
           ' font-family="DejaVu Sans, sans-serif" font-size="14">',
           '<rect width="100%" height="100%" fill="#fbfaf6"/>',
           '<text x="24" y="34" font-size="19" fill="#22252a">What each measurement takes of its '
           'goal</text>',
           f'<text x="{left + unit}" y="60" text-anchor="middle" fill="#22252a">the goal</text>',
           f'<line x1="{left + unit}" x2="{left + unit}" y1="66" y2="{74 + height * len(bars)}" '
           'stroke="#22252a" stroke-dasharray="4 3"/>']
    for number, (row, taken) in enumerate(bars):
        y = 72 + height * number
        width = min(taken, scale) * unit
        color = "#4f8a6b" if row["met"] else "#c07a2c"
        name = html.escape(f"{row['key']}: {row['what']}")
        out.append(f'<text x="{left - 12}" y="{y + 16}" text-anchor="end" fill="#22252a">{name}</text>')
        out.append(f'<rect x="{left}" y="{y + 3}" width="{max(width, 2):.1f}" height="{height - 8}" '
                   f'fill="{color}"/>')
        out.append(f'<text x="{left + width + 8:.1f}" y="{y + 16}" fill="#22252a" '
                   f'stroke="#fbfaf6" stroke-width="5" paint-order="stroke">{shown(row)}</text>')
    out.append("</svg>\n")
    return "\n".join(out)


def write(known, path):
    """Notes behind NOTES_BEGIN, in words, are kept."""
    rows = [known[key] for key in ORDER if key in known]
    notes = ""
    if path.exists() and NOTES_BEGIN in path.read_text():
        notes = path.read_text().split(NOTES_BEGIN, 1)[1]
    drawing = path.with_suffix(".svg")
    drawing.write_text(figure(rows))
    commit = subprocess.run(["git", "rev-parse", "--short", "HEAD"], capture_output=True, text=True)
    lines = ["# Performance", "",
             f"Measured by `make bench` on {datetime.date.today()}, at {commit.stdout.strip()}: "
             f"{processor()}. Ratios are to standard tools that do the same work on the same data, in "
             "alternating runs; each figure is a median. \"x\" is such a ratio.", "",
             f"![what each measurement takes of its goal]({drawing.name})", "",
             "| | case | goal | measured | | in figures |", "| --- | --- | --- | --- | --- | --- |"]
    for row in rows:
        mark = {True: "met", False: "missed", None: ""}[row["met"]]
        lines.append(f"| {row['key']} | {row['what']} | {row['goal']} | {shown(row)} | {mark} | "
                     f"{row['told']} |")
    lines += ["", "To repeat it: `make bench` (about a quarter of an hour); `make bench FULL=1` with a "
              "million files; `make bench ONLY=A,F` for some cases (`bench/run.py --help`). The folder "
              "of the measurements is `build/bench`, which should lie on a real disk.", "",
              NOTES_BEGIN]
    path.write_text("\n".join(lines) + notes.rstrip("\n") + "\n")
