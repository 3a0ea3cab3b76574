#!/usr/bin/env python3
"""Ten questions asked of the standard data set over HTTP, and of general-purpose engines in the same run: wall time, CPU time, and whether
the answers agree. Prints tables for docs/benchmarks.md.

    bench/queries.py [--points 20000000] [--series 1000] [--days 20] [--peers duckdb,sqlite] [--wide] [--growth] [--keep] [--work DIR]

--wide adds a store of 100,000 series with 20 points each, --growth a store of a tenth of the days and points. --keep takes the store that the last run left. Needs Python with numpy and polars
(and duckdb for that peer). CPU time is that of the service (HTTP and JSON included), or of this process for engines that run inside it.
"""
import argparse, json, math, pathlib, shutil, sqlite3, statistics, sys, time

sys.path.insert(0, str(pathlib.Path(__file__).parent))
import dataset
from ingest import bodies, send_all, start
from service import Service, size

HOUR, DAY = 3_600_000, 86_400_000
EIGHT = ["s00000", "s00021", "s00042", "s00063", "s00084", "s00105", "s00126", "s00147"]
METRICS = ["water_level", "water_temp", "flow", "pump_energy", "gate_state", "vibration"]


def stamp(ms):
    return time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(ms // 1000)) + f".{ms % 1000:03d}Z"


def questions(meta):
    """(id, title, query, SQL): rows of the SQL are what the query's values are, in any order."""
    end, first = meta["end"], meta["start"]
    over = lambda since: f"over {stamp(since)} to {stamp(end)}"
    within = lambda since: f"p.ts >= {since} AND p.ts < {end}"
    eight = ", ".join(f'"{one}"' for one in EIGHT)
    eight_sql = ", ".join(f"'{one}'" for one in EIGHT)
    joined = "FROM points p JOIN series s ON s.id = p.series_id WHERE"
    p95_sqlite = (
        "SELECT sum(value * CASE rn - 1 - CAST((n - 1) * 0.95 AS INTEGER) WHEN 0 THEN 1 - ((n - 1) * 0.95 - CAST((n - 1) * 0.95 AS INTEGER)) "
        "WHEN 1 THEN (n - 1) * 0.95 - CAST((n - 1) * 0.95 AS INTEGER) ELSE 0 END) FROM (SELECT t, site, value, row_number() OVER (PARTITION BY t, site "
        "ORDER BY value) AS rn, count(*) OVER (PARTITION BY t, site) AS n FROM (SELECT p.ts - p.ts % 3600000 AS t, s.site AS site, p.value AS value "
        f"{joined} s.metric = 'flow' AND {within(end - 7 * DAY)})) GROUP BY t, site"
    )
    growth_sql = (
        "SELECT sum(CASE WHEN prev IS NULL THEN 0 WHEN value >= prev THEN value - prev ELSE value END) FROM (SELECT p.ts - p.ts % 3600000 AS t, s.site AS "
        f"site, p.value AS value, lag(p.value) OVER (PARTITION BY p.series_id ORDER BY p.ts) AS prev {joined} s.metric = 'pump_energy' AND "
        f"{within(end - 7 * DAY)}) x GROUP BY t, site"
    )
    sums = " + ".join(f"sum of {metric} by site" for metric in METRICS)
    counts = " + ".join(f"count of {metric} by site" for metric in METRICS)
    return [
        ("Q1", "mean per 15 min, one series, 24 h", f'show mean of water_level where sensor = "s00040" {over(end - DAY)} per 15m',
         f"SELECT avg(p.value) {joined} s.metric = 'water_level' AND s.sensor = 's00040' AND {within(end - DAY)} GROUP BY p.ts - p.ts % 900000"),
        ("Q2", "mean per 1 h by site, one metric, 7 d", f"show mean of water_level by site {over(end - 7 * DAY)} per 1h",
         f"SELECT avg(p.value) {joined} s.metric = 'water_level' AND {within(end - 7 * DAY)} GROUP BY p.ts - p.ts % 3600000, s.site"),
        ("Q3", "max per 1 min, 8 series, 1 h",
         f"show max of water_level where sensor in ({eight}) show max of water_temp where sensor in ({eight}) {over(end - HOUR)} per 1m",
         f"SELECT max(p.value) {joined} s.sensor IN ({eight_sql}) AND {within(end - HOUR)} GROUP BY p.ts - p.ts % 60000, s.sensor"),
        ("Q4", "last point of every series", " ".join(f"show {metric}" for metric in METRICS) + f" at {stamp(end)} taking before",
         {"sqlite": "SELECT p.value FROM series s JOIN points p ON p.series_id = s.id AND p.ts = (SELECT max(ts) FROM points q WHERE q.series_id = s.id)",
          "duckdb": "SELECT arg_max(value, ts) FROM points GROUP BY series_id"}),
        ("Q5", "mean per 1 d by site, everything", f"show ({sums}) / ({counts}) {over(first)} per 1d",
         "SELECT avg(p.value) FROM points p JOIN series s ON s.id = p.series_id GROUP BY p.ts - p.ts % 86400000, s.site"),
        ("Q6", "p95 per 1 h by site, one metric, 7 d", f"show p95 of flow by site {over(end - 7 * DAY)} per 1h",
         {"sqlite": p95_sqlite, "duckdb": f"SELECT quantile_cont(p.value, 0.95) {joined} s.metric = 'flow' AND {within(end - 7 * DAY)} GROUP BY p.ts - p.ts % 3600000, s.site"}),
        ("Q7", "top 5 series by mean, last day", f"show mean of flow top 5 {over(end - DAY)}",
         f"SELECT avg(p.value) {joined} s.metric = 'flow' AND {within(end - DAY)} GROUP BY s.sensor ORDER BY 1 DESC LIMIT 5"),
        ("Q8", "mean per 1 h, asset matches a regular expression, 7 d",
         f'show mean of water_temp where asset matches "(lock|weir)-0[1-3]" overall {over(end - 7 * DAY)} per 1h',
         {"sqlite": f"SELECT avg(p.value) {joined} s.metric = 'water_temp' AND (s.asset GLOB 'lock-0[1-3]' OR s.asset GLOB 'weir-0[1-3]') AND {within(end - 7 * DAY)} GROUP BY p.ts - p.ts % 3600000",
          "duckdb": f"SELECT avg(p.value) {joined} s.metric = 'water_temp' AND regexp_matches(s.asset, '^(lock|weir)-0[1-3]$') AND {within(end - 7 * DAY)} GROUP BY p.ts - p.ts % 3600000"}),
        # The engines know nothing of the point before the range: their first windows are left out of the comparison.
        ("Q9", "counter growth by site, 7 d per 1 h", f"show growth of pump_energy by site {over(end - 7 * DAY)} per 1h", growth_sql),
        ("Q10", "raw points, one series, 1 h", f'show points of vibration where sensor = "s00059" {over(end - HOUR)}',
         f"SELECT p.value {joined} s.metric = 'vibration' AND s.sensor = 's00059' AND {within(end - HOUR)} ORDER BY p.ts"),
    ]


def timed(run, cpu, least=1.0, most=2_000):
    """Median wall and mean CPU seconds of a warm run: the kernel counts CPU time in hundredths, so short ones are repeated for a while."""
    run()
    walls, began, spent = [], time.perf_counter(), cpu()
    while len(walls) < 5 or (time.perf_counter() - began < least and len(walls) < most):
        at = time.perf_counter()
        result = run()
        walls.append(time.perf_counter() - at)
        if walls[0] > 10:
            break
    return statistics.median(walls), (cpu() - spent) / len(walls), result


def same(ours, theirs, name):
    ours, theirs = sorted(ours), sorted(theirs)
    if name == "Q9":  # sums of what the first windows lack
        return sum(ours) >= sum(theirs) and sum(ours) - sum(theirs) < 0.01 * sum(ours)
    return len(ours) == len(theirs) and all(math.isclose(a, b, rel_tol=1e-9, abs_tol=1e-9) for a, b in zip(ours, theirs))


class Fenetre:
    def __init__(self, service):
        self.service, self.connection = service, service.connect()

    def ask(self, query):
        return self.service.call("POST", "/api/v1/datasets/canal/ask", json.dumps({"query": query}), connection=self.connection)

    def values(self, query):
        answer = self.ask(query)
        return [value for show in answer["shows"] for line in show["lines"] for value in line["values"] if value is not None]


def duckdb_peer(data, work):
    import duckdb

    path = work / "points.duckdb"
    path.unlink(missing_ok=True)
    db = duckdb.connect(str(path), config={"threads": 2})
    db.execute(f"CREATE TABLE series AS FROM read_parquet('{data / 'series.parquet'}')")
    db.execute("CREATE TABLE points(series_id INTEGER, ts BIGINT, value DOUBLE)")
    for day in sorted((data / "arrival").glob("*.parquet")):
        db.execute(f"INSERT INTO points SELECT series_id, ts, value FROM read_parquet('{day}') ORDER BY series_id, ts")
    db.execute("CHECKPOINT")
    return lambda sql: db.execute(sql).fetchall()


def sqlite_peer(data, work):
    import polars as pl

    path = work / "points.sqlite"
    path.unlink(missing_ok=True)
    db = sqlite3.connect(path, isolation_level=None)
    db.executescript("PRAGMA page_size=8192; PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA cache_size=-262144")
    db.executescript("CREATE TABLE series(id INTEGER PRIMARY KEY, metric TEXT, site TEXT, asset TEXT, sensor TEXT); CREATE TABLE points(series_id INTEGER, ts INTEGER, value REAL, PRIMARY KEY(series_id, ts)) WITHOUT ROWID")
    db.executemany("INSERT INTO series VALUES(?,?,?,?,?)", pl.read_parquet(data / "series.parquet").rows())
    for day in sorted((data / "arrival").glob("*.parquet")):
        db.execute("BEGIN")
        for part in pl.read_parquet(day).iter_slices(100_000):
            db.executemany("INSERT INTO points VALUES(?,?,?)", zip(*[part[column].to_list() for column in part.columns]))
        db.execute("COMMIT")
    return lambda sql: db.execute(sql).fetchall()


PEERS = {"duckdb": duckdb_peer, "sqlite": sqlite_peer}


def main_table(options):
    data = options.work / f"data-{options.points}-{options.series}-{options.days}"
    if not (data / "meta.json").exists():
        dataset.make(data, options.points, options.series, options.days)
    meta = json.loads((data / "meta.json").read_text())
    folder = options.work / "fenetre-queries"
    if not options.keep or not (folder / "store").exists():
        shutil.rmtree(folder, ignore_errors=True)
        service = start(folder)
        send_all(service, bodies(data, "Arrow", 50_000), 2)
        service.wait_until_packed()
    else:
        service = Service("serve", "--config", str(folder / "fenetre.toml"), "--store", str(folder / "store"))
    fenetre = Fenetre(service)
    peers = {name: PEERS[name](data, options.work) for name in filter(None, options.peers.split(","))}
    print(f"{meta['points']:,} points, {meta['series']:,} series, {meta['days']} days; warm: median wall ms / CPU ms\n")
    print("| question | Fenetre | " + " | ".join(f"{name} | times less CPU" for name in peers) + " | blocks by summary / decoded, points |")
    print("|---|---|" + "---|---|" * len(peers) + "---|")
    for name, title, query, sql in questions(meta):
        if options.only and name not in options.only.split(","):
            continue
        wall, cpu, ours = timed(lambda: fenetre.values(query), service.cpu)
        cost = fenetre.ask(query)["cost"]
        cells = [f"{wall * 1e3:.2f} / {cpu * 1e3:.2f}"]
        for peer, run in peers.items():
            text = sql if isinstance(sql, str) else sql[peer]
            peer_wall, peer_cpu, rows = timed(lambda: run(text), time.process_time)
            agrees = "" if same(ours, [row[0] for row in rows], name) else " (answers differ)"
            cells += [f"{peer_wall * 1e3:.2f} / {peer_cpu * 1e3:.2f}{agrees}", f"{peer_cpu / cpu:.1f}"]
        print(f"| {name} {title} | " + " | ".join(cells) + f" | {cost['blocks_summarised']:,} / {cost['blocks_decoded']:,}, {cost['points_read']:,} |", flush=True)
    print(f"\nscan: {scan(fenetre, service, meta)}")
    print(f"memory of the service: {service.memory() / 1e6:.0f} MB, at most {service.memory('VmHWM') / 1e6:.0f} MB; files {size(folder / 'store' / 'data') / 1e6:.0f} MB")
    service.stop()


def scan(fenetre, service, meta):
    """Points decoded by a CPU second, where nothing can be answered by summary: stddev of the levels over all time."""
    query = f"show stddev of water_level overall over {stamp(meta['start'])} to {stamp(meta['end'])} per 1h"
    wall, cpu, _ = timed(lambda: fenetre.values(query), service.cpu, least=3.0)
    points = fenetre.ask(query)["cost"]["points_read"]
    return f"{points:,} points decoded in {wall * 1e3:.0f} ms, {points / cpu / 1e6:.0f} M points per CPU second"


def growth_table(options):
    """The same questions of the last day, of the store as it is and of one with a tenth of its days and points."""
    print("\nthe same span of a store of ten times the points; warm: median wall ms / CPU ms\n\n| store | one series, per 15 m | all levels by site, per 1 h | points of one series, 1 h |\n|---|---|---|---|")
    for part in (10, 1):
        points, days = options.points // part, options.days // part
        data = options.work / f"data-{points}-{options.series}-{days}"
        if not (data / "meta.json").exists():
            dataset.make(data, points, options.series, days)
        end = json.loads((data / "meta.json").read_text())["end"]
        folder = options.work / ("fenetre-queries" if part == 1 else "fenetre-tenth")
        if part == 1:
            service = Service("serve", "--config", str(folder / "fenetre.toml"), "--store", str(folder / "store"))
        else:
            shutil.rmtree(folder, ignore_errors=True)
            service = start(folder)
            send_all(service, bodies(data, "Arrow", 50_000), 2)
            service.wait_until_packed()
        fenetre, cells = Fenetre(service), []
        over = f"over {stamp(end - DAY)} to {stamp(end)}"
        for query in (f'show mean of water_level where sensor = "s00040" {over} per 15m', f"show mean of water_level by site {over} per 1h",
                      f'show points of vibration where sensor = "s00059" over {stamp(end - HOUR)} to {stamp(end)}'):
            wall, cpu, _ = timed(lambda: fenetre.ask(query), service.cpu, least=2.0)
            cells.append(f"{wall * 1e3:.2f} / {cpu * 1e3:.2f}")
        print(f"| {points:,} points, {days} days | " + " | ".join(cells) + " |", flush=True)
        service.stop()


def wide_table(options):
    """100,000 series of 20 points each."""
    folder = options.work / "fenetre-wide"
    shutil.rmtree(folder, ignore_errors=True)
    service = start(folder)
    first = dataset.START // 1000
    for part in range(20):
        lines = []
        for series in range(part * 5_000, (part + 1) * 5_000):
            tags = {"site": f"site-{series // 100:04d}", "asset": f"asset-{series % 7}", "sensor": f"s{series:06d}"}
            lines += [json.dumps({"metric": "probe", "tags": tags, "time": stamp((first + minute * 60) * 1000), "value": (series * 7 + minute) % 1000 / 10}) for minute in range(20)]
        service.call("POST", "/api/v1/datasets/canal/points", "\n".join(lines), "application/x-ndjson")
    service.wait_until_packed()
    fenetre = Fenetre(service)
    end = stamp((first + 1_200) * 1000)
    over = f"over {stamp(first * 1000)} to {end}"
    asked = [
        ("mean of all by asset", f"show mean of probe by asset {over} per 5m"),
        ("a regular expression over 100,000 values", f'show mean of probe where sensor matches "s.*77" overall {over}'),
        ("one series", f'show mean of probe where sensor = "s012345" {over} per 5m'),
        ("all of one site at a moment", f'show probe where site = "site-0123" at {end}'),
        ("all at a moment, the mean by asset", f"show mean of (probe) by asset at {end}"),
        ("top 5 of 100,000 by site", f"show max of probe by site top 5 {over}"),
    ]
    print("\n100,000 series of 20 points each; warm: median wall ms / CPU ms\n\n| question | Fenetre |\n|---|---|")
    for title, query in asked:
        wall, cpu, _ = timed(lambda: fenetre.ask(query), service.cpu)
        print(f"| {title} | {wall * 1e3:.1f} / {cpu * 1e3:.1f} |", flush=True)
    for typed in ['show mean of probe where sensor = "s0123', "show mean of probe where ", "show mean of probe by "]:
        body = json.dumps({"query": typed})
        wall, cpu, _ = timed(lambda: service.call("POST", "/api/v1/datasets/canal/ask/complete", body, connection=fenetre.connection), service.cpu)
        print(f"| completion behind `{typed.strip()}` | {wall * 1e3:.1f} / {cpu * 1e3:.1f} |", flush=True)
    print(f"\nmemory: {service.memory() / 1e6:.0f} MB")
    service.stop()


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--points", type=int, default=20_000_000)
    parser.add_argument("--series", type=int, default=1_000)
    parser.add_argument("--days", type=int, default=20)
    parser.add_argument("--work", type=pathlib.Path, default=pathlib.Path("/tmp/fenetre-bench"))
    parser.add_argument("--peers", default="", help="duckdb, sqlite, or both with a comma")
    parser.add_argument("--only", help="such as Q1,Q5")
    parser.add_argument("--wide", action="store_true")
    parser.add_argument("--growth", action="store_true")
    parser.add_argument("--keep", action="store_true")
    options = parser.parse_args()
    options.work.mkdir(parents=True, exist_ok=True)
    main_table(options)
    if options.growth:
        growth_table(options)
    if options.wide:
        wide_table(options)


if __name__ == "__main__":
    main()
