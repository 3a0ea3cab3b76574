#!/usr/bin/env python3
"""What the store does at size, each measured on a store of its own: prints lines for docs/benchmarks.md.

    bench/scale.py [series] [start] [backfill] [acknowledge]     all of them where none is named; --work DIR

series       a million live series: how fast they are taken, memory a series, how fast the index is rebuilt at a start
start        100 M points in 100,000 series: from the command to ready
backfill     ten years of 100 series, every 15 minutes, in order and in random order: time, CPU, size
acknowledge  batches of 1,000 points at half of the rate that is reached with such batches: latency of the acknowledgement
Needs Python with numpy.
"""
import argparse, json, pathlib, random, shutil, statistics, sys, threading, time

sys.path.insert(0, str(pathlib.Path(__file__).parent))
from service import Service, size

START = 1_760_054_400


def stamp(seconds):
    import numpy as np

    return np.datetime_as_string(np.asarray(seconds, dtype="datetime64[s]"), timezone="UTC")


def start(folder, settings=""):
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "fenetre.toml").write_text(f"[store]\n{settings}")
    return Service("serve", "--config", str(folder / "fenetre.toml"), "--store", str(folder / "store"))


def push(service, connection, body, parameters="?tag=site&tag=sensor&value=value%3Dlevel"):
    while True:
        status, answer = service.send(connection, "POST", f"/api/v1/datasets/main/points{parameters}", body, "text/csv")
        if status != 429:
            break
        time.sleep(0.1)
    if status != 200:
        raise SystemExit(f"{status} {answer[:300]}")


def rows(times, series, values):
    return "\n".join(["time,site,sensor,value", *(f"{t},site-{s // 50},s{s},{v}" for t, s, v in zip(times, series, values))]).encode()


def until_ready(folder):
    times = []
    for _ in range(3):
        service = start(folder)
        status, _ = service.send(service.connection, "GET", "/health/ready")
        assert status == 200
        times.append(time.perf_counter() - service.began)
        memory = service.memory()
        service.stop()
    return statistics.median(times), memory


def series(work):
    import numpy as np

    count, batch = 1_000_000, 50_000
    service = start(work)
    empty = service.memory()
    began = time.perf_counter()
    for first in range(0, count, batch):
        numbers = range(first, first + batch)
        push(service, service.connection, rows(stamp(np.full(batch, START)), numbers, (n % 100 / 10 for n in numbers)))
    taken = time.perf_counter() - began
    memory = service.memory()
    service.stop()
    ready, idle = until_ready(work)
    print(f"series: {count:,} taken in {taken:.0f} s; {(memory - empty) / count:.0f} bytes of memory each with a point that waits, most {memory / 1e6:.0f} MB; "
          f"after a restart ready in {ready:.2f} s with {(idle - empty) / count:.0f} bytes each; an empty service takes {empty / 1e6:.0f} MB")


def cold_start(work):
    import numpy as np

    count, steps, at_once = 100_000, 1_000, 5
    service = start(work, "pack_after_seconds = 5\ncompact_after_seconds = 5\n")
    noise = np.random.default_rng(1)
    work_list = iter(range(0, steps, at_once))
    lock = threading.Lock()

    def run():
        connection = service.connect()
        while True:
            with lock:
                step = next(work_list, None)
            if step is None:
                return
            for half in range(0, count, 20_000):
                numbers = np.tile(np.arange(half, half + 20_000), at_once)
                times = stamp(START + np.repeat(np.arange(step, step + at_once), 20_000) * 600)
                push(service, connection, rows(times, numbers, np.round(noise.normal(300, 2, len(numbers)), 1)))

    began = time.perf_counter()
    threads = [threading.Thread(target=run) for _ in range(2)]
    [thread.start() for thread in threads]
    [thread.join() for thread in threads]
    taken = time.perf_counter() - began
    service.wait_until_packed(1_800)
    service.stop()
    ready, memory = until_ready(work)
    print(f"start: {count * steps:,} points in {count:,} series (taken in {taken:.0f} s, {size(work / 'store/data') / count / steps:.2f} bytes a point) ready in {ready:.2f} s, {memory / 1e6:.0f} MB of memory")


def backfill(work):
    import numpy as np

    count, step, batch = 100, 900, 50_000
    instants = START - np.arange(10 * 365 * 86_400 // step)[::-1] * step
    noise = np.random.default_rng(1)
    points = len(instants) * count
    table = {}
    for order in ["in order", "random"]:
        folder = work / order.replace(" ", "-")
        service = start(folder, "pack_after_seconds = 5\ncompact_after_seconds = 5\n")
        places = np.arange(points) if order == "in order" else np.random.default_rng(2).permutation(points)
        cpu, sending = service.cpu(), 0
        for first in range(0, points, batch):
            some = places[first : first + batch]
            body = rows(stamp(instants[some // count]), some % count, np.round(300 + noise.normal(0, 2, len(some)), 1))
            began = time.perf_counter()
            push(service, service.connection, body)
            sending += time.perf_counter() - began
        taken = service.cpu() - cpu
        storage = service.wait_until_packed(1_800)
        blocks = sum(partition["blocks"] for dataset in storage["datasets"] for partition in dataset["partitions"])
        assert sum(dataset["points"] for dataset in storage["datasets"]) == points
        table[order] = sending
        print(f"backfill {order}: {points:,} points over ten years in {sending:.0f} s ({taken:.0f} s of CPU, {service.cpu() - cpu:.0f} through to compacted blocks), "
              f"{size(folder / 'store/data') / points:.2f} bytes a point in {blocks:,} blocks, most memory {service.memory('VmHWM') / 1e6:.0f} MB", flush=True)
        service.stop()
    print(f"backfill: random order took {table['random'] / table['in order']:.2f} times as long as in order")


def acknowledge(work):
    import numpy as np

    service = start(work)
    bodies = [rows(stamp(START + np.full(1_000, step)), range(1_000), (n / 10 for n in range(1_000))) for step in range(4_000)]
    connections = [service.connect() for _ in range(4)]

    def run(connection, parts, every, out, begun):
        for i, body in enumerate(parts):
            due = begun + i * every
            time.sleep(max(0, due - time.perf_counter()))
            sent = time.perf_counter()
            push(service, connection, body)
            out.append((time.perf_counter() - sent) * 1e3)

    def at(every, parts):
        out, begun = [], time.perf_counter()
        threads = [threading.Thread(target=run, args=(connection, parts[i::4], every, out, begun)) for i, connection in enumerate(connections)]
        [thread.start() for thread in threads]
        [thread.join() for thread in threads]
        return sorted(out), time.perf_counter() - begun

    _, took = at(0, bodies[:2_000])
    top = 2_000 / took
    out, took = at(4 / (top / 2), bodies[2_000:])
    print(f"acknowledge: with 4 connections and batches of 1,000 points {top * 1e3 / 1e6:.2f} M points/s at most; at {2_000 / took * 1e3 / 1e6:.2f} M/s: "
          f"p50 {out[len(out) // 2]:.1f} ms, p99 {out[len(out) * 99 // 100]:.1f} ms, worst {out[-1]:.1f} ms")
    service.stop()


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("what", nargs="*", default=["series", "start", "backfill", "acknowledge"])
    parser.add_argument("--work", type=pathlib.Path, default=pathlib.Path("/tmp/fenetre-scale"))
    options = parser.parse_args()
    for what in options.what:
        folder = options.work / what
        shutil.rmtree(folder, ignore_errors=True)
        {"series": series, "start": cold_start, "backfill": backfill, "acknowledge": acknowledge}[what](folder)
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
