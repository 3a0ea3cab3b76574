"""General-purpose engines loading the standard data set: how fast, with how much CPU, and how large. Each prints one line of JSON.

    peers.py ENGINE DATA WORK      ENGINE: duckdb, sqlite, parquet, postgres
"""
import io, json, os, pathlib, resource, shutil, sqlite3, subprocess, sys, time


def size(folder):
    return sum(path.stat().st_blocks * 512 for path in pathlib.Path(folder).rglob("*") if path.is_file())


def duckdb(days, series, work):
    import duckdb

    db = duckdb.connect(str(work / "points.duckdb"))
    db.execute(f"CREATE TABLE series AS FROM read_parquet('{series}')")
    db.execute("CREATE TABLE points(series_id INTEGER, ts BIGINT, value DOUBLE)")
    for day in days:  # a day at a time, in the order of the series: what a user who knows the questions would do
        db.execute(f"INSERT INTO points SELECT series_id, ts, value FROM read_parquet('{day}') ORDER BY series_id, ts")
    db.execute("CHECKPOINT")
    db.close()


def sqlite(days, series, work):
    import polars as pl

    db = sqlite3.connect(work / "points.db", isolation_level=None)
    db.executescript("PRAGMA page_size=8192; PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA cache_size=-262144")
    db.executescript("CREATE TABLE points(series_id INTEGER, ts INTEGER, value REAL, PRIMARY KEY(series_id, ts)) WITHOUT ROWID")
    for day in days:
        for part in pl.read_parquet(day).iter_slices(100_000):
            db.execute("BEGIN")
            db.executemany("INSERT INTO points VALUES(?,?,?)", zip(*[part[column].to_list() for column in part.columns]))
            db.execute("COMMIT")
    db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    db.close()


def parquet(days, series, work):
    import polars as pl

    for day in days:
        pl.read_parquet(day).sort("series_id", "ts").write_parquet(work / day.name, compression="zstd", row_group_size=131_072)


def postgres(days, series, work):
    """COPY in pieces of 250,000 rows with the key present from the start; the server runs for this alone, on a Unix socket."""
    import polars as pl, psycopg

    binaries = sorted(pathlib.Path("/usr/lib/postgresql").glob("*/bin"))[-1]
    prefix = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    run = lambda *command: subprocess.run(prefix + [str(binaries / command[0]), *command[1:]], check=True, stdout=subprocess.DEVNULL, cwd="/")
    if os.geteuid() == 0:
        shutil.chown(work, "postgres")
    run("initdb", "-D", str(work / "d"), "-A", "trust", "-U", "postgres", "-E", "UTF8", "--no-locale")
    with open(work / "d" / "postgresql.conf", "a") as file:
        file.write(f"listen_addresses=''\nport=54329\nunix_socket_directories='{work}'\nshared_buffers=2GB\nmax_wal_size=8GB\n")
    run("pg_ctl", "-D", str(work / "d"), "-w", "-l", str(work / "log"), "start")
    began = time.perf_counter()
    db = psycopg.connect(host=str(work), port=54329, user="postgres", dbname="postgres", autocommit=True)
    db.execute("CREATE TABLE points(series_id int, ts bigint, value float8, PRIMARY KEY (series_id, ts))")
    for day in days:
        with db.cursor().copy("COPY points FROM STDIN (FORMAT csv)") as copy:
            for part in pl.read_parquet(day).iter_slices(250_000):
                text = io.BytesIO()
                part.write_csv(text, include_header=False)
                copy.write(text.getbuffer())
    took = time.perf_counter() - began
    bytes_ = db.execute("SELECT pg_total_relation_size('points')").fetchone()[0]
    db.close()
    run("pg_ctl", "-D", str(work / "d"), "-w", "-m", "fast", "stop")
    pid_cpu = resource.getrusage(resource.RUSAGE_CHILDREN)
    return took, bytes_, pid_cpu.ru_utime + pid_cpu.ru_stime


def main():
    engine, data, work = sys.argv[1], pathlib.Path(sys.argv[2]), pathlib.Path(sys.argv[3]).resolve() / sys.argv[1]
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir(parents=True)
    points = json.loads((data / "meta.json").read_text())["points"]
    began, cpu = time.perf_counter(), time.process_time()
    special = globals()[engine](sorted((data / "arrival").glob("*.parquet")), data / "series.parquet", work)
    took, cpu, bytes_ = time.perf_counter() - began, time.process_time() - cpu, size(work)
    if special:
        took, bytes_, cpu = special[0], special[1], None
    print(json.dumps({"engine": engine, "seconds": took, "cpu": cpu, "bytes": bytes_, "points": points}))
    shutil.rmtree(work, ignore_errors=True)


main()
