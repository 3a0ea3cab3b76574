#!/usr/bin/env python3
"""Retention and rollups: what dropping a large partition takes, and whether ingest feels it; what rollups cost ingest, late points among them; and how
much faster a year of daily values is from them. Prints rows for docs/benchmarks.md.

    bench/keeping.py [--drop 100000000] [--points 10000000] [--year 100000000] [--only drop|cost|year] [--work DIR]

Needs Python with numpy and polars. CPU time is that of the service, from /proc.
"""
import argparse, json, pathlib, random, shutil, statistics, sys, threading, time

sys.path.insert(0, str(pathlib.Path(__file__).parent))
import dataset
from ingest import bodies, send_all, start

CONFIG = "[store]\nmemory_mb = 512\npack_after_seconds = 5\ncompact_after_seconds = 2\n[limits]\nmax_query_seconds = 300\nmax_decoded_points = 20000000000\n"
DAY = 86_400_000
ARROW = "application/vnd.apache.arrow.stream"


def frames(points, series, days, until):
    """Arrow bodies of 200,000 points in order of time, up to `until` (ms): levels of so many series."""
    import io, numpy as np, polars as pl

    step = max(1, round(days * DAY * series / points))
    count = days * DAY // step
    rng = np.random.default_rng(1)
    each = max(1, 200_000 // series)
    for first in range(0, count, each):
        times = until - days * DAY + np.arange(first, min(first + each, count)) * step
        table = pl.DataFrame({
            "time": np.repeat(times, series),
            "metric": "level",
            "sensor": np.tile(np.arange(series), len(times)),
            "value": np.round(300 + 20 * np.sin(np.repeat(times, series) / 4e6) + rng.normal(0, 0.3, len(times) * series), 2),
        }).with_columns(pl.col("time").cast(pl.Datetime("ms")), pl.col("metric").cast(pl.Categorical), pl.col("sensor").cast(pl.String).cast(pl.Categorical))
        out = io.BytesIO()
        table.write_ipc_stream(out)
        yield "", ARROW, out.getvalue(), len(table)


def fresh(work, config=CONFIG):
    folder = work / "keeping"
    shutil.rmtree(folder, ignore_errors=True)
    return folder, start(folder, config)


def drop(work, points):
    """A partition of so many points goes, while batches are pushed; how long the longest of them waits."""
    _, service = fresh(work)
    now = int(time.time() * 1000)
    week = 7 * DAY
    until = now // week * week - 2 * week
    # Weeks begin on a Thursday, as 1970 did.
    kept = send_all(service, frames(points, 1_000, 7, until), 2)
    service.wait_until_packed()
    storage = service.call("GET", "/api/v1/storage", connection=service.connect())
    parts = [partition for one in storage["datasets"] for partition in one["partitions"]]
    print(f"{kept:,} points in {len(parts)} partitions: " + ", ".join(f"{part['points']:,} points, {part['bytes'] / 1e6:.0f} MB" for part in parts))
    waits, stop = [], threading.Event()

    def push():
        connection = service.connect()
        body = "".join(json.dumps({"metric": "level", "tags": {"sensor": str(i)}, "value": i}) + "\n" for i in range(100))
        while not stop.is_set():
            began = time.perf_counter()
            service.call("POST", "/api/v1/datasets/canal/points", body, "application/x-ndjson", connection=connection)
            waits.append(((time.perf_counter() - began) * 1e3, began))
            time.sleep(0.002)

    pusher = threading.Thread(target=push)
    pusher.start()
    time.sleep(5)
    service.call("POST", "/api/v1/retention", json.dumps({"place": "canal", "limits": {"keep_for": "8d"}, "preview": True}), connection=service.connect())
    before = [wait for wait, _ in waits]
    began = time.perf_counter()
    service.call("POST", "/api/v1/retention", json.dumps({"place": "canal", "limits": {"keep_for": "8d"}}), connection=service.connect())
    while True:
        time.sleep(0.005)
        bin_ = service.call("GET", "/api/v1/bin", connection=service.connect())
        if len(bin_) >= len(parts):
            break
    ended = time.perf_counter()
    during = [wait for wait, at in waits if began <= at <= ended + 0.2]
    time.sleep(3)
    stop.set()
    pusher.join()
    print(f"from the call to gone: {(ended - began) * 1e3:.0f} ms; a push of 100 points before: median {statistics.median(before):.1f}, worst {max(before):.1f} ms; meanwhile: median {statistics.median(during):.1f}, worst {max(during):.1f} ms ({len(during)} pushes)")
    service.stop()


def cost(work, points):
    """The standard data set with and without rollups, its points moved so that they end now."""
    data = work / f"data-{points}-1000-10"
    if not (data / "meta.json").exists():
        dataset.make(data, points, 1_000, 10)
    rows = {}
    for name, levels, late in [("none", [], 0), ("1h, 1d", ["1h", "1d"], 0), ("none and 1% late", [], 0.01), ("1h, 1d and 1% late", ["1h", "1d"], 0.01)]:
        _, service = fresh(work)
        if levels:
            policy = {"levels": [{"width": width} for width in levels], "lateness": "1s"}
            service.call("PUT", "/api/v1/datasets/canal/rollups/default", json.dumps(policy))
        work_ = list(bodies(data, "Arrow", 50_000))
        if late:
            held, mixed, pick = [], [], random.Random(7)
            for body in work_:
                # One batch in a hundred comes ten batches late.
                (held if pick.random() < late else mixed).append(body)
                if held and pick.random() < 0.1:
                    mixed.append(held.pop(0))
            work_ = mixed + held
        began, cpu = time.perf_counter(), service.cpu()
        kept = send_all(service, work_, 2)
        wall, taken = time.perf_counter() - began, service.cpu() - cpu
        service.wait_until_packed()
        while levels:
            info = service.call("GET", "/api/v1/datasets/canal/rollups", connection=service.connect())
            states = info["policies"][0]["levels"]
            if all(level["filled"] >= 1 and level["out_of_date"] == 0 for level in states):
                break
            time.sleep(0.5)
        all_ = service.cpu() - cpu
        sizes = ""
        if levels:
            rolled = service.call("POST", "/api/v1/datasets/canal/ask", json.dumps({"query": "show sum of water_level overall show growth of pump_energy overall over 2025-10-10 to 2025-10-20 per 1d"}), connection=service.connect())
            raw = service.call("POST", "/api/v1/datasets/canal/ask", json.dumps({"query": "show sum of water_level overall show growth of pump_energy overall over 2025-10-10 to 2025-10-20 per 1d from raw"}), connection=service.connect())
            values = lambda answer: [value for show in answer["shows"] for line in show["lines"] for value in line["values"]]
            same = all(abs(a - b) <= 1e-9 * max(abs(a), abs(b)) for a, b in zip(values(rolled), values(raw)))
            sizes = "; " + ", ".join(f"{level['width']}: {level['windows']:,} windows, {level['bytes'] / level['windows']:.0f} B each, {level['smaller']:.1f} times smaller" for level in states) + f"; answers agree: {same}"
        rows[name] = (wall, taken, all_)
        print(f"rollups {name}: {kept / wall / 1e6:.2f} M points/s taken; CPU {taken:.1f} s to the last acknowledgement, {all_:.1f} s with everything packed and rolled up{sizes}", flush=True)
        service.stop()
    base = rows["none"]
    for name, (wall, taken, all_) in rows.items():
        print(f"| {name} | {wall / base[0]:.2f} | {taken / base[1]:.2f} | {all_ / base[2]:.2f} |")


def year(work, points, series):
    """Daily means over a year, from windows and from points."""
    _, service = fresh(work)
    now = int(time.time() * 1000) // DAY * DAY
    kept = send_all(service, frames(points, series, 365, now), 2)
    service.call("PUT", "/api/v1/datasets/canal/rollups/default", json.dumps({"levels": [{"width": "1h"}, {"width": "1d"}]}), connection=service.connect())
    service.wait_until_packed(1_800)
    began = time.perf_counter()
    while True:
        info = service.call("GET", "/api/v1/datasets/canal/rollups", connection=service.connect())
        states = info["policies"][0]["levels"]
        if all(level["filled"] >= 1 for level in states):
            break
        time.sleep(1)
    print(f"{kept:,} points; filled in {time.perf_counter() - began:.0f} s more; " + ", ".join(f"{level['width']}: {level['bytes'] / 1e6:.0f} MB" for level in states))
    day = lambda ms: time.strftime("%Y-%m-%d", time.gmtime(ms / 1000))
    for reducer in ["mean", "max", "stddev"]:
        taken = {}
        for source in ["1d", "raw"]:
            body = json.dumps({"query": f"show {reducer} of level overall over {day(now - 365 * DAY)} to {day(now)} per 1d from {source}"})
            times = []
            # The best of some: from windows it is over soon, and more of them are cheap.
            for _ in range(5 if source == "raw" else 25):
                cpu, began = service.cpu(), time.perf_counter()
                answer = service.call("POST", "/api/v1/datasets/canal/ask", body, connection=service.connect())
                times.append((time.perf_counter() - began, service.cpu() - cpu))
            taken[source] = min(times)
            cost_ = answer["cost"]
            print(f"daily {reducer} over a year from {source}: {min(times)[0] * 1e3:.0f} ms ({min(times)[1] * 1e3:.0f} ms of CPU); {cost_['windows_read']:,} windows, {cost_['points_read']:,} points, {cost_['blocks_summarised']:,} summaries")
        print(f"  {taken['raw'][0] / taken['1d'][0]:.0f} times faster")
    service.stop()


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--drop", type=int, default=100_000_000)
    parser.add_argument("--points", type=int, default=10_000_000)
    parser.add_argument("--year", type=int, default=100_000_000)
    parser.add_argument("--series", type=int, default=1_000, help="of the year")
    parser.add_argument("--only")
    parser.add_argument("--work", type=pathlib.Path, default=pathlib.Path("/tmp/fenetre-bench"))
    options = parser.parse_args()
    options.work.mkdir(parents=True, exist_ok=True)
    runs = {"drop": (drop, options.drop), "cost": (cost, options.points), "year": (year, options.year, options.series)}
    for name, (run, *sizes) in runs.items():
        if options.only in (None, name):
            run(options.work, *sizes)


main()
