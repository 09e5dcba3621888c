#!/usr/bin/env python3
"""A crossing of averages as a client of `stavel rehearse --serve`.

Buys when the mean of the last 5 closes goes above that of the last 20, with a bracket; closes when it goes below.

    stavel rehearse NOKSEK@quill:1m --serve 127.0.0.1:8790
    python3 crossing.py ws://127.0.0.1:8790

Needs the package `websockets`. By standard input and output it needs nothing:

    python3 crossing.py - stavel rehearse NOKSEK@quill:1m --serve -
"""

import json
import os
import subprocess
import sys

SHORT, LONG = 5, 20


class Socket:
    """A replay over WebSocket."""

    def __init__(self, url):
        from websockets.sync.client import connect

        token = os.environ.get("STAVEL_SERVE_TOKEN")
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self.link = connect(url, additional_headers=headers, max_size=None)

    def say(self, message):
        self.link.send(json.dumps(message))

    def hear(self):
        return json.loads(self.link.recv())


class Pipe:
    """A replay by standard input and output."""

    def __init__(self, command):
        self.process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    def say(self, message):
        self.process.stdin.write(json.dumps(message) + "\n")
        self.process.stdin.flush()

    def hear(self):
        line = self.process.stdout.readline()
        if not line:
            sys.exit("the replay has ended")
        return json.loads(line)


class Crossing:
    def __init__(self, replay):
        self.replay = replay
        self.closes = []
        self.held = {"buy": False, "flat": False}
        self.lots = 0.0
        self.fills = []

    def mean(self, count, back):
        """The mean of so many closes, in points; none where there are fewer."""
        end = len(self.closes) - back
        return sum(self.closes[end - count : end]) / count if end >= count else None

    def begins(self, name, holds):
        """True where a condition holds now and did not before."""
        before, self.held[name] = self.held[name], holds
        return holds and not before

    def ask(self, message):
        """Says something and hears everything up to its answer."""
        self.replay.say(message)
        while True:
            event = self.replay.hear()
            kind = event["event"]
            if kind == "fill":
                fill = event["fill"]
                self.fills.append(fill)
                self.lots += float(fill["lots"]) * (1 if fill["side"] == "buy" else -1)
            elif kind == "error":
                sys.exit(event["why"])
            elif kind == "bar":
                self.bars.append(event)
            elif kind in ("done", "turn", "end"):
                return event

    def bar(self, event):
        unit = 10 ** self.decimals
        self.closes.append(round(float(event["close"]) * unit))
        means = [self.mean(count, back) for back in (0, 1) for count in (SHORT, LONG)]
        known = None not in means
        above = known and means[0] > means[1]
        below = known and means[0] < means[1]
        was_above = known and means[2] > means[3]
        was_below = known and means[2] < means[3]
        flat = abs(self.lots) < 1e-9
        if self.begins("buy", above and not was_above and flat):
            self.ask({"do": "order", "words": "buy 1.00 with stop 50pt target 105pt"})
        if self.begins("flat", below and not was_below and not flat):
            self.ask({"do": "flat"})

    def run(self):
        hello = self.replay.hear()
        if hello["event"] != "hello":
            sys.exit(hello.get("why", "no replay"))
        self.decimals = hello["series"][0]["decimals"]
        self.ask({"do": "watch", "frames": ["1m"]})
        while True:
            self.bars = []
            event = self.ask({"do": "go"})
            for bar in self.bars:
                self.bar(bar)
            if event["event"] == "end":
                return event


def main():
    if len(sys.argv) < 2:
        sys.exit(__doc__)
    replay = Pipe(sys.argv[2:]) if sys.argv[1] == "-" else Socket(sys.argv[1])
    crossing = Crossing(replay)
    end = crossing.run()
    for fill in crossing.fills:
        print(fill["time"], fill["side"], fill["lots"], fill["price"], fill["reason"])
    print("realised", end["realised"], file=sys.stderr)


if __name__ == "__main__":
    main()
