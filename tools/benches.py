#!/usr/bin/env python3
"""Compares the benches of the core with those that were kept, and says which have become slower.

    python3 tools/benches.py           # run, compare with docs/benches.json; ends with 1 when one is slower by 10 %
    python3 tools/benches.py --keep    # run, and keep what was measured: at a release, on a quiet machine

A bench that seems slower is run again, twice at the most, and its fastest run counts: a machine that others use, too, is
slower at times, never faster. Benches of another processor say nothing, and are refused. Needs cargo and nothing else.
"""

import json
import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
KEPT = ROOT / "docs" / "benches.json"
SLOWER = 1.10
UNITS = {"ns": 1e-9, "µs": 1e-6, "ms": 1e-3, "s": 1.0, "m": 60.0}

# Each bench is given so many seconds.
LONGEST = "1"


def processor():
    for line in Path("/proc/cpuinfo").read_text().splitlines():
        if line.startswith("model name"):
            return line.split(":", 1)[1].strip()
    return "unknown"


def run(names=()):
    """Seconds of each bench, by its name: the fastest of its samples."""
    command = ["cargo", "bench", "--quiet", "-p", "jigsawa-core", "--bench", "stages", "--", "--max-time", LONGEST, *names]
    text = subprocess.run(command, cwd=ROOT, check=True, capture_output=True, text=True).stdout
    found, path = {}, []
    for line in text.splitlines():
        # A tree: "├─ name  fastest │ slowest │ …", each level indented by three more.
        match = re.match(r"^([│ ]*)[├╰]─ (.+?)(?:\s{2,}|$)(.*)$", line)
        if not match:
            continue
        depth, name, rest = len(match[1]) // 3, match[2].strip(), match[3]
        path = path[:depth] + [name]
        time = re.match(r"([\d.]+) (ns|µs|ms|s|m)\b", rest.strip())
        if time:
            found["/".join(path)] = float(time[1]) * UNITS[time[2]]
    if not found:
        sys.exit("no bench was found in what cargo bench said")
    return found


def main():
    now = run()
    if "--keep" in sys.argv[1:]:
        again = run()
        best = {name: min(seconds, again.get(name, seconds)) for name, seconds in now.items()}
        KEPT.write_text(json.dumps({"processor": processor(), "seconds": best}, indent=1) + "\n")
        print(f"{len(best)} benches kept in {KEPT.relative_to(ROOT)}")
        return
    kept = json.loads(KEPT.read_text())
    if kept["processor"] != processor():
        sys.exit(f"the benches were kept on '{kept['processor']}', this is '{processor()}': keep anew with --keep")
    before = kept["seconds"]
    slower = lambda name: now[name] > SLOWER * before.get(name, float("inf"))
    for _ in range(2):
        doubtful = [name for name in now if slower(name)]
        if not doubtful:
            break
        for name, seconds in run(sorted({name.split("/")[0] for name in doubtful})).items():
            now[name] = min(seconds, now.get(name, seconds))
    for name in sorted(now):
        if name in before:
            ratio = now[name] / before[name]
            print(f"{ratio:6.2f}  {1e3 * now[name]:10.3f} ms  {name}{'  SLOWER' if slower(name) else ''}")
        else:
            print(f"   new  {1e3 * now[name]:10.3f} ms  {name}")
    for name in sorted(set(before) - set(now)):
        print(f"  gone                 {name}")
    sys.exit(1 if any(slower(name) for name in now) else 0)


main()
