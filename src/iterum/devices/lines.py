"""The line protocol: one request a line, one answer a line, text in UTF-8 (documented in docs/charger-protocol.md).

    READ Twin-1
    OK status=charging cells=4 pack_v=15.312 current_a=5.4 charge_mah=812.4 minutes=12.3 cell_v=3.83,3.83,3.82,3.84

A request is a word and its arguments; an answer is OK with fields, or ERR with a sentence. Values hold no spaces:
they are percent-encoded.
"""

import re
import select
import socket
import threading
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import fields
from time import monotonic
from typing import Any, ClassVar
from urllib.parse import quote, unquote, urlsplit

from iterum.core.run.guard import ChannelReading
from iterum.core.say import say
from iterum.core.season.run import Status
from iterum.devices.driver import Identity, LinkLost, Refused, Settings, stopped_by

MAX_LINE = 4096
MOST_NAME = MOST_SERIAL = 80
TIMEOUT_S = 2.0
DEFAULT_PORT = 8766
THIS_MACHINE = "127.0.0.1"
"""Where a simulated charger listens: nobody else can reach it."""


def encode(word: str, *arguments: str, **values: Any) -> bytes:
    """One line of the protocol. Values that are None are left out."""
    parts = [word, *(quote(argument, safe="") for argument in arguments)]
    parts += [f"{name}={_text(value)}" for name, value in values.items() if value is not None]
    return (" ".join(parts) + "\n").encode()


def _text(value: Any) -> str:
    if isinstance(value, (tuple, list)):
        return ",".join(_text(item) for item in value)
    if isinstance(value, float):
        return f"{value:.4f}".rstrip("0").rstrip(".")
    return quote(str(value), safe="")


def decode(line: bytes) -> tuple[str, list[str], dict[str, str]]:
    """(word, arguments, values) of a line. Raises ValueError for what is no line of the protocol."""
    if len(line) > MAX_LINE:
        raise ValueError(say("the line is too long"))
    words = line.decode("utf-8").split()
    if not words:
        raise ValueError(say("the line is empty"))
    arguments, values = [], {}
    for part in words[1:]:
        name, sign, value = part.partition("=")
        if sign and name in values:
            raise ValueError(say("{name} stands there twice", name=name))
        if sign:
            values[name] = value
        else:
            arguments.append(unquote(part))
    return words[0].upper(), arguments, values


def reading_values(reading: ChannelReading) -> dict[str, Any]:
    """A reading as the values of a line."""
    values = {field.name: getattr(reading, field.name) for field in fields(reading) if field.name != "counts_cells"}
    return {
        name: (value.value if isinstance(value, Status) else value) for name, value in values.items() if value != ()
    }


def reading_from(values: Mapping[str, str]) -> ChannelReading:
    """A reading from the values of a line. Raises ValueError where one is missing or no number."""
    try:
        plain: dict[str, Any] = {name: float(values[name]) for name in ("pack_v", "current_a", "charge_mah", "minutes")}
        more: dict[str, Any] = {
            name: float(values[name]) for name in ("temperature_c", "input_v", "set_a", "set_end_v") if name in values
        }
        return ChannelReading(
            status=Status(values["status"]),
            cells=int(values["cells"]),
            cell_v=tuple(float(volts) for volts in values["cell_v"].split(",")) if values.get("cell_v") else (),
            why=unquote(values["why"]) if "why" in values else None,
            **plain,
            **more,
        )
    except KeyError as missing:
        raise ValueError(say("{args} is missing", args=missing.args[0])) from missing


class LineClient:
    """One connection, made when needed and made again after it was lost. Safe to use from several threads.

    An answer belongs to its question. From version 2 on it says so itself, by the number of the request and the
    channel; of an older device nothing may lie unread when a question is asked, or after its answer. Whatever does not
    fit ends the connection: what was not asked for is believed of nobody.
    """

    def __init__(self, host: str, port: int, timeout_s: float = TIMEOUT_S) -> None:
        self.host, self.port, self.timeout_s = host, port, timeout_s
        self._lock = threading.Lock()
        self._socket: socket.socket | None = None
        self._rest = b""
        self._version, self._asked, self._met = 1, 0, 1
        self._closed = False
        self.expected: Identity | None = None
        """Who must answer; None until it was met."""

    def ask(self, word: str, *arguments: str, **values: Any) -> dict[str, str]:
        """Send a request, give the values of its answer within one deadline. Raises LinkLost or Refused.

        A connection that has to be made first has a deadline of its own.
        """
        with self._lock:
            try:
                if self._socket is None:
                    self._connect(monotonic() + self.timeout_s)
                head, words, answer = self._talk(monotonic() + self.timeout_s, word, *arguments, **values)
            except (OSError, ValueError) as error:
                self._drop()
                raise LinkLost(
                    say("{host}:{port} does not answer: {error}", host=self.host, port=self.port, error=error)
                ) from error
        if head == "ERR":
            raise Refused(" ".join(words) or "refused")
        return answer

    def _connect(self, until_s: float) -> None:
        if self._closed:
            raise OSError(say("the connection was let go of"))
        self._socket = socket.create_connection((self.host, self.port), self.timeout_s)
        self._rest, self._version, self._asked = b"", 1, 0
        _, _, told = self._talk(until_s, "HELLO")
        version = int(told.get("version", "1"))
        if not told.keys() & {"name", "channels"} or version < self._met:
            raise ValueError(say("what it says of itself is not what was asked, or not what it said before"))
        if self.expected is not None and not self.expected.is_same(identity_from(told)):
            raise ValueError(say("another device answers there"))
        self._version = self._met = version

    def stand_by(self) -> bool:
        """Connect ahead of need, and again where the other side hung up; whether the connection stands."""
        with self._lock:
            if self._socket is not None and (self._rest or select.select([self._socket], [], [], 0)[0]):
                self._drop()
            try:
                if self._socket is None:
                    self._connect(monotonic() + self.timeout_s)
            except (OSError, ValueError):
                self._drop()
            return self._socket is not None

    def _talk(self, until_s: float, word: str, *arguments: str, **values: Any) -> tuple[str, list[str], dict[str, str]]:
        assert self._socket is not None
        if self._rest or select.select([self._socket], [], [], 0)[0]:
            raise ValueError(say("it sent what nobody asked for, or hung up"))
        self._asked += 1
        mark = {"seq": self._asked} if self._version >= 2 else {}
        self._socket.sendall(encode(word, *arguments, **values, **mark))
        head, words, answer = decode(self._line(until_s))
        if head not in ("OK", "ERR") or self._rest:
            raise ValueError(say("its answer is none"))
        if self._version >= 2:
            of = answer.pop("of", None)
            if answer.pop("seq", None) != str(self._asked) or (arguments and unquote(of or "") != arguments[0]):
                raise ValueError(say("its answer belongs to another question"))
        return head, words, answer

    def _line(self, until_s: float) -> bytes:
        assert self._socket is not None
        while b"\n" not in self._rest:
            left_s = until_s - monotonic()
            if len(self._rest) > MAX_LINE:
                raise ValueError(say("the answer is too long"))
            if left_s <= 0:
                raise TimeoutError(say("the answer takes too long"))
            self._socket.settimeout(left_s)
            more = self._socket.recv(4096)
            if not more:
                raise OSError(say("the connection was closed"))
            self._rest += more
        line, _, self._rest = self._rest.partition(b"\n")
        return line

    def _drop(self) -> None:
        if self._socket is not None:
            self._socket.close()
        self._socket = None

    def close(self) -> None:
        """Let go of the connection for good; whoever waits for an answer is told so at once."""
        self._closed = True
        waited_on = self._socket
        if waited_on is not None:
            with suppress(OSError):
                waited_on.shutdown(socket.SHUT_RDWR)
        with self._lock:
            self._drop()


def identity_from(told: Mapping[str, str]) -> Identity:
    """Who a device says that it is, by its answer to HELLO."""
    channels = tuple(unquote(channel) for channel in told.get("channels", "").split(",") if channel)
    serial = unquote(told["serial"])[:MOST_SERIAL] if told.get("serial") else None
    name = unquote(told.get("name", "charger"))[:MOST_NAME]
    return Identity(name, channels, told.get("hands") == "yes", serial=serial)


def host_and_port(address: str) -> tuple[str, int]:
    """Of line://HOST:PORT. Raises Refused for anything else."""
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError:
        raise Refused(say("an address is a name and a port from 1 to 65535, such as 127.0.0.1:8766")) from None
    if not port or not re.fullmatch(r"[A-Za-z0-9.:-]{1,253}", parts.hostname or ""):
        raise Refused(say("an address is a name and a port from 1 to 65535, such as 127.0.0.1:8766"))
    return parts.hostname or "", port


class LineCharger:
    """A charger that speaks the line protocol."""

    commands: ClassVar[bool] = True

    def __init__(self, host: str, port: int, timeout_s: float = TIMEOUT_S) -> None:
        self.client = LineClient(host, port, timeout_s)
        self._urgent = LineClient(host, port, timeout_s)
        """For a stop: it waits for no answer that is slow to come."""

    @classmethod
    def at(cls, address: str, timeout_s: float) -> "LineCharger":
        """The driver for line://HOST:PORT."""
        return cls(*host_and_port(address), timeout_s)

    def identify(self) -> Identity:
        """Its name and channels."""
        return identity_from(self.client.ask("HELLO"))

    def expect(self, identity: Identity) -> None:
        """Believe nothing from now on of a device that says that it is another one."""
        self.client.expected = self._urgent.expected = identity

    def stand_by(self) -> bool:
        """Keep the connection for a stop open; whether it is. Makes it again where the device hung up."""
        return self._urgent.stand_by()

    def read(self, channel: str) -> ChannelReading:
        """What a channel shows now."""
        return self._read(self.client, channel)

    @staticmethod
    def _read(client: LineClient, channel: str) -> ChannelReading:
        values = client.ask("READ", channel)
        try:
            return reading_from(values)
        except ValueError as error:
            raise LinkLost(say("the answer makes no sense: {error}", error=error)) from error

    def dial(self, channel: str, settings: Settings) -> None:
        """Set a channel; nothing starts."""
        self.client.ask("SET", channel, **vars(settings))

    def start(self, channel: str) -> None:
        """Begin to charge, or go on after a pause."""
        self.client.ask("START", channel)

    def stop(self, channel: str) -> None:
        """Send one stop; it counts only when a reading shows it."""
        stopped_by(lambda: self._urgent.ask("STOP", channel), lambda: self._read(self._urgent, channel))

    def plug(self, channel: str, packs: tuple[str, ...]) -> None:
        """Plug packs in, or unplug all."""
        self.client.ask("PLUG", channel, *packs)

    def close(self) -> None:
        """Let go of the connections."""
        self.client.close()
        self._urgent.close()


class LineChecker:
    """A cell checker that speaks the line protocol."""

    def __init__(self, host: str, port: int, timeout_s: float = TIMEOUT_S) -> None:
        self.client = LineClient(host, port, timeout_s)

    @classmethod
    def at(cls, address: str, timeout_s: float) -> "LineChecker":
        """The driver for line://HOST:PORT."""
        return cls(*host_and_port(address), timeout_s)

    def identify(self) -> Identity:
        """That it is there."""
        self.client.ask("HELLO")
        return Identity("checker", ())

    def check(self, pack_id: str) -> tuple[float, ...]:
        """Rest volts of each cell."""
        values = self.client.ask("CHECK", pack_id)
        try:
            return tuple(float(volts) for volts in values["cell_v"].split(","))
        except (KeyError, ValueError) as error:
            raise LinkLost(say("the answer makes no sense: {error}", error=error)) from error

    def close(self) -> None:
        """Let go of the connection."""
        self.client.close()
