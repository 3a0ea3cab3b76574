#!/usr/bin/env python3
"""Sinks into PostgreSQL and to an MQTT broker: rows and messages per second on the clock and per core of the service, and how near the first comes to a plain
COPY of the same rows into the same table. Prints a table for docs/benchmarks.md.

    bench/sink_peers.py [--rows 1000000] [--messages 200000]

Needs Debian's mosquitto and postgresql. Peers run in processes of their own; their CPU is not counted.
"""
import argparse, json, os, pathlib, subprocess, sys, tempfile, time

sys.path.insert(0, str(pathlib.Path(__file__).parent))
from service import Service
from sinks import edge, push
from source_peers import Broker, Postgres

TABLE = "CREATE TABLE {} (time timestamptz, metric text, lock text, value float8, UNIQUE (metric, lock, time))"


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--messages", type=int, default=200_000)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        os.chmod(folder, 0o755)
        for name in ["broker", "postgres"]:
            os.mkdir(os.path.join(folder, name))
        service = edge(folder, "store")
        push(service, asked.rows)
        service.wait_until_packed()

        def sink(name, points, **definition):
            definition = dict(dataset="velmar", history=True, **definition)
            cpu, began = service.cpu(), time.perf_counter()
            service.call("PUT", f"/api/v1/sinks/{name}", json.dumps(definition), connection=service.connect())
            while True:
                found = service.call("GET", f"/api/v1/sinks/{name}", connection=service.connect())
                if found["error"]:
                    raise SystemExit(found["error"])
                if found["points"] >= points:
                    break
                time.sleep(0.05)
            spent = service.cpu() - cpu, time.perf_counter() - began
            service.send(service.connect(), "DELETE", f"/api/v1/sinks/{name}")
            return found["points"], *spent

        postgres = Postgres(os.path.join(folder, "postgres"))
        for table in ["copied", "sent"]:
            postgres.run(TABLE.format(table))
        database = f"postgresql://127.0.0.1:{postgres.port}/postgres"
        _, cpu, lasted = sink("sent", asked.rows, kind="sql", database=database, user="clerk", table="sent")
        rows = os.path.join(folder, "rows.tsv")
        postgres.run(f"\\copy sent TO '{rows}'")
        began = time.perf_counter()
        postgres.run(f"\\copy copied FROM '{rows}'")
        copied = time.perf_counter() - began
        _, again, _ = sink("again", asked.rows, kind="sql", database=database, user="clerk", table="sent")
        postgres.end()

        broker = Broker(os.path.join(folder, "broker"))
        published = []
        for qos in [0, 1]:
            address = f"mqtt://127.0.0.1:{broker.port}"
            published.append((qos, sink(f"board-{qos}", asked.messages, kind="mqtt", broker=address, topic="velmar/{lock}/{metric}", qos=qos)))
        broker.process.kill()
        service.stop()
    print("| what | result |\n|---|---|")
    print(f"| COPY of {asked.rows:,} rows into a table with a unique index, by psql | {asked.rows / copied:,.0f} rows/s on the clock |")
    print(f"| the same rows by a sink | {asked.rows / lasted:,.0f} rows/s on the clock, {copied / lasted:.0%} of COPY; {asked.rows / cpu:,.0f} rows/s of a core |")
    print(f"| once more, so that each row replaces itself | {asked.rows / again:,.0f} rows/s of a core |")
    for qos, (count, cpu, lasted) in published:
        print(f"| MQTT 5, quality {qos}, a message per point | {count / cpu:,.0f} messages/s of a core; {count / lasted:,.0f}/s on the clock |")


if __name__ == "__main__":
    main()
