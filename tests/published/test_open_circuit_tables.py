"""The open-circuit tables, computed again from the parameter sets that PyBaMM publishes.

Sources: Ai2020 doi:10.1149/2.0122001JES, Chen2020 doi:10.1149/1945-7111/ab9050, Prada2013 doi:10.1149/2.053304jes.
Full-cell equilibrium volts, 0 % and 100 % at each set's own cut-offs, at 25 degrees Celsius.
"""

import numpy
import pytest

from iterum.core.things import tables
from iterum.core.things.chemistry import CHEMISTRIES


def published_volts(name: str) -> list[float]:
    """V per cell at 0, 5 ... 100 % from a published set: positive less negative electrode potential."""
    import pybamm  # takes seconds, in every process that only looks for tests

    values = pybamm.ParameterValues(name)
    parameters = pybamm.LithiumIonParameters()
    solver = pybamm.lithium_ion.ElectrodeSOHSolver(values, parameters)
    x_0, x_100, y_100, y_0 = solver.get_min_max_stoichiometries()
    temperature = parameters.T_ref
    cell_v = []
    for step in range(21):
        soc = step / 20
        negative = parameters.n.prim.U(pybamm.Scalar(x_0 + soc * (x_100 - x_0)), temperature)
        positive = parameters.p.prim.U(pybamm.Scalar(y_0 + soc * (y_100 - y_0)), temperature)
        cell_v.append(numpy.asarray(values.evaluate(positive - negative)).item())
    return cell_v


@pytest.mark.parametrize(
    ("table", "name"),
    [
        (tables.AI2020, "Ai2020"),
        (tables.RAMADASS2004, "Ramadass2004"),
        (tables.ECKER2015, "Ecker2015"),
        (tables.CHEN2020, "Chen2020"),
        (tables.MOHTAT2020, "Mohtat2020"),
        (tables.KIM2011, "NCA_Kim2011"),
        (tables.PRADA2013, "Prada2013"),
    ],
)
def test_each_table_is_its_publication_to_the_millivolt(table, name):
    assert name in table.source
    # The tables are printed to 1 mV; half of that is their rounding, the rest the sets' own cut-offs.
    assert table.cell_v == pytest.approx(published_volts(name), abs=0.001)


def test_lihv_follows_lipo_to_90_percent_and_says_that_it_is_an_estimate():
    lipo, lihv = CHEMISTRIES["lipo"].table, CHEMISTRIES["lihv"].table
    assert "estimate" in lihv.source
    for step in range(3, 19):  # 90 % of a LiHV is a full LiPo; the foot below 15 % is stretched
        assert lihv.rest_v(step / 20) == pytest.approx(lipo.rest_v(step / 18), abs=0.006)


def test_3_80_v_lies_between_the_published_sets_for_lipo():
    """Ramadass2004 gives 43 %, Ecker2015 56 % (doi:10.1149/2.0551509jes); practice says "storage, 40 to 50 %"."""
    soc = CHEMISTRIES["lipo"].curve.state_of_charge(3.80)
    assert soc.low <= 0.43 <= soc.value <= 0.56 <= soc.high
