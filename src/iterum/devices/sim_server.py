"""The simulated charger and cell checker as servers of the line protocol, in a process of their own."""

import socket
import socketserver
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from iterum.core.say import say
from iterum.core.things.session import Session
from iterum.devices.driver import Refused, Settings
from iterum.devices.lines import MAX_LINE, decode, encode, reading_values
from iterum.devices.sim_bench import SimBench

TICK_S = 0.1
LONGEST_STEP_S = 60.0


class SimServer(socketserver.ThreadingTCPServer):
    """One bench behind one port: charger and checker both. speed : seconds of the bench for each real one."""

    allow_reuse_address = True
    daemon_threads = True

    def __init__(
        self, session: Session, host: str, port: int, speed: float, clock: Callable[[], float] = time.monotonic
    ) -> None:
        super().__init__((host, port), _Talk)
        self.bench, self.speed, self.clock = SimBench(session), speed, clock
        self.lock = threading.Lock()
        self._last_s = clock()
        self._over = threading.Event()
        self._open: set[Any] = set()

    @property
    def port(self) -> int:
        """The port it listens on."""
        return int(self.server_address[1])

    def pass_time(self) -> None:
        """Bring the bench to the present. Called with the lock held."""
        now_s = self.clock()
        passed_s, self._last_s = (now_s - self._last_s) * self.speed, now_s
        while passed_s > 0:
            self.bench.advance(min(passed_s, LONGEST_STEP_S))
            passed_s -= LONGEST_STEP_S

    def start(self) -> None:
        """Serve and let time pass, in threads of their own."""
        threading.Thread(target=self.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
        threading.Thread(target=self._tick, daemon=True).start()

    def _tick(self) -> None:
        while not self._over.wait(TICK_S):
            with self.lock:
                self.pass_time()

    def close(self) -> None:
        """Stop serving and cut every connection."""
        self._over.set()
        self.shutdown()
        self.server_close()
        for connection in list(self._open):
            with suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)

    def answer(self, line: bytes) -> bytes | None:
        """The answer to one line; None while the link is lost on purpose."""
        mark: dict[str, str] = {}
        try:
            word, arguments, values = decode(line)
            if "seq" in values:  # version 2: the answer says to which question, and of which channel
                mark = {"seq": values.pop("seq")} | ({"of": arguments[0]} if arguments else {})
            with self.lock:
                self.pass_time()
                if self.bench.silent_s > 0 and word != "FAULT":
                    return None
                return encode("OK", **self._do(word, arguments, values), **mark)
        except Refused as refusal:
            return encode("ERR", *str(refusal).split(), **mark)
        except (ValueError, TypeError, KeyError, IndexError) as error:
            return encode("ERR", "no", "such", "request", *str(error).split()[:12], **mark)

    def _do(self, word: str, arguments: list[str], values: dict[str, str]) -> dict[str, Any]:
        bench = self.bench
        if word == "HELLO":
            channels = tuple(bench.channels)
            return {"name": "simulated bench", "channels": channels, "hands": "yes", "speed": self.speed, "version": 2}
        if word == "READ":
            return reading_values(bench.read(arguments[0]))
        if word == "SET":
            numbers = {name: float(values[name]) for name in ("current_a", "end_v", "capacity_mah", "timer_min")}
            bench.dial(arguments[0], Settings(cells=int(values["cells"]), **numbers))
        elif word == "START":
            bench.start(arguments[0])
        elif word == "STOP":
            bench.stop(arguments[0])
        elif word == "PLUG":
            bench.plug(arguments[0], arguments[1:])
        elif word == "FAULT":
            bench.fault(arguments[0], arguments[1] if len(arguments) > 1 else "", values.get("value"))
        elif word == "CHECK":
            return {"cell_v": bench.check(arguments[0])}
        elif word == "LOG":
            return {"entries": len(bench.log), "last": bench.log[-1] if bench.log else ""}
        else:
            raise Refused(say("no such request: {word}", word=word))
        return {}


class _Talk(socketserver.StreamRequestHandler):
    server: SimServer

    def handle(self) -> None:
        """Answer lines until the other side goes, or the link is lost on purpose."""
        self.server._open.add(self.connection)
        try:
            while line := self.rfile.readline(MAX_LINE + 1):
                answer = self.server.answer(line.strip())
                if answer is None:
                    return
                self.wfile.write(answer)
        except OSError:
            return
        finally:
            self.server._open.discard(self.connection)
