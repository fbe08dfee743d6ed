"""Cautions are shown where their list says: on the page, or at the step."""

from dataclasses import replace

import pytest

from iterum.core.reasons import Reason
from iterum.core.season.cautions import CAUTIONS, FALLS_BACK
from iterum.core.season.run import Act
from iterum.wording import sentence
from tests.web.conftest import UNEVEN, planned

PAGES = {"Dial card": "/charge?packs=P-08&packs=P-11", "Plan": "/plan", "Run sheet": "/plan/sheet", "Use": "/use", "Put away": "/put-away",
         "Packs": "/packs"}  # fmt: skip


@pytest.fixture
def shown(bench):
    """The text of every place where a caution may stand."""
    planned(bench.visitor)
    pages = {where: bench.visitor.get(path).text for where, path in PAGES.items()}
    key = bench.begin_uneven()
    for act in (Act.INSPECT, Act.PLUG_IN, Act.EVEN_OUT, Act.READ_BACK, Act.START):
        pages[act] = bench.visitor.get(f"/run/{key}").text
        if act is Act.READ_BACK:
            shown_by = bench.runs.shown_by_charger(bench.runs.look(key, bench.clock()).run)
            bench.visitor.post(
                f"/run/{key}/read-back",
                expected="evened out",
                cells="4",
                pack_v=str(shown_by.pack_v),
                current_a=str(shown_by.current_a),
            )
        else:
            bench.act(key, act.value, looked=list(UNEVEN))
    pages["Run"] = bench.visitor.get(f"/run/{key}").text
    bench.act(key, "stop")
    pages[Act.CHECK] = bench.visitor.get(f"/run/{key}").text
    session = bench.desk.session()
    sources = tuple(replace(source, falls_back=True) for source in session.kit.sources)
    bench.desk.write(replace(session, kit=replace(session.kit, sources=sources)), bench.clock())
    pages[FALLS_BACK] = bench.visitor.get("/charge?packs=P-01&fed_by=bank").text
    return pages


def test_each_stands_everywhere_it_is_said_to(shown):
    for caution in CAUTIONS:
        for where in caution.where:
            assert sentence(Reason(caution.code)) in shown[where], (caution.code, where)
