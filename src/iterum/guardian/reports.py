"""What goes between the guardian and the rest of Iterum: plain records, so that they pass between
processes.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from iterum.core.run.guard import ChannelReading
from iterum.core.season.outlook import Observation
from iterum.core.season.run import Act, State
from iterum.core.season.watching import Finding
from iterum.devices.driver import Identity


@dataclass(frozen=True)
class DeviceLink:
    """A device to read. identity : who must answer, None where it was never met.

    channels : channel of the kit -> channel as the device calls it, as a person confirmed it.
    """

    address: str
    identity: Identity | None
    channels: Mapping[str, str]


@dataclass(frozen=True)
class Note:
    """Something to be written down. number : rises by one with each note of one guardian.

    seen : a reading to keep. act : what the charger, Iterum or a person did, with by whom and
    why.
    """

    number: int
    run_key: int
    at: datetime
    seen: Observation | None = None
    act: Act | None = None
    by: str = ""
    why: str | None = None


@dataclass(frozen=True)
class ChannelReport:
    """One guarded channel now. name : of the kit's channel, or of the board where packs only
    equalise.

    run_key, state : of the batch on it; None without one. reading : the last that can be true,
    asked at `read_at`. lost, refused : why it does not tell. findings : what is wrong, the worst
    first. seen : whether somebody has seen the findings. linked : whether a device tells of it.
    """

    name: str
    run_key: int | None = None
    packs: tuple[str, ...] = ()
    state: State | None = None
    reading: ChannelReading | None = None
    read_at: datetime | None = None
    lost: str | None = None
    refused: str | None = None
    findings: tuple[Finding, ...] = ()
    seen: bool = False
    linked: bool = False


@dataclass(frozen=True)
class DeviceReport:
    """One device as it was last met."""

    address: str
    identity: Identity | None = None
    heard_at: datetime | None = None
    lost: str | None = None
    refused: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Report:
    """Everything the guardian knows now.

    life : of which guardian; its notes are counted from 1. judged_ago_s : seconds since it judged
    every channel last. unwritten : why its own file could not be written; then it is not armed
    again by itself after a kill.
    """

    life: str
    channels: tuple[ChannelReport, ...] = ()
    devices: tuple[DeviceReport, ...] = ()
    notes: tuple[Note, ...] = ()
    judged_ago_s: float = 0.0
    unwritten: str | None = None
