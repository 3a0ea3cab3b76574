"""An HTTP server of another maker, for tests: python collector.py PORT. Prints a line when it is ready.

POST /points takes JSON lines from the bearer of `river`, and refuses bodies with the metric `secret`. GET /points returns what it has taken.
"""

import sys

from flask import Flask, request
from werkzeug.serving import make_server

app = Flask(__name__)
taken = []


@app.post("/points")
def take():
    if request.headers.get("Authorization") != "Bearer river":
        return "who are you?", 401
    text = request.get_data(as_text=True)
    if '"secret"' in text:
        return "the metric `secret` is not for me", 422
    taken.append(text)
    return "", 204


@app.get("/points")
def show():
    return "".join(taken)


server = make_server("127.0.0.1", int(sys.argv[1]), app, threaded=True)
print("ready", flush=True)
server.serve_forever()
