#!/usr/bin/env python3
"""Races Fence Post against DuckDB (its Python package), jq and serde_json on a fleet of the project's own generator.

    python3 benches/races/run.py [DEVICES] [--no-ledger | --ledger-only]       100,000 devices unless said otherwise

First all must come to the same verdicts. Then each pair runs in turn, once to warm up and five times counted; what is printed is
the median of the ratios within each round, with the least and the greatest. Needs `pip install duckdb` and jq; what is not
there is left out. Everything is written below target/races.
"""

import json
import os
import re
import shutil
import statistics
import subprocess
import sys
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
HERE = ROOT / "benches" / "races"
TARGET = Path(os.environ.get("CARGO_TARGET_DIR", ROOT / "target"))
WORK = TARGET / "races"
BIN = TARGET / "release"
AS_OF = "2027-03-14T06:00:00Z"
ROUNDS = 5
LETTERS = {"pass": "p", "fail": "f", "unknown": "u", "not-applicable": "n"}


def run(command, out=subprocess.DEVNULL, cwd=None):
    """Runs a command; returns wall and CPU seconds."""
    start = time.perf_counter()
    child = subprocess.Popen([str(part) for part in command], stdout=out, stderr=subprocess.DEVNULL, cwd=cwd)
    _, status, usage = os.wait4(child.pid, 0)
    wall = time.perf_counter() - start
    if status != 0:
        sys.exit(f"{command[0]} ended with {os.waitstatus_to_exitcode(status)}: {command}")
    return wall, usage.ru_utime + usage.ru_stime


def peak(command, cwd):
    """Returns the peak memory of a command in MiB. What the system says of an ended child may be this script's own."""
    child = subprocess.Popen([str(part) for part in command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=cwd)
    most = 0
    while child.poll() is None:
        try:
            lines = Path(f"/proc/{child.pid}/status").read_text().splitlines()
            most = max([most, *(int(line.split()[1]) for line in lines if line.startswith("VmHWM:"))])
        except OSError:
            pass
        time.sleep(0.002)
    return most / 1024


def fencepost(*arguments, cwd=None):
    return run([BIN / "fencepost", *arguments], cwd=cwd or WORK / "workspace")


def stateless(fleet, workers):
    return fencepost("assess", "--state", fleet, "--as-of", AS_OF, "--format", "jsonl", "--workers", workers)


def duckdb(fleet, threads, out):
    """Runs the checks in DuckDB in a process of its own, which tells how long the query alone took."""
    script = (
        "import duckdb, sys, time\n"
        "text = open(sys.argv[1]).read().replace('FLEET', sys.argv[2]).replace('OUT', sys.argv[3])\n"
        "base = duckdb.connect(); base.execute(f'SET threads = {sys.argv[4]}')\n"
        "start = time.perf_counter(); base.execute(text); print(time.perf_counter() - start)"
    )
    found = subprocess.run(
        [sys.executable, "-c", script, HERE / "checks.sql", fleet, out, str(threads)], capture_output=True, text=True
    )
    if found.returncode != 0:
        sys.exit(found.stderr)
    return float(found.stdout.split()[-1])


def duckdb_load(fleet, base):
    script = (
        "import duckdb, sys, time\n"
        "base = duckdb.connect(sys.argv[2]); base.execute('SET threads = 2')\n"
        "start = time.perf_counter()\n"
        "base.execute(f\"CREATE TABLE fleet AS SELECT * FROM read_ndjson_objects('{sys.argv[1]}', maximum_object_size = 16777216)\")\n"
        "base.close(); print(time.perf_counter() - start)"
    )
    Path(base).unlink(missing_ok=True)
    found = subprocess.run([sys.executable, "-c", script, fleet, base], capture_output=True, text=True)
    if found.returncode != 0:
        sys.exit(found.stderr)
    return float(found.stdout.split()[-1])


def race(what, must, ours, theirs, faster=True):
    """Runs two in turn; the ratio is theirs by ours where we should be the faster, else ours by theirs."""
    ours(), theirs()
    ratios = []
    for _ in range(ROUNDS):
        mine, other = ours(), theirs()
        ratios.append(other / mine if faster else mine / other)
    median = statistics.median(ratios)
    held = median >= must if faster else median <= must
    print(
        f"{what:<66} {median:8.2f}  ({min(ratios):.2f} to {max(ratios):.2f})   must {must:g}: {'held' if held else 'not held'}",
        flush=True,
    )


def same_verdicts(fleet):
    """Compares the verdicts of all that are there, device by device."""
    told = {}
    with open(WORK / "ours.jsonl", "wb") as out:
        run([BIN / "fencepost", "assess", "--state", fleet, "--as-of", AS_OF, "--format", "jsonl", "--all"], out, WORK / "workspace")
    with open(WORK / "ours.jsonl") as lines:
        for line in lines:
            row = json.loads(line)
            told[row["device"]] = "".join(LETTERS[verdict["outcome"]] for verdict in row["verdicts"])
    others = {}
    if has_duckdb():
        duckdb(fleet, 2, WORK / "duckdb.txt")
        others["DuckDB"] = WORK / "duckdb.txt"
    if shutil.which("jq"):
        with open(WORK / "jq.txt", "wb") as out:
            run(["jq", "-r", "-f", HERE / "checks.jq", fleet], out)
        others["jq"] = WORK / "jq.txt"
    for name, path in others.items():
        found = dict(line.split() for line in open(path))
        differ = [device for device in told if found.get(device) != told[device]]
        if differ or len(found) != len(told):
            device = (differ or [""])[0]
            sys.exit(f"{name} differs on {len(differ)} devices: {device} {found.get(device)} {told.get(device)}")
        print(f"the same verdicts from {name}: {len(told)} devices, {20 * len(told)} verdicts")


def has_duckdb():
    return subprocess.run([sys.executable, "-c", "import duckdb"], capture_output=True).returncode == 0


def main():
    numbers = [word for word in sys.argv[1:] if not word.startswith("--")]
    devices = int(numbers[0]) if numbers else 100_000
    build = ["cargo", "build", "--release", "-p", "fencepost-cli", "-p", "fencepost-standin", "-p", "fencepost-benches"]
    subprocess.run(build, cwd=ROOT, check=True)
    shutil.rmtree(WORK, ignore_errors=True)
    shutil.copytree(ROOT / "benches" / "workspace", WORK / "workspace")
    sizes = sorted({devices, max(devices // 10, 1)})
    fleets = {}
    for size in sizes:
        fleets[size] = WORK / f"fleet-{size}.jsonl"
        with open(fleets[size], "wb") as out:
            run([BIN / "fencepost-standin", "fleet", str(size)], out)
    small, large = fleets[sizes[0]], fleets[sizes[-1]]
    same_verdicts(small)

    if "--ledger-only" not in sys.argv:
        stateless_races(small, large, sizes, fleets)
    if "--no-ledger" in sys.argv:
        return

    def imported():
        shutil.rmtree(WORK / "workspace" / ".fencepost", ignore_errors=True)
        return fencepost("import", large, "--as-of", AS_OF)[0]

    if has_duckdb():
        race(
            "DuckDB's time to load the file by that of import", 2,
            imported, lambda: duckdb_load(large, WORK / "load.duckdb"),
        )
    first = imported()
    again = fencepost("import", large, "--as-of", AS_OF)[0]
    print(f"{'import of the same file again by the first':<66} {again / first:8.2f}   must 0.2: {'held' if again <= first / 5 else 'not held'}")
    ledger_races(large, sizes[-1])


def stateless_races(small, large, sizes, fleets):
    """Races of the run without a ledger."""
    if has_duckdb():
        race(
            "DuckDB's time by ours, two threads each", 4,
            lambda: stateless(large, 2)[0], lambda: duckdb(large, 2, WORK / "duckdb.txt"),
        )
    if shutil.which("jq"):
        race(
            f"jq's CPU time by ours, {sizes[0]:,} devices", 60,
            lambda: stateless(small, 1)[1], lambda: run(["jq", "-r", "-f", HERE / "checks.jq", small])[1],
        )
    race(
        "our time by that of serde_json reading into nothing, one thread", 0.9,
        lambda: stateless(large, 1)[0], lambda: run([BIN / "ignored-json", large])[0], faster=False,
    )
    race("one thread's wall time by that of two", 1.6, lambda: stateless(large, 2)[0], lambda: stateless(large, 1)[0])
    race(
        f"CPU time of {sizes[-1]:,} devices by that of {sizes[0]:,}", 11,
        lambda: stateless(large, 2)[1], lambda: stateless(small, 2)[1], faster=False,
    )
    state = lambda fleet: [BIN / "fencepost", "assess", "--state", fleet, "--as-of", AS_OF, "--format", "jsonl"]
    memory = max(peak(state(fleet), WORK / "workspace") for fleet in fleets.values())
    print(f"{'peak memory, two threads, any of these fleets':<66} {memory:8.1f}  MiB   must 16: {'held' if memory <= 16 else 'not held'}")

    versions = statistics.median(run([BIN / "fencepost", "--version"])[0] for _ in range(ROUNDS)) * 1000
    print(f"{'start-up, ms':<66} {versions:8.1f}   must 8: {'held' if versions <= 8 else 'not held'}")


def told(what, ratio, must):
    """Prints a ratio that may be no larger than `must`."""
    print(f"{what:<66} {ratio:8.2f}   must {must:g}: {'held' if ratio <= must else 'not held'}", flush=True)


def ledger_races(fleet, devices):
    """Races within the ledger that `fleet` was imported into."""
    workspace = WORK / "workspace"
    rules = next((workspace / "rules").glob("*.toml"))
    written = rules.read_text()
    moments = iter(f"2027-03-14T06:{minute:02}:{second:02}Z" for minute in range(1, 60) for second in range(60))

    def assess(*more):
        return fencepost("assess", "--quiet", "--format", "json", "--as-of", next(moments), *more)[0]

    def median_of(measure):
        measure()
        return statistics.median(measure() for _ in range(ROUNDS))

    first, alone = assess(), stateless(fleet, 2)[0]
    print(f"{'the first assess of a ledger by the run without one':<66} {first / alone:8.2f}", flush=True)
    race(
        "assess of every device in a ledger by the run without one", 1.2,
        lambda: assess("--anew"), lambda: stateless(fleet, 2)[0], faster=False,
    )
    alone = median_of(lambda: stateless(fleet, 2)[0])

    def edited(text):
        """The time of an assessment after the rules were edited."""
        rules.write_text(text)
        return assess()

    # A rule of its own title is another rule set that reads the same; one that asks for a new fact reads other paths.
    again = statistics.median(edited(f"# edition {number}\n{written}") for number in range(3))
    told("the same when the rules were edited", again / alone, 1.2)
    more = '\n[[rule]]\nid = "new-path-{}"\ngroups = ["every-device"]\nrequire = \'present(os.build{}) or true\'\n'
    paths = statistics.median(edited(written + more.format(number, ".x" * number)) for number in range(3))
    told("the same when the rules read new paths", paths / alone, 3)
    edited(written)

    def part(number):
        """One device in a hundred, with another moment of collection."""
        path = WORK / f"part-{number}.jsonl"
        with open(fleet) as lines, open(path, "w") as out:
            for at, line in enumerate(lines):
                if at % 100 == number:
                    row = json.loads(line)
                    row["collected_at"], row["lock"] = f"2027-03-14T05:0{number}:00Z", {"idle_minutes": 10 + number}
                    out.write(json.dumps(row, separators=(",", ":")) + "\n")
        fencepost("import", path, "--as-of", next(moments))

    size = lambda: sum(path.stat().st_size for path in (workspace / ".fencepost").glob("ledger.sqlite*"))
    before, changed = size(), []
    for number in range(1, ROUNDS + 1):
        part(number)
        changed.append(assess())
        if number == 1:
            growth = (size() - before) / before
    every = median_of(lambda: assess("--anew"))
    told("assess when one device in a hundred has changed, by all", statistics.median(changed) / every, 0.1)
    told("what the ledger grew by then, of what it was", growth, 0.02)
    nothing = median_of(assess) * 1000
    print(f"{'assess when nothing has changed, ms':<66} {nothing:8.1f}   must 20: {'held' if nothing <= 20 else 'not held'}")
    device = json.loads(open(fleet).readline())["device"]
    why = median_of(lambda: fencepost("why", device)[0]) * 1000
    print(f"{'why DEVICE, ms':<66} {why:8.1f}   must 50: {'held' if why <= 50 else 'not held'}")
    told("vet by an assess of every device", median_of(lambda: fencepost("vet", "--quiet", "--as-of", next(moments))[0]) / every, 1)
    for which, condition in [("three in a hundred listed", "= 11"), ("two in three listed", "> 10")]:
        where = median_of(lambda: fencepost("list", "devices", "--where", f"lock.idle_minutes {condition}", "--format", "csv")[0])
        told(f"list devices --where by an assess of every device, {which}", where / every, 0.5)
    morning(fleet, alone)


def morning(fleet, alone):
    """A morning on which every device was collected again; `alone` is what a run without a ledger takes. Nothing is asked of it."""
    path = WORK / "morning.jsonl"
    with open(fleet, "rb") as lines, open(path, "wb") as out:
        for at, line in enumerate(lines):
            now = b'"collected_at":"2027-03-15T0%d:%02d:00Z"' % (at % 5, at % 60)
            line = re.sub(rb'"collected_at":"[^"]*"', now, line, count=1)
            # Two in three were also seen again.
            out.write(re.sub(rb'"last_seen":"[^"]*"', b'"last_seen":"2027-03-15T05:00:00Z"', line, count=1) if at % 3 else line)
    brought = fencepost("import", path, "--as-of", "2027-03-15T06:00:00Z")[0]
    assessed = fencepost("assess", "--quiet", "--format", "json", "--as-of", "2027-03-15T06:10:00Z")[0]
    print(f"{'every device collected again: import, and assess, by the run without':<66} {brought / alone:8.2f} {assessed / alone:8.2f}")


if __name__ == "__main__":
    main()
