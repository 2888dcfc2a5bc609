"""What differs from one run's set-up to the next one's: found by comparing, named, and nothing else."""

from collections.abc import Callable

import pytest

from ivory_table.core.changes import foretold, found_changes
from ivory_table.core.plate import Layer, Machine, Probe
from ivory_table.core.setup import RunSetup
from tests.conftest import setup_for

HERON = setup_for("heron")


def machine(**changed: object) -> RunSetup:
    return HERON.model_copy(update={"machine": HERON.machine.model_copy(update=changed)})


def another_layer() -> RunSetup:
    plates = list(HERON.machine.plates)
    plates[0] = plates[0].model_copy(update={"layers": (*plates[0].layers, Layer(name="tape", thickness_mm=0.1))})
    return machine(plates=tuple(plates))


def moved_screw() -> Machine:
    first, *rest = HERON.machine.screws
    return HERON.machine.model_copy(update={"screws": (first.model_copy(update={"x_mm": first.x_mm + 2}), *rest)})


@pytest.mark.parametrize(
    ("now", "found"),
    [
        (lambda: HERON, ()),
        (lambda: HERON.model_copy(update={"plate_id": HERON.machine.plates[1].id}), ("plate",)),
        (another_layer, ("layer",)),
        (lambda: machine(nozzle_mm=0.6), ("nozzle",)),
        (lambda: machine(nozzle_id="brass"), ("nozzle",)),
        (lambda: machine(probe=Probe(kind="touch", x_offset_mm=30, y_offset_mm=0)), ("probe",)),
        (lambda: HERON.model_copy(update={"machine": moved_screw()}), ("screws",)),
        (
            lambda: HERON.model_copy(update={"filament": HERON.filament.model_copy(update={"id": "other"})}),
            ("material",),
        ),
        (lambda: machine(name="Heron the second", stored_mm=3.0), ()),
    ],
)
def test_what_was_changed_is_found_and_nothing_else(now: Callable[[], RunSetup], found: tuple[str, ...]) -> None:
    assert tuple(c.id for c in found_changes(HERON, now())) == found


def test_a_machine_without_a_run_is_new() -> None:
    assert [c.id for c in found_changes(None, HERON)] == ["new_machine"]


def with_stack(mm: float | None) -> RunSetup:
    plates = list(HERON.machine.plates)
    layers = () if mm is None else (Layer(name="sheet", thickness_mm=mm),)
    plates[0] = plates[0].model_copy(update={"layers": layers})
    return machine(plates=tuple(plates))


@pytest.mark.parametrize(("convention", "sign"), [("stop_position", -1), ("home_offset", -1), ("probe_offset", 0)])
def test_a_thicker_stack_is_foretold_by_each_convention(convention: str, sign: int) -> None:
    """The nozzle must run 0.3 mm further; a probe that touches the plate finds that by itself."""
    before = with_stack(0.5)
    now = with_stack(0.8)
    now = now.model_copy(update={"machine": now.machine.model_copy(update={"convention": convention})})
    told = foretold(before, now, 1.0)
    if not sign:
        assert told is None
        return
    assert told is not None
    assert told.shift_mm == pytest.approx(0.3)
    assert "further" in told.words
    back = foretold(now, with_stack(0.5).model_copy(update={}), told.new_mm)
    assert back is not None
    assert "closer" in back.words
    assert foretold(before, before, 1.0) is None
    assert foretold(None, now, 1.0) is None
    # A plate that nobody has described may be as thick as any.
    assert foretold(with_stack(None), now, 1.0) is None
    assert foretold(now, with_stack(None), 1.0) is None
