"""`iterum check`."""

from iterum.cli import command
from iterum.cli.common import print_json, reads_session, table, volts
from iterum.core.permit.permit import permits
from iterum.core.say import figure, say
from iterum.core.things.session import Session
from iterum.exchange import results
from iterum.wording import family_label, sentence


@command("check")
@reads_session
def check(session: Session, as_json: bool) -> None:
    """See `iterum check --help`."""
    verdicts = list(permits(session.bench).values())
    if as_json:
        print_json(results.check_document(verdicts))
        return
    rows = []
    for verdict in verdicts:
        charge = "-"
        if verdict.soc is not None:
            charge = f"{verdict.soc.low * 100:.0f}-{verdict.soc.high * 100:.0f} %"
            charge = say("{charge} (estimate)", charge=charge) if verdict.soc.estimate else charge
        rows.append(
            (
                verdict.pack.id,
                family_label(verdict.pack.family),
                say(verdict.level.value),
                volts(verdict.pack.cell_v, 3),
                volts(verdict.spread_v),
                charge,
                figure(verdict.pack.rated_energy_wh, ".1f"),
                " ".join(sentence(item) for item in verdict.reasons),
            )
        )
    table(("pack", "class", "verdict", "V/cell", "apart", "charge", "Wh", "why"), rows)
