"""Chargers that behave as badly as their protocol lets them, and an oracle beside them that knows what is true.

Written from docs/charger-protocol.md alone. Each device is a server of its own; each connection to it is answered by a
thread of its own. What a reading told and when, and when a STOP came, is noted.
"""

import socket
import socketserver
import threading
import time
from contextlib import suppress
from dataclasses import dataclass, field


@dataclass
class Output:
    """One channel of a device, as it truly is. wrong : the fault that its answers show now, None while all is well."""

    cells: int = 4
    cell_v: float = 3.72
    set_a: float | None = None
    set_end_v: float | None = None
    status: str = "idle"
    current_a: float = 0.0
    began_s: float = 0.0
    told: dict = field(default_factory=dict)
    wrong: str | None = None
    deaf: bool = False
    garbage: bool = False
    shown_s: float | None = None
    stopped_s: float | None = None
    stops: int = 0
    pending: int = 0
    well: int = 0

    def values(self, now_s):
        minutes = (now_s - self.began_s) / 60 if self.status == "charging" else 0.0
        mah = self.current_a * minutes / 0.06 if self.status == "charging" else 0.0
        plain = {
            "status": self.status, "cells": self.cells, "pack_v": self.cells * self.cell_v,
            "current_a": self.current_a, "charge_mah": mah, "minutes": minutes,
            "cell_v": ",".join([f"{self.cell_v:.3f}"] * self.cells), "temperature_c": 21.0, "input_v": 12.6,
            "set_a": self.set_a, "set_end_v": self.set_end_v,
        }  # fmt: skip
        return {name: value for name, value in (plain | self.told).items() if value is not None}


class Device(socketserver.ThreadingTCPServer):
    """A charger. slow_s : each answer takes so long. ignores : whether it says OK to STOP and goes on."""

    allow_reuse_address = daemon_threads = True
    request_queue_size = 64

    def __init__(self, name, channels, version=2, serial=None, port=0):
        super().__init__(("127.0.0.1", port), Talk)
        self.name, self.version, self.serial = name, version, serial
        self.outputs = {channel: Output() for channel in channels}
        self.slow_s, self.ignores, self.refuses, self.silent = 0.0, False, False, False
        self.reads, self.connections = 0, []
        self.lock = threading.Lock()
        threading.Thread(target=self.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()

    @property
    def address(self):
        return f"127.0.0.1:{self.server_address[1]}"

    def end(self):
        """Serve no more, and hang up."""
        self.shutdown()
        self.server_close()
        for connection in self.connections:
            with suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)

    def answer(self, words, values):
        """(OK or ERR, fields) for a request; None for nothing at all."""
        word, channel = words[0], words[1] if len(words) > 1 else None
        if self.silent:
            return None
        if word == "HELLO":
            told = {"name": self.name, "channels": ",".join(self.outputs)}
            told |= {"version": 2} if self.version == 2 else {}
            return "OK", told | ({"serial": self.serial} if self.serial else {})
        output = self.outputs.get(channel)
        if output is None:
            return "ERR", {}
        with self.lock:
            return self._done(word, output, values)

    def _done(self, word, output, values):
        now_s = time.monotonic()
        if word == "STOP":
            output.stops += 1
            output.pending -= 1
            if output.stopped_s is None:
                output.stopped_s = now_s
            if self.refuses:
                return "ERR", {}
            if not self.ignores:
                output.status, output.current_a = "stopped", 0.0
                output.told = {
                    name: value for name, value in output.told.items() if name not in ("current_a", "status")
                }
        elif word == "SET":
            output.set_a, output.set_end_v = float(values["current_a"]), float(values["end_v"])
        elif word == "START":
            output.well = 0
            output.status, output.current_a, output.began_s = "charging", output.set_a, now_s - 420
        elif word == "READ":
            self.reads += 1
            if output.deaf:
                return None
            if output.garbage:
                return "OK", {"status": "splendid", "\x00": 9}
            output.well += output.wrong is None and output.status == "charging"
            return "OK", output.values(now_s)
        return "OK", {}


class Talk(socketserver.StreamRequestHandler):
    def handle(self):
        device = self.server
        device.connections.append(self.connection)
        try:
            while line := self.rfile.readline(5000):
                words = [word for word in line.decode().split() if "=" not in word]
                values = dict(word.split("=", 1) for word in line.decode().split() if "=" in word)
                if words[0] == "STOP" and words[1] in device.outputs:  # it has come, however slowly it is answered
                    output = device.outputs[words[1]]
                    output.stopped_s = output.stopped_s or time.monotonic()
                    output.pending += 1
                if device.slow_s:
                    time.sleep(device.slow_s)
                answered = device.answer(words, values)
                while answered is None:  # it says nothing, and keeps the line open
                    time.sleep(0.2)
                    if not device.silent and not (words[0] == "READ" and device.outputs[words[1]].deaf):
                        return
                head, told = answered
                mark = {"seq": values["seq"], "of": words[1]} if "seq" in values and len(words) > 1 else {}
                mark |= {"seq": values["seq"]} if "seq" in values else {}
                text = " ".join([head, *(f"{name}={value}" for name, value in (told | mark).items())])
                self.wfile.write(text.encode() + b"\n")
                if words[0] == "READ" and device.outputs[words[1]].wrong and head == "OK":
                    output = device.outputs[words[1]]
                    output.shown_s = output.shown_s or time.monotonic()
        except (OSError, ValueError, IndexError):
            return


STOPS = {
    "hot": {"temperature_c": 75.0},
    "amps": {"current_a": 11.9},
    "set amps": {"set_a": 11.9},
    "end voltage": {"set_end_v": 4.35},
    "three cells": {"cells": 3},
    "no cells": {"cells": 0},
    "six cells": {"cells": 6},
    "done and flows": {"status": "done"},
    "idle and flows": {"status": "idle"},
    "fault and flows": {"status": "fault"},
    "over full": {"pack_v": 4 * 4.26, "cell_v": "4.26,4.26,4.26,4.26"},
    "cell ahead": {"pack_v": 15.49, "cell_v": "3.70,4.31,3.74,3.74"},
    "current out": {"current_a": -3.0},
    "counts back": {"minutes": 0.0, "charge_mah": 0.0},
}
"""Faults that a reading shows and that ask for a stop."""


def break_channel(output, kind):
    """Give a channel a fault that its next reading shows."""
    output.shown_s = output.stopped_s = None
    output.told, output.wrong = dict(STOPS[kind]), kind
