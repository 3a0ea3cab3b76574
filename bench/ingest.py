#!/usr/bin/env python3
"""Ingest of the standard data set over HTTP, by format, size of batches and connections, through to compacted blocks; sizes; and, with
--peers, the same points loaded into general-purpose engines in the same run. Prints tables for docs/benchmarks.md.

    bench/ingest.py [--points 10000000] [--series 1000] [--days 10] [--peers] [--work DIR]

Needs Python with numpy and polars (and duckdb, psycopg and PostgreSQL for --peers); makes the data set once.
"""
import argparse, io, json, pathlib, shutil, sqlite3, subprocess, sys, threading, time

sys.path.insert(0, str(pathlib.Path(__file__).parent))
import dataset
from service import Service, size

HERE = pathlib.Path(__file__).parent
CSV = "?time=time&tag=site&tag=asset&tag=sensor"
CONFIG = "[store]\nmemory_mb = 512\npack_after_seconds = 5\ncompact_after_seconds = 2\n"


def bodies(data, kind, batch):
    """(path, content type, body, points) in order of arrival: of CSV one a metric, since a column is one metric's."""
    import polars as pl

    for day in sorted((data / "arrival").glob("*.parquet")):
        table = dataset.table_of(data, day)
        if kind == "CSV":
            for (metric,), part in table.group_by("metric", maintain_order=True):
                for piece in part.drop("metric").iter_slices(batch):
                    yield f"{CSV}&value=value%3D{metric}", "text/csv", piece.write_csv().encode(), len(piece)
        elif kind in ("Arrow", "Parquet"):
            words = ["metric", "site", "asset", "sensor"]
            typed = table.with_columns(pl.col("time").str.to_datetime("%Y-%m-%dT%H:%M:%S%.3fZ", time_unit="ms"), *[pl.col(word).cast(pl.Categorical) for word in words])
            for piece in typed.iter_slices(batch):
                out = io.BytesIO()
                piece.write_ipc_stream(out) if kind == "Arrow" else piece.write_parquet(out)
                content = "application/vnd.apache.arrow.stream" if kind == "Arrow" else "application/vnd.apache.parquet"
                yield "", content, out.getvalue(), len(piece)
        else:
            tagged = table.select("metric", pl.struct("site", "asset", "sensor").alias("tags"), "time", "value")
            for piece in tagged.iter_slices(batch):
                yield "", "application/x-ndjson", piece.write_ndjson().encode(), len(piece)


def send_all(service, work, connections):
    """Sends bodies over so many connections; says how many points were kept."""
    todo, lock, kept = iter(work), threading.Lock(), []

    def run():
        connection = service.connect()
        while True:
            with lock:
                body = next(todo, None)
            if body is None:
                return
            path, kind, text, _ = body
            while True:
                status, data = service.send(connection, "POST", f"/api/v1/datasets/canal/points{path}", text, kind)
                if status != 429:
                    break
                time.sleep(0.2)
            if status != 200:
                raise SystemExit(f"{status} {data[:300]}")
            kept.append(json.loads(data)["accepted"])

    threads = [threading.Thread(target=run) for _ in range(connections)]
    [thread.start() for thread in threads]
    [thread.join() for thread in threads]
    return sum(kept)


def start(folder, config=CONFIG):
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "fenetre.toml").write_text(config)
    service = Service("serve", "--config", str(folder / "fenetre.toml"), "--store", str(folder / "store"))
    service.call("PUT", "/api/v1/datasets/canal", "{}")
    service.call("PUT", "/api/v1/datasets/canal/metrics/pump_energy", json.dumps({"kind": "counter"}))
    return service


def measure(work, data, kind, batch, connections, most=None):
    """One row of the table; the store is left in place."""
    folder = work / "fenetre"
    shutil.rmtree(folder, ignore_errors=True)
    parts, points = [], 0
    for body in bodies(data, kind, batch):
        parts.append(body)
        points += body[3]
        if most and points >= most:
            break
    service = start(folder)
    began, cpu = time.perf_counter(), service.cpu()
    kept = send_all(service, parts, connections)
    wall, cpu_taken = time.perf_counter() - began, service.cpu() - cpu
    service.wait_until_packed()
    cpu_packed = service.cpu() - cpu
    row = {"kept": kept, "wall": wall, "taken": cpu_taken, "packed": cpu_packed, "memory": service.memory("VmHWM")}
    service.stop()
    assert kept == points, f"{kept} of {points} kept"
    return row


def by_kind(store):
    """Bytes of blocks, summaries and times included, a point, by metric."""
    names = {id: metric for id, metric in sqlite3.connect(store / "catalogue.db").execute("SELECT s.id, m.name FROM series s JOIN metric m ON m.id = s.metric")}
    sums = {}
    for path in (store / "data").rglob("*.db"):
        for series, bytes_, points in sqlite3.connect(path).execute("SELECT series, SUM(LENGTH(bytes)), SUM(count) FROM block GROUP BY series"):
            held = sums.setdefault(names[series], [0, 0])
            held[0] += bytes_
            held[1] += points
    return {metric: bytes_ / points for metric, (bytes_, points) in sorted(sums.items())}


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--points", type=int, default=10_000_000)
    parser.add_argument("--series", type=int, default=1_000)
    parser.add_argument("--days", type=int, default=10)
    parser.add_argument("--work", type=pathlib.Path, default=pathlib.Path("/tmp/fenetre-bench"))
    parser.add_argument("--only", help="one row: FORMAT:BATCH:CONNECTIONS")
    parser.add_argument("--peers", action="store_true")
    options = parser.parse_args()
    data = options.work / f"data-{options.points}-{options.series}-{options.days}"
    if not (data / "meta.json").exists():
        dataset.make(data, options.points, options.series, options.days)
    points = json.loads((data / "meta.json").read_text())["points"]
    print(f"{points:,} points, {options.series:,} series, {options.days} days\n")
    print("| format | batch | connections | M points/s | M points per CPU second, to the acknowledgement | through to compacted blocks | most memory |\n|---|---|---|---|---|---|---|")
    rows = [("Arrow", 50_000, 2), ("Arrow", 1_000, 2), ("Parquet", 50_000, 2), ("CSV", 50_000, 2), ("CSV", 50_000, 1), ("CSV", 1_000, 2), ("JSON Lines", 50_000, 2), ("JSON Lines", 1_000, 2), ("JSON Lines", 50_000, 1)]
    if options.only:
        kind, batch, connections = options.only.split(":")
        rows = [(kind, int(batch), int(connections))]
    for kind, batch, connections in rows:
        row = measure(options.work, data, kind, batch, connections)
        rate = lambda seconds: f"{row['kept'] / seconds / 1e6:.2f}"
        print(f"| {kind} | {batch:,} | {connections} | {rate(row['wall'])} | {rate(row['taken'])} | {rate(row['packed'])} | {row['memory'] / 1e6:.0f} MB |", flush=True)
    store = options.work / "fenetre/store"
    print(f"\nfiles: {size(store / 'data') / points:.3f} bytes a point; with catalogue and journal {size(store) / points:.3f}")
    print("blocks by kind: " + ", ".join(f"{metric} {each:.2f}" for metric, each in by_kind(store).items()))
    if options.peers:
        print("\n| engine | M points/s | M points per CPU second | bytes a point |\n|---|---|---|---|")
        for engine in ["duckdb", "parquet", "sqlite", "postgres"]:
            said = subprocess.run([sys.executable, HERE / "peers.py", engine, data, options.work / "peers"], capture_output=True, text=True)
            if said.returncode:
                print(f"| {engine} | not measured: {said.stderr.strip().splitlines()[-1]} | | |")
                continue
            row = json.loads(said.stdout.strip().splitlines()[-1])
            cpu = f"{row['points'] / row['cpu'] / 1e6:.2f}" if row["cpu"] else "-"
            print(f"| {engine} | {row['points'] / row['seconds'] / 1e6:.2f} | {cpu} | {row['bytes'] / row['points']:.2f} |", flush=True)


if __name__ == "__main__":
    main()
