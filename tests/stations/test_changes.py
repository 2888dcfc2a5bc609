"""A layer gone bad, and what follows from a change: by what is kept of a machine."""

from datetime import UTC, datetime, timedelta

import pytest

from ivory_table.desk.desk import Desk, StartRun
from ivory_table.link.manners import Manners
from ivory_table.runs.doubts import Refused
from ivory_table.runs.log import LogEntry
from ivory_table.stations import after_change, logbook, what_changed
from ivory_table.stations.after_change import TakeSnapshot
from ivory_table.stations.lines import Lines
from ivory_table.stations.prepare.view import view as prepare_view
from ivory_table.store.trouble import Unknown
from ivory_table.store.workshop import Workshop
from tests.past import past_of

NOW = datetime.now(UTC)


@pytest.fixture
def past(workshop: Workshop) -> Workshop:
    past_of(workshop, "heron", [60, 40, 25, 12], NOW)
    return workshop


def happened(workshop: Workshop, kind: str, days_ago: float, **more: object) -> None:
    workshop.keep_log(
        LogEntry(
            id=f"{kind}-{days_ago}".replace(".", "_"),
            machine_id="heron",
            at=NOW - timedelta(days=days_ago),
            by="mk",
            kind=kind,
            **more,
        )
    )


def causes(view: what_changed.WhatChanged) -> dict[str, float]:
    return {s.cause: s.p for s in view.suspects}


def test_a_machine_without_a_past_says_so_and_still_helps(workshop: Workshop) -> None:
    view = what_changed.view(workshop, "heron", look="spots")
    assert "nothing is known" in view.good
    assert view.suspects[0].cause == "grease"
    assert not view.worked
    with pytest.raises(Refused):
        what_changed.view(workshop, "heron", "no-plate")
    with pytest.raises(Unknown):
        what_changed.view(workshop, "nobody")


def test_what_happened_since_counts_and_what_was_before_does_not(past: Workshop) -> None:
    happened(past, "knock", 20)
    happened(past, "prints", 5, count=30)
    happened(past, "failed_print", 1)
    before = what_changed.view(past, "heron", now=NOW)
    assert "knocked" not in causes(before)
    assert "31 prints since" in before.good
    happened(past, "knock", 2, note="bumped by the trolley")
    after = what_changed.view(past, "heron", now=NOW)
    assert causes(after)["knocked"] > 0.2
    assert any("bumped by the trolley" in line for line in after.since)
    happened(past, "firmware", 2)
    assert "settings" in causes(what_changed.view(past, "heron", now=NOW))


def test_another_value_than_the_one_that_worked_is_the_first_suspect(past: Workshop) -> None:
    worked = past.figures.summaries("heron", 1)[0].stored_mm
    heron = past.machine("heron")
    assert "stored" not in causes(what_changed.view(past, "heron", now=NOW))
    past.keep_machine(heron.model_copy(update={"stored_mm": worked + 0.3}))
    view = what_changed.view(past, "heron", look="loose", now=NOW)
    assert view.suspects[0].cause == "stored"
    assert f"{worked:+.3f}".replace("-", "−") in view.suspects[0].way
    assert view.worked[0].stored_mm == worked
    assert view.worked[0].alike


def test_another_filament_and_another_nozzle_are_seen(past: Workshop) -> None:
    assert "filament" in causes(what_changed.view(past, "heron", filament_id="petg-grey", now=NOW))
    past.keep_machine(past.machine("heron").model_copy(update={"nozzle_mm": 0.6}))
    view = what_changed.view(past, "heron", now=NOW)
    assert "part" in causes(view)
    assert not any(w.alike for w in view.worked)


def test_a_value_of_another_convention_is_not_offered(past: Workshop) -> None:
    past.keep_machine(past.machine("heron").model_copy(update={"convention": "home_offset"}))
    view = what_changed.view(past, "heron", now=NOW)
    assert not view.worked
    assert "stored" not in causes(view)


def test_a_run_begins_with_the_changes_that_were_named(desk: Desk) -> None:
    wanted = StartRun(
        id="r",
        machine_id="heron",
        plate_id="heron-steel",
        filament_id="pla-white",
        gauge_id="copy-paper",
        initials="mk",
        changes=("springs", "z_stop"),
    )
    setup = desk.start(wanted)
    assert {"springs", "z_stop"} <= set(setup.changes)
    # What was told is not said to have been found.
    assert set(setup.told_changes) == {"springs", "z_stop"}
    shown = {c.id: c.found for c in prepare_view(desk.open(setup.id)).changes}
    assert (shown["springs"], shown["z_stop"]) == (False, False)
    assert all(found for c, found in shown.items() if c not in setup.told_changes)
    assert setup.learnt is None
    with pytest.raises(Refused):
        desk.start(wanted.model_copy(update={"id": "r2", "changes": ("moonlight",)}))


@pytest.fixture
def lines(desk: Desk) -> Lines:
    return Lines(desk, Manners())


def take(lines: Lines, text: str = "", n: int = 0, asks: tuple[str, ...] = ()) -> after_change.AfterChange:
    return after_change.take(lines, "heron", TakeSnapshot(id=f"s{n}", by="mk", text=text, lines=asks))


def test_every_change_says_what_is_done_again_and_what_stays(lines: Lines) -> None:
    view = after_change.view(lines, "heron")
    assert len(view.changes) >= 10
    for c in view.changes:
        assert not set(c.again) & set(c.stays)
        assert len(c.again) + len(c.stays) == 5
    nozzle = next(c for c in view.changes if c.id == "nozzle")
    assert nozzle.again == ("offset", "first_layer")


def test_reports_are_kept_and_compared(lines: Lines) -> None:
    take(lines, "zero z -1.500\nlimit 240", 1)
    view = take(lines, "limit 240\nzero z -1.200", 2)
    assert [s.lines for s in view.snapshots] == [2, 2]
    # The same again is one.
    assert len(take(lines, "limit 240\nzero z -1.200", 2).snapshots) == 2
    found = after_change.compare(lines.desk.workshop, "heron", "s1", "s2")
    assert [d.numbers for d in found.differences] == [((-1.5, -1.2),)]
    with pytest.raises(Unknown):
        after_change.compare(lines.desk.workshop, "wren", "s1", "s2")
    for n in range(3, 60):
        view = take(lines, f"zero z {n}", n)
    assert len(view.snapshots) == 40


@pytest.mark.parametrize(
    "line", ["G28", "g1 Z5", "M104 S200", "ZERO_STOP Z1.0", "KEEP", "CHART_USE S0", "TOUCH X1 Y1", "FLOOR Z-1"]
)
def test_a_line_that_does_more_than_ask_is_not_sent(lines: Lines, line: str) -> None:
    with pytest.raises(Refused) as refused:
        take(lines, asks=(line,))
    assert refused.value.code == "does_more"


def test_without_a_line_it_is_to_be_pasted(lines: Lines) -> None:
    with pytest.raises(Refused) as refused:
        take(lines)
    assert refused.value.code == "nobody_on_line"


def test_hours_and_a_heater_are_told(workshop: Workshop) -> None:
    def tell(**more: object) -> None:
        logbook.tell(
            workshop, "heron", logbook.TellLog.model_validate({"id": f"n{len(str(more))}", "by": "mk", **more})
        )

    tell(kind="prints", hours=12)
    tell(kind="heater", heater={"which": "tip", "at_c": 210, "swing_before_c": 4, "swing_after_c": 0.8})
    kept = workshop.log("heron")
    assert {e.kind for e in kept} == {"prints", "heater"}
    assert next(e for e in kept if e.heater).heater.swing_after_c == 0.8
    for wrong in ({"kind": "heater"}, {"kind": "prints"}):
        with pytest.raises(Refused):
            tell(**wrong)


def check(place: str, **found: object) -> dict[str, object]:
    return {"plate_id": "heron-steel", "place": place, **found}


def test_a_short_check_moves_the_chance_until_something_happens_after_it(past: Workshop) -> None:
    before = logbook.expected(past, "heron", "heron-steel", NOW)
    happened(past, "check", 0.01, check=check(before.outlook.check, off_mm=0.0))
    good = logbook.expected(past, "heron", "heron-steel", NOW)
    assert good.p_today > before.p_today
    happened(past, "check", 0.005, check=check(before.outlook.check, verdict="loose"))
    bad = logbook.expected(past, "heron", "heron-steel", NOW)
    assert bad.p_today < before.p_today
    happened(past, "knock", 0.001)
    knocked = logbook.expected(past, "heron", "heron-steel", NOW)
    assert "nobody has looked at" in knocked.words
    # On another plate it says nothing of this one.
    happened(past, "check", 0.0001, check={"plate_id": "heron-glass", "place": "centre", "verdict": "sound"})
    assert "nobody has looked at" in logbook.expected(past, "heron", "heron-steel", NOW).words
    happened(past, "check", 0.00005, check=check("centre", verdict="sound"))
    assert "nobody has looked at" not in logbook.expected(past, "heron", "heron-steel", NOW).words


@pytest.mark.parametrize(
    "wrong",
    [
        None,
        check("centre"),
        check("centre", off_mm=0.1, verdict="sound"),
        check("the moon", off_mm=0.1),
        {"plate_id": "nobody", "place": "centre", "off_mm": 0.1},
    ],
)
def test_a_check_that_says_nothing_is_refused(workshop: Workshop, wrong: dict | None) -> None:
    told = logbook.TellLog.model_validate({"id": "c", "by": "mk", "kind": "check", "check": wrong})
    with pytest.raises(Refused):
        logbook.tell(workshop, "heron", told)
    assert workshop.log("heron") == ()
