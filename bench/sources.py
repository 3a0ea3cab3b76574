"""What sources cost: memory of 200 that have nothing to do, and CPU of 1,000 targets that are polled every ten seconds.

    bench/sources.py [--idle 200] [--targets 1000] [--seconds 60]

The peer is a small web server in a process of its own; its CPU is not counted. Each target answers ten gauges as OpenMetrics."""
import argparse, http.server, json, multiprocessing, os, pathlib, tempfile, time

from service import Service

GAUGES = 10
PERIOD = 10


class Peer(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_GET(self):
        number = time.time_ns() % 1000
        body = "".join(f"# TYPE g{one} gauge\ng{one} {number + one}\n" for one in range(GAUGES)).encode() + b"# EOF\n"
        self.send_response(200)
        self.send_header("Content-Type", "application/openmetrics-text; version=1.0.0")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


def serve(port):
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Peer)
    port.put(server.server_address[1])
    server.serve_forever()


def main():
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--idle", type=int, default=200)
    options.add_argument("--targets", type=int, default=1_000)
    options.add_argument("--seconds", type=int, default=60)
    asked = options.parse_args()
    port = multiprocessing.Queue()
    peer = multiprocessing.Process(target=serve, args=(port,), daemon=True)
    peer.start()
    url = f"http://127.0.0.1:{port.get()}"
    with tempfile.TemporaryDirectory() as folder:
        spool = pathlib.Path(folder, "spool")
        spool.mkdir()
        service = Service("serve", "--store", os.path.join(folder, "store"))
        put = lambda name, definition: service.call("PUT", f"/api/v1/sources/{name}", json.dumps(definition))
        time.sleep(5)
        before = service.memory()
        for number in range(asked.idle):
            put(f"idle-{number}", {"kind": "folder", "path": str(spool)})
        time.sleep(15)
        begun = service.cpu()
        time.sleep(30)
        print(f"{asked.idle} idle sources: {(service.memory() - before) / 1e6:.1f} MB more, {(service.cpu() - begun) / 30:.1%} of a core")
        # The service has closed what was quiet for so long.
        service.connection = service.connect()
        for number in range(asked.idle):
            service.connection.request("DELETE", f"/api/v1/sources/idle-{number}")
            service.connection.getresponse().read()
        targets = [{"url": f"{url}/{number}", "tags": {"host": f"h{number}"}} for number in range(asked.targets)]
        put("many", {"kind": "poll", "every": f"{PERIOD}s", "targets": targets})
        time.sleep(2 * PERIOD)
        service.connection = service.connect()
        cpu, points = service.cpu(), service.call("GET", "/api/v1/sources/many")["points"]
        time.sleep(asked.seconds)
        source = service.call("GET", "/api/v1/sources/many", connection=service.connect())
        share, points = (service.cpu() - cpu) / asked.seconds, source["points"] - points
        failed = sum(part["error"] is not None for part in source["parts"])
        print(f"{asked.targets} targets every {PERIOD} s: {share:.1%} of a core, {points / asked.seconds:,.0f} points/s, {failed} failed; "
              f"a round takes {source['round_seconds']:.2f} s; {service.memory('VmHWM') / 1e6:.0f} MB of memory at most")
        service.stop()
    peer.terminate()


main()
