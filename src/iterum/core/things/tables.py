"""Rest volts of one cell at 0, 5 ... 100 % state of charge, each table with where it comes from.

`tests/published/test_open_circuit_tables.py` computes the published ones again from their parameter sets, and the
measured one from the extract that ships with the tests. 0 % and 100 % are at each set's own cut-offs.
"""

from iterum.core.things.curve import OpenCircuitTable

AI2020 = OpenCircuitTable(
    (
        3.000, 3.542, 3.640, 3.665, 3.695, 3.717, 3.733, 3.748, 3.762, 3.776, 3.793,
        3.812, 3.836, 3.868, 3.909, 3.952, 3.994, 4.041, 4.088, 4.138, 4.200,
    ),
    source="Ai et al., J. Electrochem. Soc., doi:10.1149/2.0122001JES (LCO/graphite pouch cell, set Ai2020)",
    limits="a commercial pouch cell; no hobby pack was measured; weak below 3.6 V",
)  # fmt: skip
RAMADASS2004 = OpenCircuitTable(
    (
        2.800, 3.446, 3.595, 3.666, 3.706, 3.732, 3.752, 3.770, 3.788, 3.806, 3.827,
        3.849, 3.874, 3.901, 3.930, 3.963, 3.998, 4.036, 4.080, 4.131, 4.200,
    ),
    source="Ramadass et al., J. Electrochem. Soc., doi:10.1149/1.1634273 (LCO/graphite, set Ramadass2004)",
)  # fmt: skip
ECKER2015 = OpenCircuitTable(
    (
        2.500, 3.294, 3.459, 3.528, 3.587, 3.657, 3.709, 3.743, 3.770, 3.781, 3.787,
        3.798, 3.815, 3.842, 3.882, 3.940, 3.987, 4.030, 4.079, 4.135, 4.200,
    ),
    source="Ecker et al., J. Electrochem. Soc., doi:10.1149/2.0551509jes (NCO/graphite pouch cell, set Ecker2015)",
)  # fmt: skip
MOHTAT2020 = OpenCircuitTable(
    (
        2.800, 3.462, 3.511, 3.540, 3.585, 3.620, 3.639, 3.654, 3.671, 3.691, 3.716,
        3.745, 3.797, 3.840, 3.880, 3.923, 3.971, 4.022, 4.077, 4.136, 4.200,
    ),
    source="Mohtat et al., J. Electrochem. Soc., doi:10.1149/1945-7111/aba5d1 (NMC532/graphite pouch, set Mohtat2020)",
)  # fmt: skip
KIM2011 = OpenCircuitTable(
    (
        2.700, 3.194, 3.247, 3.310, 3.372, 3.433, 3.492, 3.547, 3.598, 3.643, 3.685,
        3.725, 3.768, 3.816, 3.874, 3.930, 3.980, 4.030, 4.080, 4.135, 4.200,
    ),
    source="Kim et al., J. Electrochem. Soc., doi:10.1149/1.3597614 (NCA/graphite, set NCA_Kim2011)",
)  # fmt: skip
CHEN2020 = OpenCircuitTable(
    (
        2.500, 3.109, 3.296, 3.434, 3.485, 3.529, 3.581, 3.629, 3.667, 3.705, 3.751,
        3.798, 3.841, 3.890, 3.948, 3.994, 4.042, 4.081, 4.097, 4.124, 4.200,
    ),
    source="Chen et al., J. Electrochem. Soc., doi:10.1149/1945-7111/ab9050 (NMC811 21700 cell, set Chen2020)",
    limits="other cells differ by up to 30 points at mid charge",
)  # fmt: skip
POUCH2019 = OpenCircuitTable(
    (
        3.000, 3.455, 3.603, 3.695, 3.749, 3.787, 3.822, 3.854, 3.879, 3.898, 3.917,
        3.937, 3.955, 3.972, 3.992, 4.023, 4.051, 4.069, 4.091, 4.146, 4.200,
    ),
    source="measured: rests of an LMO/NCA pouch cell of 30 Ah, Wiggins et al., doi:10.5281/zenodo.2580327",
)  # fmt: skip
PRADA2013 = OpenCircuitTable(
    (
        2.000, 2.785, 2.978, 3.108, 3.168, 3.186, 3.206, 3.232, 3.252, 3.262, 3.266,
        3.268, 3.269, 3.270, 3.274, 3.293, 3.310, 3.313, 3.314, 3.316, 3.600,
    ),
    source="Prada et al., J. Electrochem. Soc., doi:10.1149/2.053304jes (LFP cell, set Prada2013)",
    limits="shape only; from 3.25 to 3.40 V the charge cannot be told from volts",
)  # fmt: skip
LIFE_SEEN = OpenCircuitTable(
    (
        2.500, 3.000, 3.190, 3.210, 3.235, 3.250, 3.270, 3.280, 3.287, 3.290, 3.292,
        3.294, 3.300, 3.320, 3.340, 3.345, 3.347, 3.349, 3.350, 3.352, 3.600,
    ),
    source="estimate, from memory: the usual steps of LFP/graphite; its upper step as high as a cell seen to rest at "
    "3.346-3.348 V with 82 %",
)  # fmt: skip
LIHV = OpenCircuitTable(
    (
        3.000, 3.553, 3.646, 3.675, 3.705, 3.726, 3.743, 3.759, 3.774, 3.793, 3.815,
        3.843, 3.882, 3.928, 3.975, 4.025, 4.078, 4.132, 4.200, 4.275, 4.350,
    ),
    source="estimate, no source (the lipo curve to 90 %, straight above)",
    limits="an estimate: no LiHV cell was measured",
)  # fmt: skip


def as_lihv(table: OpenCircuitTable) -> OpenCircuitTable:
    """A lipo table as that of a LiHV cell, by the same estimate: to 90 % as it is, straight to 4.35 V above."""
    volts = tuple(table.rest_v(step / 18) if step <= 18 else 4.20 + (step - 18) * 0.075 for step in range(21))
    return OpenCircuitTable(volts, "estimate from " + table.source)
