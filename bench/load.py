"""Latency of readiness, small pushes and small queries under load, and the share of refused calls.

    bench/load.py        a release build and Python 3; about a minute
"""
import http.client, json, subprocess, sys, tempfile, threading, time

from service import Service

ASK, POINTS = "/api/v1/datasets/main/ask", "/api/v1/datasets/main/points"
LONG = " ".join(f"show distinct of level where value > {least} overall" for least in range(200))
LONG += " over 2026-05-01T00:00 to 2026-05-01T06:00 per 1h stepping 10s"
SHORT = "show mean of level by lock over 2026-05-01 per 1h"


def points():
    at = lambda second: f"2026-05-01T{second // 3600:02}:{second // 60 % 60:02}:{second % 60:02}Z"
    return "".join(json.dumps({"metric": "level", "tags": {"lock": f"l{second % 4}"}, "time": at(second), "value": second}) + "\n" for second in range(20_000))


def call(service, method, path, body=None):
    """The status and the seconds of a call over a connection of its own."""
    began = time.perf_counter()
    try:
        connection = service.connect()
        connection.request(method, path, body, {"Content-Type": "application/json"})
        response = connection.getresponse()
        response.read()
        status = response.status
        connection.close()
    except OSError:
        status = 0
    return status, time.perf_counter() - began


def at_once(count, work):
    """Starts threads that begin together; returns them and the list that collects their results."""
    start, results = threading.Barrier(count + 1), []
    run = lambda at: (start.wait(), results.append(work(at)))
    threads = [threading.Thread(target=run, args=(at,)) for at in range(count)]
    [thread.start() for thread in threads]
    start.wait()
    return threads, results


def repeated(service, others, method, path, body=None):
    """Repeats one call while other threads run; returns status and latency of each."""
    taken = []
    while any(thread.is_alive() for thread in others):
        taken.append(call(service, method, path, body))
        time.sleep(0.01)
    return taken


def probe(port):
    """Calls readiness every 2 ms from a separate process, which the threads of this one do not delay."""
    return subprocess.Popen([sys.executable, __file__, "probe", str(port)], stdout=subprocess.PIPE, text=True)


def run_probe(port):
    while True:
        began, connection = time.perf_counter(), http.client.HTTPConnection("127.0.0.1", port)
        connection.request("GET", "/health/ready")
        status = connection.getresponse().status
        connection.close()
        print(status, time.perf_counter() - began, flush=True)
        time.sleep(0.002)


def report(name, calls):
    statuses = {status: sum(1 for known, _ in calls if known == status) for status in sorted({status for status, _ in calls})}
    seconds = sorted(taken for status, taken in calls if status == 200) or [0.0]
    part = lambda share: seconds[min(len(seconds) - 1, int(len(seconds) * share))] * 1e3
    print(f"| {name} | {statuses} | {part(0.5):.1f} ms | {part(0.99):.1f} ms | {seconds[-1] * 1e3:.1f} ms |", flush=True)


def main():
    with tempfile.TemporaryDirectory() as folder:
        service = Service("serve", "--store", folder)
        service.call("POST", POINTS, points(), kind="application/x-ndjson")
        print("| calls | statuses | p50 | p99 | worst |\n|---|---|---|---|---|")
        one = json.dumps({"metric": "flow", "value": 1})
        short, long = json.dumps({"query": SHORT}), json.dumps({"query": LONG})
        both = lambda at: (at % 2, call(service, "POST", POINTS, one) if at % 2 else call(service, "POST", ASK, short))
        results, ready = [], []
        for _ in range(5):
            watching = probe(service.port)
            time.sleep(0.2)
            threads, answered = at_once(1_000, both)
            [thread.join() for thread in threads]
            watching.kill()
            results += answered
            lines = [line.split() for line in watching.communicate()[0].splitlines()]
            ready += [(int(line[0]), float(line[1])) for line in lines if len(line) == 2]
        report("500 queries at once", [taken for is_push, taken in results if not is_push])
        report("500 pushes at once, beside them", [taken for is_push, taken in results if is_push])
        report("readiness, beside both", ready)
        for name, method, path, body in [("a one-point push", "POST", POINTS, one), ("a short query", "POST", ASK, short), ("readiness", "GET", "/health/ready", None)]:
            threads, _ = at_once(16, lambda at: call(service, "POST", ASK, long))
            report(f"{name}, beside 16 long queries", repeated(service, threads, method, path, body))
        for metric in range(0, 8_000, 1_000):
            status, _ = call(service, "POST", POINTS, json.dumps([{"metric": f"m{metric + at}", "value": 1} for at in range(1_000)]))
            assert status == 200, status
        report("retention of 8,000 metrics", [call(service, "GET", "/api/v1/retention") for _ in range(20)])
        service.stop()


run_probe(int(sys.argv[2])) if sys.argv[1:2] == ["probe"] else main()
