"""The log stays short whatever is sent: no line is long, no trace endless, no flood hides what matters."""

import logging

from iterum.web.log_lines import MOST_A_MINUTE, MOST_CHARACTERS, MOST_TRACE_LINES, FewLines, ShortLines


def record(text, exc_info=None):
    return logging.LogRecord("iterum", logging.ERROR, __file__, 1, text, (), exc_info)


def deep(left):
    return 1 / 0 if not left else deep(left - 1)


def test_a_line_is_one_line_of_bounded_length():
    text = ShortLines("%(message)s").format(record("a\nforged line \x1b[31m" + "x" * 10_000))
    assert "\n" not in text
    assert "\x1b" not in text
    assert len(text) < MOST_CHARACTERS + 40


def test_a_defect_keeps_the_end_of_its_trace():
    try:
        deep(200)
    except ZeroDivisionError as error:
        text = ShortLines("%(message)s").format(record("a defect", (type(error), error, error.__traceback__)))
    assert text.startswith("a defect\n")
    assert text.endswith("ZeroDivisionError: division by zero")
    assert text.count("\n") <= MOST_TRACE_LINES + 2


def test_a_flood_is_cut_and_counted():
    seconds = [0.0]
    few = FewLines(lambda: seconds[0])
    passed = [few.filter(record("refused")) for _ in range(1000)]
    assert sum(passed) == MOST_A_MINUTE
    seconds[0] = 61.0
    later = record("a pack is hot")
    assert few.filter(later)
    assert later.getMessage() == f"({1000 - MOST_A_MINUTE} more lines are not shown) a pack is hot"
