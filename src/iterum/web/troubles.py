"""What may be seen when something is wrong, and what to do then, in order. On every page, also when nothing answers."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Trouble:
    """What is seen, and the acts in their order. Common practice, no source; local rules come first."""

    key: str
    label: str
    acts: tuple[str, ...]


TROUBLES = (
    Trouble(
        "smoke",
        "Smoke, hiss, sparks or fire",
        (
            "Get everyone back, upwind. Do not breathe the smoke.",
            "Cut the power at the source if you can reach it without passing the packs. "
            "Do not touch a venting pack with bare hands.",
            "Let it burn out in the open or under sand. Keep what burns near it wet or covered.",
            "Call the fire service if it is indoors, near a vehicle, or spreading.",
            "Watch it for an hour: packs flare up again. Keep its neighbours apart as well.",
        ),
    ),
    Trouble(
        "swelling",
        "A pack swells, smells or is hot",
        (
            "Stop the charger. Pull the source if the charger does not stop.",
            "Step back and watch for smoke for a quarter of an hour.",
            "Then unplug main lead first, with gloves or tongs, and lay it outside on stone or sand.",
            "Swollen or smelling: never charge it again. Only hot: kept apart until somebody has judged it. "
            "Mark it on Measure with Looks wrong.",
        ),
    ),
    Trouble(
        "number",
        "A number is off",
        (
            "Stop the charger before anything else.",
            "Compare its cells, volts and amps with the dial card. Another cell count or chemistry: do not go on.",
            "Check that every balance plug is home, then measure each pack again, alone.",
            "Start again only when card and charger agree.",
        ),
    ),
    Trouble(
        "unplugged",
        "A pack came off the board",
        (
            "Stop the charger: the others now take its share.",
            "Unplug its balance lead too.",
            "Measure it before it goes back: joined while it differs, it takes many times its charge current.",
        ),
    ),
)
