"""Which caution belongs to which step and finding, and on what it rests. Its sentence stands in `iterum.wording`.

Local rules, labels and the word of those who are licensed come before all of them, and the pages say so.
"""

from dataclasses import dataclass

from iterum.core.season.run import Act

PRACTICE = "common practice, no source"
FALLS_BACK = "a bank that drops its volts"
DATA_SHEETS = "usual limits of cell data sheets, no single source"


@dataclass(frozen=True)
class Caution:
    """One caution: `where` are the pages, steps or findings beside which it shows."""

    code: str
    where: tuple[str, ...]
    rests_on: str


CAUTIONS = (
    Caution("caution_inspect", (Act.INSPECT,), PRACTICE),
    Caution("caution_plug_order", (Act.PLUG_IN, "Run sheet"), "the circuit model, and common practice"),
    Caution("caution_polarity", (Act.PLUG_IN, "Dial card", "Run sheet"), PRACTICE),
    Caution("caution_spark", (Act.PLUG_IN,), PRACTICE),
    Caution("caution_evening", (Act.EVEN_OUT,), "the circuit model: when the currents have died down"),
    Caution("caution_read_back", (Act.READ_BACK, "Dial card", "Run sheet"), PRACTICE),
    Caution("caution_place", (Act.START, "Dial card"), PRACTICE),
    Caution("caution_watch", (Act.START, "Dial card", "Run sheet"), PRACTICE),
    Caution("caution_source_last", (FALLS_BACK,), PRACTICE),
    Caution("caution_cold", (Act.START, "Dial card"), DATA_SHEETS),
    Caution("caution_stop", ("Run", "Run sheet"), PRACTICE),
    Caution("caution_after", (Act.CHECK,), PRACTICE),
    Caution("caution_label", ("Dial card", "Run sheet", "Use"), "labels and local rules come first"),
    Caution("caution_away", ("Plan", "Run sheet"), PRACTICE),
    Caution("caution_storage", ("Put away",), PRACTICE),
    Caution("caution_disposal", ("Packs",), "local rules; Iterum advises no salt water"),
    Caution("caution_cabin", ("Packs",), "carriers limit packs by Wh: ask yours"),
)


def cautions_at(where: str) -> tuple[str, ...]:
    """Codes of the cautions that belong to a step or page.

    where : a step or a page.
    """
    return tuple(caution.code for caution in CAUTIONS if where in caution.where)
