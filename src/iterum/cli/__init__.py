"""The commands. Each lives in a module of its own, which is loaded when it is asked for."""

from collections.abc import Callable
from importlib import import_module
from typing import Any

import click

from iterum.core.say import Words, say, speaking
from iterum.wording.languages import language, of_system

COMMANDS = {
    "archive": Words("Everything that is kept, in the open: one line of JSON a row, retired things too."),
    "backup": Words("A whole copy of the database in a file, checked by opening it; Iterum may run meanwhile."),
    "check": Words("The verdict on each pack: fit, look or stop, with its reasons."),
    "guard": Words("The guardian of a bench, which reads and stops its chargers; `iterum serve` starts it by itself."),
    "match": Words("Which packs may share a board, in what order to plug them in, and what would fix the rest."),
    "size": Words("The amps to set for the file's group, every limit, and the card to set on the charger."),
    "equalise": Words("What flows between the packs of the file's group when they are joined, and for how long."),
    "charge": Words("How long the file's group takes, what each pack sees, and what it costs the source."),
    "merge": Words("Take an archive in: on an empty bench the same again, on another what is new there."),
    "permit": Words("What may be done with each pack now: join, charge, discharge, balance, store."),
    "plan": Words("Batches over channels and time: every pack full in time, within what the field can give."),
    "read": Words("What a label says of a pack, charger, supply, source or board, and what it leaves open."),
    "rehearse": Words(
        "Rehearse on a copy of a bench, with a simulated charger in time-lapse; nothing real is reached."
    ),
    "restore": Words("Put a copy back in the place of the database; what was there is kept beside it."),
    "serve": Words("Serve the pages on this machine, and watch every charge."),
    "share": Words(
        "How a phone comes in to the Iterum that runs here: address, code to scan, digits; --close ends it."
    ),
    "sim-charger": Words(
        "A simulated charger and cell checker for the packs and kit of a session file, or of the demo."
    ),
}
"""What each command says of itself."""


class _Lazy(click.Group):
    """A group that names its commands without loading them, and speaks the language of the system."""

    def main(self, *args: Any, **more: Any) -> Any:
        """Run a command: what it says, help included, is in one language from the start."""
        with speaking(language(of_system())):
            return super().main(*args, **more)

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002
        """Their names."""
        return sorted(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        """The command, its module loaded now."""
        if cmd_name not in COMMANDS:
            return None
        import_module(f"iterum.cli.{cmd_name.replace('-', '_')}")
        return self.commands[cmd_name]

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        """The list in the help, without loading one."""
        with formatter.section(say("Commands")):
            formatter.write_dl([(name, say(text).split(".")[0]) for name, text in sorted(COMMANDS.items())])


@click.group(cls=_Lazy, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="iterum")
def main() -> None:
    """Plan charging sessions for many packs: which may share a board, at what amps, and why."""


def command(name: str) -> Callable[[Callable[..., Any]], click.Command]:
    """Make a function the command of this name, with what `COMMANDS` says of it."""
    return main.command(name, help=say(COMMANDS[name]))
