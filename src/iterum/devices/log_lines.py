"""A charger or meter that writes its log line by line to a serial port, or into a file: read, never commanded.

The text is that of a CSV log (docs/charger-protocol.md): a line of headings, then one line a reading. What a column
means is said in the address, or guessed from its heading. The address names the channel of the kit that it belongs to:

    log:/dev/ttyUSB0?channel=Twin-1&baud=9600&columns=U:pack_v,I:current_a
"""

import csv
import io
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import IO, Any, ClassVar
from urllib.parse import parse_qsl, urlsplit

import serial

from iterum.core.run.guard import ChannelReading
from iterum.core.say import say
from iterum.core.season.columns import OUT, READING_MEANINGS, READING_READERS, guessed
from iterum.core.season.run import Status
from iterum.devices.driver import Identity, LinkLost, Refused, Settings

SILENT_S = 15.0
"""Without a line for so long it counts as lost."""
FLOWS_A = 0.03
"""From here on amps flow; below it is what a meter shows without any."""
TAPERED = 0.4
"""Amps that ended at or under this part of the most seen had fallen as they do when packs are full."""
MAX_REST = 4096
DEFAULT_BAUD = 9600


class LogCharger:
    """One channel, told of by a log. Commands are refused: a person gives them at the charger."""

    commands: ClassVar[bool] = False

    def __init__(
        self, path: str, channel: str, baud: int = DEFAULT_BAUD, columns: Mapping[str, str] | None = None,
        timeout_s: float = 2.0, clock: Callable[[], float] = time.monotonic,
    ) -> None:  # fmt: skip
        self._path, self._channel, self._baud = path, channel, baud
        self._columns, self._timeout_s, self._clock = dict(columns or {}), timeout_s, clock
        self._lock = threading.Lock()
        self._port: IO[bytes] | serial.SerialBase | None = None
        self._rest = b""
        self._headings: list[str] = []
        self._latest: dict[str, Any] = {}
        self._heard_s: float | None = None
        self._opened_s = 0.0
        self._most_a = self._last_a = 0.0

    @classmethod
    def at(cls, address: str, timeout_s: float) -> "LogCharger":
        """The driver for an address. Raises Refused, with the mend, for one that says too little."""
        parts = urlsplit(address)
        asked = dict(parse_qsl(parts.query))
        path = parts.path or parts.netloc
        columns = dict(pair.split(":", 1) for pair in asked.get("columns", "").split(",") if ":" in pair)
        wrong = [f"{name}: {meaning}" for name, meaning in columns.items() if meaning not in READING_MEANINGS]
        if not path or "channel" not in asked:
            raise Refused(
                say("give the port and the channel of the kit, as in log:/dev/ttyUSB0?channel=Twin-1&baud=9600")
            )
        if wrong or not asked.get("baud", "1").isdigit():
            known = ", ".join(name for name in READING_MEANINGS if name != OUT)
            raise Refused(
                say(
                    "columns mean one of {known}; baud is a number ({wrong})",
                    known=known,
                    wrong="; ".join(wrong) or asked["baud"],
                )
            )
        return cls(path, asked["channel"], int(asked.get("baud", DEFAULT_BAUD)), columns, timeout_s)

    def identify(self) -> Identity:
        """The file or port, and the one channel it tells of."""
        with self._lock:
            self._open()
        return Identity(Path(self._path).name or self._path, (self._channel,), commands=False)

    def expect(self, identity: Identity) -> None:
        """Nothing: a log says of nobody who writes it; its address is all there is."""

    def stand_by(self) -> bool:
        """No: it can stop nothing."""
        return False

    def read(self, channel: str) -> ChannelReading:
        """What the newest line says. Raises LinkLost while there is none, or none for `SILENT_S`."""
        if channel != self._channel:
            raise Refused(say("only {channel} is told of here", channel=self._channel))
        with self._lock:
            self._take_lines()
            heard_s, now_s = self._heard_s, self._clock()
            if heard_s is None and now_s - self._opened_s <= SILENT_S:
                raise LinkLost(say("{path} has not said anything yet", path=self._path))
            if heard_s is None or now_s - heard_s > SILENT_S:
                raise LinkLost(
                    say(
                        "{path} has been silent for {now_s:.0f} s",
                        path=self._path,
                        now_s=now_s - (heard_s or self._opened_s),
                    )
                )
            return self._reading()

    def _open(self) -> None:
        if self._port is not None:
            return
        try:
            if Path(self._path).is_file():
                self._port = Path(self._path).open("rb")  # noqa: SIM115 (kept open, and closed by `close`)
            else:
                self._port = serial.serial_for_url(self._path, baudrate=self._baud, timeout=0)
        except (OSError, ValueError) as error:
            raise LinkLost(say("{path} cannot be opened: {error}", path=self._path, error=error)) from error
        self._rest, self._opened_s = b"", self._clock()
        if isinstance(self._port, io.BufferedReader):  # what stands in a file already tells of charges before
            self._take(self._port.readline().decode("utf-8", "replace").strip().lstrip("\ufeff"))
            self._port.seek(0, io.SEEK_END)

    def _take_lines(self) -> None:
        """Every whole line that has come since the last look."""
        self._open()
        assert self._port is not None  # opened above
        try:
            come = self._port.read(65536)
        except OSError as error:
            self.close()
            raise LinkLost(say("{path} is gone: {error}", path=self._path, error=error)) from error
        *lines, self._rest = (self._rest + come).split(b"\n")
        self._rest = self._rest[-MAX_REST:]
        for line in lines:
            self._take(line.decode("utf-8", "replace").strip().lstrip("\ufeff"))

    def _take(self, line: str) -> None:
        """One line: headings where they mean something, else a reading; half a line and noise are left aside."""
        if not line:
            return
        cells = next(csv.reader([line], delimiter=max(",;\t", key=line.count)))
        cells = [cell.strip() for cell in cells]
        meaning = guessed(cells, READING_MEANINGS) | self._columns
        if any(meaning.get(cell) for cell in cells):
            self._headings = cells
            return
        if len(cells) != len(self._headings):
            return
        meaning = guessed(self._headings, READING_MEANINGS) | self._columns
        values: dict[str, Any] = {}
        for heading, text in zip(self._headings, cells, strict=False):
            name = meaning.get(heading, "")
            if name and text:
                try:
                    values[name] = READING_READERS[name](text)
                except ValueError:
                    return  # half a line, or noise: the next one is near
        if values:
            self._latest, self._heard_s = self._latest | values, self._clock()
            self._last_a = values.get("current_a", self._last_a) if self._flows(values) else self._last_a
            self._most_a = max(self._most_a, self._last_a)

    @staticmethod
    def _flows(values: Mapping[str, Any]) -> bool:
        return bool(values.get("current_a", 0.0) > FLOWS_A)

    def _reading(self) -> ChannelReading:
        values = self._latest
        cell_v = tuple(values.get("cell_v", ()))
        at_s = values["at_s"] if "at_s" in values else 60 * values.get("at_min", 0.0)
        status, why = self._status()
        return ChannelReading(
            status=status,
            cells=len(cell_v),
            pack_v=values.get("pack_v", sum(cell_v)),
            current_a=values.get("current_a", 0.0),
            charge_mah=values.get("charge_mah", 0.0),
            minutes=at_s / 60,
            cell_v=cell_v,
            temperature_c=values.get("temperature_c"),
            input_v=values.get("input_v"),
            why=why,
            counts_cells=bool(cell_v),
        )

    def _status(self) -> tuple[Status, str | None]:
        """What the amps say: a log has no word for it."""
        if self._flows(self._latest):
            return Status.CHARGING, None
        if self._most_a == 0.0:
            return Status.IDLE, None
        if self._last_a <= TAPERED * self._most_a:
            return Status.DONE, say("its amps had fallen to {last_a:.2f} and are 0", last_a=self._last_a)
        return Status.STOPPED, say("its amps went from {last_a:.2f} to 0 at once", last_a=self._last_a)

    def _refuse(self) -> None:
        raise Refused(say("this device is only listened to: do it at the charger itself"))

    def dial(self, channel: str, settings: Settings) -> None:  # noqa: ARG002
        """Refused: it is set by hand."""
        self._refuse()

    def start(self, channel: str) -> None:  # noqa: ARG002
        """Refused: it is started by hand."""
        self._refuse()

    def stop(self, channel: str) -> None:  # noqa: ARG002
        """Refused: it is stopped by hand."""
        self._refuse()

    def plug(self, channel: str, packs: tuple[str, ...]) -> None:  # noqa: ARG002
        """Refused: packs are plugged in by hand."""
        self._refuse()

    def close(self) -> None:
        """Let go of the port."""
        if self._port is not None:
            self._port.close()
        self._port = None
