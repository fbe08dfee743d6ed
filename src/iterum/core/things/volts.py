"""Differences in volts by which cells are judged, wherever they are looked at. Common practice, no source."""

SPREAD_LOOK_V = 0.03
"""Cells of one pack further apart than this at rest deserve a look."""
SPREAD_WEAK_V = 0.10
"""Cells of one pack further apart than this: alone, gently, in balance mode."""
NEARLY_FLAT_V = 0.10
"""A lithium cell this little over its refuse volts is weak; many chargers refuse it."""
OVER_FULL_V = 0.05
"""From this far over full on a cell has been overcharged."""
DOWN_LEAST_V = 0.01
"""A pack is brought down only if its lowest cell stands this much above where it is to go."""
THERE_V = 0.02
"""Within this much of storage voltage a cell needs nothing."""
