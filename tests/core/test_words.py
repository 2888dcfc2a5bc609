"""Numbers and turns as they are written: the same table is held against the page's own `words.ts`."""

import json
from pathlib import Path

import pytest

from ivory_table.core.words import many, marks_words, signed, way_words

CASES = json.loads((Path(__file__).parents[2] / "web/src/ui/words.cases.json").read_text())


@pytest.mark.parametrize("case", CASES["signed"], ids=lambda c: c["text"])
def test_a_length_has_its_sign(case: dict) -> None:
    assert signed(case["mm"], case["digits"]) == case["text"]


@pytest.mark.parametrize("case", CASES["marks"], ids=lambda c: c["text"])
def test_marks_are_told_as_a_hand_counts_them(case: dict) -> None:
    assert marks_words(case["marks"], case["perTurn"]) == case["text"]


@pytest.mark.parametrize("case", CASES["way"], ids=lambda c: f"{c['marks']} {c['from']}")
def test_a_turn_runs_the_other_way_from_below(case: dict) -> None:
    assert way_words(case["marks"], case["from"]) == case["text"]


@pytest.mark.parametrize("case", CASES["many"], ids=lambda c: c["text"])
def test_one_is_one_and_others_are_many(case: dict) -> None:
    assert many(case["count"], case["one"]) == case["text"]
