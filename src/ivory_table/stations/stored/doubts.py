"""What is refused of a stored value: one that runs into the plate, one that was not stored as meant."""

from ivory_table.core.defaults import OFFSET
from ivory_table.core.offset import convention, direction_words, readback_agrees, shift_of, slipped, stored_after
from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Source
from ivory_table.runs.run import OpenRun
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.stored.wanted import shift_wanted


@doubt.register
def _offset_set(what: OffsetSet, run: OpenRun, source: Source) -> None:
    if what.sure:
        return
    state = run.state
    shift = shift_of(state.stored_mm, what.stored_mm, convention(run.state.convention_id))
    if source == "hand" and not state.sign_proved and abs(shift) > OFFSET.sign_asks_mm:
        raise Refused(
            "sign_not_shown",
            f"That should bring the tip {direction_words(shift)}, but nobody has seen yet which way this machine counts: "
            "if it is the other way, the tip goes as far the other way. Show it first, with the tip high above the "
            "plate, or say that you are sure.",
            "stored_mm",
            insist=True,
        )
    if source == "hand" and not state.proofs:
        _refuse_slipped(what, run)
    # By the same belief that the advice is made from: the marks on the newest proof are in it.
    known = state.with_marks()
    deep, (_, sd) = shift_wanted(known) - shift, known.belief.height([run.setup.plate.centre])
    if deep > OFFSET.closer_asks_mm and shift < 0:
        raise Refused(
            "closer_than_proven",
            f"{what.stored_mm:g} would run the tip about {deep:.2f} mm into the plate at its centre, by what "
            f"is known here (±{float(sd[0]):.2f}). Check the sign, or say that you are sure.",
            "stored_mm",
            insist=True,
        )


def _refuse_slipped(what: OffsetSet, run: OpenRun) -> None:
    """A typed value far from the one that was found, and one slip of a finger away from it."""
    state = run.state
    wanted = stored_after(state.stored_mm, shift_wanted(state), convention(state.convention_id), 1e-4).new_mm
    near = max(4 * state.drag_height(*run.setup.plate.centre)[1], OFFSET.slipped_near_mm)
    if meant := slipped(state.stored_mm, what.stored_mm, wanted, state.drag_gap_mm, near):
        why, instead = meant
        raise Refused(
            "value_slipped",
            f"{what.stored_mm:g} is far from the {wanted:.3f} that was found. Perhaps {why}: {instead:g}? Type it again, "
            "or say that you are sure.",
            "stored_mm",
            insist=True,
        )


@doubt.register
def _readback(what: Readback, run: OpenRun, source: Source) -> None:
    refuse_other_than_meant(run.state.stored_mm, what.reported_mm, run.setup.machine.z_step_mm)


def refuse_other_than_meant(meant_mm: float, reported_mm: float | None, step_mm: float) -> None:
    """Raise Refused where a machine reports another value than the one that was sent; none reported is none refused."""
    if reported_mm is not None and not readback_agrees(meant_mm, reported_mm, step_mm):
        raise Refused(
            "readback_differs",
            f"The machine reports {reported_mm:g}, meant was {meant_mm:g}. "
            "It was not stored as meant: send the line again and read it back.",
            "reported_mm",
        )
