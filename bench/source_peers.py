"""What sources cost against real peers: MQTT messages and PostgreSQL rows per second of CPU, Modbus registers, and 200 sources of mixed kinds.

    bench/source_peers.py [--messages 300000] [--rows 1000000] [--mixed 200]

Needs Debian's mosquitto, mosquitto-clients and postgresql. Peers run in processes of their own; their CPU is not counted. "Per core" is the number of
messages or rows divided by the CPU time of the service, from the first to the acknowledged one."""
import argparse, asyncio, glob, json, multiprocessing, os, pathlib, pwd, socket, struct, subprocess, tempfile, time

from service import Service


def free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def wait_for(port):
    for _ in range(600):
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.05)
    raise SystemExit(f"nothing listens on port {port}")


class Broker:
    def __init__(self, folder):
        self.port = free_port()
        path = pathlib.Path(folder, "broker.conf")
        path.write_text(f"listener {self.port} 127.0.0.1\nallow_anonymous true\nmax_queued_messages 0\nmax_inflight_messages 0\n")
        self.process = subprocess.Popen(["mosquitto", "-c", str(path)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        wait_for(self.port)

    def publish(self, qos, count, topics=20):
        """Publishes numbers to a few topics, from as many processes as there are cores at most two."""
        def one(number):
            topic = f"velmar/lock{number}/level"
            return subprocess.Popen(["mosquitto_pub", "-h", "127.0.0.1", "-p", str(self.port), "-q", str(qos), "-t", topic, "-l"], stdin=subprocess.PIPE)
        publishers = [one(number) for number in range(topics)]
        for publisher in publishers:
            publisher.stdin.write(b"".join(b"%d\n" % value for value in range(count // topics)))
            publisher.stdin.close()
        for publisher in publishers:
            publisher.wait()


class Postgres:
    def __init__(self, folder):
        programs = sorted(glob.glob("/usr/lib/postgresql/*/bin"))[-1]
        data, self.port, self.folder = os.path.join(folder, "data"), free_port(), folder
        self.prefix = []
        if os.getuid() == 0:
            os.chown(folder, pwd.getpwnam("postgres").pw_uid, -1)
            self.prefix = ["runuser", "-u", "postgres", "--"]
        quiet = dict(stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd="/")
        subprocess.run([*self.prefix, f"{programs}/initdb", "-A", "trust", "-U", "clerk", "-N", "-D", data], check=True, **quiet)
        self.process = subprocess.Popen([*self.prefix, f"{programs}/postgres", "-p", str(self.port), "-c", "fsync=off", "-k", folder, "-D", data], **quiet)
        wait_for(self.port)
        time.sleep(1)

    def end(self):
        pid = pathlib.Path(self.folder, "data/postmaster.pid").read_text().splitlines()[0]
        subprocess.run(["kill", "-QUIT", pid], check=True)
        self.process.wait()

    def run(self, sql):
        subprocess.run(["psql", "-X", "-q", "-h", "127.0.0.1", "-p", str(self.port), "-U", "clerk", "-d", "postgres", "-c", sql], check=True)


def devices(ports):
    """A Modbus TCP device behind each port, whose holding registers count up."""
    async def answer(reader, writer):
        try:
            while True:
                transaction, _, length, unit = struct.unpack(">HHHB", await reader.readexactly(7))
                function, _, count = struct.unpack(">BHH", (await reader.readexactly(length - 1))[:5])
                words = struct.pack(f">{count}H", *[int(time.time() * 10) & 0xFFFF] * count)
                writer.write(struct.pack(">HHHBBB", transaction, 0, 3 + len(words), unit, function, len(words)) + words)
        except (asyncio.IncompleteReadError, ConnectionError):
            writer.close()

    async def serve():
        servers = [await asyncio.start_server(answer, "127.0.0.1", port) for port in ports]
        await asyncio.gather(*(server.serve_forever() for server in servers))
    asyncio.run(serve())


def main():
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--messages", type=int, default=300_000)
    options.add_argument("--rows", type=int, default=1_000_000)
    options.add_argument("--mixed", type=int, default=200)
    asked = options.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        os.chmod(folder, 0o755)
        for name in ["broker", "postgres", "spool"]:
            os.mkdir(os.path.join(folder, name))
        service = Service("serve", "--store", os.path.join(folder, "store"))

        def call(method, path, body=None):
            status, data = service.send(service.connect(), method, path, body)
            if status >= 300:
                raise SystemExit(f"{path}: {status} {data[:300]}")
            return json.loads(data) if data else None

        def put(name, **definition):
            call("PUT", f"/api/v1/sources/{name}", json.dumps(definition))

        def until(name, points, seconds=300):
            begun = time.time()
            while True:
                source = call("GET", f"/api/v1/sources/{name}")
                if source["points"] >= points:
                    return source
                if time.time() - begun > seconds:
                    raise SystemExit(f"{name}: {source['points']} of {points} points, {source['error']}, {source['rejects']}")
                time.sleep(0.1)

        broker = Broker(os.path.join(folder, "broker"))
        for qos, version in [(0, "5"), (1, "5"), (1, "3.1.1")]:
            name = f"mqtt-{qos}-{version[0]}"
            put(name, kind="mqtt", broker=f"mqtt://127.0.0.1:{broker.port}", topics=["velmar/{lock}/{metric}"], qos=qos, version=version, tags={"of": name})
            time.sleep(2)
            cpu, begun = service.cpu(), time.time()
            if qos == 1:
                # The broker keeps the messages while the source is paused: then only the source is measured, not the publishers.
                call("POST", f"/api/v1/sources/{name}/pause")
                broker.publish(qos, asked.messages)
                cpu, begun = service.cpu(), time.time()
                call("POST", f"/api/v1/sources/{name}/resume")
                until(name, asked.messages)
            else:
                broker.publish(qos, asked.messages)
                until(name, asked.messages * 0.5)
                time.sleep(2)
            seconds, used = time.time() - begun, service.cpu() - cpu
            points = call("GET", f"/api/v1/sources/{name}")["points"]
            print(f"MQTT {version}, quality {qos}: {points:,} of {asked.messages:,} messages, {points / used:,.0f} per core and second, {points / seconds:,.0f}/s on the clock")
            call("DELETE", f"/api/v1/sources/{name}")

        postgres = Postgres(os.path.join(folder, "postgres"))
        postgres.run(f"CREATE TABLE readings AS SELECT to_timestamp(1700000000 + n) AS at, 'lock' || n % 50 AS lock, 'sensor' || n % 20 AS name, n::float8 / 7 AS value FROM generate_series(1, {asked.rows}) AS n; CREATE INDEX ON readings (at)")
        columns = [{"column": "name", "role": "metric"}, {"column": "lock", "role": "tag"}, {"column": "value", "role": "value"}]
        cpu, begun = service.cpu(), time.time()
        put("clerk", kind="sql", database=f"postgresql://127.0.0.1:{postgres.port}/postgres", user="clerk", table="readings", every="1h",
            mapping={"time": {"column": "at"}, "columns": columns})
        until("clerk", asked.rows)
        seconds, used = time.time() - begun, service.cpu() - cpu
        print(f"PostgreSQL: {asked.rows:,} rows, {asked.rows / used:,.0f} per core and second, {asked.rows / seconds:,.0f}/s on the clock")
        call("DELETE", "/api/v1/sources/clerk")

        ports = [free_port() for _ in range(50)]
        peer = multiprocessing.Process(target=devices, args=(ports,), daemon=True)
        peer.start()
        wait_for(ports[-1])
        registers = [{"metric": f"register{number}", "address": number} for number in range(10)]
        modbus = lambda ports, every: dict(kind="modbus", every=every, devices=[{"address": f"127.0.0.1:{port}", "tags": {"device": str(port)}} for port in ports], registers=registers)
        put("locks", **modbus(ports, "1s"))
        until("locks", 1_000)
        cpu, points = service.cpu(), call("GET", "/api/v1/sources/locks")["points"]
        time.sleep(30)
        points = call("GET", "/api/v1/sources/locks")["points"] - points
        print(f"Modbus: 50 devices, {points / 30:,.0f} registers/s, {(service.cpu() - cpu) / 30:.1%} of a core")
        call("DELETE", "/api/v1/sources/locks")

        time.sleep(5)
        before = service.memory()
        passages = os.path.join(folder, "passages.db")
        import sqlite3
        with sqlite3.connect(passages) as database:
            database.execute("CREATE TABLE passages (at INTEGER, boats INTEGER)")
        for number in range(asked.mixed):
            name = f"mixed-{number}"
            match number % 4:
                case 0:
                    put(name, kind="mqtt", broker=f"mqtt://127.0.0.1:{broker.port}", topics=[f"quiet{number}/{{metric}}"])
                case 1:
                    put(name, **modbus([ports[number % 50]], "10s"))
                case 2:
                    put(name, kind="sql", database=f"sqlite://{passages}", table="passages", mapping={"time": {"column": "at", "format": "s"}, "columns": [{"column": "boats"}]})
                case _:
                    put(name, kind="folder", path=os.path.join(folder, "spool"))
        time.sleep(20)
        cpu = service.cpu()
        time.sleep(30)
        states = {}
        for source in call("GET", "/api/v1/sources"):
            states[source["state"]] = states.get(source["state"], 0) + 1
        print(f"{asked.mixed} sources of four kinds: {(service.memory() - before) / 1e6:.1f} MB more, {(service.cpu() - cpu) / 30:.1%} of a core; {states}")
        rounds = {source["name"]: source["rounds"] for source in call("GET", "/api/v1/sources")}
        put("mixed-3", kind="folder", path=os.path.join(folder, "spool"), every="1m")
        after = {source["name"]: source["rounds"] for source in call("GET", "/api/v1/sources")}
        begun_anew = [name for name in rounds if after[name] < rounds[name]]
        print(f"a change of one began anew: {', '.join(begun_anew)}")
        service.stop()
        broker.process.terminate()
        postgres.end()
        peer.terminate()


if __name__ == "__main__":
    main()
