"""Z offset: bracketing by feel or a number, the stored value, and reading it back."""

from itertools import groupby
from typing import Literal

from ivory_table.core.approach import Under
from ivory_table.core.defaults import MOTION, OFFSET
from ivory_table.core.offset import Press, StoredChange, change, convention, conventions_of, presses, stored_after
from ivory_table.core.plate import ConventionId
from ivory_table.core.units import filled
from ivory_table.core.value import Value
from ivory_table.core.words import signed
from ivory_table.runs.run import OpenRun
from ivory_table.runs.searching import approach_at
from ivory_table.stations.asked import Caution, cautions
from ivory_table.stations.head import StationView, so_far
from ivory_table.stations.offset.entries import GapSeen, ThickTried
from ivory_table.stations.offset.state import Offset
from ivory_table.stations.offset.step import now_at
from ivory_table.stations.offset.tip import tip_words
from ivory_table.stations.sheet import Figure, Sheet, Spot, height_field, sheet_of


class Move(Value):
    """One height that was tried: how the gauge slid there, how large the gap looked, or what went under."""

    z_mm: float
    feel: str | None = None
    gap_mm: float | None = None
    #: What went under the tip and what did not, in words.
    thick: str = ""


class ThickSize(Value):
    """The gauge folded, or so many sheets of it, as the thickest that goes under the tip; no layers: nothing of it does."""

    layers: int
    under_mm: float
    not_mm: float | None


class Counting(Value):
    """A convention that can be chosen, once it was seen which way the number counts."""

    id: ConventionId
    name: str
    rule: str
    #: Whether a larger stored number brings the tip further, as this convention has it.
    larger_is_further: bool


class SignTry(Value):
    """How a machine shows which way its stored number counts: by a move with the tip high above the plate."""

    proved: bool
    height_mm: float
    larger_by_mm: float
    #: What is sent, then what puts it back; none where nobody has taught how the number is set.
    lines: tuple[str, ...]
    back: tuple[str, ...]
    can_be: tuple[Counting, ...]


class SoftLimit(Value):
    """A machine that refuses to go below its zero: how it is opened for the measurement, and closed again."""

    open_mm: float
    #: Whether the heights to try may lie below zero.
    needed: bool
    opens_by_mm: float
    #: Lines in this machine's words; empty where none is on record.
    open_line: str
    close_line: str


class OffsetView(StationView):
    sheet: Sheet
    cautions: tuple[Caution, ...]
    step: Literal["feel", "set", "read_back", "done"]
    place_mm: tuple[float, float]
    next_z_mm: float | None
    #: The tip stands there already: the gauge is slid once more.
    stays: bool
    #: What the machine's own display is to show there.
    next_shown_mm: float | None
    #: The presses of the machine's own buttons that lead there from the last height.
    presses: tuple[Press, ...]
    sign: SignTry
    limit: SoftLimit
    #: Far from the plate an eye tells more than a gauge: how large the gap under the tip looks.
    look_helps: bool
    #: Something thick under the tip tells how far off it is; `thick_sizes`: what the gauge itself makes, from thin to thick.
    thick_helps: bool
    thick_sizes: tuple[ThickSize, ...]
    #: Of what they are layers.
    thick_words: str
    drag_z_mm: float
    drag_sd_mm: float
    moves: tuple[Move, ...]
    #: How often the tip was moved for them.
    moves_made: int
    wanted: StoredChange
    #: The value if the gauge's thickness is left out: drag is zero.
    drag_is_zero: StoredChange
    gauge_words: str
    gives_way: str
    #: What the tip's heat makes of the drag; empty where it is felt as hot as it prints.
    tip_words: str
    stored_mm: float
    last_change: StoredChange | None
    read_line: str
    mesh_owns_zero: bool
    reasons: tuple[str, ...]


def _gauge_words(run: OpenRun) -> str:
    gauge, (mm, sd) = run.setup.gauge, run.setup.drags_at
    if gauge.measured:
        return f"{gauge.name}, measured {mm:.2f} mm: taken off"
    if not mm:
        return f"{gauge.name}, not measured: drag counts as zero, ±{sd:.2f} mm"
    return f"{gauge.name}, not measured: about {mm:.2f} mm is taken off, as {gauge.kind} usually is, ±{sd:.2f} mm"


def _stays(run: OpenRun, next_z: float | None) -> bool:
    """Whether the tip stands where it is to be felt next."""
    moves = Offset.of(run.state).moves
    return bool(moves) and next_z is not None and abs(moves[-1].z_mm - next_z) < run.setup.machine.z_step_mm / 2


def _presses(run: OpenRun, next_z: float | None) -> tuple[Press, ...]:
    sizes = run.setup.machine.z_presses_mm
    if next_z is None or not sizes or _stays(run, next_z):
        return ()
    at, lowest = Offset.of(run.state).stands_mm, approach_at(run.state, *run.setup.plate.centre).lowest_mm
    return presses(at, next_z, sizes, lowest)


def sign_try(run: OpenRun) -> SignTry:
    """The harmless move: the number is changed so that the tip goes further, if it counts as was declared."""
    state, manner = run.state, run.manner
    how = convention(state.convention_id, manner)
    by = how.sign * OFFSET.sign_tried_mm
    height = manner.send("height", z=OFFSET.sign_height_mm, feed=MOTION.lift_mm_s * 60)

    def setting(stored_mm: float) -> str:
        return filled(how.set, stored=stored_mm + 0.0)

    return SignTry(
        proved=state.sign_proved,
        height_mm=OFFSET.sign_height_mm,
        larger_by_mm=by,
        lines=(height, setting(state.stored_mm + by), height) if how.set else (),
        back=(setting(state.stored_mm), height) if how.set else (),
        can_be=tuple(
            Counting(id=c, name=found.name, rule=found.rule, larger_is_further=sign > 0)
            for sign in (1, -1)
            for c in conventions_of(sign)
            for found in (convention(c, manner),)
        ),
    )


def _limit(run: OpenRun, next_z: float | None) -> SoftLimit:
    does, open_mm = run.manner, run.state.limit_open_mm
    by = open_mm or OFFSET.limit_mm
    return SoftLimit(
        open_mm=open_mm,
        needed=next_z is not None and next_z < 0,
        opens_by_mm=by,
        open_line=does.send("limit_open", lowest=-by) if does.can("limit_open") else "",
        close_line=does.does.limit_close,
    )


def _thick_sizes(folds: dict[int, float]) -> tuple[ThickSize, ...]:
    tried = ((n, Under.of_sizes(0.0, mm, folds.values())) for n, mm in {0: 0.0, **folds}.items())
    return tuple(ThickSize(layers=n, under_mm=t.under_mm, not_mm=t.not_mm) for n, t in tried) if folds else ()


def _from_afar(look: GapSeen | ThickTried) -> Move:
    if isinstance(look, ThickTried):
        return Move(z_mm=look.z_mm, thick=look.words_alone)
    return Move(z_mm=look.z_mm, gap_mm=look.gap_mm)


def view(run: OpenRun) -> OffsetView:
    state, machine = run.state, run.setup.machine
    how = convention(state.convention_id, run.manner)
    cx, cy = run.setup.plate.centre
    now = now_at(run)
    drag_z, sd, next_z, wanted, step = now.drag_z_mm, now.sd_mm, now.next_z_mm, now.wanted, now.step
    at_drag = stored_after(state.stored_mm, drag_z, how, machine.z_step_mm)
    changed = state.stored_changes[-1] if state.stored_changes else None
    last_change = change(*changed, how) if changed else None
    height, height_sd = state.belief.height([(cx, cy)])
    field = height_field(
        state, after_mesh=state.mesh_on, level_mm=0.0, tol_mm=state.tol_mm, against="the nozzle's zero"
    )
    mesh_owns = state.mesh is not None and state.mesh_on and state.mesh.owns_zero
    moves = (
        *(_from_afar(look) for look in Offset.of(state).looks),
        *(Move(z_mm=m.z_mm, feel=m.feel) for m in Offset.of(state).moves),
    )
    return OffsetView(
        **so_far(run),
        sheet=sheet_of(
            state,
            field,
            spots=(Spot(x_mm=cx, y_mm=cy, kind="next" if step == "feel" else "measured", value_mm=float(height[0])),),
            figures=(
                Figure(name="Stored", value=signed(state.stored_mm, 3), unit="mm"),
                Figure(name="Drag known to", value=f"{sd:.3f}", unit="mm"),
            ),
        ),
        cautions=cautions(run, "offset"),
        step=step,
        place_mm=(cx, cy),
        next_z_mm=next_z,
        stays=_stays(run, next_z),
        next_shown_mm=None if next_z is None else round(next_z + Offset.of(state).display_above_mm, 4),
        presses=_presses(run, next_z),
        sign=sign_try(run),
        limit=_limit(run, next_z),
        drag_z_mm=drag_z,
        drag_sd_mm=sd,
        look_helps=now.look_helps,
        thick_helps=now.thick_helps,
        thick_sizes=_thick_sizes(run.setup.folds_mm) if now.thick_helps else (),
        thick_words="layers of the gauge"
        if run.setup.gauge.measured
        else f"layers of the gauge, taken for {run.setup.drags_at[0]:.2f} mm each as nobody measured it",
        moves=moves,
        moves_made=sum(1 for _ in groupby(m.z_mm for m in moves)),
        wanted=wanted,
        drag_is_zero=at_drag,
        gives_way=state.gives_way_words,
        tip_words=tip_words(state),
        gauge_words=_gauge_words(run),
        stored_mm=state.stored_mm,
        last_change=last_change,
        read_line=how.read,
        mesh_owns_zero=mesh_owns,
        reasons=(
            f"The gauge drags at z {signed(drag_z, 3)} ± {sd:.3f} mm.",
            f"The plate is believed {signed(float(height[0]), 3)} ± {float(height_sd[0]):.3f} mm above the zero.",
            f"stored = {'+' if how.sign > 0 else '−'} shift + constant ({how.rule}).",
        )
        + (("The mesh was felt by hand: its zero is in the mesh and is not counted again.",) if mesh_owns else ()),
    )
