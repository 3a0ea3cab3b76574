"""Few points over a long time: size, packing time, query latency, and the time to fill a fine level.

    bench/sparse.py        a release build and Python 3; about a minute
"""
import datetime, json, pathlib, statistics, tempfile, time

from service import Service

CASES = [
    ("a point a week, 43 years", 2_225, 7 * 86_400, "1y"),
    ("a point a day, 20 years", 7_305, 86_400, "1y"),
    ("a point an hour, 5 years", 43_800, 3_600, "1mo"),
    ("a point in ten minutes, 118 days", 17_000, 600, "1w"),
]
NOW = int(time.time()) // 3_600 * 3_600


def instant(second):
    return datetime.datetime.fromtimestamp(second, datetime.timezone.utc).strftime("%Y-%m-%dT%H:%M:%SZ")


def rows(count, step):
    return "".join(
        json.dumps({"metric": "level", "tags": {"lock": "osier"}, "time": instant(NOW - at * step), "value": round(300 + at % 97 * 0.37, 2)}) + "\n"
        for at in reversed(range(count))
    )


def ask(service, query):
    began = time.perf_counter()
    answer = service.call("POST", "/api/v1/datasets/main/ask", json.dumps({"query": query}), connection=service.connect())
    return time.perf_counter() - began, answer["cost"]["milliseconds"]


def measure(name, count, step, width):
    with tempfile.TemporaryDirectory() as folder:
        service = Service("serve", "--store", folder)
        service.call("POST", "/api/v1/datasets/main/points", rows(count, step), kind="application/x-ndjson")
        began = time.perf_counter()
        service.call("POST", "/api/v1/storage/tidy", json.dumps({"dataset": "main"}))
        packing = time.perf_counter() - began
        files = [path for path in pathlib.Path(folder, "data/main").iterdir() if path.name.endswith(".db")]
        weight = sum(path.stat().st_blocks * 512 for path in files)
        query = f"show mean of level over 1970-01-01 to now per {width}"
        first = ask(service, query)[1]
        asked = [ask(service, query) for _ in range(50)]
        http, inside = (statistics.median(one[side] for one in asked) for side in (0, 1))
        print(f"| {name} | {len(files)} | {weight / count:.1f} B | {packing * 1e3:.0f} ms | {first:.1f} ms | {inside:.2f} ms | {http * 1e3:.2f} ms |", flush=True)
        service.stop()


def fill():
    """How long a level of 100 ms takes to be filled from three points of ten years."""
    with tempfile.TemporaryDirectory() as folder:
        service = Service("serve", "--store", folder)
        service.call("POST", "/api/v1/datasets/main/points", rows(3, 10 * 365 * 86_400 // 3), kind="application/x-ndjson")
        began = time.perf_counter()
        policy = {"levels": [{"width": "100ms"}, {"width": "1h"}]}
        service.call("PUT", "/api/v1/datasets/main/rollups/fine", json.dumps(policy))
        while not all(level["windows"] >= 2 and level["filled"] == 1.0 for level in levels(service)):
            time.sleep(0.02)
        print(f"a level of 100 ms over three points of ten years, from its definition to filled: {time.perf_counter() - began:.2f} s")
        service.stop()


def levels(service):
    return service.call("GET", "/api/v1/datasets/main/rollups", connection=service.connect())["policies"][0]["levels"]


print("| points | files | a point | packed in | first question | in the service | over HTTP |\n|---|---|---|---|---|---|---|")
for case in CASES:
    measure(*case)
fill()
