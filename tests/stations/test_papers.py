"""What is printed: pages that can be read again, with a code that leads where it says."""

from datetime import UTC, datetime

import pytest
import segno

from ivory_table.desk.desk import Desk, StartRun
from ivory_table.paper import facts
from ivory_table.paper.facts import facts_page
from ivory_table.stations import papers
from ivory_table.store.trouble import Unknown
from ivory_table.store.workshop import Workshop
from tests.past import past_of

BASE = "http://192.168.4.20:8765"


@pytest.fixture
def printed(monkeypatch: pytest.MonkeyPatch) -> list[dict]:
    """What was laid out, as it was given to the page; the page is made all the same."""
    seen: list[dict] = []

    def spy(title: str, about: str, groups, **more: object) -> bytes:
        seen.append({"title": title, "about": about, "groups": {name: list(rows) for name, rows in groups}, **more})
        return facts_page(title, about, groups, **more)

    monkeypatch.setattr(papers, "facts_page", spy)
    return seen


@pytest.mark.parametrize("machine", ["heron", "wren"])
def test_the_card_of_a_machine_says_how_it_is_turned_and_told(workshop: Workshop, printed: list, machine: str) -> None:
    past_of(workshop, machine, [30, 10], datetime.now(UTC))
    assert papers.machine_card(workshop, machine, BASE).startswith(b"%PDF")
    (page,) = printed
    known = workshop.machine(machine)
    assert page["title"] == known.name
    assert page["address"] == f"{BASE}/machines/{machine}/logbook"
    assert [row[0] for row in page["groups"]["Plates, the value of each, and since when"]] == [
        p.name for p in known.plates
    ]
    knobs = next((rows for name, rows in page["groups"].items() if name.startswith("Knobs")), [])
    assert [row[0] for row in knobs] == [s.name for s in known.screws]
    assert "Last run" in page["groups"]


def test_a_machine_without_a_run_has_a_card_and_one_that_is_not_there_has_none(workshop: Workshop) -> None:
    assert papers.machine_card(workshop, "bittern", BASE).startswith(b"%PDF")
    assert papers.machine_card(workshop, "heron", BASE).startswith(b"%PDF")
    with pytest.raises(Unknown):
        papers.machine_card(workshop, "nobody", BASE)


def test_a_run_that_is_not_signed_says_so_on_its_record(desk: Desk, printed: list) -> None:
    desk.start(
        StartRun(
            id="r",
            machine_id="heron",
            plate_id="heron-steel",
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )
    assert papers.record(desk.workshop, "r", BASE).startswith(b"%PDF")
    (page,) = printed
    assert "NOT SIGNED OFF" in page["about"]
    assert page["address"] == f"{BASE}/runs/r/record"
    assert next(row[0] for row in page["groups"]["Stations"]) == "Prepare"


def test_the_code_is_the_address_square_by_square(monkeypatch: pytest.MonkeyPatch) -> None:
    drawn: list[tuple[float, float]] = []
    rect = facts.FPDF.rect
    monkeypatch.setattr(
        facts.FPDF, "rect", lambda self, x, y, *more, **how: (drawn.append((x, y)), rect(self, x, y, *more, **how))[1]
    )
    address = f"{BASE}/machines/heron/logbook"
    made = facts_page("“Ours” – −1 ☃", "about", [("One", [("a", "b" * 300), ("c", "d", "e")] * 40)], address=address)
    assert made.startswith(b"%PDF")
    matrix = [list(row) for row in segno.make(address, error="m").matrix_iter(border=2)]
    step = facts.CODE_MM / len(matrix)
    found = {(round((x - drawn[0][0]) / step), round((y - drawn[0][1]) / step)) for x, y in drawn}
    first = next((i, j) for j, row in enumerate(matrix) for i, dark in enumerate(row) if dark)
    wanted = {(i - first[0], j - first[1]) for j, row in enumerate(matrix) for i, dark in enumerate(row) if dark}
    assert found == wanted
