"""The standard data set of the benchmarks: a canal's sensors, made up from a seed.

Of 20 series, 6 are levels (drift and noise, 2 decimals), 4 temperatures (a daily wave, 1 decimal), 4 flows (3 decimals, times wavering by
50 ms), 3 energy counters (with resets, at 1.5 times the step), 2 gate states (0, 1, 2, seldom changing), 1 a full-precision random walk.

    DATA/series.parquet             id, metric, site, asset, sensor
    DATA/arrival/day-NNNN.parquet   series_id, ts (ms since the epoch), value, in order of time
    DATA/meta.json                  start, end, days, series, points, step_ms, seed
"""
import json, pathlib, shutil, sys

METRICS = ["water_level"] * 6 + ["water_temp"] * 4 + ["flow"] * 4 + ["pump_energy"] * 3 + ["gate_state"] * 2 + ["vibration"]
ASSETS = ["lock", "weir", "pump", "gate"]
DAY = 86_400_000
START = 1_760_054_400_000  # a UTC midnight


def series_table(count):
    per_site = 40 if count >= 80 else max(1, count // 2)
    return [(i, METRICS[i % 20], f"site-{i // per_site:03d}", f"{ASSETS[i // 5 % 4]}-{i % 5 + 1:02d}", f"s{i:05d}") for i in range(count)]


def values(np, random, metric, times):
    count = len(times)
    walk = lambda scale: np.cumsum(random.normal(0, scale, count))
    if metric == "water_level":
        return np.round(2 + 3 * random.random() + walk(0.002) + random.normal(0, 0.01, count), 2)
    if metric == "water_temp":
        return np.round(12 + 5 * np.sin(2 * np.pi * (times % DAY) / DAY) + walk(0.01) + random.normal(0, 0.05, count), 1)
    if metric == "flow":
        return np.round(15 + 8 * np.sin(walk(0.004) + 6 * random.random()) + random.normal(0, 0.15, count), 3)
    if metric == "pump_energy":
        rate = 5 + 200 * random.random()
        total = np.cumsum((rate * (0.7 + 0.6 * random.random(count))).astype(np.int64)) + int(random.random() * 1e6)
        reset = random.random(count) < 1 / 5000
        return (total - np.maximum.accumulate(np.where(reset, total, 0))).astype(np.float64)
    if metric == "gate_state":
        change = random.random(count) < 1 / 500
        return random.integers(0, 3, count)[np.maximum.accumulate(np.where(change, np.arange(count), 0))].astype(np.float64)
    return walk(1.0)


def make(folder, points, series, days, seed=1):
    import numpy as np, polars as pl

    folder = pathlib.Path(folder)
    shutil.rmtree(folder, ignore_errors=True)
    (folder / "arrival").mkdir(parents=True)
    table = series_table(series)
    names = {"id": pl.Int32, "metric": pl.String, "site": pl.String, "asset": pl.String, "sensor": pl.String}
    pl.DataFrame(table, schema=names, orient="row").write_parquet(folder / "series.parquet")
    # Counters come at 1.5 times the step of the others: 0.95 points for each series and step.
    step = max(1000, round(days * DAY * 0.95 * series / points / 1000) * 1000)
    columns = []
    for i, metric, *_ in table:
        random = np.random.default_rng([seed, i])
        every = step * 3 // 2 if metric == "pump_energy" else step
        times = START + 100 + int(random.integers(0, max(1, min(every, 10_000) - 200))) + np.arange((days * DAY - 10_100) // every + 1) * every
        if metric == "flow":
            times = times + random.integers(-50, 51, len(times))
        columns.append((times, values(np, random, metric, times)))
    total = 0
    for day in range(days):
        part = [slice(*np.searchsorted(times, [START + day * DAY, START + (day + 1) * DAY])) for times, _ in columns]
        lengths = [piece.stop - piece.start for piece in part]
        frame = pl.DataFrame({
            "series_id": np.repeat(np.arange(series, dtype=np.int32), lengths),
            "ts": np.concatenate([column[0][piece] for column, piece in zip(columns, part)]),
            "value": np.concatenate([column[1][piece] for column, piece in zip(columns, part)]),
        }).sort("ts", "series_id")
        frame.write_parquet(folder / "arrival" / f"day-{day:04d}.parquet", compression="zstd")
        total += len(frame)
    meta = {"start": START, "end": START + days * DAY, "days": days, "series": series, "points": total, "step_ms": step, "seed": seed}
    (folder / "meta.json").write_text(json.dumps(meta, indent=1))
    return meta


def table_of(folder, day):
    """A day as a table with its tags, in order of arrival."""
    import polars as pl

    series = pl.read_parquet(folder / "series.parquet").rename({"id": "series_id"})
    frame = pl.read_parquet(day).join(series, on="series_id", maintain_order="left")
    time = pl.from_epoch("ts", time_unit="ms").dt.strftime("%Y-%m-%dT%H:%M:%S%.3fZ").alias("time")
    return frame.select(time, "metric", "site", "asset", "sensor", "value")


if __name__ == "__main__":
    print(make(sys.argv[1], *map(int, sys.argv[2:5])))
