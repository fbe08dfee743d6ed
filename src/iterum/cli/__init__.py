"""The commands. Each lives in a module of its own, which is loaded when it is asked for."""

from collections.abc import Callable
from importlib import import_module
from typing import Any

import click

COMMANDS = {
    "archive": "Everything that is kept, in the open: one line of JSON a row, retired things too.",
    "backup": "A whole copy of the database in a file, checked by opening it; Iterum may run meanwhile.",
    "check": "The verdict on each pack: fit, look or stop, with its reasons.",
    "guard": "The guardian of a bench, which reads and stops its chargers; `iterum serve` starts it by itself.",
    "match": "Which packs may share a board, in what order to plug them in, and what would mend the rest.",
    "size": "The amps to dial for the file's group, every limit, and the card to set on the charger.",
    "equalise": "What flows between the packs of the file's group when they are joined, and for how long.",
    "charge": "How long the file's group takes, what each pack sees, and what it costs the source.",
    "merge": "Take an archive in: on an empty bench the same again, on another what is new there.",
    "permit": "What may be done with each pack now: join, charge, discharge, balance, store.",
    "plan": "Batches over channels and time: every pack full in time, within what the field can give.",
    "read": "What a label says of a pack, charger, supply, source or board, and what it leaves open.",
    "rehearse": "Rehearse on a copy of a bench, with a simulated charger in time-lapse; nothing real is reached.",
    "restore": "Put a copy back in the place of the database; what was there is kept beside it.",
    "serve": "Serve the pages on this machine, and watch every charge.",
    "share": "How a phone comes in to the Iterum that runs here: address, code to scan, digits; --close ends it.",
    "sim-charger": "A simulated charger and cell checker for the packs and kit of a session file, or of the demo.",
}
"""What each command says of itself."""


class _Lazy(click.Group):
    """A group that names its commands without loading them."""

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
        with formatter.section("Commands"):
            formatter.write_dl([(name, text.split(".")[0]) for name, text in sorted(COMMANDS.items())])


@click.group(cls=_Lazy, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="iterum")
def main() -> None:
    """Plan charging sessions for many packs: which may share a board, at what amps, and why."""


def command(name: str) -> Callable[[Callable[..., Any]], click.Command]:
    """Make a function the command of this name, with what `COMMANDS` says of it."""
    return main.command(name, help=COMMANDS[name])
