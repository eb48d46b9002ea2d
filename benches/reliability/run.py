#!/usr/bin/env python3
"""Tries what docs/reliability.md promises: kills, a full disk, several writers at once, and changed bits in a ledger.

    python3 benches/reliability/run.py [--kills 200] [--flips 2000] [--only kills|disk|writers|flips]

Needs `cargo build --release --workspace` first. The full disk is a file system in memory of 3 MB, which only root may mount; it is
left out otherwise. Ends with 1 where a promise does not hold. Everything is written below a temporary folder.
"""

import argparse
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
BIN = Path(os.environ.get("CARGO_TARGET_DIR", ROOT / "target")) / "release"
FENCEPOST = str(BIN / "fencepost")
RULES = '[[rule]]\nid = "fine"\ngroups = ["every-device"]\ngrace = "1d"\nrequire = \'n > 5\'\n'
CONFIG = 'name = "Trial"\nclock = "stepped"\n'
failures = []


def check(holds, what):
    if not holds:
        failures.append(what)
        print("  DOES NOT HOLD:", what)


def workspace(folder):
    folder.mkdir(parents=True)
    (folder / "rules").mkdir()
    (folder / "fencepost.toml").write_text(CONFIG)
    (folder / "rules" / "r.toml").write_text(RULES)
    return folder


def state(path, devices, day, shift=0):
    with open(path, "w") as out:
        for n in range(devices):
            record = {"device": f"d{n}", "collected_at": f"2027-03-{day:02}T05:00:00Z", "n": (n + shift) % 11, "note": f"{n * 7919:x}" * 20}
            out.write(json.dumps(record) + "\n")


def run(folder, *arguments, **options):
    return subprocess.run([FENCEPOST, *arguments], cwd=folder, capture_output=True, text=True, timeout=120, **options)


def verified(folder):
    return run(folder, "history", "--verify").returncode == 0


def kills(base, count):
    """Kills import and assess at random moments; the ledger is as before or as after, and goes on."""
    folder = workspace(base / "kills")
    state(folder / "1.jsonl", 3000, 1)
    run(folder, "import", "1.jsonl", "--as-of", "2027-03-01T06:00:00Z")
    hit, day = 0, 1
    for kill in range(count):
        importing = kill % 2 == 0
        if importing:
            day = day % 27 + 1
            name = f"{kill}.jsonl"
            state(folder / name, 3000, day, kill)
            command = ["import", name, "--as-of", f"2027-04-{day:02}T06:00:00Z"]
        else:
            command = ["assess", "--as-of", f"2028-01-01T{kill // 60 % 24:02}:{kill % 60:02}:00Z"]
        child = subprocess.Popen([FENCEPOST, *command], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(random.uniform(0, 0.25))
        if child.poll() is None:
            child.send_signal(signal.SIGKILL)
            hit += 1
        child.wait()
        check(verified(folder), f"whole after kill {kill} of {command[0]}")
        again = run(folder, *command)
        check(again.returncode == 0, f"{command[0]} works after kill {kill}: {again.stderr.strip()}")
    devices = json.loads(run(folder, "list", "devices", "--format", "json").stdout)["rows"]
    check(len(devices) == 3000, "no device was lost or doubled")
    print(f"kills: {count} commands, {hit} of them killed before they ended")


def disk(base):
    """Lets the disk fill up; the error says so, nothing changes, and the next run works."""
    place = base / "disk"
    place.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", place]).returncode != 0:
        print("disk: left out, since nothing may be mounted here")
        return
    try:
        folder = workspace(place / "w")
        state(base / "small.jsonl", 200, 1)
        state(base / "large.jsonl", 20000, 2)
        check(run(folder, "import", str(base / "small.jsonl"), "--as-of", "2027-03-01T06:00:00Z").returncode == 0, "a small file goes in")
        before = run(folder, "list", "devices", "--format", "json").stdout
        full = run(folder, "import", str(base / "large.jsonl"), "--as-of", "2027-03-02T06:00:00Z")
        check(full.returncode == 4 and "the disk is full" in full.stderr, f"a full disk is exit 4 and said: {full.returncode} {full.stderr}")
        check(verified(folder), "whole after a full disk")
        check(run(folder, "list", "devices", "--format", "json").stdout == before, "as before after a full disk")
        after = run(folder, "assess", "--as-of", "2027-03-02T06:00:00Z")
        check(after.returncode == 0, f"the next run works: {after.stderr}")
        print("disk: 3 MB filled up by an import of 20,000 devices")
    finally:
        subprocess.run(["umount", place])


def writers(base):
    """Eight processes write at once, five times; all succeed, and nothing is lost."""
    folder = workspace(base / "writers")
    for round_ in range(5):
        children = []
        for n in range(8):
            name = f"w{round_}-{n}.jsonl"
            (folder / name).write_text("".join(json.dumps({"device": f"w{round_}-{n}-{d}", "collected_at": "2027-03-01T05:00:00Z", "n": d}) + "\n" for d in range(50)))
            children.append(subprocess.Popen([FENCEPOST, "import", name, "--as-of", "2027-03-01T06:00:00Z"], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True))
        for child in children:
            _, said = child.communicate()
            check(child.returncode == 0, f"a writer among eight: {said}")
    check(verified(folder), "whole after eight writers")
    devices = json.loads(run(folder, "list", "devices", "--format", "json").stdout)["rows"]
    check(len(devices) == 5 * 8 * 50, "nothing of eight writers was lost")
    print("writers: 40 imports by eight processes at a time")


def flips(base, count):
    """Changes one bit of a ledger at a time; every answer is the right one, or the command ends with 4."""
    folder = workspace(base / "flips")
    state(folder / "1.jsonl", 400, 1)
    run(folder, "import", "1.jsonl", "--as-of", "2027-03-01T06:00:00Z")
    run(folder, "assess", "--as-of", "2027-03-01T06:00:00Z")
    commands = [["list", "devices", "--format", "json"], ["list", "findings", "--format", "json"], ["show", "d7", "--format", "json"], ["why", "d7"], ["history", "d7", "--format", "json"], ["assess", "--format", "json"]]
    expected = {tuple(command): run(folder, *command).stdout for command in commands[:5]}
    ledger = folder / ".fencepost" / "ledger.sqlite"
    whole = ledger.read_bytes()
    named = alike = 0
    for flip in range(count):
        # All of the head, then anywhere.
        bit = flip if flip < 800 else random.randrange(len(whole) * 8)
        changed = bytearray(whole)
        changed[bit // 8] ^= 1 << bit % 8
        ledger.write_bytes(changed)
        command = commands[flip % 5]
        ran = run(folder, *command)
        if ran.returncode == 4:
            named += 1
            check("ledger" in ran.stderr, f"bit {bit}: a word about the ledger: {ran.stderr}")
        else:
            alike += 1
            check(ran.returncode == 0 and ran.stdout == expected[tuple(command)], f"bit {bit}: {command} gives another answer with {ran.returncode}: {ran.stderr}")
    ledger.write_bytes(whole)
    print(f"flips: {count} changed bits of {len(whole)} bytes; {named} named with exit 4, {alike} without effect on the answer")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--flips", type=int, default=2000)
    parser.add_argument("--only", choices=["kills", "disk", "writers", "flips"])
    asked = parser.parse_args()
    random.seed(7)
    base = Path(tempfile.mkdtemp())
    try:
        for name, trial in [("kills", lambda: kills(base, asked.kills)), ("disk", lambda: disk(base)), ("writers", lambda: writers(base)), ("flips", lambda: flips(base, asked.flips))]:
            if asked.only in (None, name):
                trial()
    finally:
        shutil.rmtree(base, ignore_errors=True)
    print("all promises held" if not failures else f"{len(failures)} promises did not hold")
    sys.exit(bool(failures))


if __name__ == "__main__":
    main()
