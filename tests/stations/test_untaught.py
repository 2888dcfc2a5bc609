"""A machine that nobody has taught to talk: moving and heating as most machines do, and none of another machine's words."""

import re
from dataclasses import replace

import pytest

from ivory_table.core.manner import plain_lines
from ivory_table.core.plate import UNTAUGHT
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.link.manners import Manners
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer, offset, sign_off
from ivory_table.stations.first_layer.files import proof_file
from ivory_table.stations.first_use import FirstMachine, furnish_first
from ivory_table.stations.lines import Connect, Lines
from ivory_table.stations.stored.entries import OffsetSet
from ivory_table.stations.stored.quick import Corrected, correct, quick_change

from .keeping import keep, start


@pytest.fixture
def own(desk: Desk) -> OpenRun:
    """A run of a machine of one's own, as its first questions leave it."""
    furnish_first(
        desk, FirstMachine(id="osprey", name="Osprey", width_mm=300, depth_mm=300, knobs=4, convention="probe_offset")
    )
    begun = StartRun(
        id="run",
        machine_id="osprey",
        plate_id="osprey-plate",
        filament_id="pla-white",
        gauge_id="copy-paper",
        initials="mk",
    )
    desk.start(begun)
    return desk.open("run")


def test_its_programs_hold_open_codes_only(desk: Desk, own: OpenRun) -> None:
    assert own.manner == plain_lines()
    _, text = proof_file(own, 5)
    said = [line.split(";")[0].split() for line in text.splitlines()]
    assert {words[0] for words in said if words} <= {
        "G0", "G1", "G4", "G21", "G28", "G90", "G92", "M82", "M83", "M84", "M104", "M106", "M109", "M140", "M190",
    }  # fmt: skip
    # A mesh that must be on is asked for in words.
    state = replace(own.state, mesh_on=True)
    _, text = proof_file(replace(own, state=state), 5)
    assert len(re.findall("its mesh must be on", text)) == 1
    begins = first_layer.view.view(replace(own, state=state)).printing.begins
    assert begins.startswith("Heats, homes, primes. The mesh must be on")


def test_its_stored_value_is_changed_in_words_and_read_back_all_the_same(desk: Desk, own: OpenRun) -> None:
    view = offset.view.view(own)
    assert view.sign.lines == view.sign.back == ()
    assert view.read_line == ""
    run = keep(desk, "offset", OffsetSet(stored_mm=-0.12, sure=True))
    change = offset.view.view(run).last_change
    assert change.lines == ()
    assert change.words == "0.12 mm closer"
    assert run.state.readback_due
    # Nor does the record show words of another machine; that of one with words of its own shows those.
    assert sign_off.view.view(run).offset.lines == ()
    start(desk, "heron", "other")
    taught = keep(desk, "offset", OffsetSet(stored_mm=2.9, sure=True), "other")
    assert sign_off.view.view(taught).offset.lines == ("ZERO_STOP Z2.900", "KEEP")


def test_what_it_does_not_keep_is_set_on_its_own_screen_before_each_print(desk: Desk, own: OpenRun) -> None:
    """No line for it is known, so the file cannot do it, and says so: it would print at whatever height its screen has."""
    live = replace(
        own,
        setup=own.setup.model_copy(
            update={"machine": own.setup.machine.model_copy(update={"convention": "live_only"})}
        ),
    )
    for stored, told in ((0.0, 0), (-0.12, 1)):
        run = replace(live, state=replace(live.state, convention_id="live_only", stored_mm=stored))
        _, text = proof_file(run, 5)
        assert len(re.findall(r"; now adjust its height by -0\.120 on its own screen", text)) == told
        if told:
            before, after = (text.index(words) for words in ("adjust its height", "M109"))
            assert text.index("G28") < before < after
        begins = first_layer.view.view(run).printing.begins
        assert begins.count("adjust it by −0.120 mm on its own screen") == told
    # One that stores it is only read back.
    _, text = proof_file(replace(own, state=replace(own.state, stored_mm=-0.12)), 5)
    assert "adjust" not in text


def test_a_quick_correction_is_read_back_from_its_screen(desk: Desk) -> None:
    furnish_first(
        desk, FirstMachine(id="osprey", name="Osprey", width_mm=300, depth_mm=300, knobs=4, convention="probe_offset")
    )
    asked = quick_change(desk, "osprey", 0.02)
    assert (asked.stores, asked.read_line, asked.change.lines) == (True, "", ())
    with pytest.raises(Refused) as refused:
        correct(desk, "osprey", Corrected(closer_mm=0.02, confirmed=True))
    assert refused.value.code == "not_read_back"
    assert correct(desk, "osprey", Corrected(closer_mm=0.02, reported_mm=-0.02)) == pytest.approx(-0.02)


def test_its_line_is_not_opened_before_somebody_has_shown_how_it_talks(desk: Desk, own: OpenRun) -> None:
    lines = Lines(desk, Manners(), None)
    with pytest.raises(Refused) as refused:
        lines.connect("osprey", Connect(url="socket://127.0.0.1:9"))
    assert refused.value.code == "not_taught"
    assert "Osprey" in str(refused.value)
    assert UNTAUGHT in Manners().names()


def test_a_machine_that_counts_in_microns_shows_its_sign_in_microns(desk: Desk, own: OpenRun) -> None:
    plain = plain_lines()
    micron = plain.offset.probe_offset.model_copy(update={"set": "ZERO {stored_micron:.0f}"})
    talks = plain.model_copy(update={"offset": plain.offset.model_copy(update={"probe_offset": micron})})
    run = keep(desk, "offset", OffsetSet(stored_mm=-0.12, sure=True))
    sign = offset.view.view(replace(run, manner=talks)).sign
    assert sign.larger_by_mm == pytest.approx(0.5)
    assert [line for line in sign.lines if "ZERO" in line] == ["ZERO 380"]
    assert sign.back[0] == "ZERO -120"
