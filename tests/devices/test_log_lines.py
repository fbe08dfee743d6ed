"""A charger's log read line by line: from a serial port, from a file that grows, and what its amps say of the charge."""

import os
import shutil
import tty

import pytest

from iterum.core.season.run import Act, State, Status
from iterum.core.things.choice import Choice
from iterum.devices.driver import LinkLost, Refused
from iterum.devices.drivers import DRIVERS, charger_at, whole
from iterum.devices.log_lines import LogCharger
from iterum.services.links import CHARGER, bind_by_name
from iterum.services.running import RunDesk
from iterum.services.watching import Watcher
from tests.devices.bench import Clock, Field, served

HEAD = "t;U;I;mAh;cells"
COLUMNS = {"t": "at_s", "U": "pack_v", "I": "current_a", "mAh": "charge_mah", "cells": "cell_v"}


@pytest.fixture
def field(tmp_path, demo_file):
    shutil.copy(demo_file, tmp_path / "field.sqlite3")
    clock = Clock()
    with served(clock) as server:
        here = Field(tmp_path, clock, server)
        yield here
        here.close()


@pytest.fixture
def port():
    """A simulated serial port: what is written to the first end is read at the second, by its name."""
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    yield lambda text: os.write(ours, text.encode()), os.ttyname(theirs)
    os.close(ours)
    os.close(theirs)


def test_lines_of_a_serial_port_become_readings_and_silence_is_a_lost_link(port):
    write, name = port
    clock = Clock()
    charger = LogCharger(name, "Twin-1", columns=COLUMNS, clock=clock.monotonic)
    with pytest.raises(LinkLost, match="has not said anything yet"):
        charger.read("Twin-1")
    write(f"{HEAD}\r\n60;15,32;5,4;81.2;3.83 3.83 3.82 3.84\r\n120;15.4;5.4")  # the last line is not whole yet
    reading = charger.read("Twin-1")
    assert (reading.status, reading.cells, reading.pack_v, reading.current_a) == (Status.CHARGING, 4, 15.32, 5.4)
    assert (reading.charge_mah, reading.minutes, reading.cell_v) == (81.2, 1.0, (3.83, 3.83, 3.82, 3.84))
    write(";170;3.85 3.85 3.84 3.86\nnoise\n;;;\n")
    assert (charger.read("Twin-1").minutes, charger.read("Twin-1").charge_mah) == (2.0, 170)
    clock.seconds = 16
    with pytest.raises(LinkLost, match="silent for 16 s"):
        charger.read("Twin-1")
    charger.close()


@pytest.mark.parametrize(("amps", "status"), [
    ((0.0,), Status.IDLE), ((2.0, 1.0), Status.CHARGING), ((2.0, 1.2, 0.5, 0.0), Status.DONE),
    ((2.0, 2.0, 0.0), Status.STOPPED)])  # fmt: skip
def test_amps_that_fell_before_they_ended_are_a_full_pack_and_others_a_stop(tmp_path, amps, status):
    path = tmp_path / "meter.csv"
    path.write_text("at_min,current_a\n")
    charger = charger_at(f"log:{path}?channel=A", 1.0)
    charger.identify()
    with path.open("a") as log:
        log.writelines(f"{minute},{value}\n" for minute, value in enumerate(amps))
    assert charger.read("A").status is status
    charger.close()


def test_it_is_never_commanded_and_an_address_that_says_too_little_is_mended(tmp_path):
    charger = charger_at(f"log:{tmp_path}?channel=A", 1.0)
    for command in (lambda: charger.start("A"), lambda: charger.stop("A"), lambda: charger.dial("A", None),
                    lambda: charger.plug("A", ()), lambda: charger.read("B")):  # fmt: skip
        with pytest.raises(Refused):
            command()
    for address in ("log:/dev/ttyUSB0", "log:/dev/x?channel=A&columns=U:volts", "log:/dev/x?channel=A&baud=fast",
                    "telnet://a:1", "line://a b:1", "line://a:70000"):  # fmt: skip
        with pytest.raises(Refused):
            charger_at(address, 1.0)
    with pytest.raises(LinkLost, match="cannot be opened"):
        charger.identify()
    assert whole("host:8766") == "line://host:8766"
    assert {"line", "log"} <= set(DRIVERS)


def listened(field, path):
    """Twin-1 is told of by a log, which is read from here on, and by nobody else."""
    for device in field.links.devices():
        field.links.drop(device.key)
    bind_by_name(field.links, field.desk, field.links.add(CHARGER, f"log:{path}?channel=Twin-1"), field.clock())
    field.watcher.watch(field.clock())


def test_a_run_on_a_listened_charger_is_led_by_hand_and_read_by_itself(tmp_path, field):
    path = tmp_path / "meter.csv"
    path.write_text("at_min,pack_v,current_a,charge_mah\n")
    listened(field, path)
    runs = RunDesk(field.store, field.desk, field.links)
    key = runs.begin(Choice(("P-08", "P-11"), "Six", "Twin-1"), field.clock())
    state = State.PLANNED
    for act in (Act.INSPECT, Act.PLUG_IN, Act.READ_BACK, Act.START):
        state = runs.act(key, act, state, field.clock(), skipped=act is Act.READ_BACK).state
    watcher = Watcher(field.store, field.desk, runs)
    with path.open("a") as log:
        for minute, amps in ((1, 5.0), (2, 1.5), (3, 0.0)):
            log.write(f"{minute},16.0,{amps},{90 * minute}\n")
            log.flush()
            field.clock.seconds += 60
            watcher.watch(field.clock())
    look = runs.look(key, field.clock())
    assert look.run.state is State.DONE
    assert [item.seen.charge_mah for item in look.seen] == [90, 180, 270]


def test_an_earlier_charge_in_the_log_neither_starts_nor_ends_nor_fills_a_new_one(tmp_path, field):
    path = tmp_path / "meter.csv"
    earlier = "1,15.0,5.0,900\n2,16.8,1.0,1800\n"
    path.write_text("at_min,pack_v,current_a,charge_mah\n" + earlier)
    listened(field, path)
    key = field.runs.begin(Choice(("P-08", "P-11"), "Six", "Twin-1"), field.clock())
    state = State.PLANNED
    for act in (Act.INSPECT, Act.PLUG_IN, Act.READ_BACK):
        state = field.runs.act(key, act, state, field.clock(), skipped=act is Act.READ_BACK).state

    def after(line):
        with path.open("a") as log:
            log.write(line)
        field.clock.seconds += 10
        field.watcher.watch(field.clock())
        look = field.runs.look(key, field.clock())
        return look.run.state, [item.seen.charge_mah for item in look.seen]

    assert after("") == (State.READ_BACK, [])  # the amps of the file are those of the charge before
    assert after(f"{earlier}3,16.8,0.0,1800\n") == (State.READ_BACK, [])
    field.runs.act(key, Act.START, State.READ_BACK, field.clock())
    assert after("3,16.8,0.0,1800\n") == (State.CHARGING, [])  # its amps are still to come
    assert after("4,15.4,5.0,20\n") == (State.CHARGING, [20])
    assert after("9,16.8,1.0,400\n10,16.8,0.0,405\n")[0] is State.DONE


def test_what_must_stop_is_only_told_where_nothing_can_be_commanded(tmp_path, field):
    path = tmp_path / "meter.csv"
    path.write_text("at_min,pack_v,current_a,temperature_c\n1,16.0,5.0,24\n")
    listened(field, path)
    key = field.runs.begin(Choice(("P-08", "P-11"), "Six", "Twin-1"), field.clock())
    state = State.PLANNED
    for act in (Act.INSPECT, Act.PLUG_IN, Act.READ_BACK, Act.START):
        state = field.runs.act(key, act, state, field.clock(), skipped=act is Act.READ_BACK).state
    with path.open("a") as log:
        log.write("2,16.1,5.0,70\n")
    field.clock.seconds += 60
    assert "stop" in {item.alarm.value for item in field.watcher.watch(field.clock())}
    assert field.runs.look(key, field.clock()).run.state is State.CHARGING  # it goes on until a person stops it
