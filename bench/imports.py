#!/usr/bin/env python3
"""Imports and definitions: a gigabyte of CSV with the service's memory over time, 100,000 new series in one import, 50,000 definitions
applied at once, and what it costs to find metrics among 100,000. Prints lines for docs/benchmarks.md.

    bench/imports.py [--megabytes 1000] [--work DIR]

Needs nothing but Python and a release build; takes about two minutes and twice the file's size on the disk.
"""
import argparse, datetime, json, pathlib, shutil, sys, time

sys.path.insert(0, str(pathlib.Path(__file__).parent))
from service import Service


def import_file(service, path, mapping):
    """Uploads and runs; says seconds and CPU seconds, the record, and memory over time."""
    began, cpu = time.perf_counter(), service.cpu()
    connection = service.connect()
    with open(path, "rb") as file:
        connection.request("POST", f"/api/v1/datasets/main/imports?file={path.name}", file, {"Content-Length": str(path.stat().st_size)})
    record = json.loads(connection.getresponse().read())
    sent = time.perf_counter() - began
    service.call("POST", f"/api/v1/imports/{record['id']}/run", json.dumps({"mapping": mapping}))
    memory = []
    while True:
        record = service.call("GET", f"/api/v1/imports/{record['id']}")
        memory.append((record["read_bytes"], service.memory()))
        if record["stage"] != "running":
            break
        time.sleep(0.2)
    assert record["stage"] == "done", record
    return time.perf_counter() - began, sent, service.cpu() - cpu, record, memory


def table(path, megabytes):
    """Levels of 200 locks in order of time, a row a second and lock."""
    start, size = datetime.datetime(2026, 1, 1), 0
    with open(path, "w") as file:
        file.write("time,lock,side,level,flow\n")
        second = 0
        while size < megabytes * 1_000_000:
            at = (start + datetime.timedelta(seconds=second)).isoformat() + "Z"
            rows = "".join(f"{at},lock-{lock:03d},up,{300 + (second + lock) % 977 / 10},{4 + (second * 7 + lock) % 991 / 1000}\n" for lock in range(200))
            size += file.write(rows)
            second += 1


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--megabytes", type=int, default=1_000)
    parser.add_argument("--work", type=pathlib.Path, default=pathlib.Path("/tmp/fenetre-bench"))
    options = parser.parse_args()
    options.work.mkdir(parents=True, exist_ok=True)
    shutil.rmtree(options.work / "imports", ignore_errors=True)

    large = options.work / f"large-{options.megabytes}.csv"
    if not large.exists():
        table(large, options.megabytes)
    columns = lambda tags, values: {"columns": [{"column": tag, "role": "tag"} for tag in tags] + [{"column": value, "role": "value"} for value in values]}
    service = Service("serve", "--store", str(options.work / "imports/large"))
    seconds, sent, cpu, record, memory = import_file(service, large, columns(["lock", "side"], ["level", "flow"]))
    at = [max(held for read, held in memory if read <= share * large.stat().st_size) / 1e6 for share in (0.25, 0.5, 0.75, 1)]
    print(f"import of {large.stat().st_size / 1e6:.0f} MB of CSV: {record['accepted']:,} points from {record['rows']:,} rows in {seconds:.1f} s ({sent:.1f} s of them sending), {record['accepted'] / cpu / 1e6:.2f} M points per CPU second")
    print("  most memory in its quarters: " + ", ".join(f"{each:.0f} MB" for each in at))
    service.stop()

    many = options.work / "many-series.csv"
    many.write_text("time,station,signal,value\n" + "".join(f"2026-05-01T09:00:00Z,station-{i // 100:04d},signal-{i % 100:02d},{i % 97}\n" for i in range(100_000)))
    service = Service("serve", "--store", str(options.work / "imports/many"))
    seconds, _, cpu, record, _ = import_file(service, many, columns(["station", "signal"], ["value"]))
    print(f"import of 100,000 new series: {record['new_series']:,} series in {seconds:.2f} s ({cpu:.2f} s of CPU)")

    definition = {"kind": "gauge", "unit": "cm", "description": "A signal of many"}
    body = json.dumps({"metrics": {f"signal_{i}": definition for i in range(50_000)}})
    began = time.perf_counter()
    service.call("POST", "/api/v1/datasets/main/metrics", json.dumps({**json.loads(body), "dry_run": True}))
    shown = time.perf_counter() - began
    service.call("POST", "/api/v1/datasets/main/metrics", body)
    print(f"50,000 definitions: differences in {shown:.2f} s, applied in {time.perf_counter() - began - shown:.2f} s")
    began = time.perf_counter()
    metrics = service.call("GET", "/api/v1/datasets/main/metrics")
    print(f"{len(metrics):,} metrics listed in {time.perf_counter() - began:.2f} s")
    service.call("POST", "/api/v1/datasets/main/tags/station/rename", json.dumps({"to": "place"}))
    began = time.perf_counter()
    service.call("POST", "/api/v1/datasets/main/tags/place/rename", json.dumps({"to": "station"}))
    print(f"a tag of 100,000 series renamed in {time.perf_counter() - began:.2f} s")
    service.stop()


main()
