"""What access costs: pushes of 1,000 points with and without a token, with one token and with 10,000, and signing in.

    bench/access.py [--rounds 10000] [--tokens 10000]

CPU is that of the service's process. Turns with and without a token alternate, so that a noisy machine troubles both alike."""
import argparse, os, pathlib, sqlite3, statistics, subprocess, tempfile, time

from service import BINARY, Service

POINTS = 1_000
TURN = 100
PATH = "/api/v1/datasets/main/points"


def body(number):
    """Points of 100 series, ten seconds after those of the body before."""
    first = 1_777_626_000 + number * 10
    line = '{{"metric":"level","tags":{{"lock":"l{}"}},"time":"{}","value":{}}}'
    at = [time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(first + second)) for second in range(POINTS // 100)]
    return "\n".join(line.format(one % 100, at[one // 100], one * 7919 % 1000 / 10) for one in range(POINTS)).encode()


def call(connection, method, path, data=None, token=None):
    headers = {"Content-Type": "application/x-ndjson"} | ({"Authorization": f"Bearer {token}"} if token else {})
    connection.request(method, path, data, headers)
    answer = connection.getresponse()
    text = answer.read()
    assert answer.status in (200, 201), text
    return text


def cpu(service):
    """Milliseconds of CPU of the service's threads so far, exact to the nanosecond."""
    tasks = pathlib.Path(f"/proc/{service.process.pid}/task").glob("*/schedstat")
    return sum(int(task.read_text().split()[0]) for task in tasks) / 1e6


def pushes(service, tokens, rounds, number=[0]):
    """CPU milliseconds of a push by each of some tokens: the median of turns that alternate, so that noise troubles all alike."""
    connection, spent = service.connect(), [[] for _ in tokens]
    for turn in range(max(1, rounds // TURN)):
        # Who is first changes, since a turn may pay for the one before.
        for at in range(len(tokens))[:: 1 if turn % 2 else -1]:
            bodies = [body(number[0] + one) for one in range(TURN)]
            number[0] += TURN
            before = cpu(service)
            for data in bodies:
                call(connection, "POST", PATH, data, tokens[at])
            spent[at].append((cpu(service) - before) / TURN)
    return [statistics.median(times) for times in spent]


def timed(work, times):
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        found.append((time.perf_counter() - begun) * 1_000)
    return sorted(found)


def add_tokens(store, count):
    """Adds tokens at once, with digests of which nobody has the secret."""
    file = sqlite3.connect(store / "access.db")
    rows = [(f"b{number:07x}", f"bulk-{number}", '{"grants":["read:main"]}', 1, "active", os.urandom(32)) for number in range(count)]
    with file:
        file.executemany("INSERT INTO tokens (id, name, rights, created, state, digest) VALUES (?, ?, ?, ?, ?, ?)", rows)
    file.close()


def main():
    arguments = argparse.ArgumentParser()
    arguments.add_argument("--rounds", type=int, default=10_000)
    arguments.add_argument("--tokens", type=int, default=10_000)
    options = arguments.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        store = pathlib.Path(folder) / "store"
        service = Service("serve", "--store", store)
        made = subprocess.run([BINARY, "token", "create", "gateway", "--grant", "write:main", "--store", store], capture_output=True, text=True, check=True)
        token = made.stdout.strip()
        time.sleep(1)
        pushes(service, [None, token], 2 * TURN)
        few = pushes(service, [None, token], options.rounds)
        add_tokens(store, options.tokens)
        time.sleep(2)
        many = pushes(service, [None, token], options.rounds)
        connection = service.connect()
        signing = timed(lambda: call(connection, "POST", "/api/v1/session", token=token), 50)
        knowing = timed(lambda: call(connection, "GET", "/api/v1/session", token=token), 500)
        service.stop()
    for name, (without, by_token) in (("1 token", few), (f"{options.tokens + 1:,} tokens", many)):
        print(f"{name}: a push of {POINTS:,} points takes {without:.3f} ms CPU without a token, {by_token:.3f} with one ({by_token / without - 1:+.1%})")
    print(f"signing in takes {statistics.median(signing):.1f} ms (slowest of {len(signing)}: {signing[-1]:.1f})")
    print(f"a call that only recognises its caller takes {statistics.median(knowing):.2f} ms")


if __name__ == "__main__":
    main()
