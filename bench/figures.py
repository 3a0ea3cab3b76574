#!/usr/bin/env python3
"""Measures the demo: loaded, start to ready, the query of the README, size; and the console's first bundle.

Usage: bench/figures.py      (FENETRE=PATH for another binary than the release build in the build cache)

Needs nothing but Python and a release build. Everything runs on loopback in a temporary folder; it takes about a minute. CPU time is
that of the service's process, from /proc: on a shared machine it is the steadier number.
"""
import gzip
import json
import pathlib
import statistics
import tempfile
import time

from service import Service

ROOT = pathlib.Path(__file__).resolve().parent.parent
QUERY = 'show mean of level where reach = "upper" over last 24h per 15m'


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


def bundle():
    assets = ROOT / "console/dist/assets"
    page = (ROOT / "console/dist/index.html").read_text()
    first = sum(len(gzip.compress(path.read_bytes(), 9)) for path in assets.glob("*.[jc]s*") if path.suffix in (".js", ".css") and path.name in page)
    print(f"the console's first bundle: {first / 1e3:.0f} kB compressed")


def main():
    with tempfile.TemporaryDirectory() as folder:
        demo(folder)
    bundle()


main()
