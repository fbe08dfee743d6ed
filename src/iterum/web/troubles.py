"""What may be seen when something is wrong, and what to do then, in order. On every page, also when nothing answers."""

from dataclasses import dataclass

from iterum.core.say import Words


@dataclass(frozen=True)
class Trouble:
    """What is seen, and the acts in their order. Common practice, no source; local rules come first."""

    key: str
    label: str
    acts: tuple[str, ...]


TROUBLES = (
    Trouble(
        "smoke",
        Words("Smoke, hiss, sparks or fire"),
        (
            Words("Get everyone back, upwind. Do not breathe the smoke."),
            Words(
                "Cut the power at the source if you can reach it without passing the packs. Do not touch a "
                "venting pack with bare hands."
            ),
            Words("Let it burn out in the open or under sand. Keep what burns near it wet or covered."),
            Words("Call the fire service if it is indoors, near a vehicle, or spreading."),
            Words("Watch it for an hour: packs flare up again. Keep its neighbours apart as well."),
        ),
    ),
    Trouble(
        "swelling",
        Words("A pack swells, smells or is hot"),
        (
            Words("Stop the charger. Pull the source if the charger does not stop."),
            Words("Step back and watch for smoke for a quarter of an hour."),
            Words("Then unplug main lead first, with gloves or tongs, and lay it outside on stone or sand."),
            Words(
                "Swollen or smelling: never charge it again. Only hot: quarantined until somebody has judged "
                "it. Mark it on Measure with Looks wrong."
            ),
        ),
    ),
    Trouble(
        "number",
        Words("A number is off"),
        (
            Words("Stop the charger before anything else."),
            Words(
                "Compare its cells, volts and amps with the dial card. Another cell count or chemistry: do not go on."
            ),
            Words("Check that every balance plug is home, then measure each pack again, alone."),
            Words("Start again only when card and charger agree."),
        ),
    ),
    Trouble(
        "unplugged",
        Words("A pack came off the board"),
        (
            Words("Stop the charger: the others now take its share."),
            Words("Unplug its balance lead too."),
            Words("Measure it before it goes back: joined while it differs, it takes many times its charge current."),
        ),
    ),
)
