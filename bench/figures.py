#!/usr/bin/env python3
"""Measures what docs/benchmarks.md states: the demo loaded, start to ready, the query of the README, ingest over HTTP, size.

Usage: bench/figures.py [PATH-OF-FENETRE]      (default: the release build in the build cache)

Needs nothing but Python and a release build. Everything runs on loopback in a temporary folder; it takes about a minute. CPU time is
that of the service's process, from /proc: on a shared machine it is the steadier number.
"""
import gzip
import http.client
import json
import os
import pathlib
import statistics
import subprocess
import sys
import tempfile
import time

ROOT = pathlib.Path(__file__).resolve().parent.parent
TARGET = pathlib.Path(os.environ.get("CARGO_TARGET_DIR", pathlib.Path.home() / ".cache/fenetre/target"))
BINARY = pathlib.Path(sys.argv[1]) if len(sys.argv) > 1 else TARGET / "release/fenetre"
QUERY = 'show mean of level where reach = "upper" over last 24h per 15m'
BATCH = 50_000


class Service:
    def __init__(self, *arguments):
        self.began = time.perf_counter()
        self.process = subprocess.Popen([BINARY, *arguments, "--listen", "127.0.0.1:0"], stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True)
        for line in self.process.stderr:
            if "http://127.0.0.1:" in line:
                self.port = int(line.split("http://127.0.0.1:")[1].split()[0])
                break
        else:
            raise SystemExit("the service did not start")
        self.connection = http.client.HTTPConnection("127.0.0.1", self.port)

    def call(self, method, path, body=None, kind="application/json"):
        self.connection.request(method, path, body, {"Content-Type": kind})
        answer = self.connection.getresponse()
        data = answer.read()
        if answer.status != 200:
            raise SystemExit(f"{path}: {answer.status} {data[:300]}")
        return json.loads(data)

    def cpu(self):
        fields = pathlib.Path(f"/proc/{self.process.pid}/stat").read_text().rsplit(")", 1)[1].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

    def memory(self):
        return int(pathlib.Path(f"/proc/{self.process.pid}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")

    def stop(self):
        self.process.terminate()
        self.process.wait()


def demo(folder):
    store = f"{folder}/demo"
    service = Service("demo", "run", "--store", store)
    loaded = time.perf_counter() - service.began
    points = sum(dataset["points"] for dataset in service.call("GET", "/api/v1/datasets"))
    print(f"demo: {points:,} points in {loaded:.1f} s, from the command to ready; service and generator took {service.cpu():.1f} s of CPU")
    service.stop()

    times = []
    for _ in range(7):
        service = Service("serve", "--store", store)
        service.call("GET", "/health/ready")
        times.append((time.perf_counter() - service.began) * 1e3)
        service.stop()
    print(f"start to ready with the demo store: median {statistics.median(times):.0f} ms, worst {max(times):.0f} ms")

    service = Service("serve", "--store", store)
    print(f"memory once ready: {service.memory() / 1e6:.0f} MB")
    body = json.dumps({"query": QUERY})
    times, engine = [], []
    for _ in range(200):
        began = time.perf_counter()
        answer = service.call("POST", "/api/v1/datasets/velmar/ask", body)
        times.append((time.perf_counter() - began) * 1e3)
        engine.append(answer["cost"]["milliseconds"])
    times.sort()
    cells = sum(len(line["values"]) for line in answer["shows"][0]["lines"])
    print(f"{QUERY}\n  over HTTP: median {statistics.median(times):.2f} ms, p99 {times[-2]:.2f} ms; in the service {statistics.median(engine):.2f} ms; {cells} cells, {answer['cost']['points_read']:,} points read")
    packed = service.call("GET", "/api/v1/storage")["datasets"]
    bytes_, points = (sum(dataset[key] for dataset in packed) for key in ("bytes", "points"))
    print(f"size: {bytes_ / points:.2f} bytes a packed point on the disk ({points:,} points)")
    service.stop()


def as_table(lines):
    """The points of one metric as CSV, to compare the formats on the same points."""
    rows = ["time,lock,reach,side,level"]
    for line in lines:
        point = json.loads(line)
        tags = point["tags"]
        rows.append(f"{point['time']},{tags['lock']},{tags['reach']},{tags['side']},{point['value']}")
    return rows


def ingest(folder):
    written = subprocess.run([BINARY, "demo", "write", "--days", "14", "--until", "2026-05-01T00:00:00Z"], capture_output=True, check=True)
    lines = [line for line in written.stdout.decode().splitlines() if '"metric":"level"' in line]
    table = as_table(lines)
    header, rows = table[0], table[1:]
    bodies = {
        "JSON Lines": ("application/x-ndjson", "", ["\n".join(lines[i : i + BATCH]).encode() for i in range(0, len(lines), BATCH)]),
        "CSV": ("text/csv", "?tag=lock&tag=reach&tag=side&value=level", ["\n".join([header, *rows[i : i + BATCH]]).encode() for i in range(0, len(rows), BATCH)]),
    }
    for name, (kind, parameters, parts) in bodies.items():
        service = Service("serve", "--store", f"{folder}/{kind.replace('/', '-')}")
        began, cpu = time.perf_counter(), service.cpu()
        taken = sum(service.call("POST", f"/api/v1/datasets/main/points{parameters}", part, kind)["accepted"] for part in parts)
        wall, cpu = time.perf_counter() - began, service.cpu() - cpu
        print(f"ingest of {name}, one connection, batches of {BATCH:,}: {taken / wall / 1e6:.2f} M points/s, {taken / cpu / 1e6:.2f} M points per CPU second of the service")
        service.stop()


def acknowledge(folder):
    service = Service("serve", "--store", f"{folder}/acknowledge")
    times = []
    for n in range(200):
        lines = [json.dumps({"metric": "level", "tags": {"lock": f"l{i % 20}"}, "time": f"2026-05-01T{n // 60:02}:{n % 60:02}:{i % 60:02}.{i:03}Z", "value": i}) for i in range(1000)]
        body = "\n".join(lines).encode()
        began = time.perf_counter()
        service.call("POST", "/api/v1/datasets/main/points", body, "application/x-ndjson")
        times.append((time.perf_counter() - began) * 1e3)
    times.sort()
    print(f"acknowledge 1,000 points, durable, one after the other: p50 {times[100]:.1f} ms, p99 {times[198]:.1f} ms")
    service.stop()


def bundle():
    assets = ROOT / "console/dist/assets"
    page = (ROOT / "console/dist/index.html").read_text()
    first = sum(len(gzip.compress(path.read_bytes(), 9)) for path in assets.glob("*.[jc]s*") if path.suffix in (".js", ".css") and path.name in page)
    print(f"the console's first bundle: {first / 1e3:.0f} kB compressed")


def main():
    with tempfile.TemporaryDirectory() as folder:
        demo(folder)
        ingest(folder)
        acknowledge(folder)
    bundle()


main()
