#!/usr/bin/env python3
"""Sinks: points per second of a core that a service forwards as they arrive and from partitions, and what a sink costs the intake. Both services run on this
machine; only the processor time of the sender counts. Prints a table for docs/benchmarks.md.

    bench/sinks.py [--points 4000000]
"""
import argparse, datetime, pathlib, sys, tempfile, time

sys.path.insert(0, str(pathlib.Path(__file__).parent))
from service import Service

SERIES, BODY = 200, 40_000
START = datetime.datetime(2026, 5, 1, tzinfo=datetime.timezone.utc)


def bodies(points):
    """Tables of levels: a row for each lock in each second."""
    for first in range(0, points // SERIES, BODY // SERIES):
        rows = ["time,lock,level"]
        for second in range(first, first + BODY // SERIES):
            at = (START + datetime.timedelta(seconds=second)).strftime("%Y-%m-%dT%H:%M:%SZ")
            rows += [f"{at},lock-{lock},{(second * 7 + lock * 13) % 1000 / 10}" for lock in range(SERIES)]
        yield "\n".join(rows).encode()


def edge(folder, name):
    service = Service("serve", "--store", str(pathlib.Path(folder) / name))
    service.call("PUT", "/api/v1/datasets/velmar", b"{}")
    return service


def push(service, points):
    """Seconds of the processor that pushing took."""
    before = service.cpu()
    for body in bodies(points):
        service.call("POST", "/api/v1/datasets/velmar/points?time=time&tag=lock&value=level", body, "text/csv")
    return service.cpu() - before


def forward(service, central, **more):
    keys = "".join(f"{key} = {value}\n" for key, value in more.items())
    text = f'kind = "forward"\nurl = "http://127.0.0.1:{central.port}"\ndataset = "velmar"\ntags = {{ origin = "north" }}\n{keys}'
    # The kept connection may have been closed while the service was idle.
    service.call("PUT", "/api/v1/sinks/central", text.encode(), "application/toml", connection=service.connect())


def until_sent(service, points):
    while True:
        sink = service.call("GET", "/api/v1/sinks/central", connection=service.connect())
        if sink["points"] >= points and not sink["gaps"] and sink["behind"]["points"] == 0:
            return
        if sink["error"]:
            raise SystemExit(sink["error"])
        time.sleep(0.2)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--points", type=int, default=4_000_000)
    points = parser.parse_args().points
    with tempfile.TemporaryDirectory() as folder:
        alone = edge(folder, "alone")
        plain = push(alone, points)
        alone.stop()

        central = edge(folder, "central")
        held = edge(folder, "held")
        forward(held, central, paused="true")
        holding = push(held, points)
        held.wait_until_packed()
        held_bytes = sum(path.stat().st_size for path in (pathlib.Path(folder) / "held/journal/held").iterdir())
        held.stop()

        sending = edge(folder, "sending")
        forward(sending, central)
        before, began = sending.cpu(), time.perf_counter()
        push(sending, points)
        until_sent(sending, points)
        live, lasted = sending.cpu() - before - plain, time.perf_counter() - began
        most = sending.memory("VmHWM")
        sending.stop()

        past = edge(folder, "past")
        push(past, points)
        past.wait_until_packed()
        before = past.cpu()
        forward(past, central, history="true")
        until_sent(past, points)
        history = past.cpu() - before
        past.stop()
        central.stop()
    print("| what | result |\n|---|---|")
    print(f"| pushed as CSV without a sink | {points / plain:,.0f} points/s of a core |")
    print(f"| the same with a sink that is paused, so the journal is held | {holding / plain - 1:+.1%} of processor time |")
    print(f"| held journal | {held_bytes / points:.1f} bytes/point |")
    print(f"| forwarded as they arrive | {points / live:,.0f} points/s of a core, without the push; {points / lasted:,.0f}/s on the clock, push and receiver included |")
    print(f"| forwarded from partitions | {points / history:,.0f} points/s of a core |")
    print(f"| most memory of the sender | {most / 1e6:,.0f} MB |")


if __name__ == "__main__":
    main()
