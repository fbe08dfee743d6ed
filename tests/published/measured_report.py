"""Writes docs/measured-cells.md and its pictures: predicted against measured, for every data set that ships.

python -m tests.published.measured_report
"""

from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from iterum.core.season.health import ChargeRecord
from iterum.core.season.learning import learn
from iterum.core.season.outlook import outlook
from iterum.core.season.watching import findings
from tests.published.measured_cells import believed, by_its_own_curve, charge, expected, table

DOCS = Path(__file__).parents[2] / "docs"
WIDTH, HEIGHT, LEFT, BOTTOM, TOP = 720, 300, 56, 34, 16
STARTS = [("from empty", "pouch_half_c.csv", None), ("from 3.515 V", "pouch_half_c_part.csv", None),
          *((f"from {volts} V", "pouch_half_c.csv", volts) for volts in (3.723, 3.802, 3.869, 3.909, 3.949, 3.984, 4.048))]  # fmt: skip


class Picture:
    """A small chart: straight scales, lines, bands and dots."""

    def __init__(self, name, title, x, y):
        self.name, self.title, self.x, self.y, self.marks = name, title, x, y, []

    def at(self, x, y):
        (x0, x1, _), (y0, y1, _) = self.x, self.y
        return (round(LEFT + (x - x0) / (x1 - x0) * (WIDTH - LEFT - 12), 1),
                round(HEIGHT - BOTTOM - (y - y0) / (y1 - y0) * (HEIGHT - BOTTOM - TOP), 1))  # fmt: skip

    def path(self, xs, ys, style):
        points = "L".join("{} {}".format(*self.at(float(x), float(y))) for x, y in zip(xs, ys, strict=True))
        self.marks.append(f'<path d="M{points}" style="{style}"/>')

    def dots(self, xs, ys):
        self.marks += [
            '<circle cx="{}" cy="{}" r="4" fill="#1A160E"/>'.format(*self.at(x, y)) for x, y in zip(xs, ys, strict=True)
        ]

    def write(self):
        (x0, x1, x_step), (y0, y1, y_step) = self.x, self.y
        ticks = []
        for value in np.arange(y0, y1 + 1e-9, y_step):
            _, y = self.at(x0, value)
            ticks.append(
                f'<path d="M{LEFT} {y}H{WIDTH - 12}" stroke="#CFC3A6"/><text x="{LEFT - 8}" y="{y + 5}" text-anchor="end">{value:.1f}</text>'
            )
        for value in np.arange(x0, x1 + 1e-9, x_step):
            x, _ = self.at(value, y0)
            ticks.append(f'<text x="{x}" y="{HEIGHT - 12}" text-anchor="middle">{value:g}</text>')
        (DOCS / "measured").mkdir(exist_ok=True)
        (DOCS / "measured" / f"{self.name}.svg").write_text(
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" font-family="sans-serif" font-size="14" '
            f'fill="#1A160E" role="img" aria-label="{self.title}"><rect width="{WIDTH}" height="{HEIGHT}" fill="#FFFCF4"/>'
            + "".join(ticks) + "".join(self.marks) + "</svg>\n")  # fmt: skip


def band(picture, pack, style):
    levels = np.linspace(3.3, 4.2, 91)
    told = [pack.curve.state_of_charge(float(volts)) for volts in levels]
    xs = [100 * soc.low for soc in told] + [100 * soc.high for soc in reversed(told)]
    picture.path(xs, [*levels, *reversed(levels)], style)


def taught(pack, rests, *socs):
    rows = [rests[np.argmin(abs(rests[:, 0] - soc))] for soc in socs]
    records = [ChargeRecord(datetime(2026, 5, 1 + day, tzinfo=UTC), charge_mah=float((1 - soc) * 30559),
                            before_v=(float(volts),), alone=True, full=True) for day, (soc, volts) in enumerate(rows)]  # fmt: skip
    return replace(pack, learned=learn(pack, records).learned)


def coverage(pack, rows, scale=1.0):
    told = [(scale * float(soc), pack.curve.state_of_charge(float(volts))) for soc, volts in rows]
    inside = sum(believed_soc.low - 1e-9 <= soc <= believed_soc.high + 1e-9 for soc, believed_soc in told)
    width = np.mean([believed_soc.high - believed_soc.low for _, believed_soc in told])
    worst = max(abs(believed_soc.value - soc) for soc, believed_soc in told)
    return f"{inside} of {len(told)} | {100 * width:.0f} | {100 * worst:.0f}"


def ranges():
    rests, cold = table("pouch_rests_25c.csv"), table("pouch_rests_10c.csv")
    rows = []
    for chemistry in ("lipo", "li-ion"):
        pack = believed(chemistry, 3.8)
        rows += [f"| LMO/NCA pouch, rests at 25 °C | {chemistry}, nothing learned | {coverage(pack, rests)} |",
                 f"| the same at 10 °C | {chemistry}, nothing learned | {coverage(pack, cold)} |",
                 f"| LMO/NCA pouch, 25 °C | {chemistry}, one charge from 3.869 V | {coverage(taught(pack, rests, 0.37), rests)} |",
                 f"| LMO/NCA pouch, 25 °C | {chemistry}, three charges | {coverage(taught(pack, rests, 0.58, 0.37, 0.17), rests)} |"]  # fmt: skip
        picture = Picture(
            f"rests-{chemistry}",
            f"Rests of the pouch cell and what is believed of a {chemistry}",
            (0, 100, 20),
            (3.3, 4.2, 0.1),
        )
        band(picture, pack, "fill:#DDD5C0")
        band(picture, taught(pack, rests, 0.58, 0.37, 0.17), "fill:#CFE4DA;stroke:#0B4A40")
        picture.dots([100 * float(soc) for soc, _ in rests], [float(volts) for _, volts in rests])
        picture.write()
    rows += [f"| NMC/graphite, slow discharge, {state} | li-ion, nothing learned | {coverage(believed('li-ion', 3.8), table(name), 0.92)} |"
             for name, state in (("nmc_slow_cell1.csv", "new"), ("nmc_slow_cell2.csv", "aged"))]  # fmt: skip
    return rows


def circuit():
    rows = []
    for name, words, rests, held, times in (
        ("pouch_half_c.csv", "half C from empty, 25 °C", "pouch_rests_25c.csv", 30.559, 1.0),
        ("pouch_half_c_part.csv", "half C from 3.515 V, 25 °C", "pouch_rests_25c.csv", 30.559, 1.0),
        ("pouch_third_c_10c.csv", "a third C from empty, 10 °C, 1.66 × R", "pouch_rests_10c.csv", 30.6, 1.66),
    ):
        measured = charge(name)
        trace = by_its_own_curve(measured, table(rests), held, times)
        off_v = np.interp(60 * measured.t_min, trace.t_s, trace.node_v) - measured.cell_v
        put_in = np.trapezoid(trace.feed_a, trace.t_s) / 3.6
        tail = trace.t_s[-1] / 60 - trace.end_v_at_s / 60
        rows.append(f"| {words} | {100 * (trace.t_s[-1] / 60 / measured.t_min[-1] - 1):+.1f} % | {100 * (trace.end_v_at_s / 60 / measured.cc_min - 1):+.1f} % | "
                    f"{100 * (tail / (measured.t_min[-1] - measured.cc_min) - 1):+.0f} % | {100 * (put_in / measured.charge_mah[-1] - 1):+.1f} % | {1000 * np.sqrt(np.mean(off_v**2)):.0f} mV |")  # fmt: skip
    return rows


def believed_charges():
    rows, alarms = [], []
    for chemistry in ("lipo", "li-ion"):
        for words, name, from_v in STARTS:
            measured = charge(name, from_v)
            result, told = expected(believed(chemistry, measured.rest_v), measured.dialled_a)
            raised = {(item.alarm.value, item.what.code) for t in measured.t_min if t <= measured.full_min
                     for item in findings(told, measured.seen(t), float(t))}  # fmt: skip
            errors = []
            for part in (0.25, 0.5, 0.75):
                at_min = part * measured.full_min
                errors.append(f"{outlook(told, measured.seen(at_min), at_min).full_at_min - measured.full_min:+.0f}")
            rows.append(f"| {chemistry}, {words} | {result.minutes:.0f}, {result.minutes_low:.0f} to {result.minutes_high:.0f} | {measured.full_min:.0f} | "
                        f"{result.charge_low_mah / 1000:.1f} to {result.charge_high_mah / 1000:.1f} | {measured.charge_mah[-1] / 1000:.1f} | {told.timer_min:.0f} | {', '.join(errors)} |")  # fmt: skip
            alarms.append(raised)
    stops = sum(any(level == "stop" for level, _ in raised) for raised in alarms)
    cares = sum(any(level == "care" for level, _ in raised) for raised in alarms)
    picture = Picture(
        "half-c", "Half C from 3.869 V: measured, and what was expected of a LiPo", (0, 100, 20), (3.8, 4.2, 0.1)
    )
    measured = charge("pouch_half_c.csv", 3.869)
    _, told = expected(believed("lipo", 3.869), measured.dialled_a)
    picture.path(told.t_min, told.cell_v, "fill:none;stroke:#0B4A40;stroke-width:2.5;stroke-dasharray:7 5")
    picture.path(measured.t_min, measured.cell_v, "fill:none;stroke:#1A160E;stroke-width:2.5")
    picture.write()
    return rows, stops, cares, len(alarms)


def main():
    charges, stops, cares, whole = believed_charges()
    text = (DOCS / "measured-cells.md").read_text()
    for mark, rows in (("ranges", ranges()), ("circuit", circuit()), ("charges", charges),
                       ("alarms", [f"| healthy measured charges, by what is believed of a lipo and of a li-ion | {whole} | {stops} | {cares} |"])):  # fmt: skip
        head, rest = text.split(f"<!-- {mark} -->\n")
        _, tail = rest.split("<!-- end -->", 1)
        text = f"{head}<!-- {mark} -->\n" + "\n".join(rows) + "\n<!-- end -->" + tail
    (DOCS / "measured-cells.md").write_text(text)


if __name__ == "__main__":
    main()
