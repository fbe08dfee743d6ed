"""`iterum permit`."""

from iterum.cli import command
from iterum.cli.common import print_json, reads_session, table
from iterum.core.permit.permit import permits
from iterum.core.say import say
from iterum.core.things.session import Session
from iterum.exchange import results
from iterum.wording import fix_for, sentence


@command("permit")
@reads_session
def permit(session: Session, as_json: bool) -> None:
    """See `iterum permit --help`."""
    found = list(permits(session.bench).values())
    if as_json:
        print_json(results.permit_document(found))
        return
    rows = []
    for item in found:
        for act, allowance in item.acts.items():
            most = "" if allowance.max_rate_c is None else say("up to {max_rate_c:g}C", max_rate_c=allowance.max_rate_c)
            until = "" if allowance.until is None else say("until {until:%Y-%m-%d %H:%M}", until=allowance.until)
            why = " ".join(sentence(reason) for reason in allowance.reasons)
            fixes = (fix_for(reason, item.pack.id) for reason in allowance.reasons)
            fix = next((text for text in fixes if text), "")
            rows.append(
                (item.pack.id, say(act.value), say("yes") if allowance.allowed else say("no"), most, until, why, fix)
            )
    table(("pack", "act", "allowed", "rate", "reading counts", "why", "fix"), rows)
