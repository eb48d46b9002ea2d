#!/usr/bin/env python3
"""Evaluates a fleet in parts inside Apache Spark, and brings the verdicts to a ledger.

    python3 benches/spark/run.py [DEVICES]       20,000 devices unless said otherwise

Spark runs in its local mode (`pip install pyspark`, and a Java runtime). It pipes each partition of the file through
`fencepost assess --state - --all`; then the verdicts of all partitions are compared with those of one run over the whole file, and
taken over by a ledger with `assess --verdicts`, which must come to the same as a ledger that evaluates everything itself.
Everything is written below target/spark.
"""

import os
import json
import shutil
import subprocess
import sys
import time
from pathlib import Path

from pyspark import SparkConf, SparkContext

ROOT = Path(__file__).resolve().parents[2]
TARGET = Path(os.environ.get("CARGO_TARGET_DIR", ROOT / "target"))
WORK = TARGET / "spark"
BIN = TARGET / "release"
AS_OF = "2027-03-14T06:00:00Z"


def fencepost(*arguments, workspace, out=None):
    command = [BIN / "fencepost", *arguments]
    done = subprocess.run([str(part) for part in command], cwd=workspace, stdout=out or subprocess.PIPE, check=True)
    return done.stdout


def told(workspace):
    lists = ["findings", "rules", "assessments"]
    rows = [json.loads(fencepost("list", name, "--format", "json", workspace=workspace))["rows"] for name in lists]
    return [*rows, json.loads(fencepost("access", "--format", "json", workspace=workspace))]


def main():
    devices = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
    subprocess.run(["cargo", "build", "--release", "--workspace", "--quiet"], cwd=ROOT, check=True)
    shutil.rmtree(WORK, ignore_errors=True)
    here, there = WORK / "here", WORK / "there"
    shutil.copytree(ROOT / "benches" / "workspace", here)
    fleet = WORK / "fleet.jsonl"
    with open(fleet, "wb") as file:
        subprocess.run([BIN / "fencepost-standin", "fleet", str(devices)], stdout=file, check=True)
    # Importing makes the ledger, and with it the key that seals.
    fencepost("import", fleet, "--as-of", AS_OF, workspace=here)
    shutil.copytree(here, there)

    whole = WORK / "whole.jsonl"
    arguments = ["--all", "--format", "jsonl", "--as-of", AS_OF]
    with open(whole, "wb") as file:
        fencepost("assess", "--state", fleet, *arguments, workspace=here, out=file)

    conf = SparkConf().setMaster("local[2]").setAppName("parts").set("spark.ui.enabled", "false")
    spark = SparkContext(conf=conf)
    spark.setLogLevel("ERROR")
    start = time.perf_counter()
    command = f"{BIN / 'fencepost'} assess --workspace {here} --state - {' '.join(arguments)}"
    spark.textFile(str(fleet), minPartitions=8).pipe(command, checkCode=True).saveAsTextFile(str(WORK / "parts"))
    partitions = spark.textFile(str(fleet), minPartitions=8).getNumPartitions()
    seconds = time.perf_counter() - start
    spark.stop()

    parts = b"".join(part.read_bytes() for part in sorted((WORK / "parts").glob("part-*")))
    verdicts = WORK / "verdicts.jsonl"
    verdicts.write_bytes(parts)
    same = parts == whole.read_bytes()
    print(f"{devices} devices in {partitions} partitions, {seconds:.1f} s in Spark: the same bytes as one run: {same}")

    taken = fencepost("assess", "--verdicts", verdicts, "--as-of", AS_OF, "--format", "json", workspace=here)
    fencepost("assess", "--as-of", AS_OF, workspace=there)
    print("taken over:", json.loads(taken)["verdicts_taken_over"])
    alike = told(here) == told(there)
    print(f"findings, counts and access as where everything was evaluated in the ledger: {alike}")
    sys.exit(0 if same and alike else 1)


if __name__ == "__main__":
    main()
