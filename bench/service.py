"""A Fenetre service to measure: started on a port of its own, called over kept connections, its CPU time and memory read from the kernel."""
import http.client, json, os, pathlib, subprocess, time

TARGET = pathlib.Path(os.environ.get("CARGO_TARGET_DIR", pathlib.Path.home() / ".cache/fenetre/target"))
BINARY = pathlib.Path(os.environ.get("FENETRE", TARGET / "release/fenetre"))


class Service:
    def __init__(self, *arguments):
        self.began = time.perf_counter()
        command = [BINARY, *arguments, "--listen", "127.0.0.1:0"]
        self.process = subprocess.Popen(command, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True,
                                        # What the service stores of itself would be counted, too.
                                        env={**os.environ, "FENETRE_OWN": "none"})
        for line in self.process.stderr:
            if "http://127.0.0.1:" in line:
                self.port = int(line.split("http://127.0.0.1:")[1].split()[0])
                break
        else:
            raise SystemExit("the service did not start")
        self.connection = self.connect()

    def connect(self):
        return http.client.HTTPConnection("127.0.0.1", self.port)

    def send(self, connection, method, path, body=None, kind="application/json"):
        connection.request(method, path, body, {"Content-Type": kind})
        answer = connection.getresponse()
        return answer.status, answer.read()

    def call(self, method, path, body=None, kind="application/json", connection=None):
        status, data = self.send(connection or self.connection, method, path, body, kind)
        if status >= 300:
            raise SystemExit(f"{path}: {status} {data[:300]}")
        return json.loads(data)

    def cpu(self):
        """Seconds of CPU that it took so far, all threads, user and system."""
        fields = pathlib.Path(f"/proc/{self.process.pid}/stat").read_text().rsplit(")", 1)[1].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

    def memory(self, what="VmRSS"):
        """Bytes of memory: `VmRSS` now, `VmHWM` the most so far."""
        status = pathlib.Path(f"/proc/{self.process.pid}/status").read_text()
        return int(status.split(what + ":")[1].split()[0]) * 1024

    def wait_until_packed(self, patience=600):
        """Until nothing waits in memory and the number of blocks has not changed for ten seconds: longer than compaction waits for quiet."""
        before, same, end = None, 0, time.perf_counter() + patience
        while time.perf_counter() < end:
            storage = self.call("GET", "/api/v1/storage", connection=self.connect())
            now = (storage["waiting_points"], [partition["blocks"] for dataset in storage["datasets"] for partition in dataset["partitions"]])
            same = same + 1 if now == before else 0
            if storage["waiting_points"] == 0 and same == 5:
                return storage
            before = now
            time.sleep(2)
        raise SystemExit("not packed in time")

    def stop(self):
        self.process.terminate()
        self.process.wait()


def size(folder):
    """Bytes of a folder's files, as the file system counts them."""
    return sum(path.stat().st_blocks * 512 for path in pathlib.Path(folder).rglob("*") if path.is_file())
