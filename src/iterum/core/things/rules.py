"""House rules: each school of practice as a value, with its default and the reason for it.

Where practice disagrees, every main school can be chosen. All of it is common practice, no source.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import Enum, StrEnum, auto
from typing import Annotated, Any

from annotated_types import Ge, Gt, Le

from iterum.core.fields import Checked, Says
from iterum.core.say import Words, kept
from iterum.core.things.chemistry import Chemistry
from iterum.core.things.days import Days
from iterum.core.things.pilots import TableRule

PER_CELL_LIMIT_V = 0.10
"""The per-cell school: packs, and cells beside each other on the balance leads, at most this far apart."""

FIRST_TIME_PACKS = 2
"""The advice for a first-timer: two identical packs at most."""


class MatchBy(StrEnum):
    """What the window on volts is measured on."""

    VOLTS_PER_CELL = "volts_per_cell"
    VOLTS_PER_PACK = "volts_per_pack"
    PERCENT_OF_HIGHEST = "percent_of_highest"


class SizeAt(StrEnum):
    """Which volts a charger's watts are divided by."""

    FULL = "full"
    NOMINAL = "nominal"
    PRESENT = "present"


class JoinOrder(StrEnum):
    """When balance leads go in."""

    SETTLE_THEN_BALANCE = "settle_then_balance"
    BALANCE_FIRST = "balance_first"
    BALANCE_AT_ONCE = "balance_at_once"


class Balance(StrEnum):
    """How often the charger balances."""

    EVERY_CHARGE = "every_charge"
    EVERY_FIFTH = "every_fifth"


@dataclass(frozen=True)
class HouseRules(Checked):
    """How this pilot does it. Any value may be changed; the defaults are the careful ones.

    match_limit : V per cell, V per pack or percent, as `match_by` says.
    cell_limit_v : V, cell against the same cell of another pack; None takes `match_limit` under the
        per-cell school and 0.10 V under the others.
    max_capacity_ratio : largest to smallest capacity on one board; 1 is identical only, None is any.
    max_packs : packs on one board whatever its ports; None leaves it to the board.
    rate_c : wanted rate, multiples of capacity per hour; None takes the chemistry's kind rate.
    end_v : V per cell at which a charge ends, where it differs from the chemistry's full volts.
    storage_v : V per cell at which packs are put away, where it differs from the chemistry's storage volts.
    setup_min : minutes a person needs to set a batch up.
    tail_fraction : a charge is done when its amps have fallen to this part of those dialled.
    join_peak_c, join_over_s : the most C that any pack may see when the group is plugged together, and the seconds
        it may spend above its own charge C; `join_peak_c` None leaves joining to the rule on volts.
    table : how common kit is shared where there are several pilots.
    days : how days differ from their plan, for the odds of a plan.
    """

    match_by: MatchBy = MatchBy.VOLTS_PER_CELL
    match_limit: float = PER_CELL_LIMIT_V
    cell_limit_v: Annotated[float | None, Gt(0), Le(0.3), Says("Cell against the same cell of another pack", "V")] = (
        None
    )
    max_capacity_ratio: Annotated[float | None, Ge(1), Le(100), Says("Largest to smallest capacity")] = 2.0
    max_packs: Annotated[int | None, Ge(1), Le(40), Says("Most packs on one board")] = None
    rate_c: Annotated[float | None, Gt(0), Le(10), Says("Wanted rate", "C")] = None
    size_at: Annotated[SizeAt, Says("Divide watts by")] = SizeAt.FULL
    end_v: Mapping[str, float] = field(default_factory=dict, hash=False)
    storage_v: Mapping[str, float] = field(default_factory=dict, hash=False)
    setup_min: Annotated[float, Ge(0), Le(60), Says("Minutes to set a batch up", "min")] = 3.0
    join_peak_c: Annotated[float | None, Gt(0), Le(20), Says("Most C at any plug", "C")] = 5.0
    join_over_s: Annotated[float, Ge(0), Le(3600), Says("Seconds above its charge C", "s")] = 120.0
    tail_fraction: Annotated[float, Gt(0), Le(0.9), Says("Done at this part of the amps set")] = 0.1
    join_order: Annotated[JoinOrder, Says("Order of leads")] = JoinOrder.SETTLE_THEN_BALANCE
    balance: Annotated[Balance, Says("Balance")] = Balance.EVERY_CHARGE
    table: Annotated[TableRule, Says("How the table is shared")] = TableRule.EQUAL_HEATS
    days: Days = field(default_factory=Days)

    def cell_window_v(self) -> float:
        """How far apart two cells may be that one balance lead joins, V."""
        if self.cell_limit_v is not None:
            return self.cell_limit_v
        return self.match_limit if self.match_by is MatchBy.VOLTS_PER_CELL else PER_CELL_LIMIT_V

    def full_v(self, chemistry: Chemistry) -> float:
        """Volts per cell at which a charge of this chemistry ends under these rules."""
        return self.end_v.get(chemistry.name, chemistry.full_v)

    def rests_full_v(self, chemistry: Chemistry) -> float:
        """Rest volts per cell from which a pack counts as full under these rules."""
        return min(chemistry.full_rest_v, self.full_v(chemistry) - 0.02)

    def storage_of(self, chemistry: Chemistry) -> float:
        """Volts per cell at which packs of this chemistry are put away under these rules."""
        return self.storage_v.get(chemistry.name, chemistry.storage_v)

    def wanted_rate_c(self, chemistry: Chemistry) -> float:
        """The rate wanted for this chemistry, multiples of capacity per hour."""
        return chemistry.default_rate_c if self.rate_c is None else self.rate_c


@dataclass(frozen=True)
class School:
    """One school of practice: the settings that choose it, and what it holds."""

    key: str
    label: str
    text: str
    settings: Mapping[str, object]

    def __post_init__(self) -> None:
        """Keep its words so that they are shown in the reader's language."""
        object.__setattr__(self, "label", Words(self.label))
        object.__setattr__(self, "text", Words(self.text))


class Affects(Enum):
    """What becomes otherwise today where a rule is changed, so that it can be worked out and shown beside it."""

    GROUPS_AND_AMPS = auto()
    JOINING = auto()
    """Only whether the groups of today may be plugged in as they are."""
    CARD = auto()
    """Only the card and its steps."""
    STORAGE = auto()
    """Only the volts at which packs are put away."""
    TABLE = auto()
    """Whose heats are met, where several pilots share the table."""


@dataclass(frozen=True)
class Rule:
    """One question that practice answers in different ways. The first school is the default."""

    key: str
    question: str
    affects: Affects
    schools: tuple[School, ...]
    why_default: str

    def __post_init__(self) -> None:
        """Keep its words so that they are shown in the reader's language."""
        object.__setattr__(self, "question", Words(self.question))
        object.__setattr__(self, "why_default", Words(self.why_default))


def _pack_school(limit_v: float) -> School:
    return School(
        f"pack-{limit_v}",
        Words(kept("{limit_v} V per pack", limit_v=limit_v)),
        Words(
            kept(
                "Highest and lowest within {limit_v} V over the whole pack, however many cells it has.", limit_v=limit_v
            )
        ),
        {"match_by": MatchBy.VOLTS_PER_PACK, "match_limit": limit_v},
    )


RULES: tuple[Rule, ...] = (
    Rule(
        "match",
        Words("How close must packs be to share a board?"),
        Affects.GROUPS_AND_AMPS,
        (
            School(
                "cell-0.1",
                Words("0.10 V per cell"),
                Words("Highest and lowest within 0.10 V per cell: 0.40 V on a 4S."),
                {"match_by": MatchBy.VOLTS_PER_CELL, "match_limit": PER_CELL_LIMIT_V},
            ),
            School(
                "cell-0.05",
                Words("0.05 V per cell"),
                Words("Half the usual window: gentler when packs are joined, more groups."),
                {"match_by": MatchBy.VOLTS_PER_CELL, "match_limit": 0.05},
            ),
            _pack_school(0.2),
            _pack_school(0.3),
            _pack_school(0.4),
            School(
                "percent-5",
                Words("5 percent of the highest"),
                Words(
                    "Lowest within 5 % of the highest. On a 4S that is 0.84 V when full and 0.76 V at storage: too "
                    "loose where the curve is flat."
                ),
                {"match_by": MatchBy.PERCENT_OF_HIGHEST, "match_limit": 5.0},
            ),
        ),
        Words(
            "What drives current between joined packs is the difference per cell, so the same limit suits 2S and 6S."
        ),
    ),
    Rule(
        "joining",
        Words("How much current may a pack see when it is plugged in?"),
        Affects.JOINING,
        (
            School(
                "join-5",
                Words("5C, and 2 minutes over"),
                Words("At most 5C through any pack at any plug, and at most two minutes above its own charge C."),
                {"join_peak_c": 5.0, "join_over_s": 120.0},
            ),
            School(
                "join-2",
                Words("2C, and half a minute over"),
                Words("For packs that are dear, old or warm: more groups, or equalising in pairs first."),
                {"join_peak_c": 2.0, "join_over_s": 30.0},
            ),
            School(
                "join-volts",
                Words("The rule on volts alone"),
                Words("As most pilots do it. The current is shown all the same."),
                {"join_peak_c": None},
            ),
        ),
        Words(
            "One high-C pack 0.10 V per cell above ten others sees over 7C, and stays above 1C for minutes, "
            "inside every rule on volts. 5C falls off within seconds and is less than any label lets a pack give; "
            "two minutes over its charge C move a few hundredths of what a pack holds."
        ),
    ),
    Rule(
        "capacity",
        Words("May packs of different capacity share a board?"),
        Affects.GROUPS_AND_AMPS,
        (
            School(
                "ratio-2",
                Words("Largest at most twice the smallest"),
                Words(
                    "Current splits in proportion to capacity, so mixed sizes fill together; 500 with 5000 is unwise."
                ),
                {"max_capacity_ratio": 2.0, "max_packs": None},
            ),
            School(
                "identical",
                Words("Identical only"),
                Words("Only packs of one capacity join."),
                {"max_capacity_ratio": 1.0, "max_packs": None},
            ),
            School(
                "first-time",
                Words("Identical, two at most"),
                Words("For the first time with a board: two identical packs, no more."),
                {"max_capacity_ratio": 1.0, "max_packs": FIRST_TIME_PACKS},
            ),
            School(
                "any",
                Words("Any sizes"),
                Words("The current splits in proportion whatever the sizes. Look twice at the smallest pack's share."),
                {"max_capacity_ratio": None, "max_packs": None},
            ),
        ),
        Words(
            "Splitting in proportion holds well for like packs; a "
            "factor of two leaves room for packs that differ in age."
        ),
    ),
    Rule(
        "rate",
        Words("How fast?"),
        Affects.GROUPS_AND_AMPS,
        (
            School(
                "kind",
                Words("The gentle rate"),
                Words("1C, and 0.5C for round li-ion cells. Always allowed."),
                {"rate_c": None},
            ),
            School("half", "0.5C", Words("When there is time."), {"rate_c": 0.5}),
            School("one", "1C", Words("Gentle on every LiPo; quick for round li-ion cells."), {"rate_c": 1.0}),
            School(
                "two",
                "2C",
                Words(
                    "Normal at the field; many see no loss of life from it. A pack whose label allows less still "
                    "limits its board."
                ),
                {"rate_c": 2.0},
            ),
            School(
                "three",
                "3C",
                Words("About 20 minutes from empty. Only where the label says so, and not daily."),
                {"rate_c": 3.0},
            ),
        ),
        Words("1C is allowed by every label and wears packs least for the time it takes."),
    ),
    Rule(
        "size_at",
        Words("Which volts are a charger's watts divided by?"),
        Affects.GROUPS_AND_AMPS,
        (
            School(
                "full",
                Words("Full volts"),
                Words("Watts divided by cells times full volts: the charger holds its amps to the end."),
                {"size_at": SizeAt.FULL},
            ),
            School(
                "nominal",
                Words("Nominal volts"),
                Words(
                    "More amps; the charger itself backs off near the end. Supplies and sources are still held to "
                    "full volts: nothing backs off for them."
                ),
                {"size_at": SizeAt.NOMINAL},
            ),
            School(
                "present",
                Words("Present volts"),
                Words("Watts divided by what the packs read now: most amps at the start, backing off earliest."),
                {"size_at": SizeAt.PRESENT},
            ),
        ),
        Words("Amps that hold to the end are the ones a pilot can check against the charger's screen."),
    ),
    Rule(
        "li_ion_end",
        Words("Where does a li-ion charge end?"),
        Affects.GROUPS_AND_AMPS,
        (
            School("li-4.2", Words("4.20 V per cell"), Words("All of the label's capacity."), {"end_v": {}}),
            School(
                "li-4.1",
                Words("4.10 V per cell"),
                Words("Gives up about 10 % of the mAh (about 13 % of the energy) for a longer life."),
                {"end_v": {"li-ion": 4.10}},
            ),
        ),
        Words("The label's own end volts; choose 4.10 where the last tenth is not needed."),
    ),
    Rule(
        "storage",
        Words("At which volts are packs put away?"),
        Affects.STORAGE,
        (
            School(
                "storage-3.83",
                Words("3.83 V per cell"),
                Words("About 55 to 60 % in a LiPo; 3.85 for LiHV, 3.75 for li-ion, 3.30 for LiFe."),
                {"storage_v": {}},
            ),
            School(
                "storage-3.80",
                Words("3.80 V per cell"),
                Words("A little lower: kinder over months, less to top up from."),
                {"storage_v": {"lipo": 3.80, "lihv": 3.80}},
            ),
            School(
                "storage-3.85",
                Words("3.85 V per cell"),
                Words("What most chargers' own storage programs end at."),
                {"storage_v": {"lipo": 3.85, "lihv": 3.85}},
            ),
        ),
        Words("The middle of what is practised; within 0.02 V of it nothing needs doing."),
    ),
    Rule(
        "join_order",
        Words("Main leads and balance leads: in what order?"),
        Affects.CARD,
        (
            School(
                "settle",
                Words("Main leads, wait, then balance leads"),
                Words("Main leads first; wait until the packs have equalised; then the thin balance leads."),
                {"join_order": JoinOrder.SETTLE_THEN_BALANCE},
            ),
            School(
                "balance-first",
                Words("Balance leads first, then main leads"),
                Words("Balance leads carry the equalising current until the main leads are in; they take about 2 A."),
                {"join_order": JoinOrder.BALANCE_FIRST},
            ),
            School(
                "at-once",
                Words("Main leads, then balance leads at once"),
                Words("No waiting. Fine when all packs are within 0.1 to 0.2 V over the pack."),
                {"join_order": JoinOrder.BALANCE_AT_ONCE},
            ),
        ),
        Words("Balance wires take about 2 A, and joined packs can push many times that for a minute."),
    ),
    Rule(
        "balance",
        Words("How often is a charge balanced?"),
        Affects.CARD,
        (
            School(
                "every",
                Words("Every charge"),
                Words("Usual with boards: every cell is watched by the charger each time."),
                {"balance": Balance.EVERY_CHARGE},
            ),
            School(
                "fifth",
                Words("Every fifth or sixth charge"),
                Words("Saves up to 20 minutes a charge; balance before and after an event as well."),
                {"balance": Balance.EVERY_FIFTH},
            ),
        ),
        Words("On a board a lagging cell hides among its neighbours; balancing each time shows it early."),
    ),
    Rule(
        "table",
        Words("Several pilots: how is common kit shared?"),
        Affects.TABLE,
        (
            School(
                "equal-heats",
                Words("Equal shares of heats"),
                Words("Whoever has the smallest share of their heats comes first; then as many heats as can be."),
                {"table": TableRule.EQUAL_HEATS},
            ),
            School(
                "by-need",
                Words("By need"),
                Words("As many heats as can be, no matter who flies them."),
                {"table": TableRule.BY_NEED},
            ),
            School(
                "equal-energy",
                Words("Equal shares of energy"),
                Words(
                    "No pilot takes more than their even share of a common source; within that, equal shares of heats."
                ),
                {"table": TableRule.EQUAL_ENERGY},
            ),
            School(
                "finals-first",
                Words("Finals first"),
                Words("Heats that are finals come before all others; then equal shares of heats."),
                {"table": TableRule.FINALS_FIRST},
            ),
            School(
                "own-kit",
                Words("Everybody for themselves"),
                Words("Each pilot charges with their own chargers and boards; only sources are common."),
                {"table": TableRule.OWN_KIT},
            ),
        ),
        Words("Nobody drives home without a flight because somebody else had more packs."),
    ),
)


def chosen_school(rule: Rule, rules: HouseRules) -> School | None:
    """The school of `rule` that these house rules follow, or None when their numbers are the pilot's own."""
    for school in rule.schools:
        if all(getattr(rules, name) == value for name, value in school.settings.items()):
            return school
    return None


FIRST_TIME: tuple[tuple[str, Mapping[str, Any], Mapping[str, Any]], ...] = (
    ("half the window", {"match_by": MatchBy.VOLTS_PER_CELL, "match_limit": PER_CELL_LIMIT_V / 2},
     {"match_by": MatchBy.VOLTS_PER_CELL, "match_limit": PER_CELL_LIMIT_V}),
    ("identical packs only", {"max_capacity_ratio": 1.0}, {"max_capacity_ratio": HouseRules.max_capacity_ratio}),
    ("two packs at most", {"max_packs": FIRST_TIME_PACKS, "join_order": JoinOrder.SETTLE_THEN_BALANCE},
     {"max_packs": HouseRules.max_packs}),
)  # fmt: skip
"""What holds who does it for the first time back: in words, as rules, and once it is lifted, in the order of lifting.
The last one holds until all is lifted."""


def first_time(rules: HouseRules) -> tuple[str, ...]:
    """What still holds a first-timer back, in words; empty for everybody else."""
    if rules.max_packs != FIRST_TIME_PACKS:
        return ()
    return tuple(
        words for words, held, _ in FIRST_TIME if all(getattr(rules, name) == value for name, value in held.items())
    )


def with_first_time(rules: HouseRules) -> HouseRules:
    """The same rules, held back as for a first time."""
    held_back: dict[str, Any] = {name: value for _, held, _ in FIRST_TIME for name, value in held.items()}
    return replace(rules, **held_back)


def lifted(rules: HouseRules) -> HouseRules:
    """The same rules with the next thing lifted that holds a first-timer back."""
    still = first_time(rules)
    free = next((free for words, _, free in FIRST_TIME if still and words == still[0]), {})
    settings: dict[str, Any] = dict(free)
    return replace(rules, **settings)
